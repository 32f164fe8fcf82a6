"""Is a file what its layout says? Constants, lengths, counts and checksums, as far as the content is not needed."""

from __future__ import annotations

import numpy as np

from volvex.errors import FormatError
from volvex.layout.checksums import (
    block_checksums,
    checksum_size,
    checksum_text,
    checksum_value,
    covered_chunks,
    file_span,
    is_over_file,
    new_sum,
    record_checksums,
    stored_checksum,
    without,
)
from volvex.layout.columns import Array, Column, Texts
from volvex.layout.model import Block, ChecksumOf, Constant, Field, Measure, Raw
from volvex.layout.read.blocks import BlockRead, Reading, measured, measuring_field
from volvex.layout.read.own_numbers import check_own_numbers


def verify_blocks(reading: Reading) -> None:
    """All that can be checked without the content; FormatError names the first field that is not what the layout
    says."""
    _check_constants(reading)
    _check_length(reading)
    _check_counts(reading)
    _check_checksums(reading)
    check_own_numbers(reading)


def _check_constants(reading: Reading) -> None:
    for block in reading.blocks.values():
        for field in block.block.fields:
            if not isinstance(field.meaning, Constant) or not len(block.starts):
                continue
            values, wanted, there = block.columns[field.name], field.meaning.value, block.present(field)
            row = _first_difference(values, wanted, field, there)
            if row is not None:
                found = (
                    values.raw(row)
                    if isinstance(values, Texts)
                    else values[row].tobytes()
                    if isinstance(field.type, Raw)
                    else int(values[row])
                )
                raise FormatError(
                    block.source.name,
                    f"{found!r}, expected {wanted!r}",
                    offset=block.offset(row, field.name),
                    field=block.where(row, field.name),
                    hint="a layout for this version of the format",
                )


def _first_difference(values: Column, wanted: bytes | int, field: Field, there: Array) -> int | None:
    if isinstance(values, Texts):  # bytes that are in some records only
        different = np.array([raw != wanted for raw in values.raws()], bool)
    elif isinstance(field.type, Raw):
        different = values != np.frombuffer(wanted if isinstance(wanted, bytes) else b"", values.dtype)[0]
    else:
        different = values != wanted
    different = different & there
    return int(np.argmax(different)) if different.any() else None


def _check_length(reading: Reading) -> None:
    found, told = measured(reading, "length", "file"), measuring_field(reading, "length", "file")
    if told is not None and found != reading.source.size:
        block, field = told
        raise FormatError(
            reading.source.name,
            f"the file has {reading.source.size} bytes, this field gives {found}",
            offset=block.offset(0, field.name),
            field=block.where(0, field.name),
            hint="a fresh copy of the file: it may be cut off",
        )


def _check_counts(reading: Reading) -> None:
    """Measurements that were not needed for finding the records are right all the same."""
    for block in reading.blocks.values():
        for field in block.block.fields:
            meaning = field.meaning
            if not isinstance(meaning, Measure) or meaning.upper or meaning.part not in reading.blocks:
                continue
            part = reading.blocks[meaning.part]
            if meaning.what != "count" or part.block.until is None or not block.present(field)[:1].all():
                continue
            number, found = int(reading.decode_numbers(block, field)[0]), len(part.starts) + len(part.skipped)
            if number != found:
                raise FormatError(
                    block.source.name,
                    f"{meaning.part} has {found} records, this field gives {number}",
                    offset=block.offset(0, field.name),
                    field=block.where(0, field.name),
                )


def _check_checksums(reading: Reading) -> None:
    """The checksums over blocks and parts. Those over the file would cost reading it: see `file_checksum_faults`."""
    for home, field, meaning in block_checksums(reading.layout):
        if is_over_file(meaning):
            continue
        holder, data = reading.blocks[home.name], _covered(reading, home, field, meaning)
        _compare(reading, holder, field, meaning, checksum_value(meaning.algorithm, data))
    for holder in reading.blocks.values():
        for field, meaning in record_checksums(holder.block):
            _check_records(reading, holder, field, meaning)


def _check_records(reading: Reading, holder: BlockRead, field: Field, meaning: ChecksumOf) -> None:
    """The checksums of all records of a block over themselves."""
    rows = [b"".join(parts) for parts in zip(*holder.records.pieces(holder.columns), strict=True)]
    for row, (start, own) in enumerate(zip(holder.starts.tolist(), rows, strict=True)):
        data = without(own, holder.offset(row, field.name) - start, checksum_size(field), meaning.skips)
        _compare(reading, holder, field, meaning, checksum_value(meaning.algorithm, data), row)


def _covered(reading: Reading, home: Block, field: Field, meaning: ChecksumOf) -> bytes:
    """The bytes that a checksum over blocks or parts covers."""
    return b"".join(_part_covered(reading, home, field, meaning, part) for part in meaning.parts)


def _part_covered(reading: Reading, home: Block, field: Field, meaning: ChecksumOf, part: str) -> bytes:
    if part in reading.areas:
        area = reading.areas[part]
        return reading.source.read(area.start, area.stored)
    if part not in reading.blocks:
        return b""
    covered = reading.blocks[part]
    if covered.block is not home:
        return covered.data
    return without(covered.data, covered.offset(0, field.name) - covered.start, checksum_size(field), meaning.skips)


def _compare(reading: Reading, holder: BlockRead, field: Field, meaning: ChecksumOf, value: int, row: int = 0) -> None:
    found = stored_checksum(field, holder.numbers(field.name), row)
    if value != found:
        over = f"the file {meaning.edge} {meaning.part}" if meaning.edge in ("before", "after") else meaning.part
        raise FormatError(
            holder.source.name,
            f"the {meaning.algorithm} of {over} is {checksum_text(field, value)}, the file stores "
            f"{checksum_text(field, found)}",
            offset=holder.offset(row, field.name),
            field=holder.where(row, field.name),
            hint="a fresh copy of the file: some of its bytes have changed",
        )


def verify_file_checksums(reading: Reading) -> None:
    """The checksums over the whole file, which is read for them; FormatError for the first that is wrong."""
    for home, field, meaning in block_checksums(reading.layout):
        if is_over_file(meaning):
            holder = reading.blocks[home.name]
            total = new_sum(meaning.algorithm)
            own = (holder.offset(0, field.name), checksum_size(field)) if meaning.part == "file" else (0, 0)
            for chunk in covered_chunks(reading.source, file_span(reading, meaning), own, meaning.skips):
                total.update(chunk)
            _compare(reading, holder, field, meaning, total.value())
