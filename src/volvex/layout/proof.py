"""The proof of a layout: what is read and written again without a change is the same, byte for byte."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from volvex.errors import FormatError
from volvex.layout.edits import Edit, Plan
from volvex.layout.explaining import Stretch, covering
from volvex.layout.library import require_writable
from volvex.layout.reading import Reading
from volvex.layout.writing import plan, sorting


@dataclass(frozen=True)
class Difference:
    """The first byte that differs."""

    offset: int
    field: Stretch
    original: bytes
    written: bytes


@dataclass(frozen=True)
class Proof:
    """What came of writing a file anew."""

    size: int
    difference: Difference | None


def prove(reading: Reading, advance: Callable[[int], None] = lambda size: None) -> Proof:
    """Write a file anew from what was read of it, every part by itself, and compare.

    Nothing is stored: the new bytes are made and compared in pieces. `advance` is told their sizes.
    RefusedError when the layout cannot be written, FormatError when the file does not keep to it.
    """
    require_writable(reading.layout)
    _check_sorted(reading)
    made = plan(reading, Edit(), each=True)
    offset = 0
    for written in _joined(made):
        original = reading.source.peek(offset, len(written))
        if original != written:
            return Proof(reading.source.size, _difference(reading, offset, original, written))
        offset += len(written)
        advance(len(written))
    if offset != reading.source.size:
        return Proof(reading.source.size, _difference(reading, offset, reading.source.peek(offset, 16), b""))
    return Proof(offset, None)


def _joined(made: Plan, step: int = 1 << 20) -> Iterator[bytes]:
    """The pieces of a plan put together to some size, so that each comparison is worth it."""
    waiting, size = [], 0
    for chunk in made.chunks():
        waiting.append(chunk)
        size += len(chunk)
        if size >= step:
            yield b"".join(waiting)
            waiting, size = [], 0
    yield b"".join(waiting)


def _difference(reading: Reading, offset: int, original: bytes, written: bytes) -> Difference:
    same = 0
    while same < min(len(original), len(written)) and original[same] == written[same]:
        same += 1
    at = offset + same
    return Difference(at, covering(reading, at), original[same : same + 8], written[same : same + 8])


def _check_sorted(reading: Reading) -> None:
    block = reading.home.block
    if block.sorted_by is None:
        return
    order = sorting(reading.home.columns[block.sorted_by])
    wrong = next((row for row, place in enumerate(order.tolist()) if row != place), None)
    if wrong is not None:
        raise FormatError(reading.source.name, f"the records are not sorted by {block.sorted_by}, as the layout says",
                          offset=int(reading.home.starts[wrong]), field=reading.home.where(wrong, block.sorted_by),
                          hint="leaving `sorted by` out of the layout")  # fmt: skip
