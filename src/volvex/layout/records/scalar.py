"""One thing of any type at a time: its bytes as values, for showing arrays, choices and records within records."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from volvex.errors import FormatError
from volvex.layout.model import ArrayType, Bits, Choice, Field, FieldType, Float, Nested, Number, Raw, Text, Varint
from volvex.layout.records.columns import Columns, Texts
from volvex.layout.records.varint import packed_varints

SHOWN = 6  # elements of an array that are shown
Value = Any  # a number, a text, bytes, a list, or a dictionary of these


def float_of(number: int, bits: int) -> str:
    """A floating-point number as it is told, from its bits."""
    form, raw = {16: "<e", 32: "<f", 64: "<d"}[bits], number.to_bytes(bits // 8, "little")
    value = struct.unpack(form, raw)[0]
    if value != value and struct.pack(form, value) != raw:
        return f"nan:{raw[::-1].hex()}"
    return f"{value:.9g}" if bits < 64 else repr(value)


def read_value(kind: FieldType, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[Value, int]:
    """What stands at a place, and where it ends; FormatError when the bytes do not suffice."""
    if isinstance(kind, Number | Float):
        raw = _span(data, at, kind.size)
        order = "big" if kind.big else "little"
        if isinstance(kind, Float):
            return float_of(int.from_bytes(raw, order), kind.bits), at + kind.size  # type: ignore[arg-type]
        return int.from_bytes(raw, order, signed=kind.signed), at + kind.size  # type: ignore[arg-type]
    if isinstance(kind, Raw):
        return _span(data, at, kind.size), at + kind.size
    if isinstance(kind, Varint):
        return _varint(kind, data, at)
    if isinstance(kind, Text):
        return _text(kind, data, at, siblings)
    if isinstance(kind, ArrayType):
        return _array(kind, data, at, siblings)
    if isinstance(kind, Choice):
        number = siblings[kind.by]
        record = next((one for (key, _), one in zip(kind.table, kind.records, strict=True) if key == number), None)
        if record is None:
            raise FormatError("a choice", f"{number} stands for no record", offset=at)
        return read_record(record.fields, data, at)
    return read_record(kind.fields, data, at) if isinstance(kind, Nested) else (b"", at)


def read_fields(fields: tuple[Field, ...], data: bytes) -> Iterator[tuple[Field, int, int, Value]]:
    """A record's fields that are there, each with where it starts and ends and its value; FormatError when it is not whole."""
    values: dict[str, Value] = {}
    at = 0
    for one in fields:
        if isinstance(one.type, Bits) or (one.when is not None and not _holds(one, values)):
            continue
        start = at
        values[one.name], at = read_value(one.type, data, at, values)
        yield one, start, at, values[one.name]
    if at != len(data):
        raise FormatError("a record", f"{len(data) - at} bytes follow its last field", offset=at)


def read_record(fields: tuple[Field, ...], data: bytes, at: int) -> tuple[dict[str, Value], int]:
    """A record's values by the names of its fields, and where it ends."""
    values: dict[str, Value] = {}
    for one in fields:
        if isinstance(one.type, Bits):
            values[one.name] = values[one.type.host] >> one.type.low & one.type.limits[1]
        elif one.when is None or _holds(one, values):
            values[one.name], at = read_value(one.type, data, at, values)
    return values, at


def _holds(field: Field, values: Mapping[str, Any]) -> bool:
    assert field.when is not None
    return bool(field.when.test(values.get(field.when.field, 0)))


def _span(data: bytes, at: int, size: int) -> bytes:
    if at + size > len(data):
        raise FormatError("a record", "its bytes end within a field", offset=at)
    return data[at : at + size]


def _varint(kind: Varint, data: bytes, at: int) -> tuple[int, int]:
    number = place = 0
    while True:
        byte = _span(data, at + place, 1)[0]
        number = number << 7 | byte & 127 if kind.big else number | (byte & 127) << 7 * place
        place += 1
        if byte < 128:
            return number, at + place


def write_value(kind: FieldType, value: Value, siblings: Mapping[str, Any]) -> bytes:
    """The other direction, with the same values; Misfit when one cannot be stored."""
    if isinstance(kind, Number | Float):
        order = "big" if kind.big else "little"
        if isinstance(kind, Float):
            return bits_of_float(value, kind.bits).to_bytes(kind.size, order)  # type: ignore[arg-type]
        low, high = kind.limits
        if not isinstance(value, int) or not low <= value <= high:
            raise InvalidValue(f"{value!r}, a whole number from {low} to {high} fits")
        return value.to_bytes(kind.size, order, signed=kind.signed)  # type: ignore[arg-type]
    if isinstance(kind, Raw):
        if len(value) != kind.size:
            raise InvalidValue(f"{len(value)} bytes, {kind.size} fit")
        return bytes(value)
    if isinstance(kind, Varint):
        return packed_varints(np.array([value], np.int64), kind)[0]
    if isinstance(kind, Text):
        return _write_text(kind, value)
    if isinstance(kind, ArrayType):
        count = kind.count if isinstance(kind.count, int) else siblings[kind.count]
        if len(value) != count:
            raise InvalidValue(f"{len(value)} elements, {count} fit")
        return b"".join(write_value(kind.of, one, siblings) for one in value)
    if isinstance(kind, Choice):
        number = siblings[kind.by]
        record = next((one for (key, _), one in zip(kind.table, kind.records, strict=True) if key == number), None)
        if record is None:
            raise InvalidValue(f"{number} stands for no record")
        return write_record(record.fields, value)
    return write_record(kind.fields, value) if isinstance(kind, Nested) else b""


