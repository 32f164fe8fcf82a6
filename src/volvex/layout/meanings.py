"""What a field means, as frozen values."""

from __future__ import annotations

from dataclasses import dataclass

from volvex.layout.expression import Expression


@dataclass(frozen=True)
class Constant:
    """Checked on reading, written again on writing."""

    value: bytes | int


@dataclass(frozen=True)
class Computed:
    """Made of other things in the file: compared on reading, made again on writing."""

    value: Expression


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
    """The `count`, `start`, `end` or `length` of a part, its `stored length`, or the `length` of the file or of a text.

    With `upper` it is what goes above the bits of another field of that meaning.
    """

    what: str
    part: str
    upper: bool = False


@dataclass(frozen=True)
class Attribute:
    """Something about an entry, by the kind's name for it; `table` says what its numbers stand for.

    `of` says whose fact it is (entry, folder, type). With `upper` it goes above the bits of another field of that
    meaning.
    """

    what: str
    table: tuple[tuple[int, str], ...] = ()
    of: str = "entry"
    upper: bool = False


@dataclass(frozen=True)
class ChecksumOf:
    """A checksum over a block, over the file, over each entry's `stored content` or `content`, or over its name.

    With an `edge` it covers the file `before` that part starts, from where it ends on (`after`), or all of a row with
    its contents (`over`). `part` may be several, with `and` between them, or the `record` that it stands in. Its own
    bytes count as zero there; with `skips` they are left out.
    """

    algorithm: str
    part: str
    edge: str = ""
    skips: bool = False

    @property
    def parts(self) -> list[str]:
        """The blocks and parts that it covers, one behind the other."""
        return self.part.split(" and ")


@dataclass(frozen=True)
class Pool:
    """Texts to which the entries point for their names; what is there stays, new names go behind it.

    A pool of single bytes (or units of two) has texts of which both the start and the length are told, in this
    `encoding`.
    """

    encoding: str = ""


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
    Constant
    | Computed
    | Opaque
    | Described
    | ByteOrder
    | Measure
    | Attribute
    | ChecksumOf
    | Pool
    | Inline
    | RecordsOf
    | Value
)
