"""Dictionaries: UTF-8 text, one path a line. `#` starts a comment line; `PATH = KEY` says the key of a path outright.

Forward slashes or backslashes, in any letters; double lines do no harm. Keys are made in bulk, and remembered on disk
by the dictionary's content, so that a million names cost little more than reading the file.
"""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Array
from volvex.layout.name_hash import Keying
from volvex.source import Disk, atomic
from volvex.source.digest import digest_bytes
from volvex.source.lock import held

ENDING = ".txt"
LONGEST = 1024  # bytes of a path
_TOLD = re.compile(r"(.+?) = (\S+)")
_COMMENT = re.compile(rb"^[ \t]*#[^\n]*\n?", re.M)
_AROUND = re.compile(rb"[ \t]*\n[ \t/]*")
_BLANK = re.compile(rb"\n\n+")
_MARKS = {b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16", b"\xef\xbb\xbf": "utf-8-sig"}


def decoded(data: bytes, name: str, encoding: str | None = None) -> str:
    """The text of a dictionary; FormatError at the first line that is not in its encoding.

    Without an `encoding` it is what a mark at the start says, otherwise UTF-8.
    """
    text = encoding or next((code for mark, code in _MARKS.items() if data.startswith(mark)), "utf-8")
    try:
        return data.decode(text)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise FormatError(
            name,
            f"line {line} is not {text}",
            offset=error.start,
            hint="`--encoding cp1252`, or another encoding",
        ) from error


def cleaned(data: bytes) -> bytes:
    """The lines that name paths, with forward slashes, and nothing else; a line that tells its key stays as it is."""
    data = data.replace(b"\r", b"").replace(b"\\", b"/")
    if b"#" in data:
        data = _COMMENT.sub(b"", data)
    if b" \n" in data or b"\n " in data or b"\t" in data or b"\n/" in data or data[:1] in (b" ", b"/"):
        data = _AROUND.sub(b"\n", b"\n" + data + b"\n")
    if b"\n\n" in data:
        data = _BLANK.sub(b"\n", data)
    return data.strip(b"\n \t")


def parsed(text: str, name: str) -> list[str]:
    """The lines of a dictionary that name paths; FormatError for one that cannot be a path."""
    clean = cleaned(text.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")
    lines = clean.split("\n") if clean else []
    if "\0" in clean or max(map(len, lines), default=0) > LONGEST:
        wrong = next(line for line in lines if "\0" in line or len(line) > LONGEST)
        number = next(at for at, line in enumerate(text.split("\n"), 1) if wrong[:LONGEST] in line.replace("\\", "/"))
        what = "a zero byte in it" if "\0" in wrong else f"{len(wrong):,} characters"
        raise FormatError(name, f"line {number} is no path: {what}", hint="a list of paths, one a line")
    return lines


def line_of(path: str, key: str) -> str:
    """The line that tells a path's key outright."""
    return f"{path} = {key}"


class Dictionary:
    """A file of known paths. `game` is the game that it is for; nothing when it is for all."""

    def __init__(self, path: Path, game: str = "", memory: Path | None = None) -> None:
        self.path, self.game, self._memory = path, game, memory

    @functools.cached_property
    def data(self) -> bytes:
        """The file's bytes as UTF-8."""
        data = self.path.read_bytes()
        if data[:2] in _MARKS or data.startswith(b"\xef\xbb\xbf"):
            return decoded(data, str(self.path)).encode()
        return data

    @functools.cached_property
    def clean(self) -> bytes:
        """The lines that name paths, one behind the other."""
        return cleaned(self.data)

    @functools.cached_property
    def _spans(self) -> tuple[Array, Array]:
        """Where the lines start and end."""
        if not self.clean:
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        ends = np.append(np.flatnonzero(np.frombuffer(self.clean, np.uint8) == 10), len(self.clean)).astype(np.int64)
        return np.append(0, ends[:-1] + 1).astype(np.int64), ends

    @functools.cached_property
    def told(self) -> list[tuple[str, str]]:
        """The paths whose lines say their key, and the keys."""
        if b" = " not in self.clean:
            return []
        found = [_TOLD.fullmatch(line.decode("utf-8", "replace")) for line in self.clean.split(b"\n") if b" = " in line]
        return [(match[1], match[2]) for match in found if match is not None]

    def __len__(self) -> int:
        return len(self._spans[0])

    def lines(self) -> list[str]:
        """All of them."""
        return parsed(decoded(self.data, str(self.path)), str(self.path))

    def paths_at(self, starts: Sequence[int], ends: Sequence[int]) -> list[str]:
        """The paths in lines that `table` points to."""
        return [self.clean[a:b].decode("utf-8", "replace") for a, b in zip(starts, ends, strict=True)]

    def table(self, keying: Keying) -> Array:
        """Keys and lines, sorted by the first key: a row (uint64) for each key part, then where lines start and end."""
        file = self._memory / f"{self._digest(keying)}.npy" if self._memory is not None else None
        if file is not None and file.is_file():
            with contextlib.suppress(ValueError, OSError):
                return np.asarray(np.load(file, mmap_mode="r", allow_pickle=False))
        made = self._made(keying)
        if file is not None:
            with contextlib.suppress(OSError), atomic(Disk(), file, durable=False) as out:
                np.save(out, made, allow_pickle=False)
        return made

    def _made(self, keying: Keying) -> Array:
        starts, ends = self._spans
        columns = keying.columns_of_lines(self.clean.decode("utf-8", "replace"))
        order = np.argsort(columns[0], kind="stable")
        return np.stack([column[order].astype(np.uint64) for column in (*columns, starts, ends)])

    def _digest(self, keying: Keying) -> str:
        return digest_bytes(digest_bytes(self.data).encode() + repr(keying.parts).encode())[:40]


def write(file: Path, lines: Iterable[str], disk: Disk, again: bool = False) -> None:
    """A dictionary with these lines, sorted; comments that stood at the start of the file stay, unless it is made
    again."""
    head = []
    if file.is_file() and not again:
        for line in decoded(file.read_bytes(), str(file)).splitlines():
            if not line.startswith("#"):
                break
            head.append(line)
    text = "\n".join([*head, *sorted(lines if isinstance(lines, set) else set(lines)), ""])
    with atomic(disk, file) as out:
        disk.write(out, text.encode("utf-8", "surrogateescape"))


def add(file: Path, lines: Iterable[str], disk: Disk) -> tuple[int, int]:
    """Put lines into a dictionary (a new one, or beside those it has): how many were new, and how many it has."""
    with held(file.parent / "lock"):
        there = Dictionary(file).lines() if file.is_file() else []
        known = set(there)
        new = set(lines) - known
        if new or not file.is_file():
            write(file, known | new, disk)
    return len(new), len(known) + len(new)


def files(folder: Path) -> list[Path]:
    """The dictionaries in a folder."""
    return sorted(path for path in folder.glob(f"*{ENDING}") if path.is_file()) if folder.is_dir() else []