def write_record(fields: tuple[Field, ...], values: Mapping[str, Value]) -> bytes:
    """A record's bytes: bits put into the number that holds them, lengths and counts measured."""
    made = dict(values)
    for field in fields:
        kind = field.type
        if isinstance(kind, Bits) and field.name in made:
            mask = kind.limits[1] << kind.low
            made[kind.host] = made[kind.host] & ~mask | made[field.name] << kind.low & mask
        elif isinstance(kind, Text) and kind.told and field.name in made:
            made[kind.told] = (len(made[field.name].encode(kind.encoding, "surrogateescape")) - kind.extra) // kind.unit
        elif isinstance(kind, ArrayType) and isinstance(kind.count, str) and field.name in made:
            made[kind.count] = len(made[field.name])
    return b"".join(
        write_value(one.type, made[one.name], made)
        for one in fields
        if not isinstance(one.type, Bits) and (one.when is None or _holds(one, made))
    )


def _write_text(kind: Text, value: str) -> bytes:
    raw = value.encode(kind.encoding, "surrogateescape" if kind.encoding == "utf-8" else "strict")
    if kind.size is not None:
        if len(raw) > kind.size:
            raise InvalidValue(f"{len(raw)} bytes, {kind.size} fit")
        return raw.ljust(kind.size, bytes([kind.filled]))
    if kind.prefix is not None:
        return write_value(kind.prefix, (len(raw) - kind.extra) // kind.unit, {}) + raw + bytes(kind.zero)
    return raw + bytes(kind.zero)


class InvalidValue(ValueError):
    """A value that its field cannot hold: what it is, and what could be there."""


def bits_of_float(value: str | float, bits: int) -> int:
    """A floating-point number's bits, from how it is told."""
    form = {16: "<e", 32: "<f", 64: "<d"}[bits]
    if isinstance(value, str) and value.startswith("nan:"):
        return int(value[4:], 16)
    try:
        return int.from_bytes(struct.pack(form, float(value)), "little")
    except (OverflowError, ValueError) as error:
        raise InvalidValue(f"{value}, a number within {bits} bits fits") from error


def _text(kind: Text, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[str, int]:
    if kind.prefix is not None:
        number, at = read_value(kind.prefix, data, at, {})
        size, after = number * kind.unit + kind.extra, kind.zero
    elif kind.told:
        size, after = siblings[kind.told] * kind.unit + kind.extra, 0
    elif kind.size is not None:
        size, after = kind.size, 0
    else:
        end = at
        while any(_span(data, end, kind.zero)):
            end += kind.zero
        size, after = end - at, kind.zero
    raw = _span(data, at, size)
    errors = "surrogateescape" if kind.encoding == "utf-8" else "backslashreplace"
    return raw.decode(kind.encoding, errors).rstrip("\0"), at + size + after


def _array(kind: ArrayType, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[list[Value], int]:
    count = kind.count if isinstance(kind.count, int) else siblings[kind.count]
    found = []
    for _ in range(count):
        value, at = read_value(kind.of, data, at, siblings)
        found.append(value)
    return found, at


def explained(kind: FieldType, raw: bytes, columns: Columns, row: int) -> str:
    """A value as it is told, cut to some length."""
    if not raw:
        return ""
    siblings = {name: int(column[row]) for name, column in columns.items()
                if not isinstance(column, Texts) and column.dtype.kind in "iu"}  # fmt: skip
    try:
        value, _ = read_value(kind, raw, 0, siblings)
    except (FormatError, KeyError):
        return raw[:10].hex(" ")
    return told(value)


def told(value: Value) -> str:
    """A value in few words."""
    if isinstance(value, dict):
        return ", ".join(f"{name} {told(one)}" for name, one in value.items())
    if isinstance(value, list):
        more = f" ... {len(value)} in all" if len(value) > SHOWN else ""
        inner = [f"({told(one)})" if isinstance(one, dict) else told(one) for one in value[:SHOWN]]
        return f"[{', '.join(inner)}{more}]"
    return value.hex(" ") if isinstance(value, bytes) else str(value)
