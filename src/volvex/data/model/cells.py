"""Stored values <-> cells: for a field of a layout, what its column's cells are, and how they are stored."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.data.model.sheet import BYTES, FLOAT, INT, LIST, TEXT, WORDS, Rule
from volvex.errors import FormatError
from volvex.layout.columns import Column as Stored
from volvex.layout.columns import Texts, taken
from volvex.layout.model import (
    ArrayType,
    Field,
    FieldType,
    Float,
    IntegerType,
    Raw,
    Text,
    Value,
    is_bare,
    pool_encoding,
    pooled_length,
)
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.numbers import encode_numbers

NONE = -1  # in place of a text's number: there is none
Values = Any  # an array of cells


def rule_of(kind: FieldType, meaning: Value, changes: Sequence[Any] = (), encoding: str = "utf-8") -> Rule:
    """What a field's cells may be; `encoding` is that of the pool into which it points."""
    return replace(_plain_rule(kind, meaning, changes, encoding), refers=meaning.refers, role=meaning.role)


def _plain_rule(kind: FieldType, meaning: Value, changes: Sequence[Any], encoding: str) -> Rule:
    if meaning.pool:
        return Rule(TEXT, encoding=encoding, zero=False)
    if isinstance(kind, IntegerType):
        low, high = kind.limits
        step = 1
        for change in changes:
            if change.how == "times":
                low, high, step = low * change.number, high * change.number, step * change.number
            elif change.how == "plus":
                low, high = low + change.number, high + change.number
            elif change.how == "xor":
                low, high = min(low, 0), (1 << 64) - 1
        words = tuple(word for _, word in meaning.table)
        return Rule(WORDS if words else INT, low, high, step, words=words)
    if isinstance(kind, Float):
        return Rule(FLOAT, bits=kind.bits)
    if isinstance(kind, Text):
        return Rule(TEXT, most=kind.max_size, encoding=kind.encoding, zero=kind.prefix is not None)
    if isinstance(kind, Raw):
        return Rule(BYTES, most=kind.size)
    return Rule(LIST, fixed=kind.uses != "count")


