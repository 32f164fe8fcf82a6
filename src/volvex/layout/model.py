"""A layout as frozen values, as its author wrote it; nothing here computes."""

from __future__ import annotations

from dataclasses import dataclass

from volvex.layout.arithmetic import Condition as Condition
from volvex.layout.arithmetic import Conditions as Conditions
from volvex.layout.arithmetic import NumberChange as NumberChange
from volvex.layout.arithmetic import When as When
from volvex.layout.expression import BytesOf as BytesOf
from volvex.layout.expression import Expression as Expression
from volvex.layout.expression import FactOf as FactOf
from volvex.layout.expression import FieldOf as FieldOf
from volvex.layout.expression import Literal as Literal
from volvex.layout.expression import Made as Made
from volvex.layout.expression import MeasureOf as MeasureOf
from volvex.layout.expression import NameOf as NameOf
from volvex.layout.expression import SumOf as SumOf
from volvex.layout.expression import walk
from volvex.layout.meanings import Attribute as Attribute
from volvex.layout.meanings import ByteOrder as ByteOrder
from volvex.layout.meanings import ChecksumOf as ChecksumOf
from volvex.layout.meanings import Computed as Computed
from volvex.layout.meanings import Constant as Constant
from volvex.layout.meanings import Described as Described
from volvex.layout.meanings import Inline as Inline
from volvex.layout.meanings import Meaning as Meaning
from volvex.layout.meanings import Measure as Measure
from volvex.layout.meanings import Opaque as Opaque
from volvex.layout.meanings import Pool as Pool
from volvex.layout.meanings import RecordsOf as RecordsOf
from volvex.layout.meanings import Value as Value
from volvex.layout.types import Field as Field
from volvex.layout.types import FieldType as FieldType
from volvex.layout.types import IntegerType as IntegerType
from volvex.layout.types import Place as Place
from volvex.layout.types.array import ArrayType as ArrayType
from volvex.layout.types.bits import Bits as Bits
from volvex.layout.types.choice import Choice as Choice
from volvex.layout.types.described import ColumnsOf as ColumnsOf
from volvex.layout.types.float import Float as Float
from volvex.layout.types.inline import InlineBytes as InlineBytes
from volvex.layout.types.nested import Nested as Nested
from volvex.layout.types.number import Number as Number
from volvex.layout.types.raw import Raw as Raw
from volvex.layout.types.text import Text as Text
from volvex.layout.types.varint import Varint as Varint

RECORD = "record"  # the record that a field stands in
CONTENTS = "contents"  # the stretch from the first entry's content to the end of the last


@dataclass(frozen=True)
class Derived:
    """A cipher's key made of what is known of an entry: its name, number, start, size or stored size, a hash of the
    name, a `field`, or an expression (`value`)."""

    what: str
    algorithm: str = ""
    number: Number | None = None
    changes: tuple[NumberChange, ...] = ()
    field: str = ""
    value: Expression | None = None

    @property
    def asks(self) -> set[str]:
        """The facts of an entry that it is made of: start, number, size, stored, name ..."""
        if self.value is None:
            return {self.what}
        words = {"start of content": "start", "end of content": "start", "number of record": "number"}
        words |= {"size of content": "size", "stored size of content": "stored"}
        return {words[one.what] for one in walk(self.value) if isinstance(one, FactOf)}


@dataclass(frozen=True)
class Named:
    """A key that the layout only names: the secret is in the user's key file."""

    name: str


@dataclass(frozen=True)
class Transform:
    """A codec with its parameters, through which a part or content goes; of content perhaps only some (`when`)."""

    name: str
    given: tuple[tuple[str, int | str | bytes | Derived | Named], ...]
    place: Place
    when: When | None = None

    @property
    def derived(self) -> tuple[Derived, ...]:
        """What of its parameters depends on the entry."""
        return tuple(value for _, value in self.given if isinstance(value, Derived))

    @property
    def named(self) -> tuple[str, ...]:
        """The keys that it names."""
        return tuple(value.name for _, value in self.given if isinstance(value, Named))


@dataclass(frozen=True)
class Record:
    """Fields that are used in other records."""

    name: str
    fields: tuple[Field, ...]
    place: Place


@dataclass(frozen=True)
class Reach:
    """How far a part reaches that no field measures: until `back` bytes before the `end` of the file, or as far as its
    `records`."""

    to: str
    back: int = 0


@dataclass(frozen=True)
class Cut:
    """Chunks into which a part is cut: `size` bytes of what it holds each, wrapped by themselves. `bare`: those that
    are not larger bare are not wrapped. `short`: no chunk holds padding, it ends where the content in it does."""

    size: int
    bare: bool = False
    short: bool = False


