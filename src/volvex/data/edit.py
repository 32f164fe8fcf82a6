"""Setting values in a text format: an editor for each kind finds the places, the rest is the same for all.

An editor (`editors/xml.py` for the kind `xml`) exports `locate(text, target, field)`, which gives the one
span that holds a field's value, and `encode(span, value)`, which gives the text that stands for a new value.
"""

from __future__ import annotations

import codecs
import difflib
import importlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, cast

from volvex.errors import FormatError, NotFoundError, UsageError


@dataclass(frozen=True)
class Target:
    """Which record: by its key, by its place, or (neither) the whole file."""

    row: str | None = None
    at: str | None = None

    def __str__(self) -> str:
        return f"row {self.row}" if self.row is not None else self.at or "the file"


@dataclass(frozen=True)
class Span:
    """Where a value stands in the text, how it is written there, and what it is."""

    start: int
    end: int
    value: str
    style: str  # the editor's own: which quotes, which type


@dataclass(frozen=True)
class Edited:
    """A value before and after."""

    target: Target
    field: str
    before: str
    after: str


class Editor(Protocol):
    def locate(self, text: str, target: Target, field: str, file: str) -> Span: ...

    def encode(self, span: Span, value: str, file: str) -> str: ...


def editors() -> list[str]:
    """The kinds that can be edited by value."""
    return sorted(path.stem for path in (Path(__file__).parent / "editors").glob("[!_]*.py"))


def _editor(kind: str, file: str) -> Editor:
    if kind not in editors():
        raise UsageError(
            f"{file} is {kind}; values can be set in {', '.join(editors())}", "an editor of yours, or `volvex swap`"
        )
    return cast(Editor, importlib.import_module(f"volvex.data.editors.{kind}"))


def edit(
    data: bytes, kind: str, target: Target, values: Iterable[tuple[str, str]], file: str
) -> tuple[bytes, list[Edited]]:
    """The file with new values, every other byte as it was, and what each value was before.

    NotFoundError when the record or a field is not there, FormatError when the file or a value is not sound.
    """
    editor = _editor(kind, file)
    text, encoding, mark = decode(data, file)
    done = []
    for field, value in values:
        span = editor.locate(text, target, field, file)
        written = editor.encode(span, value, file)
        text = text[: span.start] + written + text[span.end :]
        editor.locate(text, target, field, file)  # what was written reads back
        done.append(Edited(target, field, span.value, value))
    try:
        return mark + text.encode(encoding), done
    except UnicodeEncodeError as error:
        raise FormatError(
            file, f"{text[error.start]!r} cannot be written in {encoding}", hint="another character"
        ) from error


_MARKS = ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


def decode(data: bytes, file: str) -> tuple[str, str, bytes]:
    """A text, its encoding, and its byte order mark; the three together give the same bytes again."""
    for mark, encoding in _MARKS:
        if data.startswith(mark):
            return _decode(data[len(mark) :], encoding, file), encoding, mark
    encoding = _declared(data)
    return _decode(data, encoding, file), encoding, b""


def _declared(data: bytes) -> str:
    """The encoding that an XML declaration names; UTF-8 otherwise."""
    head = data[:200]
    if head.startswith(b"<?xml") and b"encoding=" in head.partition(b"?>")[0]:
        name = head.partition(b"encoding=")[2][1:].replace(b"'", b'"').partition(b'"')[0].decode("ascii", "replace")
        try:
            return codecs.lookup(name).name
        except LookupError:
            return "utf-8"
    return "utf-8"


def _decode(data: bytes, encoding: str, file: str) -> str:
    try:
        text = data.decode(encoding)
    except UnicodeDecodeError as error:
        raise FormatError(file, f"this is not {encoding}: {error.reason}", offset=error.start,
                          hint="an editor that knows its encoding, then `volvex swap`") from error  # fmt: skip
    if text.encode(encoding) != data:
        raise FormatError(
            file, f"its {encoding} cannot be written back as it is", hint="an editor of yours, then `volvex swap`"
        )
    return text


def choose(matches: Sequence[tuple[str, int]], target: Target, keys: Iterable[str], file: str) -> int:
    """The single match; NotFoundError with a near miss or with the places when there are none or several."""
    if len(matches) == 1:
        return matches[0][1]
    if matches:
        places = ", ".join(place for place, _ in matches[:4])
        raise NotFoundError(f"{file}: {target} is there {len(matches)} times: {places}", f"--at {matches[0][0]}")
    wanted = target.row if target.row is not None else str(target)
    near = difflib.get_close_matches(wanted, list(keys), 1)
    flag = "--row" if target.row is not None else "--at"
    raise NotFoundError(f"{file}: there is no {target}", f"{flag} {near[0]}" if near else f"`volvex show {file}`")


def no_field(field: str, target: Target, fields: Iterable[str], file: str) -> NotFoundError:
    """The error for a field that is not there."""
    known = list(fields)
    near = difflib.get_close_matches(field, known, 1)
    has = f"; it has {', '.join(known[:12])}" if known else ""
    return NotFoundError(f"{file}: {target} has no field {field}{has}", f"{near[0]}=..." if near else "")
