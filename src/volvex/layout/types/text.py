"""`text`: after its length, of a length that a field stores, in a fixed number of bytes, or up to a zero."""

from __future__ import annotations

import codecs
import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import Array, Field, FieldType, InvalidSyntax, InvalidValue, Loop, integer, span
from volvex.layout.types.number import Number

GRAMMAR = """
text: "text" (closed | number | NUMBER | ZERO | text_of) ["in" WORD] [filled]
closed: number ZERO
text_of: "of" WORD
filled: "filled" HEX_BYTE
ZERO: "zero"
"""
WIDE = ("utf-16", "utf-32")  # encodings that need a byte order


@dataclass(frozen=True)
class Text(FieldType):
    """Text after its length (`prefix`), of a length that the field `length_by` stores, in `size` bytes, or up to a zero.

    `unit`: the bytes that the length counts by. `extra`: bytes that it does not count. `closed`: a zero at the end that it
    counts. `filled`: the byte behind the text, in a fixed size.
    """

    encoding: str
    prefix: Number | None = None
    size: int | None = None
    length_by: str = ""
    filled: int = 0
    unit: int = 1
    extra: int = 0
    closed: bool = False

    uses = "length"

    @property
    def ending(self) -> int:
        """The bytes of the zero at its end, if that is how it ends."""
        if (self.prefix is not None and not self.closed) or self.size is not None or self.length_by:
            return 0
        return self.width

    @property
    def width(self) -> int:
        """The bytes of a character, as far as all have the same."""
        return len("aa".encode(self.encoding)) - len("a".encode(self.encoding))

    @property
    def fixed_size(self) -> int | None:
        return self.size

    @property
    def min_size(self) -> int:
        return self.size or (self.prefix.size if self.prefix else 0) + self.ending

    @property
    def max_size(self) -> int | None:
        """The bytes for which it has room; None when that is not limited."""
        if self.size is not None or self.prefix is None or self.prefix.bits == 64:
            return self.size
        return self.prefix.limits[1] * self.unit + self.extra

    @property
    def sibling(self) -> str:
        return self.length_by

    def with_sibling(self, name: str) -> Text:
        return dataclasses.replace(self, length_by=name)

    def measured(self, value: str) -> int:
        return (len(value.encode(self.encoding, "surrogateescape")) - self.extra) // self.unit

    def counted(self, lengths: Array) -> Array:
        """Lengths in bytes as its number counts them; InvalidValue when one is no multiple of its unit."""
        left = lengths - self.extra
        if len(left) and (left % self.unit).any():
            raise InvalidValue(f"a text whose length is no multiple of {self.unit}")
        return left // self.unit

    def with_order(self, big: bool) -> Text:
        wide = f"{self.encoding}-{'be' if big else 'le'}" if self.encoding in WIDE else self.encoding
        return dataclasses.replace(self, encoding=wide, prefix=self.prefix and self.prefix.with_order(big))

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[str, int]:
        if self.prefix is not None:
            number, at = self.prefix.decode(data, at, {})
            size = number * self.unit + self.extra
        elif self.length_by:
            size = siblings[self.length_by] * self.unit + self.extra
        elif self.size is not None:
            size = self.size
        else:
            end = at
            while any(span(data, end, self.ending)):
                end += self.ending
            size = end - at
        errors = "surrogateescape" if self.encoding == "utf-8" else "backslashreplace"
        return span(data, at, size).decode(self.encoding, errors).rstrip("\0"), at + size + self.ending

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        raw = value.encode(self.encoding, "surrogateescape" if self.encoding == "utf-8" else "strict")
        if self.size is not None:
            if len(raw) > self.size:
                raise InvalidValue(f"{len(raw)} bytes, {self.size} fit")
            return bytes(raw.ljust(self.size, bytes([self.filled])))
        length = self.prefix.encode((len(raw) - self.extra) // self.unit, {}) if self.prefix is not None else b""
        return length + bytes(raw) + bytes(self.ending)

    def emit(self, code: Loop, asked: Field | None) -> None:
        if self.prefix is not None:
            length = self.emit_length(code, self.prefix.number_at(0))
            code.add(f"q += {self.prefix.size + self.ending} + {length}")
        elif self.length_by:
            code.add(f"q += {self.emit_length(code, code.names[self.length_by])}")
        elif self.ending == 1:
            code.add("q = data.index(0, q) + 1")
        else:
            code.add(f"q = wide_zero(data, q, {self.ending}) + {self.ending}")

    def emit_length(self, code: Loop, number: str) -> str:
        """Code for its bytes, from the number that counts them; it may not be negative."""
        if self.unit == 1 and not self.extra and self.prefix is not None and not self.prefix.signed:
            return number
        length = code.variable(f"({number}) * {self.unit} + {self.extra}")
        code.add(f"if {length} < 0: raise ValueError")
        return length

    def column(self, rows: Array) -> tuple[Column, Texts | None]:
        """Texts without their padding; and what stands behind the end of any, when that is more than padding."""
        assert self.size is not None
        if self.filled:
            fill = bytes([self.filled])
            return Texts.of([whole.rstrip(fill) for whole in _wholes(rows, self.size)], self.encoding), None
        if self.width == 1:
            raws: list[bytes] = rows.view(f"S{self.size}").tolist()  # without the zeros at their ends
            if not any(b"\0" in raw for raw in raws):
                return Texts.of(raws, self.encoding), None
        wholes = _wholes(rows, self.size)
        ends = [_end(whole, self.width) for whole in wholes]
        texts = Texts.of([whole[:end] for whole, end in zip(wholes, ends, strict=True)], self.encoding)
        rests = [whole[end:] for whole, end in zip(wholes, ends, strict=True)]
        return texts, Texts.of(rests, "latin-1") if any(rest.strip(b"\0") for rest in rests) else None

    def rows(self, column: Column, rest: Texts | None) -> Array:
        assert isinstance(column, Texts) and self.size is not None
        if len(column) and int(column.lengths.max()) > self.size:
            raise InvalidValue(f"{int(column.lengths.max())} bytes do not fit into {self.size}")
        raws = column.raws()
        if rest is not None:
            wholes = [raw + behind for raw, behind in zip(raws, rest.raws(), strict=True)]
            raws = [whole if len(whole) == self.size else raw for raw, whole in zip(raws, wholes, strict=True)]
        fill = bytes([self.filled])
        return np.frombuffer(b"".join([raw.ljust(self.size, fill) for raw in raws]), self.dtype)

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        if self.size is None:
            return Texts(data, starts, lengths, self.encoding)
        ends = zip(starts.tolist(), (starts + lengths).tolist(), strict=True)  # of a fixed size, in some records only
        return Texts(
            data, starts, np.array([self._filled_from(data[start:end]) for start, end in ends], np.int64), self.encoding
        )

    def _filled_from(self, raw: bytes) -> int:
        """Where in a text of fixed size nothing but what fills it up begins."""
        end = len(raw.rstrip(bytes([self.filled])))
        return min(len(raw), end + -end % self.width)

    def tail_size(self, column: Column, row: int) -> int:
        return self.size if self.size is not None else super().tail_size(column, row)

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        assert isinstance(column, Texts)
        if self.size is not None:
            present = [True] * len(column) if there is None else there.tolist()
            if len(column) and int(column.lengths.max()) > self.size:
                raise InvalidValue(f"{int(column.lengths.max())} bytes do not fit into {self.size}")
            fill = bytes([self.filled])
            return [raw.ljust(self.size, fill) if one else b"" for raw, one in zip(column.raws(), present, strict=True)]
        end = bytes(self.ending) if there is None else b""
        return [raw + end for raw in column.raws()] if end else column.raws()

    def __str__(self) -> str:
        return f"text {self.prefix or self.size or (f'of {self.length_by}' if self.length_by else 'zero')}"


def wide_zero(data: bytes, start: int, width: int) -> int:
    """Where a zero of `width` bytes stands, counted in such units from `start`; ValueError when none does."""
    at = data.index(bytes(width), start)
    while (at - start) % width:
        at = data.index(bytes(width), at + 1)
    return at


def _wholes(rows: Array, size: int) -> list[bytes]:
    data = rows.tobytes()
    return [data[at : at + size] for at in range(0, len(data), size)] if size else [b""] * len(rows)


def _end(whole: bytes, width: int) -> int:
    """Where a text ends: at its first zero, counted in characters."""
    end = next((at for at in range(0, len(whole), width) if not any(whole[at : at + width])), len(whole))
    return min(end, len(whole))


def encoding_named(name: str) -> str:
    """Python's name of a text encoding; InvalidSyntax when there is none."""
    try:
        return codecs.lookup(name).name
    except LookupError as error:
        raise InvalidSyntax(name, f"there is no text encoding {name}", "utf-8, utf-16-le, cp1252") from error


def _text(parts: list[Any]) -> Text:
    length, encoding, filled = parts
    kind = Text(encoding_named(encoding) if encoding is not None else "utf-8")
    fixed = not isinstance(length, Text | Number | tuple) and length != "zero"
    if filled is not None and not fixed:
        raise InvalidSyntax(filled, "only a text of a fixed size is filled up", "text 16 filled 00")
    if isinstance(length, Text):  # after its length, with a zero that the length counts
        kind = dataclasses.replace(length, encoding=kind.encoding)
        return dataclasses.replace(kind, extra=-kind.ending)
    if isinstance(length, Number):
        return dataclasses.replace(kind, prefix=length)
    if isinstance(length, tuple):
        return dataclasses.replace(kind, length_by=length[0])
    return dataclasses.replace(kind, size=None if length == "zero" else integer(length), filled=int(filled or "0", 16))


RULES = {
    "text": _text,
    "closed": lambda parts: Text("", prefix=parts[0], closed=True),
    "text_of": lambda parts: (str(parts[0]),),
    "filled": lambda parts: parts[0],
}
