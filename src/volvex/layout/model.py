"""A layout as frozen values, as its author wrote it; nothing here computes."""

from __future__ import annotations

from dataclasses import dataclass

from volvex.layout.arithmetic import Condition as Condition
from volvex.layout.arithmetic import NumberChange as NumberChange
from volvex.layout.scalar_types import Bits as Bits
from volvex.layout.scalar_types import Float as Float
from volvex.layout.scalar_types import Number as Number
from volvex.layout.scalar_types import Raw as Raw
from volvex.layout.scalar_types import Text as Text
from volvex.layout.scalar_types import Varint as Varint

CONTENTS = "contents"  # the stretch from the first entry's content to the end of the last


@dataclass(frozen=True)
class Place:
    """Where in the layout's text something stands, from 1."""

    line: int
    column: int


@dataclass(frozen=True)
class ArrayType:
    """So many of something, one behind the other; the count is a number or a field of the same record."""

    of: FieldType
    count: int | str

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        size = self.of.fixed_size
        return self.count * size if isinstance(self.count, int) and size is not None else None

    def __str__(self) -> str:
        return f"array of {self.count} {self.of}"


@dataclass(frozen=True)
class Nested:
    """A record within a record."""

    record: str
    fields: tuple[Field, ...]
    place: Place

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        total = 0
        for field in self.fields:
            if isinstance(field.type, Bits):
                continue
            size = None if field.when else field.type.fixed_size
            if size is None:
                return None
            total += size
        return total

    def __str__(self) -> str:
        return self.record


@dataclass(frozen=True)
class Choice:
    """One of several records, by a field's number."""

    by: str
    table: tuple[tuple[int, str], ...]
    records: tuple[Nested, ...] = ()  # those of the table, in its order

    @property
    def fixed_size(self) -> int | None:
        """None: its size changes."""
        return None

    def __str__(self) -> str:
        return f"choice by {self.by}"


@dataclass(frozen=True)
class InlineBytes:
    """Bytes of a size that is told elsewhere: an entry's content, or the records of another block."""

    @property
    def fixed_size(self) -> int | None:
        """None: its size changes."""
        return None

    def __str__(self) -> str:
        return "bytes"


FieldType = Number | Float | Varint | Bits | Raw | Text | ArrayType | Nested | Choice | InlineBytes


@dataclass(frozen=True)
class Derived:
    """A cipher's key made of what is known of an entry: its name, start, size or stored size, or a hash of the name."""

    what: str
    algorithm: str = ""
    number: Number | None = None
    changes: tuple[NumberChange, ...] = ()


@dataclass(frozen=True)
class Named:
    """A key that the layout only names: the secret is in the user's key file."""

    name: str


@dataclass(frozen=True)
class Transform:
    """A codec with its parameters, through which a part or content goes."""

    name: str
    given: tuple[tuple[str, int | str | bytes | Derived | Named], ...]
    place: Place

    @property
    def derived(self) -> tuple[Derived, ...]:
        """What of its parameters depends on the entry."""
        return tuple(value for _, value in self.given if isinstance(value, Derived))

    @property
    def named(self) -> tuple[str, ...]:
        """The keys that it names."""
        return tuple(value.name for _, value in self.given if isinstance(value, Named))


@dataclass(frozen=True)
class Constant:
    """Checked on reading, written again on writing."""

    value: bytes | int


@dataclass(frozen=True)
class Opaque:
    """Nobody knows what it is; written again as it was. `table`: words for its numbers, to be shown."""

    table: tuple[tuple[int, str], ...] = ()


@dataclass(frozen=True)
class Described:
    """Its bits, or the record's own fields, say what they mean."""


@dataclass(frozen=True)
class ByteOrder:
    """Bytes that tell which byte of a number comes first, for the whole file."""

    table: tuple[tuple[bytes, str], ...]


@dataclass(frozen=True)
class Measure:
    """The `count`, `start` or `length` of a part, its `stored length`, or the `length` of the file or of a text.

    With `upper` it is what goes above the bits of another field of that meaning.
    """

    what: str
    part: str
    upper: bool = False


@dataclass(frozen=True)
class Attribute:
    """Something about an entry, by the kind's name for it; `table` says what its numbers stand for.

    `of` says whose fact it is (entry, folder, type). With `upper` it goes above the bits of another field of that meaning.
    """

    what: str
    table: tuple[tuple[int, str], ...] = ()
    of: str = "entry"
    upper: bool = False


@dataclass(frozen=True)
class ChecksumOf:
    """A checksum over a block, over the file, over each entry's `stored content` or `content`, or over its name.

    With an `edge` it covers the file `before` that part starts, or from where it ends on (`after`).
    """

    algorithm: str
    part: str
    edge: str = ""


@dataclass(frozen=True)
class Pool:
    """Texts to which the entries point for their names; what is there stays, new names go behind it."""


@dataclass(frozen=True)
class Inline:
    """The entry's content lies here."""


@dataclass(frozen=True)
class RecordsOf:
    """The records of another block that belong to this record lie here."""

    block: str


