"""What differs from the original, file by file, and line by line for text."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.bench.content import original_kind
from volvex.bench.workbench import Workbench
from volvex.data.encodings import of_text
from volvex.source.digest import digest_bytes, digest_file

TEXT_LIMIT = 1 << 24  # larger files are told as changed, not line by line
LINES_LIMIT = 4000  # differing lines that are compared one with the other


@dataclass(frozen=True)
class FileChange:
    """A file that differs from the original. Sizes in bytes; None where there is no such file."""

    path: str
    what: str  # changed, added, removed
    kind: str
    before: int | None
    after: int
    is_text: bool  # whether both can be told line by line
    of: str = ""  # the path on the bench whose content it gets, where that is another

    @property
    def source(self) -> str:
        """The path on the bench that has its new content."""
        return self.of or self.path


@dataclass(frozen=True)
class Line:
    """A line of a comparison: `-` taken out, `+` put in, with its number, from 1."""

    sign: str
    number: int
    text: str


def content_of(bench: Workbench, change: FileChange) -> Path:
    """The file on the bench with the new content of a change."""
    return bench.files / change.source


def changes(bench: Workbench) -> list[FileChange]:
    """Every file of the bench that differs from the game's original, sorted by path."""
    found = [_change(bench, place) for place in bench.places() if place not in bench.dropped]
    found += [_dropped(bench, place) for place in bench.dropped]
    return sorted((change for change in found if change is not None), key=lambda change: change.path)


def _dropped(bench: Workbench, path: str) -> FileChange | None:
    """The entry that is left out; None when the game has no such entry any more."""
    before = bench.original_size(path)
    if before is None:
        return None
    kind = original_kind(bench, path)
    return FileChange(path, "removed", kind, before, 0, False)


def _change(bench: Workbench, place: str) -> FileChange | None:
    path = bench.files / place
    size = path.stat().st_size
    with path.open("rb") as file:
        kind = _kind(file.read(filetypes.WORDS))
    before = bench.original_size(place)
    if before is None:
        return FileChange(place, "added", kind, None, size, _is_text(kind, size))
    if size == before and _same(bench, place):
        return None
    first = next(bench.original_content(place), b"")[: filetypes.WORDS]
    told = _is_text(kind, size) and _is_text(_kind(first), before)
    return FileChange(place, "changed", kind, before, size, told)


def _is_text(kind: str, size: int) -> bool:
    return kind in (*filetypes.TEXT, "empty") and size <= TEXT_LIMIT


def _same(bench: Workbench, path: str) -> bool:
    """Whether a file has the original's content: by the digest when it was taken, when the game is still the same."""
    known = bench.taken.get(path)
    if known is not None and not bench.renewed(known.file):
        return digest_file(bench.files / path) == known.digest
    original = b"".join(bench.original_content(path))
    return digest_bytes(original) == digest_file(bench.files / path)


def lines(bench: Workbench, change: FileChange) -> Iterator[Line]:
    """The lines that differ, in the order of the file."""
    before, after = (
        _text(bench, change.path, data)
        for data in (b"".join(bench.original_content(change.path)), (bench.files / change.path).read_bytes())
    )
    start = _common(before, after)
    end = _common(before[start:][::-1], after[start:][::-1])
    old, new = before[start : len(before) - end], after[start : len(after) - end]
    if max(len(old), len(new)) > LINES_LIMIT:
        codes: list[tuple[str, int, int, int, int]] = [("replace", 0, len(old), 0, len(new))]
    else:
        codes = list(difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes())
    for what, a, b, c, d in codes:
        if what != "equal":
            yield from (Line("-", start + at + 1, old[at]) for at in range(a, b))
            yield from (Line("+", start + at + 1, new[at]) for at in range(c, d))


def _text(bench: Workbench, path: str, data: bytes) -> list[str]:
    """The lines of a text, in whatever encoding."""
    return filetypes.decode_text(data, of_text(bench.library.encoded(path), data)).splitlines()


def _kind(data: bytes) -> str:
    """What a file is by its beginning; text also in another encoding than UTF-8."""
    kind = filetypes.kind_by_content(data[: filetypes.HEAD])
    return "text" if kind == "binary" and filetypes.is_8bit_text(data) else kind


def _common(texts: list[str], other: list[str]) -> int:
    count = 0
    for a, b in zip(texts, other, strict=False):
        if a != b:
            break
        count += 1
    return count
