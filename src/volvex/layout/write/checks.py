"""In which order a layout's parts are found and their checksums computed, and whether it can be written."""

from __future__ import annotations

from volvex.errors import RefusedError
from volvex.layout.kinds import kind_of
from volvex.layout.model import (
    Block,
    ChecksumOf,
    Field,
    Layout,
    Place,
    Text,
    Varint,
)
from volvex.layout.order import checksum_order


def unwritable(layout: Layout) -> list[tuple[Place, str]]:
    """Why a sound layout could be read but not written: places and reasons, none when it can be."""
    reasons: list[tuple[Place, str]] = []
    if layout.read_only:
        reasons.append((layout.place, "declared `read only`"))
    order = checksum_order(layout)
    for block in layout.blocks:
        if block not in order:
            reasons.append((block.place, f"the checksums of {block.name} and of another block each cover the other"))
        if _stands_behind_a_growing_block(layout, block):
            reasons.append((block.place, f"{block.name} has a fixed place behind a block that may grow into it"))
        if block.at and block.at.from_end and (block.repeats or _varies(block)):
            reasons.append(
                (block.place, f"{block.name} is found from the end of the file, but may change its own length")
            )
    reasons += _file_checksums(layout)
    reasons += getattr(kind_of(layout.kind), "unwritable", lambda _: ())(layout)
    return reasons


def _file_checksums(layout: Layout) -> list[tuple[Place, str]]:
    """Checksums over the file are computed last: nothing may cover them, not even each other."""
    found = [(block, field) for block in layout.blocks for field in block.fields if _covers_file(field)]
    reasons = [
        (field.place, "a checksum over the file beside another: each would cover the other") for _, field in found[1:]
    ]
    holders = {block.name for block, _ in found}
    for block, one in found:
        if block.within:
            reasons.append(
                (
                    one.place,
                    f"a checksum over the file that lies in {block.within}, which is wrapped and a part of the file",
                )
            )
    reasons += [
        (field.place, f"{field.meaning.part} holds a checksum over the file, which this checksum would cover")
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, ChecksumOf) and not field.meaning.edge and holders & set(field.meaning.parts)
    ]
    return reasons


def _covers_file(field: Field) -> bool:
    return isinstance(field.meaning, ChecksumOf) and (field.meaning.part == "file" or bool(field.meaning.edge))


def _varies(block: Block) -> bool:
    return any(isinstance(f.type, Varint) or (isinstance(f.type, Text) and not f.type.size) for f in block.fields)


def _stands_behind_a_growing_block(layout: Layout, block: Block) -> bool:
    if block.at is None or not block.at.fixed or not block.at.offset:
        return False
    fixed = [
        (other, other.at)
        for other in layout.blocks
        if other.at is not None and other.at.fixed and other.within == block.within
    ]
    return any(other.repeats and at.offset < block.at.offset for other, at in fixed)


def require_writable(layout: Layout) -> None:
    """Nothing when files can be written by this layout; RefusedError with the lines and reasons otherwise."""
    reasons = unwritable(layout)
    if reasons:
        text = "; ".join(f"line {place.line}: {reason}" for place, reason in reasons)
        raise RefusedError(f"{layout.file}: archives of this layout can be read but not written: {text}")
