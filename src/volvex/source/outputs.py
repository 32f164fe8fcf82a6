"""The files that a command writes: all of them or none, and none over a file that was there unless that is allowed.

Every file that the user did not name for writing, volumes and side files included, goes through here.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO, Self

from volvex.errors import RefusedError
from volvex.source.disk import PART, Disk, is_stale


class Outputs:
    """Files that get their names together, when the block ends well.

    `overwrite`: files that are there are replaced; without it RefusedError, before a byte of the file is written.
    """

    def __init__(self, disk: Disk, overwrite: bool = False, hint: str = "another name, or --overwrite") -> None:
        self.disk, self.overwrite, self.hint = disk, overwrite, hint
        self._files: dict[Path, Path] = {}  # what is to be, and where its bytes are

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        try:
            if kind is None:
                self._commit()
        finally:
            for part in self._files.values():
                with contextlib.suppress(OSError):
                    part.unlink(missing_ok=True)

    def check(self, target: Path) -> None:
        """RefusedError when a file may not be written."""
        self.disk.require_allowed(target)
        if os.path.lexists(target) and not self.overwrite:
            raise RefusedError(f"{target} already exists", self.hint)
        if target.is_dir():
            raise RefusedError(f"{target} is a folder", "the name of a file")

    @contextlib.contextmanager
    def file(self, target: Path) -> Iterator[BinaryIO]:
        """A file to be written; it gets its name with all the others."""
        self.check(target)
        self.disk.make_folder(target.parent)
        for path in target.parent.glob(f"volvex-[0-9]*{PART}"):
            if not path.name.endswith(f".{os.getpid()}{PART}") and is_stale(path):  # of a command that was killed
                path.unlink(missing_ok=True)
        part = target.with_name(f"volvex-{len(self._files)}.{os.getpid()}{PART}")
        part.unlink(missing_ok=True)
        with self.disk.create(part) as file:
            self._files[target] = part
            yield file
            self.disk.sync(file)

    def part(self, target: Path) -> Path:
        """Where the bytes of a file are until it gets its name."""
        return self.disk.where(self._files[target])

    def _keep(self, target: Path, old: Path) -> None:
        """Give what is there a second name until all is done: a kill never leaves the target missing. Where disks have
        no second names it is moved, under a name that nothing ever tidies away."""
        try:
            self.disk.link(target, old)
        except OSError:
            self.disk.replace(target, old)

    def _commit(self) -> None:
        for target in self._files:
            self.check(target)
        kept: dict[Path, Path | None] = {}
        try:
            for number, (target, part) in enumerate(self._files.items()):
                old = target.with_name(f"volvex-old-{number}.{os.getpid()}") if os.path.lexists(target) else None
                if old is not None:
                    self._keep(target, old)
                kept[target] = old
                self.disk.replace(part, target)
        except BaseException:
            for target, old in reversed(kept.items()):
                with contextlib.suppress(OSError):
                    target.unlink(missing_ok=True)
                    if old is not None:
                        old.replace(target)
            raise
        for old in kept.values():
            if old is not None:
                with contextlib.suppress(OSError):
                    old.unlink(missing_ok=True)


@contextlib.contextmanager
def new_file(
    disk: Disk, target: Path, overwrite: bool = False, hint: str = "another name, or --overwrite"
) -> Iterator[BinaryIO]:
    """A single file that a command writes."""
    with Outputs(disk, overwrite, hint) as outputs, outputs.file(target) as file:
        yield file
