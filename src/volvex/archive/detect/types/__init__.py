"""Types of open files, by subject. Each module of a family `file_type` has `TYPES`: a row a type, with all that is
known of it."""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Protocol

from volvex.archive.detect.types._base import FileType as FileType
from volvex.archive.detect.types._base import Measured as Measured
from volvex.registry import Registry


class FileTypes(Protocol):
    TYPES: tuple[FileType, ...]


HEAD = 64  # bytes that are looked at
FILE_TYPES: Registry[FileTypes] = Registry("file_type", __name__, Path(__file__).parent, needs=("TYPES",))


@functools.cache
def all_types() -> tuple[FileType, ...]:
    """All types: those with a signature first, of these the long signatures first."""
    types = [kind for module in FILE_TYPES.all() for kind in module.TYPES]
    return tuple(sorted(types, key=lambda kind: -max((len(mark) for mark, _ in kind.signatures), default=0)))


@functools.cache
def may_begin(byte: int) -> tuple[FileType, ...]:
    """The types with a signature that a file with this first byte may have."""
    marks = {kind: [mark for mark, offset in kind.signatures if not offset] for kind in all_types() if kind.signatures}
    marks = {kind: own for kind, own in marks.items() if kind not in late_types()}
    return tuple(kind for kind, first in marks.items() if not first or any(mark[0] == byte for mark in first))


@functools.cache
def late_types() -> tuple[FileType, ...]:
    """The types whose signature lies behind the first `HEAD` bytes."""
    return tuple(kind for kind in all_types() if any(offset >= HEAD for _, offset in kind.signatures))


@functools.cache
def by_name() -> dict[str, FileType]:
    """The types by their names."""
    return {kind.name: kind for kind in all_types()}
