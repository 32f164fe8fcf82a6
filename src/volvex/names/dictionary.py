"""Dictionaries: UTF-8 text, one path a line. `#` starts a comment line; `PATH = KEY` says the key of a path outright.

Forward slashes or backslashes, in any letters; double lines do no harm. Keys are made in bulk, and remembered on disk
by the dictionary's content, so that a million names cost little more than reading the file.
"""

from __future__ import annotations

import contextlib
import functools
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Array
from volvex.layout.keying import Keying
from volvex.source import Disk, atomic
from volvex.source.digest import digest_bytes

ENDING = ".txt"
LONGEST = 1024  # bytes of a path
_TOLD = re.compile(r"(.+?) = (\S+)")
_COMMENT = re.compile(rb"^[ \t]*#[^\n]*\n?", re.M)
_AROUND = re.compile(rb"[ \t]*\n[ \t/]*")
_BLANK = re.compile(rb"\n\n+")
_MARKS = {b"\xff\xfe": "utf-16", b"\xfe\xff": "utf-16", b"\xef\xbb\xbf": "utf-8-sig"}


@dataclass(frozen=True)
class Line:
    """A line of a dictionary: a path, and its key where the line says it."""

    path: str
    key: str = ""

    def __str__(self) -> str:
        return f"{self.path} = {self.key}" if self.key else self.path


def decoded(data: bytes, name: str, encoding: str | None = None) -> str:
    """The text of a dictionary; FormatError at the first line that is not in its encoding.

    Without an `encoding` it is what a mark at the start says, otherwise UTF-8.
    """
    told = encoding or next((code for mark, code in _MARKS.items() if data.startswith(mark)), "utf-8")
    try:
        return data.decode(told)
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise FormatError(name, f"line {line} is not {told}", offset=error.start,
                          hint="`--encoding cp1252`, or whatever it was written in") from error  # fmt: skip


def parsed(text: str, name: str) -> list[Line]:
    """The lines of a dictionary that name paths, each once; FormatError for one that cannot be a path."""
    found: dict[Line, None] = {}
    for number, raw in enumerate(text.split("\n"), 1):
        line = raw.strip(" \t\r").replace("\\", "/").lstrip("/")
        if not line or line.startswith("#"):
            continue
        match = _TOLD.fullmatch(line) if " = " in line else None
        path = match[1] if match else line
        if len(path) > LONGEST or "\0" in path:
            raise FormatError(name, f"line {number} is no path: {'a zero byte in it' if chr(0) in path else f'{len(path):,} characters'}",
                              hint="a list of paths, one a line")  # fmt: skip
        found[Line(path, match[2] if match else "")] = None
    return list(found)


class Dictionary:
    """A file of known paths. `game` is the game that it is for; nothing when it is for all."""

    def __init__(self, path: Path, game: str = "", memory: Path | None = None) -> None:
        self.path, self.game, self._memory = path, game, memory

    @property
    def name(self) -> str:
        return self.path.stem

    @functools.cached_property
    def data(self) -> bytes:
        """The file's bytes as UTF-8."""
        data = self.path.read_bytes()
        if data[:2] in _MARKS or data.startswith(b"\xef\xbb\xbf"):
            return decoded(data, str(self.path)).encode()
        return data

    @functools.cached_property
    def clean(self) -> bytes:
        """The lines that name paths, with forward slashes, and nothing else; a line that tells its key stays as it is."""
        data = self.data.replace(b"\r", b"").replace(b"\\", b"/")
        if b"#" in data:
            data = _COMMENT.sub(b"", data)
        if b" \n" in data or b"\n " in data or b"\t" in data or b"\n/" in data or data[:1] in (b" ", b"/"):
            data = _AROUND.sub(b"\n", b"\n" + data + b"\n")
        if b"\n\n" in data:
            data = _BLANK.sub(b"\n", data)
        return data.strip(b"\n \t")

    @functools.cached_property
    def _spans(self) -> tuple[Array, Array]:
        """Where the lines start and end."""
        if not self.clean:
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        ends = np.append(np.flatnonzero(np.frombuffer(self.clean, np.uint8) == 10), len(self.clean)).astype(np.int64)
        return np.append(0, ends[:-1] + 1).astype(np.int64), ends

    @functools.cached_property
    def told(self) -> list[Line]:
        """The lines that say the key of their path."""
        if b" = " not in self.data:
            return []
        lines = [line for line in self.data.split(b"\n") if b" = " in line]
        return [line for line in parsed(decoded(b"\n".join(lines), str(self.path)), str(self.path)) if line.key]

    def __len__(self) -> int:
        return len(self._spans[0])

    def lines(self) -> list[Line]:
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


def write(file: Path, lines: Iterable[Line], disk: Disk) -> None:
    """A dictionary with these lines, sorted; a comment that stood at the start of the file stays."""
    head = []
    if file.is_file():
        for line in decoded(file.read_bytes(), str(file)).splitlines():
            if not line.startswith("#"):
                break
            head.append(line)
    text = "".join(f"{line}\n" for line in (*head, *sorted(set(lines), key=lambda line: (line.path, line.key))))
    disk.make_folder(file.parent)
    with atomic(disk, file) as out:
        disk.write(out, text.encode("utf-8", "surrogateescape"))


def add(file: Path, lines: Iterable[Line], disk: Disk) -> tuple[int, int]:
    """Put lines into a dictionary (a new one, or beside those it has): how many were new, and how many it has."""
    there = Dictionary(file).lines() if file.is_file() else []
    known, wanted = set(there), list(dict.fromkeys(lines))
    new = [line for line in wanted if line not in known]
    if new or not file.is_file():
        write(file, [*there, *new], disk)
    return len(new), len(there) + len(new)


def files(folder: Path) -> list[Path]:
    """The dictionaries in a folder."""
    return sorted(path for path in folder.glob(f"*{ENDING}") if path.is_file()) if folder.is_dir() else []
