"""Making mods: what differs between the game's content and another, as parts."""

from __future__ import annotations

import functools
from dataclasses import replace
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.archive.transfer.compare import Content
from volvex.bench.changes import changes
from volvex.bench.semantic_diff import LINES
from volvex.bench.workbench import Workbench
from volvex.data import Document, open_data
from volvex.data.differences import differences
from volvex.data.encodings import of_text
from volvex.errors import VolvexError
from volvex.layout import Library
from volvex.mods.mod.content import FieldChanges, LineChanges, NewFile, Part, Removed
from volvex.mods.mod.lines import Text, hunks_between, text_of
from volvex.source.digest import digest_chunks, digest_file

LARGEST = 1 << 28  # bytes of content that is compared by fields or lines
LARGEST_TEXT = 1 << 24
MOST_LINES = 20_000  # lines of a text that are compared one with the other


def parts_of_bench(bench: Workbench) -> dict[str, Part]:
    """What a bench's edits are, by path."""
    parts: dict[str, Part] = {}
    for change in changes(bench):
        if change.what == "removed":
            parts[change.path] = Removed(digest_chunks(bench.original_content(change.path))[0])
            continue
        before = (
            None
            if change.before is None
            else Content(change.before, functools.partial(bench.original_content, change.path))
        )
        part = part_between(change.path, before, bench.files / change.path, bench.library)
        if part is not None:
            parts[change.path] = part
    return parts


def part_between(path: str, before: Content | None, file: Path, library: Library) -> Part | None:
    """The change from the game's content to that of a file: by fields or lines where both can be; None when it is the
    same."""
    if before is None:
        return NewFile(file, None)
    digest = digest_chunks(before.chunks())[0]
    if digest == digest_file(file):
        return None
    if max(before.size, file.stat().st_size) > LARGEST:
        return NewFile(file, digest)
    found = between(path, before.bytes(), file.read_bytes(), library)
    return replace(found, base=digest) if found is not None else NewFile(file, digest)


def between(path: str, before: bytes, after: bytes, library: Library) -> FieldChanges | LineChanges | None:
    """The change between two contents of a path, by fields or by lines; None where it can be told in neither way."""
    try:
        document, other = (open_data(data, library, path) if data else None for data in (before, after))
        if document is not None and other is not None and document.form == other.form and document.form != LINES:
            found = tuple(differences(document, other))
            if found and _gives(document, found, after):
                return FieldChanges(found)
            return None if found else _lines(path, before, after, library)  # in comments or blanks
    except VolvexError:
        return None
    return _lines(path, before, after, library)


def _gives(document: Document, changes: tuple[object, ...], after: bytes) -> bool:
    """Whether the changes can be put into the original: otherwise only the whole file says what was meant."""
    from volvex.data.verify import edited

    try:
        edited(document, changes)  # type: ignore[arg-type]
    except VolvexError:
        return False
    return True


def _lines(path: str, before: bytes, after: bytes, library: Library) -> LineChanges | None:
    pair = texts_of(path, before, after, library)
    if pair is None or max(len(text.lines) for text in pair) > MOST_LINES:
        return None
    found = hunks_between(pair[0].lines, pair[1].lines)
    return LineChanges(found) if found else None


def texts_of(path: str, before: bytes, after: bytes, library: Library) -> tuple[Text, Text] | None:
    """Two contents as texts of one encoding and line end; None when they are none."""
    if max(len(before), len(after)) > LARGEST_TEXT or not all(_is_text(data) for data in (before, after)):
        return None
    encoding = of_text(library.encoded(path), before) or "utf-8"
    text, other = text_of(before, encoding), text_of(after, encoding)
    if text is None or other is None or text.end != other.end:
        return None
    return text, other


def _is_text(data: bytes) -> bool:
    head = data[: filetypes.WORDS]
    return filetypes.kind_by_content(head[: filetypes.HEAD]) in (*filetypes.TEXT, "empty") or filetypes.is_8bit_text(
        head
    )
