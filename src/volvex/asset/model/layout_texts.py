"""Texts and plain numbers of a model's file: names in records or in a pool, flags, counts; read, and put in again."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from volvex.asset.model.model import Array
from volvex.asset.model.storage import fact_in
from volvex.errors import FormatError
from volvex.layout.columns import AllColumns, Texts, taken
from volvex.layout.model import Attribute, Text
from volvex.layout.name_hash import Keying, KeyPart, bits_of
from volvex.layout.read.blocks import Reading
from volvex.layout.records.numbers import encode_numbers


def texts_of(reading: Reading, what: str) -> list[str] | None:
    """The texts of a fact, by record; None when the file has none."""
    found = reading.attribute(what)
    if found is None:
        return None
    block, field = found
    column = block.columns[field.name]
    if isinstance(column, Texts):
        return column.all()
    pool = reading.pool()
    if pool is None:
        return None
    names = pool[0].columns[pool[1].name]
    assert isinstance(names, Texts)
    starts = pool[0].starts - pool[0].start
    places = reading.decode_numbers(block, field)
    rows = np.searchsorted(starts, places, side="right") - 1
    if len(places) and (not len(starts) or int(places.min()) < 0 or int(places.max()) >= pool[0].end - pool[0].start):
        row = int(np.argmax((places < 0) | (places >= pool[0].end - pool[0].start)))
        raise FormatError(
            block.source.name,
            f"there is no text at {int(places[row])} of {pool[0].block.name}",
            offset=block.offset(row, field.name),
            field=block.where(row, field.name),
        )
    whole = names.raws()
    return [
        whole[row][place - int(starts[row]) :].decode(names.encoding, "backslashreplace")
        for row, place in zip(rows.tolist(), places.tolist(), strict=True)
    ]


def put_texts(columns: AllColumns, reading: Reading, what: str, texts: Sequence[str]) -> None:
    """Put the texts of a fact into the columns that are written: into records, or behind those of the pool."""
    found = reading.attribute(what)
    if found is None:
        return
    block, field = found
    if isinstance(field.type, Text):
        encoding = field.type.encoding
        columns[block.block.name][field.name] = Texts.of([_raw(text, encoding) for text in texts], encoding)
        return
    pool = reading.pool()
    if pool is None:
        return
    home, own = pool
    names = columns[home.block.name][own.name]
    assert isinstance(names, Texts)
    raws = names.raws()
    known, end = dict[bytes, int](), 0
    for raw in raws:
        known.setdefault(raw, end)
        end += len(raw) + 1
    places = []
    for text in texts:
        raw = _raw(text, names.encoding)
        if raw not in known:
            known[raw] = end
            raws.append(raw)
            end += len(raw) + 1
        places.append(known[raw])
    columns[home.block.name][own.name] = Texts.of(raws, names.encoding)
    columns[block.block.name][field.name] = encode_numbers(
        np.array(places, object), reading.settled(field), reading.source.name
    )


def _raw(text: str, encoding: str) -> bytes:
    return text.encode(encoding, "surrogateescape" if encoding == "utf-8" else "replace")


def numbers_of(reading: Reading, what: str, default: int | None = None, rows: int = 0) -> Array | None:
    """The numbers of a fact by record, true ones; the default for each of `rows` records when the file has none."""
    found = reading.attribute(what)
    if found is None:
        return None if default is None else np.full(rows, default, np.int64)
    return np.asarray(reading.decode_numbers(*found))


def words_of(reading: Reading, what: str) -> list[str] | None:
    """The words for the numbers of a fact by record, by its table; None when the file has none."""
    found = reading.attribute(what)
    if found is None:
        return None
    block, field = found
    assert isinstance(field.meaning, Attribute)
    table = dict(field.meaning.table)
    words = []
    for row, number in enumerate(reading.decode_numbers(block, field).tolist()):
        if number not in table:
            raise FormatError(
                block.source.name,
                f"{number} is no {what} in the layout",
                offset=block.offset(row, field.name),
                field=block.where(row, field.name),
                hint="another layout, or adding the number to its table",
            )
        words.append(table[number])
    return words


def put_ints(columns: AllColumns, reading: Reading, what: str, numbers: Sequence[int] | Array) -> None:
    """Put the whole numbers of a fact into the columns that are written."""
    found = reading.attribute(what)
    if found is not None:
        block, field = found
        name = f"{reading.source.name}, {block.block.name}"
        columns[block.block.name][field.name] = encode_numbers(
            np.asarray(numbers).astype(object), reading.settled(field), name
        )


def put_words(columns: AllColumns, reading: Reading, what: str, words: Sequence[str]) -> None:
    """Put the words of a fact into the columns, as the numbers that its table has for them."""
    found = reading.attribute(what)
    if found is not None:
        assert isinstance(found[1].meaning, Attribute)
        back = {word: number for number, word in reversed(found[1].meaning.table)}
        put_ints(columns, reading, what, [back[word] for word in words])


def floats_of(reading: Reading, what: str) -> Array | None:
    """The numbers of a fact by record as float64: of whole numbers these, not shares; None when the file has none."""
    fact = fact_in(reading, what)
    return None if fact is None else np.asarray(fact.raw(), np.float64)


def hashes_of(reading: Reading, what: str, names: Sequence[str]) -> dict[int, str]:
    """The names by their hashes, as the layout makes these for a fact; nothing when it does not say how."""
    found = reading.attribute(what)
    rules = reading.original.keys
    if found is None or not rules or not names:
        return {}
    keying = Keying([KeyPart("name hash", rules[0], bits_of(found[1].type))])
    return dict(zip(keying.columns(list(names))[0].astype(np.uint64).tolist(), names, strict=True))


def take_rows(columns: AllColumns, reading: Reading, name: str, rows: Array) -> None:
    """Give a block other records, each as one that there is; and all blocks whose records go with its, one by one."""
    own = reading.layout.block(name)
    root = reading.layout.root(own).name if own is not None else name
    for block in reading.layout.blocks:
        if block.name in columns and block.repeats and reading.layout.root(block).name == root:
            columns[block.name] = {one: taken(column, rows) for one, column in columns[block.name].items()}
