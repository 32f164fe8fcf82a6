"""Field types of numbers and texts: each knows its bytes, its limits and its name in a layout."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Number:
    """An integer of 8 to 64 bits. Which byte comes first may be told by the file itself: then `big` is None."""

    bits: int
    signed: bool
    big: bool | None

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.bits // 8

    @property
    def native(self) -> bool:
        """Whether NumPy has numbers of this width."""
        return self.bits in (8, 16, 32, 64)

    @property
    def dtype(self) -> str:
        """NumPy's name of its bytes: of the number itself where it has one."""
        if not self.native:
            return f"V{self.size}"
        return f"{'>' if self.big else '<'}{'i' if self.signed else 'u'}{self.size}"

    @property
    def limits(self) -> tuple[int, int]:
        """The least and the greatest value."""
        return (-(1 << self.bits - 1), (1 << self.bits - 1) - 1) if self.signed else (0, (1 << self.bits) - 1)

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return self.size

    def __str__(self) -> str:
        return f"{'i' if self.signed else 'u'}{self.bits}"


@dataclass(frozen=True)
class Float:
    """A floating-point number of 16, 32 or 64 bits (IEEE 754), kept as its bits."""

    bits: int
    big: bool | None

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.bits // 8

    @property
    def dtype(self) -> str:
        """NumPy's name of its bits."""
        return f"{'>' if self.big else '<'}u{self.size}"

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return self.size

    def __str__(self) -> str:
        return f"f{self.bits}"


@dataclass(frozen=True)
class Varint:
    """A number in as many bytes as it needs, seven bits in each; the lowest first (LEB128), or the highest."""

    big: bool

    @property
    def limits(self) -> tuple[int, int]:
        """The least and the greatest value."""
        return 0, (1 << 62) - 1

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return None

    def __str__(self) -> str:
        return "varint"


@dataclass(frozen=True)
class Bits:
    """Some bits of another field of the same record."""

    host: str
    low: int
    high: int

    @property
    def limits(self) -> tuple[int, int]:
        """The least and the greatest value."""
        return 0, (1 << self.high - self.low + 1) - 1

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return None

    def __str__(self) -> str:
        return f"{self.host} bits {self.low} to {self.high}"


@dataclass(frozen=True)
class Raw:
    """So many bytes."""

    size: int

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return self.size

    def __str__(self) -> str:
        return f"{self.size} bytes"


@dataclass(frozen=True)
class Text:
    """Text after its length (`prefix`), in `size` bytes filled up, of a length that a field tells (`told`), or up to a zero.

    `unit` and `extra`: what the length counts in bytes, and how many more bytes it counts than the text has.
    """

    encoding: str
    prefix: Number | None = None
    size: int | None = None
    told: str = ""
    filled: int = 0
    unit: int = 1
    extra: int = 0
    closed: bool = False  # a zero at the end that the length counts

    @property
    def zero(self) -> int:
        """The bytes of the zero at its end, if that is how it ends."""
        if (self.prefix is not None and not self.closed) or self.size is not None or self.told:
            return 0
        return self.width

    @property
    def width(self) -> int:
        """The bytes of a character, as far as all have the same."""
        return len("aa".encode(self.encoding)) - len("a".encode(self.encoding))

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return self.size

    def __str__(self) -> str:
        told = f"of {self.told}" if self.told else "zero"
        return f"text {self.prefix or self.size or told}"
