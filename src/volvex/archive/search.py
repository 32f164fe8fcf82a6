"""Searching entries and files: by name, by text inside, by bytes inside."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from volvex.archive import filetypes
from volvex.archive.archive import IN_MEMORY, Archive
from volvex.archive.paths import Found
from volvex.archive.work import batches, parallel
from volvex.errors import RefusedError, VolvexError

AROUND = 12  # bytes shown on each side of a hit in binary content


@dataclass(frozen=True)
class Wanted:
    """What is searched for; all that is given must hold."""

    name: str = ""  # a pattern on the last component, or, when it holds a slash, on the end of the path
    text: str = ""
    data: bytes = b""
    blind: bool = False  # whether case does not matter
    value: str = ""  # of a field of a record
    look: Callable[[str, bytes], list[Hit] | None] | None = None  # the hits in data; None for what is none


def _inside(wanted: Wanted) -> bool:
    """Whether content must be looked at."""
    return bool(wanted.text or wanted.data or wanted.value)


@dataclass(frozen=True)
class Hit:
    """A place: the line (from 1) and column in text, or the offset in bytes; both None for a name."""

    path: str
    line: int | None = None
    offset: int | None = None
    before: str = ""
    match: str = ""
    after: str = ""
    record: str = ""  # in data: sheet, key and field
    use: str = ""  # where a text is used


def search(found: Found, wanted: Wanted, faults: list[VolvexError]) -> Iterator[list[Hit]]:
    """The hits of each entry or file that has any. Entries that cannot be decoded go to `faults`."""
    for group in found.groups:
        names = group.archive.names
        rows = (
            group.rows[[_named(f"{group.path}/{names[row]}", wanted) for row in group.rows.tolist()]]
            if wanted.name
            else group.rows
        )
        if _inside(wanted):
            yield from _search_group(group.archive, group.path, batches(group.archive, rows), wanted, faults)
        else:
            yield from ([Hit(f"{group.path}/{names[row]}")] for row in rows.tolist())
    for name, path in found.files:
        if not wanted.name or _named(name, wanted):
            if path.stat().st_size > IN_MEMORY and _inside(wanted):
                faults.append(RefusedError(f"{name}: too large to search within"))
                continue
            hits = _search(name, path.read_bytes(), wanted) if _inside(wanted) else [Hit(name)]
            if hits:
                yield hits


def _named(name: str, wanted: Wanted) -> bool:
    pattern = wanted.name
    subject = f"/{name}" if "/" in pattern else name.rpartition("/")[2]
    pattern = f"*/{pattern.lstrip('/')}" if "/" in pattern else pattern  # a pattern with folders is the end of a path
    if wanted.blind:
        pattern, subject = pattern.casefold(), subject.casefold()
    return fnmatch.fnmatchcase(subject, pattern)


def _search_group(
    archive: Archive, path: str, work: list[list[int]], wanted: Wanted, faults: list[VolvexError]
) -> Iterator[list[Hit]]:
    def look(batch: list[int]) -> list[tuple[int, list[Hit]]]:
        found = []
        for row in batch:
            try:
                found.append((row, _search(f"{path}/{archive.names[row]}", archive.content(row), wanted)))
            except VolvexError as error:
                faults.append(error)
        return found

    done = [pair for some in parallel(look, work) for pair in some if pair[1]]
    yield from (hits for _, hits in sorted(done, key=lambda pair: pair[0]))


def _search(path: str, content: bytes, wanted: Wanted) -> list[Hit]:
    if wanted.look is not None and not wanted.data:
        found = wanted.look(path, content)
        if found is not None or wanted.value:
            return found or []
    if wanted.data:
        pattern = re.compile(re.escape(wanted.data))
        hits = [_binary_hit(path, content, match) for match in pattern.finditer(content)]
        return hits if not wanted.text or _text_hits(path, content, wanted) else []
    return _text_hits(path, content, wanted)


def _text_hits(path: str, content: bytes, wanted: Wanted) -> list[Hit]:
    flags = re.IGNORECASE if wanted.blind else 0
    if filetypes.is_text(content[: filetypes.HEAD]):
        text = filetypes.decode_text(content)
        return list(_line_hits(path, text, re.compile(re.escape(wanted.text), flags)))
    forms = {wanted.text.encode(encoding, "surrogateescape") for encoding in ("utf-8", "utf-16-le")}
    return [
        _binary_hit(path, content, match)
        for form in sorted(forms)
        for match in re.finditer(re.escape(form), content, flags)
    ]


def _line_hits(path: str, text: str, pattern: re.Pattern[str]) -> Iterator[Hit]:
    line, counted = 1, 0
    for match in pattern.finditer(text):
        start, end = match.span()
        line, counted = line + text.count("\n", counted, start), start
        first, last = text.rfind("\n", 0, start) + 1, text.find("\n", end)
        last = len(text) if last < 0 else last
        yield Hit(path, line, None, text[first:start], match[0], text[end:last].rstrip("\r"))


def _binary_hit(path: str, content: bytes, match: re.Match[bytes]) -> Hit:
    start, end = match.span()
    return Hit(
        path,
        None,
        start,
        content[max(0, start - AROUND) : start].hex(" "),
        match[0].hex(" "),
        content[end : end + AROUND].hex(" "),
    )
