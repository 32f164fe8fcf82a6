"""`text`: after its length, of a length that a field stores, in a fixed number of bytes, or up to a zero."""

from __future__ import annotations

import codecs
import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import (
    Array,
    Field,
    FieldType,
    IntegerType,
    InvalidSyntax,
    InvalidValue,
    Loop,
    Unreadable,
    integer,
    span,
)
from volvex.layout.types.escape import Escape
from volvex.layout.types.number import Number
from volvex.layout.types.varint import Varint

GRAMMAR = """
text: "text" [in_word] (number | varint | escape | NUMBER | ZERO | text_of) text_option*
text_of: "of" WORD
?text_option: in_word | filled | padded | ZERO | text_times | text_plus
text_times: "x" NUMBER
text_plus: "plus" NUMBER
in_word: "in" WORD
filled: "filled" HEX_BYTE
padded: "padded" NUMBER [COUNTED]
ZERO: "zero"
COUNTED: "counted"
"""
LARGEST_UNIT = 1 << 20  # bytes in which a length is counted, or that are added to it
WIDE = ("utf-16", "utf-32")  # encodings that need a byte order
MOST = (1 << 62) - 1  # a length that limits nothing


@dataclass(frozen=True)
class Text(FieldType):
    """Text after its length (`prefix`), of a length that the field `length_by` stores, in `size` bytes, or up to a
    zero.

    `unit`: the bytes that the length counts by. `extra`: bytes that it does not count. `closed`: a zero at the end that
    it counts. `filled`: the byte behind the text, in a fixed size or up to a multiple of `padded` bytes for the whole
    field; the length counts these too when `counted`.
    """

    encoding: str
    prefix: Number | Varint | Escape | None = None
    size: int | None = None
    length_by: str = ""
    filled: int = 0
    unit: int = 1
    extra: int = 0
    closed: bool = False
    padded: int = 1
    counted_padding: bool = False

    uses = "length"

    @property
    def ending(self) -> int:
        """The bytes of the zero at its end, if that is how it ends."""
        return 0 if self.whole else self._zero

    @property
    def whole(self) -> bool:
        """Whether its length, zero and padding are read with it: the length may have any size, or the padding depends
        on it."""
        return self.padded > 1 or not isinstance(self.prefix, Number | None)

    @property
    def _zero(self) -> int:
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
        least = self.size or (self.prefix.min_size if self.prefix else 0) + self._zero
        return least + -least % self.padded

    @property
    def max_size(self) -> int | None:
        """The bytes for which it has room; None when that is not limited."""
        if self.size is not None or self.prefix is None or self.prefix.limits[1] >= MOST:
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
        prefix: Any = self.prefix and self.prefix.with_order(big)
        return dataclasses.replace(self, encoding=wide, prefix=prefix)

    def _pads(self, size: int) -> int:
        """The bytes that fill up a field of that size."""
        return -size % self.padded

    def _ends(self, data: bytes, at: int, length: int | None) -> tuple[int, int, int]:
        """Of a padded text that starts at `at`: where its bytes start and end, and where its padding ends."""
        start = at
        if self.prefix is not None:
            number, start = self.prefix.decode(data, at, {})
            length = number * self.unit + self.extra
        if length is None:
            end = start
            while any(span(data, end, self.width)):
                end += self.width
            return start, end, end + self.width + self._pads(end + self.width - at)
        if not self.counted_padding:
            end = start + length
            return start, end, end + self._zero + self._pads(end + self._zero - at)
        whole = data[start : start + length]
        return start, start + _unpadded(whole, self.filled, self.width), start + length

    def _padded_text(self, data: bytes, at: int, length: int | None) -> tuple[int, int, int]:
        """The same; Unreadable for padding that could not be written again as it is."""
        start, end, after = self._ends(data, at, length)
        if data[at:after] != self._written(data[start:end]):
            problem = "its padding differs from the layout" if self.padded > 1 else "its length is longer than it needs"
            raise Unreadable(problem, offset=end if self.padded > 1 else at)
        return start, end, after

    def _written(self, raw: bytes) -> bytes:
        """The bytes of a padded text, with its length, zero and padding."""
        whole = raw + bytes(self._zero)
        if self.prefix is None:
            return whole + bytes([self.filled]) * self._pads(len(whole))
        length = len(raw)
        if self.counted_padding:  # the number has a fixed size then
            length = len(whole) + self._pads(self.prefix.min_size + len(whole))
        head = self.prefix.encode((length - self.extra) // self.unit, {})
        return head + whole + bytes([self.filled]) * self._pads(len(head) + len(whole))

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[str, int]:
        if self.whole:
            told = siblings[self.length_by] * self.unit + self.extra if self.length_by else None
            start, end, after = self._ends(data, at, told)
            return self._decoded(span(data, start, end - start)), after
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
        return self._decoded(span(data, at, size)), at + size + self.ending

    def _decoded(self, raw: bytes) -> str:
        errors = "surrogateescape" if self.encoding == "utf-8" else "backslashreplace"
        return raw.decode(self.encoding, errors).rstrip("\0")

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        raw = value.encode(self.encoding, "surrogateescape" if self.encoding == "utf-8" else "strict")
        if self.size is not None:
            if len(raw) > self.size:
                raise InvalidValue(f"{len(raw)} bytes, {self.size} fit")
            return bytes(raw.ljust(self.size, bytes([self.filled])))
        if self.whole:
            return self._written(bytes(raw))
        length = self.prefix.encode((len(raw) - self.extra) // self.unit, {}) if self.prefix is not None else b""
        return length + bytes(raw) + bytes(self.ending)

    def blank(self) -> str:
        return ""

    def emit(self, code: Loop, asked: Field | None) -> None:
        start = code.variable("q") if self.padded > 1 else ""
        if isinstance(self.prefix, Number):
            length = code.variable(self.emit_length(code, self.prefix.value_at(0)))
            code.add(f"q += {self.prefix.size}")
        elif self.prefix is not None:
            self.prefix.emit(code, None)
            length = code.variable(self.emit_length(code, "n"))
        elif self.length_by:
            length = self.emit_length(code, code.names[self.length_by])
        elif self.width == 1:
            length = code.variable("data.index(0, q) - q")
        else:
            length = code.variable(f"wide_zero(data, q, {self.width}) - q")
        if asked is not None:
            code.names[asked.name] = code.variable(f"data[q:q + {length}]")
        code.add(f"q += {length}" + (f" + {self._zero}" if self._zero and not self.counted_padding else ""))
        if self.padded > 1 and not self.counted_padding:
            code.add(f"q += -(q - {start}) % {self.padded}")

    def value_at(self, at: int) -> str | None:
        if self.size is None:
            return None
        cut = f".rstrip(bytes.fromhex('{self.filled:02x}'))" if self.filled else ".partition(bytes(1))[0]"
        return f"data[q + {at}:q + {at + self.size}]{cut}"

    def emit_length(self, code: Loop, number: str) -> str:
        """Code for its bytes, from the number that counts them; it may not be negative."""
        if self.unit == 1 and not self.extra and self.prefix is not None and self.prefix.limits[0] >= 0:
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
        if self.size is None and (self.whole or there is not None):
            return self._whole_tails(data, starts, lengths, there)
        if self.size is None:
            return Texts(data, starts, lengths, self.encoding)
        ends = zip(starts.tolist(), (starts + lengths).tolist(), strict=True)  # of a fixed size, in some records only
        return Texts(
            data, starts, np.array([self._filled_from(data[start:end]) for start, end in ends], np.int64), self.encoding
        )

    def _whole_tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Texts:
        """Texts from all bytes of their fields: lengths, zeros and padding included."""
        begun, sizes = starts.copy(), np.zeros(len(starts), np.int64)
        for row, (at, size) in enumerate(zip(starts.tolist(), lengths.tolist(), strict=True)):
            if there is not None and not there[row]:
                continue
            own = None
            if self.length_by:
                own = (
                    size
                    if self.counted_padding or self.padded == 1
                    else _unpadded(data[at : at + size], self.filled, self.width)
                )
            start, end, _ = self._padded_text(data, at, own)
            begun[row], sizes[row] = start, end - start
        return Texts(data, begun, sizes, self.encoding)

    def _filled_from(self, raw: bytes) -> int:
        """Where in a text of fixed size nothing but what fills it up begins."""
        end = len(raw.rstrip(bytes([self.filled])))
        return min(len(raw), end + -end % self.width)

    def tail_size(self, column: Column, row: int) -> int:
        return self.size if self.size is not None else super().tail_size(column, row)

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        assert isinstance(column, Texts)
        if self.size is None and (self.whole or there is not None):
            exists = [True] * len(column) if there is None else there.tolist()
            return [self._written(raw) if one else b"" for raw, one in zip(column.raws(), exists, strict=True)]
        if self.size is not None:
            present = [True] * len(column) if there is None else there.tolist()
            if len(column) and int(column.lengths.max()) > self.size:
                raise InvalidValue(f"{int(column.lengths.max())} bytes do not fit into {self.size}")
            fill = bytes([self.filled])
            return [raw.ljust(self.size, fill) if one else b"" for raw, one in zip(column.raws(), present, strict=True)]
        end = bytes(self.ending)
        return [raw + end for raw in column.raws()] if end else column.raws()

    def __str__(self) -> str:
        return f"text {self.prefix or self.size or (f'of {self.length_by}' if self.length_by else 'zero')}"


def is_whole(field: Field) -> bool:
    """Whether a text is found as a whole, with its length, its zero and its padding: then these are no part of the
    record's others."""
    kind = field.type
    return isinstance(kind, Text) and kind.size is None and (kind.whole or field.when is not None)


def wide_zero(data: bytes, start: int, width: int) -> int:
    """Where a zero of `width` bytes stands, counted in such units from `start`; ValueError when none does."""
    at = data.index(bytes(width), start)
    while (at - start) % width:
        at = data.index(bytes(width), at + 1)
    return at


def _unpadded(whole: bytes, fill: int, width: int) -> int:
    """How many bytes of a text are not padding behind it."""
    end = len(whole.rstrip(bytes([fill])).rstrip(b"\0"))
    return min(len(whole), end + -end % width)


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
    first, length, *options = parts
    said: dict[str, Any] = dict(option for option in (first, *options) if isinstance(option, tuple))
    closed = "zero" in options
    counted = isinstance(length, IntegerType | tuple)
    if closed and not isinstance(length, IntegerType):
        zero = next(option for option in options if option == "zero")
        raise InvalidSyntax(zero, "only a length in front of a text counts its zero", "text u8 zero")
    for change in ("x", "plus"):
        if change in said and not counted:
            raise InvalidSyntax(said[change], "only the length of a text is counted in units", "text u8 x 2")
    encoding, filled, padded = (said.get(what) for what in ("in", "filled", "padded"))
    kind = Text(encoding_named(encoding) if encoding is not None else "utf-8")
    fixed = not counted and length != "zero"
    if filled is not None and not fixed and padded is None:
        raise InvalidSyntax(filled, "only a text of a fixed size is filled up", "text 16 filled 00")
    if padded is not None:
        if fixed or integer(padded[0]) < 2:
            raise InvalidSyntax(
                padded[0],
                "a text of a fixed size needs no padding" if fixed else "a multiple is at least 2",
                "text zero padded 4",
            )
        if padded[1] is not None and not isinstance(length, Number):
            raise InvalidSyntax(
                padded[1], "only a length in front of a text counts its padding", "text u16 padded 4 counted"
            )
        kind = dataclasses.replace(
            kind, padded=integer(padded[0]), counted_padding=padded[1] is not None, filled=int(filled or "0", 16)
        )
    if closed:  # after its length, with a zero that the length counts
        kind = dataclasses.replace(kind, prefix=length, closed=True)
        kind = dataclasses.replace(kind, extra=0 if kind.counted_padding else -kind.width)
    elif isinstance(length, Number | Varint | Escape):
        kind = dataclasses.replace(kind, prefix=length)
    elif isinstance(length, tuple):
        kind = dataclasses.replace(kind, length_by=length[0])
    if counted:
        unit, extra = integer(said.get("x", "1")), integer(said.get("plus", "0"))
        if not 1 <= unit <= LARGEST_UNIT or extra > LARGEST_UNIT:
            raise InvalidSyntax(
                said.get("x") or said["plus"], f"a length is counted in 1 to {LARGEST_UNIT:,} bytes", "x 2"
            )
        return dataclasses.replace(kind, unit=unit, extra=kind.extra + extra)
    return dataclasses.replace(kind, size=None if length == "zero" else integer(length), filled=int(filled or "0", 16))


RULES = {
    "text": _text,
    "text_of": lambda parts: (str(parts[0]),),
    "in_word": lambda parts: ("in", parts[0]),
    "filled": lambda parts: ("filled", parts[0]),
    "padded": lambda parts: ("padded", tuple(parts)),
    "text_times": lambda parts: ("x", parts[0]),
    "text_plus": lambda parts: ("plus", parts[0]),
}