@dataclass(frozen=True)
class Value:
    """A value of the content: of a table's record, a text or an object.

    `table` gives words for its numbers, `refers` says whose keys it holds; with `pool` it is a text in that block, told
    by where it starts there, or (`numbered`) by its number.
    """

    role: str = "value"  # value, key, language, text, context, type, name
    table: tuple[tuple[int, str], ...] = ()
    refers: str = ""
    pool: str = ""
    numbered: bool = False


Meaning = (
    Constant | Opaque | Described | ByteOrder | Measure | Attribute | ChecksumOf | Pool | Inline | RecordsOf | Value
)


@dataclass(frozen=True)
class Field:
    name: str
    type: FieldType
    changes: tuple[NumberChange, ...]
    meaning: Meaning
    words: str  # the meaning as its author wrote it
    place: Place
    when: Condition | None = None

    @property
    def shape(self) -> str:
        """The type as its author wrote it, with its changes."""
        return " ".join(map(str, [self.type, *self.changes]))


@dataclass(frozen=True)
class Record:
    """Fields that are used in other records."""

    name: str
    fields: tuple[Field, ...]
    place: Place


@dataclass(frozen=True)
class Part:
    """A stretch of the file that is wrapped (compressed, encrypted); blocks or content lie within what it holds."""

    name: str
    at: At | None
    transforms: tuple[Transform, ...]  # the outermost first
    align: int
    fill: int
    place: Place
    when: Condition | None = None


@dataclass(frozen=True)
class At:
    """A place in the file: an offset from its start, or back from its end, where some bytes stand last, or behind a block."""

    offset: int = 0
    from_end: bool = False
    mark: bytes = b""
    after: str = ""

    def __str__(self) -> str:
        if self.after:
            return f"after {self.after}"
        return (
            f"at last {self.mark!r}"
            if self.mark
            else f"at end - {self.offset}"
            if self.from_end
            else f"at {self.offset:#x}"
        )

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
    within: str = ""  # the part that it lies in; nothing for the file itself
    when: Condition | None = None

    @property
    def inline(self) -> bool:
        """Whether each record is followed by its entry's content."""
        return any(isinstance(field.meaning, Inline) for field in self.fields)


@dataclass(frozen=True)
class Placing:
    """How the content of some entries is placed: those for which the condition holds."""

    when: Condition
    align: int
    fill: int


@dataclass(frozen=True)
class Content:
    """How the entries' stored bytes are placed, and what they have gone through."""

    align: int = 1
    fill: int = 0
    until_next: bool = False  # nothing says how long an entry's content is: it ends where the next part starts
    within: str = ""
    volumes: str = ""  # in files beside this one: a pattern of their names
    codec: str = ""  # of all content, when no field tells it
    differing: bool = False  # `codec` only where the two sizes differ
    transforms: tuple[Transform, ...] = ()  # ciphers around the codec, the outermost first
    others: tuple[Placing, ...] = ()


@dataclass(frozen=True)
class KeyRule:
    """How a key is made of a path: by a hash of it, or (`numbered`) by numbers in it, of which `unit` go to a folder."""

    what: str  # whose: name hash, folder hash, extension hash
    place: Place
    algorithm: str = ""
    traits: tuple[str, ...] = ()
    encoding: str = "utf-8"
    numbered: str = ""
    unit: int = 1


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
    parts: tuple[Part, ...] = ()
    records: tuple[Record, ...] = ()
    keys: tuple[KeyRule, ...] = ()

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

    @property
    def places(self) -> tuple[Block | Part, ...]:
        """The blocks and the wrapped parts."""
        return (*self.blocks, *self.parts)

    def rooted(self, of: str) -> list[Block]:
        """The blocks that have a record for each entry, folder or type."""
        roots = {
            self.root(block).name
            for block in self.blocks
            for field in block.fields
            if isinstance(field.meaning, Attribute) and field.meaning.of == of
        }
        return [block for block in self.blocks if self.root(block).name in roots]

    def entry_blocks(self) -> list[Block]:
        """The blocks that have a record for each entry."""
        return self.rooted("entry")

    def block(self, name: str) -> Block | None:
        """The block of that name."""
        return next((block for block in self.blocks if block.name == name), None)

    def part(self, name: str) -> Part | None:
        """The wrapped part of that name."""
        return next((part for part in self.parts if part.name == name), None)

    def record(self, name: str) -> Record | None:
        """The record of that name."""
        return next((record for record in self.records if record.name == name), None)


def rows_of_layout(layout: Layout) -> list[Block]:
    """The repeating blocks whose records have values."""
    return [
        block
        for block in layout.blocks
        if block.repeats and any(isinstance(field.meaning, Value) for field in block.fields)
    ]


def pools_of(layout: Layout) -> dict[str, Field]:
    """The blocks that are pools of texts, with the field that is one."""
    return {block.name: field for block in layout.blocks for field in block.fields if isinstance(field.meaning, Pool)}
