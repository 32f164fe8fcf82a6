"""`-` in the place of one file: standard input where a file goes in, standard output where one comes out.

A command lists its arguments of that kind (`INPUTS`, `OUTPUTS`) and works with files as ever: these are in a temporary
folder.
"""

from __future__ import annotations

import argparse
import contextlib
import re
import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from volvex.errors import UsageError

if TYPE_CHECKING:
    from volvex.command.ui.commands import Command
    from volvex.command.ui.context import Context

STREAM = "-"
LOOKED_AT = 1 << 16  # bytes by which output is known for text


class _Renamed:
    """A stream on which the temporary folder is not seen: its files are called `standard-input` and
    `standard-output`."""

    def __init__(self, stream: TextIO, folder: str) -> None:
        self._stream, self._folder = stream, re.compile(rf"{re.escape(folder)}[\\/](out[\\/])?")

    def write(self, text: str) -> int:
        return self._stream.write(self._folder.sub("", text))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


@contextlib.contextmanager
def streams(command: Command, options: argparse.Namespace, context: Context) -> Iterator[None]:
    """Put files in the place of `-` among the options; what was written to one goes to standard output at the end.

    Lines that the command prints go to standard error then.
    """
    inputs = _named(command, "INPUTS", options)
    outputs = _named(command, "OUTPUTS", options)
    if len(inputs) > 1 or len(outputs) > 1:
        raise UsageError("- is given twice", "a file for one of them")
    if not inputs and not outputs:
        yield
        return
    out, err = context.out, context.err
    with tempfile.TemporaryDirectory(prefix="volvex-stream-") as folder:
        context.out, context.err = _Renamed(out, folder), _Renamed(err, folder)  # type: ignore[assignment]
        for name in inputs:
            _put(options, name, _read(Path(folder, "standard-input")))
        if not outputs:
            yield
            context.out, context.err = out, err
            return
        asked = getattr(options, "extension", None)
        extension = command.OUTPUTS[_text(outputs[0])] or (f".{asked.lstrip('.')}" if asked else "")
        target = Path(folder, "out", f"standard-output{extension}")
        target.parent.mkdir()
        _put(options, outputs[0], target)
        context.out = context.err  # errors still go there when the command has failed
        yield
        context.out, context.err = out, err
        if target.exists():
            _write(target, context)


def _named(command: Command, what: str, options: argparse.Namespace) -> list[tuple[str, int | None]]:
    """The arguments of a kind that are `-`: their names, and the place of each in a list. A command may give the place
    (`path.0`)."""
    found: list[tuple[str, int | None]] = []
    for text in getattr(command, what, ()):
        name, _, only = text.partition(".")
        value = getattr(options, name)
        if not isinstance(value, list):
            found += [(name, None)] if str(value) == STREAM else []
            continue
        found += [(name, at) for at, one in enumerate(value) if str(one) == STREAM and only in ("", str(at))]
    return found


def _text(place: tuple[str, int | None]) -> str:
    return place[0] if place[1] is None else f"{place[0]}.{place[1]}"


def _put(options: argparse.Namespace, place: tuple[str, int | None], file: Path) -> None:
    """Name the file in the place of `-`."""
    name, at = place
    value = getattr(options, name)
    old = value if at is None else value[at]
    new: Any = str(file) if isinstance(old, str) else file
    setattr(options, name, new if at is None else [*value[:at], new, *value[at + 1 :]])


def _read(file: Path) -> Path:
    with file.open("wb") as out:
        shutil.copyfileobj(sys.stdin.buffer, out)
    return file


def _write(file: Path, context: Context) -> None:
    """Copy a file to standard output; UsageError for bytes that a terminal cannot show."""
    context.out.flush()
    stream = getattr(context.out, "buffer", None)
    with file.open("rb") as source:
        if context.terminal and b"\0" in source.read(LOOKED_AT):
            raise UsageError("the output is no text", "`> FILE` behind the command, or the name of a file instead of -")
        source.seek(0)
        if stream is None:
            context.out.write(source.read().decode("utf-8", "replace"))
        else:
            shutil.copyfileobj(source, stream, 1 << 20)
            stream.flush()
