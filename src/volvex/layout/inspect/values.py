"""Values of fields as `explain` shows them."""

from __future__ import annotations

from typing import Any

from volvex.errors import FormatError
from volvex.layout.columns import Columns, Texts
from volvex.layout.model import Field, FieldType, Float, IntegerType, Opaque, Text
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.numbers import decode_numbers
from volvex.layout.types.float import float_of

SHOWN = 6  # elements of an array that are shown


def value_of(reading: Reading, block: BlockRead, row: int, field: Field) -> str:
    """A field's value in a record, in few words."""
    column, kind = block.columns[field.name], field.type
    if isinstance(column, Texts):
        if isinstance(kind, Text):
            return column.raw(row).decode(column.encoding, "backslashreplace")
        return explained(kind, column.raw(row), block.columns, row)
    if isinstance(kind, Float):
        return float_of(int(column[row]), kind.bits)
    if not isinstance(kind, IntegerType):
        raw = column[row].tobytes()
        if kind.compound:
            return explained(kind, raw, block.columns, row)
        return repr(raw)[1:] if raw.isascii() and raw.decode().isprintable() else str(raw.hex(" "))
    number, table = int(column[row]), getattr(field.meaning, "table", ())
    if table:
        return f"{number} {dict(table).get(number, '?')}"
    if field.changes:
        settled = reading.settled(field)
        whole = int(decode_numbers(column[row : row + 1], settled, block.source, block.starts[row : row + 1])[0])
        return f"{number} ({whole:#x})"
    return f"{number:#x}" if _is_bits(field) else str(number)


def _is_bits(field: Field) -> bool:
    return (
        " of " in field.words and field.words.split()[0] not in ("count", "length", "size", "stored")
    ) or isinstance(field.meaning, Opaque)


def explained(kind: FieldType, raw: bytes, columns: Columns, row: int) -> str:
    """A value of any type, from its bytes and the numbers of its record, cut to some length."""
    if not raw:
        return ""
    siblings = {
        name: int(column[row])
        for name, column in columns.items()
        if not isinstance(column, Texts) and column.dtype.kind in "iu"
    }
    try:
        value, _ = kind.decode(raw, 0, siblings)
    except (FormatError, KeyError):
        return raw[:10].hex(" ")
    return value_text(value)


def value_text(value: Any) -> str:
    """A decoded value in few words."""
    if isinstance(value, dict):
        return ", ".join(f"{name} {value_text(inner)}" for name, inner in value.items())
    if isinstance(value, list):
        more = f" ... {len(value)} in all" if len(value) > SHOWN else ""
        inner = [f"({value_text(item)})" if isinstance(item, dict) else value_text(item) for item in value[:SHOWN]]
        return f"[{', '.join(inner)}{more}]"
    return value.hex(" ") if isinstance(value, bytes) else str(value)
