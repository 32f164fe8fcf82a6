"""The checksums of a file: which bytes each covers, how it is stored, and its value over them."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec import CHECKSUM, Sum
from volvex.layout.columns import Array
from volvex.layout.model import Block, ChecksumOf, Field, Layout, Number, Raw
from volvex.layout.read.blocks import Reading
from volvex.source import Source


def block_checksums(layout: Layout) -> list[tuple[Block, Field, ChecksumOf]]:
    """The checksums over blocks, parts and the file: the block that holds each, its field, what it covers."""
    return [
        (block, field, field.meaning)
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, ChecksumOf)
        and (
            field.meaning.edge
            or field.meaning.part == "file"
            or any(layout.block(part) or layout.part(part) for part in field.meaning.parts)
        )
    ]


def is_over_file(meaning: ChecksumOf) -> bool:
    """Whether a checksum covers content, so that verifying it costs reading it."""
    return meaning.part == "file" or bool(meaning.edge)


def new_sum(algorithm: str) -> Sum:
    """A checksum to be computed."""
    return CHECKSUM.get(algorithm).new()


def checksum_value(algorithm: str, data: bytes) -> int:
    """The checksum over some bytes."""
    checksum = new_sum(algorithm)
    checksum.update(data)
    return checksum.value()


def name_checksum(meaning: ChecksumOf, name: bytes) -> int:
    """The checksum over an entry's own name, in the letters that it asks for."""
    return checksum_value(
        meaning.algorithm, {"lower name": name.lower(), "upper name": name.upper()}.get(meaning.part, name)
    )


def checksum_size(field: Field) -> int:
    """The bytes of a checksum's field."""
    return field.type.size if isinstance(field.type, Number) else int(getattr(field.type, "size", 0) or 0)


def checksum_text(field: Field, value: int) -> str:
    """A checksum as it is told: as many digits as it has."""
    return f"0x{value:0{2 * checksum_size(field)}x}"


def stored_checksum(field: Field, column: Array, row: int) -> int:
    """A checksum as a field holds it; a digest in bytes has its highest byte first."""
    if isinstance(field.type, Raw):
        return int.from_bytes(column[row].tobytes(), "big")
    number = int(column[row])
    for change in field.changes:
        number = change.apply(number)
    return number


def without(data: bytes, at: int, size: int, skips: bool) -> bytes:
    """Bytes in which those of a checksum count as zero, or are left out."""
    return data[:at] + (b"" if skips else bytes(size)) + data[at + size :]


def record_checksums(block: Block) -> list[tuple[Field, ChecksumOf]]:
    """The checksums that cover the record which they stand in."""
    found = ((field, field.meaning) for field in block.fields)
    return [
        (field, meaning) for field, meaning in found if isinstance(meaning, ChecksumOf) and meaning.part == "record"
    ]


def file_span(reading: Reading, meaning: ChecksumOf) -> tuple[int, int]:
    """From where to where a checksum over the file goes."""
    if not meaning.edge:
        return 0, reading.source.size
    if meaning.edge == "before":
        return 0, reading.edge("start", meaning.part)
    if meaning.edge == "over":
        return reading.edge("start", meaning.part), reading.edge("end", meaning.part)
    return reading.edge("end", meaning.part), reading.source.size


def covered_chunks(source: Source, span: tuple[int, int], own: tuple[int, int], skips: bool = False) -> Iterator[bytes]:
    """The bytes of a span, those of the checksum itself as zeros or left out."""
    at, (mine, size) = span[0], own
    for chunk in source.chunks(span[0], span[1] - span[0]):
        first, last = max(mine, at), min(mine + size, at + len(chunk))
        if first < last:
            yield without(chunk, first - at, last - first, skips)
        else:
            yield chunk
        at += len(chunk)
