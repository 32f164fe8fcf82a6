"""The proof of a layout: what is read and written again without a change is the same, byte for byte."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from volvex.errors import FormatError
from volvex.layout.checksums import checksum_text, name_checksum, stored_checksum
from volvex.layout.columns import sorting
from volvex.layout.inspect.coverage import covering, object_stretches, pieces
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.blocks import Reading
from volvex.layout.read.names import entry_folders, has_ranges, own_names
from volvex.layout.read.verify import verify_file_checksums
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit, Plan
from volvex.layout.write.planner import plan
from volvex.source import Source


@dataclass(frozen=True)
class Difference:
    """The first byte that differs."""

    offset: int
    field: Stretch
    original: bytes
    written: bytes


@dataclass(frozen=True)
class Proof:
    """The result of a proof: the size of the file, and the first difference."""

    size: int
    difference: Difference | None


def prove(reading: Reading, on_progress: Callable[[int], None] = lambda size: None) -> Proof:
    """Write a file again from what was read of it, every part by itself, and compare.

    Nothing is stored: the new bytes are made and compared in pieces. `on_progress` is told their sizes.
    RefusedError when the layout cannot be written, FormatError when the file does not keep to it.
    """
    require_writable(reading.layout)
    _check_sorted(reading)
    _check_name_checksums(reading)
    verify_file_checksums(reading)
    made = plan(reading, Edit(), each=True)
    found = compared(made, reading.source, lambda at: covering(reading, at), on_progress)
    for volume in reading.volumes:
        if found.difference is None and volume.name in made.others:
            other = made.others[volume.name]
            name = volume.name
            proof = compared(other, volume.source, lambda at, name=name: Stretch(at, 0, "content", name), on_progress)  # type: ignore[misc]
            found = Proof(found.size + proof.size, proof.difference)
    return found


def compared(
    made: Plan,
    source: Source,
    field_at: Callable[[int], Stretch],
    on_progress: Callable[[int], None] = lambda size: None,
) -> Proof:
    """What a plan makes against what is there; `field_at` tells what covers the first byte that differs."""
    offset = 0
    for written in _joined(made):
        original = source.peek(offset, len(written))
        if original != written:
            return Proof(source.size, _difference(offset, original, written, field_at))
        offset += len(written)
        on_progress(len(written))
    if offset != source.size:
        return Proof(source.size, _difference(offset, source.peek(offset, 16), b"", field_at))
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


def _difference(offset: int, original: bytes, written: bytes, field_at: Callable[[int], Stretch]) -> Difference:
    same = 0
    while same < min(len(original), len(written)) and original[same] == written[same]:
        same += 1
    at = offset + same
    return Difference(at, field_at(at), original[same : same + 8], written[same : same + 8])


def _check_sorted(reading: Reading) -> None:
    for block in reading.blocks.values():
        by = block.block.sorted_by
        if by is None:
            continue
        order = sorting(block.columns[by])
        owners = block.owners
        if owners is None and block in reading.entry_blocks() and has_ranges(reading):
            owners = entry_folders(reading)
        if owners is not None:  # within each folder
            _, runs = np.unique(owners, return_index=True)
            order = np.lexsort(
                (np.argsort(order), np.argsort(np.argsort(runs))[np.unique(owners, return_inverse=True)[1]])
            )
        wrong = next((row for row, place in enumerate(order.tolist()) if row != place), None)
        if wrong is not None:
            raise FormatError(
                block.source.name,
                f"the records are not sorted by {by}, as in the layout",
                offset=int(block.starts[wrong]),
                field=block.where(wrong, by),
                hint="leaving `sorted by` out of the layout",
            )


def _check_name_checksums(reading: Reading) -> None:
    """Hashes of names, which opening does not verify."""
    for block, field, meaning in reading.entry_checksums():
        if meaning.part not in attributes.NAMES:
            continue
        names = own_names(reading)
        for row, raw in enumerate(names.raws() if names else ()):
            value, number = name_checksum(meaning, raw), stored_checksum(field, block.numbers(field.name), row)
            if value != number:
                raise FormatError(
                    block.source.name,
                    f"the {meaning.algorithm} of {meaning.part} is {checksum_text(field, value)}, "
                    f"the file has {checksum_text(field, number)}",
                    offset=block.offset(row, field.name),
                    field=block.where(row, field.name),
                    hint="another algorithm, or the name in another case: `of lower name`",
                )


def check_objects(reading: Reading) -> None:
    """Nothing when the content of typed objects is what the record of their type says; FormatError for the first that
    is not."""
    assert reading.entries is not None
    if not reading.layout.records or reading.attribute(attributes.TYPE) is None:
        return
    for piece in pieces(reading, reading.layout.content.within):
        if piece.block is None and piece.area is None:
            try:
                for _ in object_stretches(reading, piece, reading.layout.content.within, strict=True):
                    pass
            except FormatError as error:
                name = reading.entries.names.raw(piece.row).decode(reading.entries.names.encoding, "backslashreplace")
                raise FormatError(
                    reading.source.name,
                    f"{name} differs from its record: {error.problem}",
                    offset=piece.start + (error.offset or 0),
                    hint="another record for this type",
                ) from error
