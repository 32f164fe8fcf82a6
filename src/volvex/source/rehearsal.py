"""Disks that keep account of what a command writes: one that writes, and one on which nothing changes (for
`--plan`)."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO, Self

from volvex.source.disk import PART, Disk


class AccountingDisk(Disk):
    """A disk that remembers which files got content or a name (`written`, with their sizes), and which lost theirs."""

    def __init__(self, allowed: Disk) -> None:
        self.require_allowed = allowed.require_allowed
        self.written: dict[str, int] = {}
        self.removed: list[str] = []

    def _note(self, path: str, size: int) -> None:
        self.written[path] = size
        if path in self.removed:
            self.removed.remove(path)

    def _note_removed(self, path: Path) -> None:
        if self.written.pop(str(path), None) is None and not path.name.endswith(PART):
            self.removed.append(str(path))

    def write_atomic(self, target: str, chunks: Iterable[bytes]) -> int:
        done = super().write_atomic(target, chunks)
        self._note(target, done)
        return done

    def replace(self, old: Path, new: Path) -> None:
        files = list(_files(old, new))
        super().replace(old, new)
        for before, after, size in files:
            self._note(str(after), size)
            self._note_removed(before)

    def remove(self, path: Path) -> None:
        there = os.path.lexists(path)
        super().remove(path)
        if there:
            self._note_removed(path)


class Rehearsal(AccountingDisk):
    """A disk on which nothing changes: what is written goes to a temporary folder, which is gone at the end.

    A command that rehearses does all of its work, with every check, and leaves no trace.
    """

    changes = False

    def __init__(self, allowed: Disk) -> None:
        super().__init__(allowed)
        self._real = allowed
        self._work = tempfile.TemporaryDirectory(prefix="volvex-plan-")
        self._made: dict[Path, Path] = {}  # what was made, and where its bytes are

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._work.cleanup()

    @property
    def real(self) -> Disk:
        return self._real

    def where(self, path: Path) -> Path:
        return self._made.get(path, path)

    def create(self, path: Path, private: bool = False) -> BinaryIO:
        if path in self._made or os.path.lexists(path):
            raise FileExistsError(17, "file exists", str(path))
        own = Path(self._work.name, str(len(self._made)))
        while own.exists():
            own = own.with_name(own.name + "0")
        self._made[path] = own
        if private:  # a secret is not written, not even for a while
            own.touch()
            return Path(os.devnull).open("wb")
        return own.open("xb")

    def sync(self, file: BinaryIO) -> None:
        file.flush()

    def write_atomic(self, target: str, chunks: Iterable[bytes]) -> int:
        done = sum(map(len, chunks))
        self._note(target, done)
        return done

    def link(self, old: Path, new: Path) -> None:
        pass

    def sync_folder(self, folder: Path) -> None:
        pass

    def replace(self, old: Path, new: Path) -> None:
        made = [path for path in self._made if path == old or path.is_relative_to(old)]
        for path in made:
            target = new / path.relative_to(old)
            self._made[target] = self._made.pop(path)
            self.written.pop(str(path), None)
            self._note(str(target), self._made[target].stat().st_size)
        if made:
            return
        for before, after, size in _files(old, new):
            self._note(str(after), size)
            self._note_removed(before)

    def remove(self, path: Path) -> None:
        if path in self._made or os.path.lexists(path):
            self._made.pop(path, None)
            self._note_removed(path)

    def make_folder(self, folder: Path, durable: bool = False) -> None:
        pass

    def remove_folder(self, folder: Path) -> None:
        pass


def _files(old: Path, new: Path) -> Iterator[tuple[Path, Path, int]]:
    """The files that get other names when a file or folder gets one, with their sizes."""
    if old.is_dir():
        for path in sorted(old.rglob("*")):
            if path.is_file():
                yield path, new / path.relative_to(old), path.stat().st_size
    elif old.exists():
        yield old, new, old.stat().st_size