class Pools:
    """The pools of texts of a file, and what is added to them."""

    def __init__(self, reading: Reading, pools: Mapping[str, Field]) -> None:
        self.reading, self.pools = reading, pools
        self._added: dict[str, list[bytes]] = {}
        self._known: dict[str, dict[bytes, int]] = {}  # the numbers of texts
        self._places: dict[str, dict[bytes, int]] = {}  # of those that were added
        self._texts: dict[str, Values] = {}

    def block(self, name: str) -> BlockRead:
        """A pool's block; FormatError when this file has none."""
        if name not in self.reading.blocks:
            raise FormatError(
                self.reading.source.name,
                f"its texts are in {name}, which this file has not",
                hint="a layout for this version of the format",
            )
        return self.reading.blocks[name]

    def encoding(self, meaning: Value) -> str:
        """The encoding of the texts to which a value points."""
        return pool_encoding(self.pools[meaning.pool]) if meaning.pool else "utf-8"

    def is_bare(self, meaning: Value) -> bool:
        """Whether a value points into mere bytes: its text's length is in another field."""
        return bool(meaning.pool) and is_bare(self.pools[meaning.pool])

    def spans(self, starts: Any, lengths: Any, meaning: Value) -> Values:
        """The texts of a pool of bytes; None for a start with all bits set."""
        block, encoding = self.block(meaning.pool), self.encoding(meaning)
        found = np.full(len(starts), None, object)
        for row, (start, size) in enumerate(zip(starts.tolist(), lengths.tolist(), strict=True)):
            if start == NONE:
                continue
            if start < 0 or size < 0 or start + size > len(block.data):
                raise FormatError(
                    block.source.name, f"{size} bytes at {start} are not in {block.block.name}", offset=block.start
                )
            found[row] = decoded(block.data[start : start + size], encoding, block)
        return found

    def texts(self, numbers: Any, meaning: Value) -> Values:
        """The texts that numbers stand for; None for a number with all bits set. FormatError for one that leads
        nowhere."""
        block, pool = self.block(meaning.pool), self.pools[meaning.pool]
        starts = np.arange(len(block.starts)) if meaning.numbered else block.starts - block.start
        rows = np.searchsorted(starts, numbers, "right") - 1
        odd = np.flatnonzero((rows < 0) | (starts[rows] != numbers)) if len(starts) else np.arange(len(numbers))
        found = self._decoded(meaning.pool)[rows] if len(starts) else np.full(len(numbers), None, object)
        if len(odd):  # within a text, at none, or nowhere
            different, index = np.unique(numbers[odd], return_inverse=True)
            told = [self._text(block, pool, number, meaning.numbered) for number in different.tolist()]
            found[odd] = objects(told)[index]
        return found

    def _decoded(self, name: str) -> Values:
        """All texts of a pool."""
        if name not in self._texts:
            block, texts = self.block(name), self.block(name).columns[self.pools[name].name]
            assert isinstance(texts, Texts)
            self._texts[name] = objects(all_texts(texts, block, self.pools[name]))
        return self._texts[name]

    def _text(self, block: BlockRead, pool: Field, number: int, numbered: bool) -> str | None:
        texts = block.columns[pool.name]
        assert isinstance(texts, Texts)
        if number == NONE:
            return None
        if numbered:
            if not 0 <= number < len(texts):
                raise FormatError(
                    block.source.name, f"there is no text {number} in {block.block.name}, it has {len(texts)}"
                )
            return decoded(texts.raw(number), texts.encoding, block)
        row = int(np.searchsorted(block.starts - block.start, number, "right")) - 1
        into = number - int(block.starts[row] - block.start) if row >= 0 else -1
        raw = texts.raw(row) if row >= 0 else b""
        whole = pool.type.ending > 0
        if into < 0 or (into and not whole) or into > len(raw):
            raise FormatError(
                block.source.name, f"no text starts {number} bytes into {block.block.name}", offset=block.start + number
            )
        return decoded(raw[into:], texts.encoding, block)

    def number(self, text: str, meaning: Value) -> int:
        """What stands for a text in a cell: its number in the pool, or its place; it is added when it is not there
        yet."""
        block, pool = self.block(meaning.pool), self.pools[meaning.pool]
        if is_bare(pool):
            return self._bare_place(text, block, meaning)
        texts = block.columns[pool.name]
        assert isinstance(texts, Texts) and isinstance(pool.type, Text)
        if meaning.pool not in self._known:
            self._known[meaning.pool] = dict(reversed(list(zip(texts.raws(), range(len(texts)), strict=True))))
        known, added = self._known[meaning.pool], self._added.setdefault(meaning.pool, [])
        raw = encoded(text, texts.encoding)
        if raw not in known:
            known[raw] = len(texts) + len(added)
            added.append(raw)
        number = known[raw]
        if meaning.numbered:
            return number
        if number < len(texts):
            return int(block.starts[number] - block.start)
        if raw not in self._places.setdefault(meaning.pool, {}):
            before = Texts.of([*texts.raws(), *added[: number - len(texts)]], texts.encoding)
            self._places[meaning.pool][raw] = block.records.size({pool.name: before})
        return self._places[meaning.pool][raw]

    def _bare_place(self, text: str, block: BlockRead, meaning: Value) -> int:
        """Where a text starts in a pool of bytes; it is added when it is not there yet."""
        raw = encoded(text, self.encoding(meaning))
        known, added = self._places.setdefault(meaning.pool, {}), self._added.setdefault(meaning.pool, [])
        if raw not in known:
            at = block.data.find(raw)
            known[raw] = at if at >= 0 else len(block.data) + sum(map(len, added))
            if at < 0:
                added.append(raw)
        return known[raw]

    def columns(self) -> dict[str, dict[str, Stored]]:
        """The columns of the pools to which something was added."""
        found: dict[str, dict[str, Stored]] = {}
        for name, added in self._added.items():
            if is_bare(self.pools[name]):
                column = self.reading.blocks[name].numbers(self.pools[name].name)
                if added:
                    more = np.frombuffer(b"".join(added), column.dtype)
                    found[name] = {self.pools[name].name: np.concatenate([column, more])}
                continue
            texts = self.reading.blocks[name].columns[self.pools[name].name]
            assert isinstance(texts, Texts)
            if added:
                found[name] = {self.pools[name].name: Texts.of([*texts.raws(), *added], texts.encoding)}
        return found


