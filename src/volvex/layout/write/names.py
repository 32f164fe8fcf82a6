"""Names of new entries: written whole into one field, or taken apart into folders, keys, extensions and types."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from volvex.errors import NotFoundError, RefusedError
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute
from volvex.layout.name_hash import UNNAMED
from volvex.layout.read.blocks import Reading
from volvex.layout.read.names import (
    KEYS_IN_ORDER,
    ending_texts,
    folder_paths,
    key_columns,
    numbering_of,
    stored_extensions,
    unmarked,
)


@dataclass
class NewName:
    """What a new entry's name says, in the fields that hold it."""

    text: bytes = b""
    numbers: dict[str, int] = field(default_factory=dict)  # fact -> its true number
    extension: bytes | None = None  # where extensions stand as texts of their own
    folder: int | None = None


def new_names(reading: Reading, names: Sequence[bytes], likes: Sequence[int] = ()) -> list[NewName]:
    """The facts that make up new names; NotFoundError or RefusedError when this archive cannot say one.

    A name that does not say which variant it is becomes that of the entry in `likes`.
    """
    rows = (
        {path: row for row, path in reversed(list(enumerate(folder_paths(reading))))}
        if reading.rooted("folder")
        else {}
    )
    variants = reading.attribute(attributes.VARIANT)
    if variants is None:
        return [_new_name(reading, name, rows) for name in names]
    made, kinds = [], reading.decode_numbers(*variants).tolist()
    assert isinstance(variants[1].meaning, Attribute)
    numbers = {"" if word == "none" else word: number for number, word in variants[1].meaning.table}
    numbers |= {str(number): number for number in kinds if str(number) not in numbers}
    for name, like in zip(names, likes, strict=True):
        bare, variant = unmarked(name.decode("latin-1"), numbers)
        new = _new_name(reading, bare.encode("latin-1"), rows)
        new.numbers[attributes.VARIANT] = numbers[variant] if variant or "" in numbers else kinds[like]
        made.append(new)
    return made


def _new_name(reading: Reading, name: bytes, rows: Mapping[bytes, int]) -> NewName:
    """The facts that make up a name; NotFoundError or RefusedError when this archive cannot say it."""
    assert reading.entries is not None
    made, names = NewName(name), reading.entries.names
    slash, dot = "/".encode(names.encoding), ".".encode(names.encoding)
    shown = name.decode(names.encoding, "replace")
    if reading.rooted("folder"):
        folder, _, made.text = made.text.rpartition(slash)
        made.folder = _folder_row(rows, folder + slash if folder else b"", shown)
        if reading.attribute(attributes.FOLDER) is not None:
            made.numbers[attributes.FOLDER] = made.folder
    if reading.entries.nameless:
        made.numbers.update(_new_keys(reading, made.text, shown))
        return made
    if ending_texts(reading) is not None:
        whole, _, extension = made.text.rpartition(dot)
        made.text, made.extension = (whole, extension) if whole else (made.text, b"")
    extensions, found = stored_extensions(reading)
    if found is not None:
        whole, _, extension = made.text.rpartition(dot)
        word = extension.decode(names.encoding, "replace").lower()
        number = next((number for number, known in extensions.items() if whole and known == word), None)
        if number is None:
            number = next((number for number, known in extensions.items() if not known), None)
        elif whole:
            made.text = whole
        if number is None:
            known = ", ".join(sorted(word for word in extensions.values() if word))
            raise RefusedError(
                f"{shown}: this archive stores extensions as numbers, and has none for it", f"one of {known}"
            )
        made.numbers[found[1].meaning.what] = number  # type: ignore[union-attr]
    return made


def _new_keys(reading: Reading, text: bytes, shown: str) -> dict[str, int]:
    """The keys that an entry's text in place of a name stands for."""
    there = [(what, bits) for what in KEYS_IN_ORDER for _, bits in key_columns(reading, what)]
    numbering, parts = numbering_of(reading), text.split(b"/")
    if numbering is not None:
        number = numbering.number(text.decode("ascii", "replace"))
        if number is not None and number < 1 << there[0][1]:
            return {attributes.KEY: number}
        raise RefusedError(
            f"{shown}: this archive stores numbers in place of names, and this is not one",
            f"{UNNAMED}/{numbering.path(0)}",
        )
    try:
        if [len(part) for part in parts] == [bits // 4 for _, bits in there]:
            return {what: int(part, 16) for (what, _), part in zip(there, parts, strict=True)}
    except ValueError:
        pass
    digits = " / ".join(str(bits // 4) for _, bits in there)
    raise RefusedError(
        f"{shown}: this archive stores only hashes, and its layout does not give the hash function",
        f"{UNNAMED}/ and a hash of {digits} hexadecimal digits, as those it lists",
    )


def _folder_row(rows: Mapping[bytes, int], folder: bytes, shown: str) -> int:
    if folder not in rows:
        raise NotFoundError(f"{shown}: this archive has no such folder", "a folder that it has")
    return rows[folder]


def fresh_name(reading: Reading, like: int) -> bytes:
    """A name that no entry has, beside the entry `like`: a key where there are only keys."""
    assert reading.entries is not None
    names = reading.entries.names
    slash, dot = "/".encode(names.encoding), ".".encode(names.encoding)
    folder, cut, last = names.raw(like).rpartition(slash)
    taken = set(names.raws())
    if reading.entries.nameless:
        numbering = numbering_of(reading)
        if numbering is not None:
            numbers = (numbering.path(number).encode("ascii", "replace") for number in range(len(taken) + 1))
            return next(name for name in numbers if name not in taken)
        first = 0x9E3779B97F4A7C15 >> max(0, 64 - 4 * len(last))  # not 0 or the highest: those may mean an end
        tries = (b"%0*x" % (len(last), first + number) for number in range(len(taken) + 1))
    else:
        extension = dot + last.rpartition(dot)[2] if dot in last else b""
        tries = (f"volvex-{number}".encode(names.encoding) + extension for number in range(len(taken) + 1))
    return next(folder + cut + name for name in tries if folder + cut + name not in taken)
