"""Files that were carved out of something, put back where they were: over the same bytes, when they still fit."""

from __future__ import annotations

import re
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.archive.detect.carve import Find, finds
from volvex.archive.safe_names import quoted, shown
from volvex.archive.transfer.rebuild import file_chunks
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, RefusedError
from volvex.source import FileSource, atomic

_OFFSET = re.compile(r"(.+)@(0x[0-9a-fA-F]+|[0-9a-fA-F]{8}|[0-9]+)")
LARGEST = 1 << 28  # bytes of a file that is put back


def split_offset(bench: Workbench, path: str) -> tuple[str, int] | None:
    """A path and an offset in it, `FILE@0x2c0` (or with the eight digits of a carved file's name); None for another
    path, also for one that something of the game has as a whole."""
    match = _OFFSET.fullmatch(path)
    if match is None or _is_whole(bench, path):
        return None
    digits = match[2]
    return match[1], int(digits, 0 if digits.startswith("0x") else 16 if len(digits) == 8 else 10)


def _is_whole(bench: Workbench, path: str) -> bool:
    """Whether the game has something of that very path."""
    try:
        return bool(list(bench.select(path)))
    except NotFoundError:
        return False


def put_back(bench: Workbench, path: str, offset: int, file: Path) -> tuple[str, Find, int]:
    """Put a file over the one that lies at an offset of something of the game: where that is in the bench, what lay
    there, and how many zeros fill the rest.

    NotFoundError when no file is known to lie there, RefusedError when the new one is larger or of another kind.
    """
    if not file.is_file():
        raise NotFoundError(f"there is no file {shown(file.as_posix())}")
    place, target = bench.open_for_edit(path)
    with FileSource(target, place) as source:
        found = next((find for find in finds(source, offset) if find.offset == offset and find.size is not None), None)
    if found is None or found.size is None:
        raise NotFoundError(
            f"no file is known to lie at {offset:#x} in {shown(place)}",
            f"`volvex identify {quoted(place)}` for those that do",
        )
    size = file.stat().st_size
    if size > found.size or size > LARGEST:
        raise RefusedError(
            f"{shown(file.as_posix())} has {size:,} bytes, there is room for {found.size:,} at {offset:#x}",
            "a smaller file: what lies behind it must not move",
        )
    data = file.read_bytes()
    with FileSource(target, place) as source:
        before = filetypes.kind_by_content(source.peek(offset, filetypes.HEAD))
    if filetypes.kind_by_content(data[: filetypes.HEAD]) != before:
        raise RefusedError(
            f"{shown(file.as_posix())} is of another kind than the {before} at {offset:#x}",
            f"a file of the kind {before}",
        )
    bench.keep_edited(place)
    with atomic(bench.disk, target, durable=False) as out:
        at = 0
        for chunk in file_chunks(target):
            bench.disk.write(out, _over(chunk, at, offset, data.ljust(found.size, b"\0")))
            at += len(chunk)
    return place, found, found.size - size


def _over(chunk: bytes, at: int, offset: int, data: bytes) -> bytes:
    """A stretch of a file with what of the new bytes falls into it."""
    first, last = max(at, offset), min(at + len(chunk), offset + len(data))
    if first >= last:
        return chunk
    return chunk[: first - at] + data[first - offset : last - offset] + chunk[last - at :]