@dataclass(frozen=True)
class Part:
    """A stretch of the file that is wrapped (compressed, encrypted), or all of a `file` beside it; blocks or content
    lie within what it holds."""

    name: str
    at: At | None
    transforms: tuple[Transform, ...]  # the outermost first
    align: int
    fill: int
    place: Place
    when: When | None = None
    reach: Reach | None = None
    cut: Cut | None = None
    file: str = ""  # a pattern of that file's name


@dataclass(frozen=True)
class At:
    """A place in the file: an offset from its start, or back from its end, where some bytes stand last, or behind a
    block."""

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
    when: When | None = None
    skip: When | None = None  # records that are no entries, and stay where they are
    transforms: tuple[Transform, ...] = ()  # through which each of its groups goes
    like: str = ""  # the block whose records go on here: both are one row of entries

    def field(self, name: str) -> Field | None:
        """The field of that name."""
        return next((field for field in self.fields if field.name == name), None)

    @property
    def inline(self) -> bool:
        """Whether each record is followed by its entry's content."""
        return any(isinstance(field.meaning, Inline) for field in self.fields)


@dataclass(frozen=True)
class Placing:
    """How the content of some entries is placed: those for which the condition holds."""

    when: When
    align: int
    fill: int


@dataclass(frozen=True)
class Content:
    """How the entries' stored bytes are placed, and what they have gone through."""

    align: int = 1
    fill: int = 0
    until_next: bool = False  # nothing says how long an entry's content is: it ends where the next part starts
    ordered: bool = False  # it lies in the order of the records
    within: str = ""
    volumes: str = ""  # in files beside this one: a pattern of their names
    sounds: str = ""  # the encoding of bare samples, when no field tells it
    codec: str = ""  # of all content, when no field tells it
    differing: bool = False  # `codec` only where the two sizes differ
    transforms: tuple[Transform, ...] = ()  # ciphers around the codec, the outermost first
    others: tuple[Placing, ...] = ()
    place: Place | None = None  # of the codec
    head: str = ""  # the record that stands in front of each, and that behind it
    tail: str = ""
    after: str = ""  # the block behind which it lies in a row: where each starts follows from the sizes before


@dataclass(frozen=True)
class KeyRule:
    """How a key is made of a path: by a hash of it, or (`numbered`) by numbers in it, of which `unit` go to a
    folder."""

    what: str  # whose: name hash, folder hash, extension hash
    place: Place
    algorithm: str = ""
    traits: tuple[str, ...] = ()
    encoding: str = "utf-8"
    numbered: str = ""
    unit: int = 1


@dataclass(frozen=True)
class Known:
    """Bytes at an offset by which a file is known, or others in their place; or patterns of its name."""

    value: bytes
    at: At
    others: tuple[bytes, ...] = ()
    names: tuple[str, ...] = ()

    @property
    def values(self) -> tuple[bytes, ...]:
        """All of the bytes: one of them is there. None where a file is known by its name."""
        return () if self.names else (self.value, *self.others)

    def __str__(self) -> str:
        if self.names:
            return f"name {' or '.join(self.names)}"
        return " or ".join(repr(value)[1:] for value in self.values) + f" {self.at}"


@dataclass(frozen=True)
class Told:
    """A fact or a measurement that `reads as` an expression, where no field stores it as it is."""

    fact: Attribute | Measure
    value: Expression
    words: str
    place: Place


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
    told: tuple[Told, ...] = ()
    end: tuple[int, int] = (1, 0)  # the multiple up to which the file, or each volume, is filled, and with which byte

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

    def reads(self, fact: Attribute | Measure) -> Told | None:
        """What a fact or a measurement `reads as`."""
        return next((told for told in self.told if told.fact == fact), None)

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


def is_bare(pool: Field) -> bool:
    """Whether a pool is mere bytes: only what points into it says where a text ends."""
    return isinstance(pool.type, Number)


def pool_encoding(pool: Field) -> str:
    """The encoding of a pool's texts."""
    if isinstance(pool.type, Text):
        return pool.type.encoding
    told = pool.meaning.encoding if isinstance(pool.meaning, Pool) else ""
    wide = isinstance(pool.type, Number) and pool.type.bits == 16
    return told or (f"utf-16-{'be' if pool.type.big else 'le'}" if wide and isinstance(pool.type, Number) else "utf-8")


def pooled_length(block: Block, field: Field) -> Field | None:
    """The field of a record that stores the length of the text to which another field points."""
    return next((other for other in block.fields if other.meaning == Measure("length", field.name)), None)


def pools_of(layout: Layout) -> dict[str, Field]:
    """The blocks that are pools of texts, with the field that is one."""
    return {block.name: field for block in layout.blocks for field in block.fields if isinstance(field.meaning, Pool)}
