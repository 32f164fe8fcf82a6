"""A layout as frozen values, as its author wrote it; nothing here computes."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Place:
    """Where in the layout's text something stands, from 1."""

    line: int
    column: int


@dataclass(frozen=True)
class Number:
    """An integer of 8 to 64 bits."""

    bits: int
    signed: bool
    big: bool

    @property
    def dtype(self) -> str:
        """NumPy's name of it."""
        return f"{'>' if self.big else '<'}{'i' if self.signed else 'u'}{self.bits // 8}"

    @property
    def limits(self) -> tuple[int, int]:
        """The least and the greatest value."""
        return (-(1 << self.bits - 1), (1 << self.bits - 1) - 1) if self.signed else (0, (1 << self.bits) - 1)

    def __str__(self) -> str:
        return f"{'i' if self.signed else 'u'}{self.bits}"


@dataclass(frozen=True)
class Raw:
    """So many bytes."""

    size: int

    def __str__(self) -> str:
        return f"{self.size} bytes"


@dataclass(frozen=True)
class Text:
    """Text after its length in bytes (`prefix`), or filled with zeros to `size`, or up to a zero byte."""

    encoding: str
    prefix: Number | None = None
    size: int | None = None

    def __str__(self) -> str:
        return f"text {self.prefix or self.size or 'zero'}"


@dataclass(frozen=True)
class Here:
    """Bytes of a size that is told elsewhere: an entry's content, right behind its record."""

    def __str__(self) -> str:
        return "bytes"


FieldType = Number | Raw | Text | Here


@dataclass(frozen=True)
class Change:
    """How a stored number differs from the true one; each runs both ways."""

    how: str  # times, plus, xor
    number: int


@dataclass(frozen=True)
class Constant:
    """Checked on reading, written again on writing."""

    value: bytes | int


@dataclass(frozen=True)
class Kept:
    """Nobody knows what it is; written again as it was."""


@dataclass(frozen=True)
class Measure:
    """The `count`, `start` or `length` of a block, or the `length` of the file."""

    what: str
    part: str


@dataclass(frozen=True)
class Fact:
    """Something about an entry, by the kind's name for it; `table` says what its numbers stand for."""

    what: str
    table: tuple[tuple[int, str], ...] = ()


@dataclass(frozen=True)
class SealOf:
    """A checksum over a block, or over each entry's `stored content` or `content`."""

    algorithm: str
    part: str


@dataclass(frozen=True)
class Pool:
    """Texts to which the entries point for their names; what is there stays, new names go behind it."""


@dataclass(frozen=True)
class Inline:
    """The entry's content lies here."""


Meaning = Constant | Kept | Measure | Fact | SealOf | Pool | Inline


@dataclass(frozen=True)
class Field:
    name: str
    type: FieldType
    changes: tuple[Change, ...]
    meaning: Meaning
    words: str  # the meaning as its author wrote it
    place: Place

    @property
    def shape(self) -> str:
        """The type as its author wrote it, with its changes."""
        signs = {"times": "x"}
        return " ".join([str(self.type), *(f"{signs.get(one.how, one.how)} {one.number}" for one in self.changes)])


@dataclass(frozen=True)
class At:
    """A place in the file: an offset from its start, or back from its end, where some bytes stand last, or behind a block."""

    offset: int = 0
    from_end: bool = False
    mark: bytes = b""
    after: str = ""

    @property
    def fixed(self) -> bool:
        """Whether it is an offset from the start."""
        return not (self.from_end or self.mark or self.after)


@dataclass(frozen=True)
class Block:
    """A record, or with `repeats` a row of them."""

    name: str
    at: At | None
    repeats: bool
    along: str | None  # the block whose records these belong to, one by one
    until: bytes | None  # records go on until these bytes, or (empty) until the end of the file
    sorted_by: str | None  # records ascend by this field's stored bytes, or its number
    align: int
    fill: int
    fields: tuple[Field, ...]
    place: Place

    @property
    def inline(self) -> bool:
        """Whether each record is followed by its entry's content."""
        return any(isinstance(one.meaning, Inline) for one in self.fields)


@dataclass(frozen=True)
class Content:
    """How the entries' stored bytes are placed."""

    align: int = 1
    fill: int = 0
    until_next: bool = False  # nothing says how long an entry's content is: it ends where the next part starts


@dataclass(frozen=True)
class Known:
    """Bytes at an offset by which a file is known."""

    value: bytes
    at: At


@dataclass(frozen=True)
class Layout:
    title: str
    kind: str
    file: str
    known: tuple[Known, ...]
    blocks: tuple[Block, ...]
    content: Content
    read_only: bool
    place: Place

    def root(self, block: Block) -> Block:
        """The block that a block's records follow, through as many as there are."""
        seen = {block.name}
        while block.along is not None:
            following = self.block(block.along)
            if following is None or following.name in seen:
                break
            block = following
            seen.add(block.name)
        return block

    def entry_blocks(self) -> list[Block]:
        """The blocks that have a record for each entry."""
        roots = {
            self.root(block).name for block in self.blocks for one in block.fields if isinstance(one.meaning, Fact)
        }
        return [block for block in self.blocks if self.root(block).name in roots]

    def block(self, name: str) -> Block | None:
        """The block of that name."""
        return next((block for block in self.blocks if block.name == name), None)
