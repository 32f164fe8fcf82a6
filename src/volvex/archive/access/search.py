"""Searching entries and files: by name, by text inside, by bytes inside."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from volvex.archive.access.paths import Found
from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import batches, parallel
from volvex.errors import TooLargeError, VolvexError
from volvex.library_errors import one_of_many
from volvex.source import FileSource

AROUND = 12  # bytes shown on each side of a hit in binary content
AROUND_LINE = 400  # bytes kept on each side of a hit in a line of a large text
LARGE = 1 << 26  # bytes of content from which on it is not held in memory
MOST_HITS = 100_000  # of one file that is so large


@dataclass(frozen=True)
class Wanted:
    """What is searched for; all that is given must hold."""

    name: str = ""  # a pattern on the last component, or, when it holds a slash, on the end of the path
    text: str = ""
    data: bytes = b""
    ignore_case: bool = False  # whether case does not matter
    value: str = ""  # of a field of a record
    look: Callable[[str, bytes], list[Hit] | None] | None = None  # the hits in data; None for what is none
    encoded: Callable[[str, bytes], str] = lambda path, content: (
        ""
    )  # the encoding of text that is not UTF-8; empty: unknown


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


def size_of(found: Found) -> int:
    """How many bytes of content lie in what is searched."""
    entries = sum(int(group.archive.entries.size[group.rows].sum()) for group in found.groups)
    return entries + sum(path.stat().st_size for _, path in found.files if path.is_file())


def search(
    found: Found, wanted: Wanted, faults: list[VolvexError], on_done: Callable[[int], None] = lambda size: None
) -> Iterator[list[Hit]]:
    """The hits of each entry or file that has any. Entries that cannot be decoded go to `faults`; `on_done` is told the
    bytes searched."""
    for group in found.groups:
        names = group.archive.names
        rows = (
            group.rows[[_named(f"{group.path}/{names[row]}", wanted) for row in group.rows.tolist()]]
            if wanted.name
            else group.rows
        )
        if _inside(wanted):
            work = batches(group.archive, rows)
            yield from _search_group(group.archive, group.path, work, wanted, faults, on_done)
        else:
            yield from ([Hit(f"{group.path}/{names[row]}")] for row in rows.tolist())
    for name, path in found.files:
        if not wanted.name or _named(name, wanted):
            try:
                hits = _search_file(name, path, wanted, faults, on_done) if _inside(wanted) else [Hit(name)]
            except VolvexError as error:
                faults.append(error)
                continue
            if hits:
                yield hits


def _search_file(
    name: str, path: Path, wanted: Wanted, faults: list[VolvexError], on_done: Callable[[int], None]
) -> list[Hit]:
    with one_of_many(shown(name)):
        size = path.stat().st_size
        on_done(size)
        if size <= LARGE:
            return _search(name, path.read_bytes(), wanted)
        with FileSource(path, name) as source:
            return _search_large(name, source.chunks(0, size), wanted, faults)


def _named(name: str, wanted: Wanted) -> bool:
    pattern = wanted.name
    subject = f"/{name}" if "/" in pattern else name.rpartition("/")[2]
    pattern = f"*/{pattern.lstrip('/')}" if "/" in pattern else pattern  # a pattern with folders is the end of a path
    if wanted.ignore_case:
        pattern, subject = pattern.casefold(), subject.casefold()
    return fnmatch.fnmatchcase(subject, pattern)


def _search_group(
    archive: Archive,
    path: str,
    work: list[list[int]],
    wanted: Wanted,
    faults: list[VolvexError],
    on_done: Callable[[int], None],
) -> Iterator[list[Hit]]:
    """The hits of the entries of an archive, in their order; when the search is interrupted, those that it has
    found."""

    def look(batch: list[int]) -> list[tuple[int, list[Hit]]]:
        found = []
        for row in batch:
            try:
                name = f"{path}/{archive.names[row]}"
                with one_of_many(shown(name)):
                    large = int(archive.entries.size[row]) > LARGE
                    hits = (
                        _search_large(name, archive.chunks(row), wanted, faults)
                        if large
                        else _search(name, archive.content(row), wanted)
                    )
                    found.append((row, hits))
            except VolvexError as error:
                faults.append(error)
        return found

    done: list[tuple[int, list[Hit]]] = []
    stopped: KeyboardInterrupt | None = None
    try:
        for batch, some in zip(work, parallel(look, work), strict=True):
            done += [pair for pair in some if pair[1]]
            on_done(int(archive.entries.size[batch].sum()))
    except KeyboardInterrupt as interrupt:
        stopped = interrupt
    yield from (hits for _, hits in sorted(done, key=lambda pair: pair[0]))
    if stopped is not None:
        raise stopped


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


def _search_large(path: str, chunks: Iterator[bytes], wanted: Wanted, faults: list[VolvexError]) -> list[Hit]:
    """The hits in content that is not held in memory: it passes by in pieces, each with the end of the one before."""
    if wanted.value:
        raise TooLargeError(f"{path}: too large to be looked through by value", "`volvex find --text`")
    passing = _Passing(path, wanted)
    for chunk in chunks:
        passing.feed(chunk)
    if passing.left:
        faults.append(TooLargeError(f"{path}: only the first {MOST_HITS:,} hits are listed"))
    return passing.hits if not (wanted.data and wanted.text) or passing.texts else []


class _Passing:
    """Searches content that passes by."""

    def __init__(self, path: str, wanted: Wanted) -> None:
        self.path, self.wanted = path, wanted
        self.hits: list[Hit] = []
        self.left = self.texts = 0  # hits that were not kept; of the text, where bytes are searched as well
        self._tail, self._at, self._line, self._is_text = b"", 0, 1, False
        flags = re.IGNORECASE if wanted.ignore_case else 0
        forms = (
            sorted({wanted.text.encode(encoding, "surrogateescape") for encoding in ("utf-8", "utf-16-le")})
            if wanted.text
            else []
        )
        self._text = re.compile(b"|".join(map(re.escape, forms)), flags) if forms else None
        self._data = re.compile(re.escape(wanted.data)) if wanted.data else None
        self._reach = max([len(wanted.data), *map(len, forms)])

    def feed(self, chunk: bytes) -> None:
        """Search the next piece."""
        if not self._at and not self._tail:
            self._is_text = filetypes.is_text(chunk[: filetypes.HEAD])
        whole = self._tail + chunk
        start = self._at - len(self._tail)
        known = len(self._tail)  # what ends in here was found before
        if self._text is not None and self._data is not None and not self.texts:
            self.texts = int(self._text.search(whole) is not None)
        counted, line = known, self._line  # the line of a place in the piece, counted on from hit to hit
        for match in (self._data or self._text or _NOTHING).finditer(whole):
            if match.end() <= known:
                continue
            if len(self.hits) >= MOST_HITS:
                self.left += 1
                continue
            if self._is_text and self._data is None:
                if match.start() >= counted:
                    line += whole.count(b"\n", counted, match.start())
                    counted = match.start()
                before = whole.count(b"\n", match.start(), counted)  # of a hit that began in the piece before
                self.hits.append(_line_hit(self.path, line - before, whole, match))
            else:
                hit = _binary_hit(self.path, whole, match)
                self.hits.append(replace(hit, offset=start + match.start()))
        self._line += chunk.count(b"\n")
        self._at += len(chunk)
        self._tail = whole[-max(AROUND_LINE, self._reach) :]


_NOTHING = re.compile(b"(?!)")


def _line_hit(path: str, line: int, whole: bytes, match: re.Match[bytes]) -> Hit:
    """A hit in a line, with what is known of the line."""
    first = whole.rfind(b"\n", 0, match.start()) + 1
    last = whole.find(b"\n", match.end())
    before = whole[max(first, match.start() - AROUND_LINE) : match.start()]
    after = whole[match.end() : min(last if last >= 0 else len(whole), match.end() + AROUND_LINE)]
    lines = [part.decode("utf-8", "replace") for part in (before, match[0], after)]
    return Hit(path, line, None, lines[0], lines[1], lines[2].rstrip("\r"))


def _text_hits(path: str, content: bytes, wanted: Wanted) -> list[Hit]:
    flags = re.IGNORECASE if wanted.ignore_case else 0
    if filetypes.is_text(content[: filetypes.HEAD]):
        text = filetypes.decode_text(content)
        return list(_line_hits(path, text, re.compile(re.escape(wanted.text), flags)))
    if filetypes.is_8bit_text(content[: filetypes.WORDS]) and _may_hold(content, wanted, flags):
        encoding = wanted.encoded(path, content)
        if encoding:
            text = filetypes.decode_text(content, encoding)
            return list(_line_hits(path, text, re.compile(re.escape(wanted.text), flags)))
    forms = {wanted.text.encode(encoding, "surrogateescape") for encoding in ("utf-8", "utf-16-le")}
    return [
        _binary_hit(path, content, match)
        for form in sorted(forms)
        for match in re.finditer(re.escape(form), content, flags)
    ]


def _may_hold(content: bytes, wanted: Wanted, flags: int) -> bool:
    """Whether the plain letters of the text stand there: only then is it worth finding out the encoding."""
    plain = max(re.split(r"[^\x00-\x7f]+", wanted.text), key=len)
    return re.search(re.escape(plain.encode()), content, flags) is not None


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