def decoded(raw: bytes, encoding: str, block: BlockRead) -> str:
    """A text's characters; bytes that are none stay as escapes which encode back to themselves."""
    try:
        return raw.decode(encoding, "surrogateescape")
    except UnicodeDecodeError as error:
        raise FormatError(
            block.source.name,
            f"{raw[:20]!r} is no text in {encoding}",
            field=block.block.name,
            hint="another encoding in the layout",
        ) from error


def encoded(text: str, encoding: str) -> bytes:
    """A text's bytes; FormatError for a character that the encoding has not."""
    try:
        return text.encode(encoding, "surrogateescape")
    except UnicodeEncodeError as error:
        raise FormatError(
            "the value", f"{text[error.start]!r} cannot be written in {encoding}", hint="another character"
        ) from error


def raws_of(column: Stored) -> list[bytes]:
    """The stored bytes of something that is made of others, whether it always takes as many or not."""
    return column.raws() if isinstance(column, Texts) else [one.tobytes() for one in column]


def raw_at(column: Stored, row: int) -> bytes:
    """The stored bytes of one record."""
    return column.raw(row) if isinstance(column, Texts) else column[row].tobytes()


def replaced(column: Stored, rows: Sequence[int], stored: Any) -> Stored:
    """A column with new stored values in some rows."""
    if isinstance(column, Texts):
        raws = column.raws()
        for row, raw in zip(rows, stored, strict=True):
            raws[row] = raw
        return Texts.of(raws, column.encoding)
    made = column.copy()
    made[np.array(rows, np.int64)] = (
        np.frombuffer(b"".join(stored), column.dtype) if isinstance(stored, list) else stored
    )
    return made


def objects(cells: Sequence[Any]) -> Values:
    """Cells as an array of objects, whatever they are."""
    made = np.empty(len(cells), object)
    made[:] = cells
    return made


def all_texts(texts: Texts, block: BlockRead, field: Field) -> list[str]:
    """A column's texts; FormatError where one is not in its encoding."""
    try:
        return texts.all()
    except UnicodeDecodeError as error:
        raise FormatError(
            block.source.name,
            f"not {texts.encoding}: {error.reason}",
            field=f"{block.block.name}.{field.name}",
            hint="another encoding in the layout",
        ) from error


def some_of(block: BlockRead, rows: Any) -> BlockRead:
    """Some records of a block, as a block."""
    columns = {name: taken(column, rows) for name, column in block.columns.items()}
    return replace(block, columns=columns, starts=block.starts[rows])


def true_numbers(reading: Reading, block: BlockRead, field: Field) -> Any:
    """The numbers that a field stands for, with the full width of 64 bits."""
    stored = block.numbers(field.name)
    changes = reading.settled(field).changes
    if not changes:
        return stored.astype(stored.dtype.newbyteorder("="))
    wide: Any = stored.astype(object)
    for change in changes:
        wide = change.apply(wide)
    return wide.astype(np.int64) if not len(wide) or (wide.max() < 1 << 63 and wide.min() >= -(1 << 63)) else wide


def cells_of(reading: Reading, block: BlockRead, field: Field, pools: Pools) -> Values:
    """A field's cells for all records."""
    meaning = field.meaning
    assert isinstance(meaning, Value)
    values = _cells(reading, block, field, meaning, pools)
    there = block.present(field)
    if not bool(there.all()):
        values = values.astype(object)
        values[~there] = None
    return values


def _cells(reading: Reading, block: BlockRead, field: Field, meaning: Value, pools: Pools) -> Values:
    kind, stored = field.type, block.columns[field.name]
    if isinstance(kind, IntegerType):
        if pools.is_bare(meaning):
            length = pooled_length(block.block, field)
            assert length is not None  # the check sees to that
            lengths = reading.decode_numbers(block, length)
            return pools.spans(places_in_pool(reading, block, field, meaning), lengths, meaning)
        if meaning.pool:
            return pools.texts(places_in_pool(reading, block, field, meaning), meaning)
        numbers = true_numbers(reading, block, field)
        return worded(numbers, meaning.table) if meaning.table else numbers
    if isinstance(kind, Float):
        return np.asarray(stored).view(kind.dtype.replace("u", "f")).astype(f"f{kind.size}")
    if isinstance(kind, Raw):
        return objects([raw.tobytes().hex(" ") for raw in np.asarray(stored)])
    if isinstance(kind, Text):
        assert isinstance(stored, Texts)
        return objects(all_texts(stored, block, field))
    lines = [_list_text(kind, raw, block, row) for row, raw in enumerate(raws_of(stored))]
    return objects(lines)


def places_in_pool(reading: Reading, block: BlockRead, field: Field, meaning: Value) -> Any:
    """Where texts start in their pool, or their numbers; -1 where there is none (all bits set)."""
    stored = block.numbers(field.name)
    nothing = stored == stored.dtype.type(field.type.limits[1]) if isinstance(field.type, IntegerType) else stored < 0
    numbers = reading.decode_numbers(block, field)
    if not meaning.numbered and any(change.how == "from" for change in field.changes):
        numbers = numbers - reading.blocks[meaning.pool].start
    return np.where(nothing, NONE, numbers)


def worded(numbers: Any, table: Sequence[tuple[int, str]]) -> Values:
    """Words in place of numbers; a number that has none stays one."""
    words = dict(table)
    if numbers.dtype == np.uint8:
        return objects([words.get(number, str(number)) for number in range(256)])[numbers]
    different, index = np.unique(numbers, return_inverse=True)
    return objects([words.get(one, str(one)) for one in different.tolist()])[index]


def _list_text(kind: FieldType, raw: bytes, block: BlockRead, row: int) -> str:
    value, _ = kind.decode(raw, 0, siblings_of(block, row))
    return json.dumps(value, ensure_ascii=False, default=lambda one: one.hex())


def siblings_of(block: BlockRead, row: int) -> dict[str, int]:
    """A record's numbers, by which arrays are counted and choices made."""
    return {
        name: int(column[row])
        for name, column in block.columns.items()
        if not isinstance(column, Texts) and column.dtype.kind in "iu"
    }


Settle = Callable[[Field], Field]


def stored_cells(field: Field, values: Sequence[Any], pools: Pools, settle: Settle, where: str) -> Any:
    """Cells as a field stores them: an array of numbers, or bytes."""
    kind, meaning = field.type, field.meaning
    assert isinstance(meaning, Value)
    if isinstance(kind, IntegerType):
        numbers = [stored_number(kind, value, meaning, pools) for value in values]
        plain = meaning.pool and not any(change.how == "from" for change in field.changes)
        if meaning.pool and not plain and not meaning.numbered:
            numbers = [at + pools.reading.blocks[meaning.pool].start for at in numbers]
        return encode_numbers(objects(numbers), settle(field), where)
    if isinstance(kind, Float):
        return np.array(values, f"f{kind.size}").astype(kind.dtype.replace("u", "f")).view(kind.dtype)
    if isinstance(kind, Raw):
        return np.frombuffer(b"".join(bytes.fromhex(value) for value in values), f"V{kind.size}")
    if isinstance(kind, Text):
        return [encoded(value, kind.encoding) for value in values]
    return [_list_bytes(kind, value, where) for value in values]


def stored_number(kind: FieldType, value: Any, meaning: Value, pools: Pools) -> int:
    """The number for a cell: the place of a text, a word's number, or the number itself."""
    if meaning.pool:
        return pools.number(value, meaning)
    if meaning.table and isinstance(value, str) and not _digits(value):
        return next(number for number, word in meaning.table if word == value)
    return int(value)


def _digits(text: str) -> bool:
    return text.lstrip("-").isdigit()


def _list_bytes(kind: FieldType, text: str, where: str) -> bytes:
    assert isinstance(kind, ArrayType)
    try:
        value = json.loads(text)
        if isinstance(kind.count, str) or not isinstance(value, list):
            raise ValueError("its count is stored in another field" if isinstance(kind.count, str) else "no list")
        return kind.encode([float(one) if isinstance(kind.of, Float) else one for one in value], {})
    except (ValueError, TypeError) as error:
        raise FormatError(where, f"{text}: {error}", hint="a list as `show` gives it, such as [1, 2]") from error
