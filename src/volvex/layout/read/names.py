"""Names of entries: whole in one field, or put together from folders, keys, extensions and types; and taken apart
again."""

from __future__ import annotations

from collections.abc import Callable, Container

import numpy as np

from volvex.errors import FRESH, FormatError
from volvex.layout.columns import Array, Texts
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Field, Pool, Text, is_bare, pool_encoding, pooled_length
from volvex.layout.name_hash import Numbering, bits_of
from volvex.layout.read.blocks import DEEPEST, BlockRead, Reading

KEYS_IN_ORDER = (
    attributes.FOLDER_KEY,
    attributes.KEY,
    attributes.EXTENSION_KEY,
)  # as an entry that has no name is called by them


def names_of(reading: Reading) -> tuple[Texts, bool]:
    """The entries' whole names, and whether they are only keys."""
    own = own_names(reading)
    nameless = own is None
    names = _keys(reading) if own is None else own
    if nameless and entry_folders(reading) is None:
        return names, True
    before, after = _before(reading), _after(reading, nameless)
    if before is None and after is None:
        return names, nameless
    raws = names.raws()
    if before is not None:
        raws = [head + raw for head, raw in zip(before, raws, strict=True)]
    if after is not None:
        raws = [raw + tail for raw, tail in zip(raws, after, strict=True)]
    return Texts.of(raws, names.encoding), nameless


def own_names(reading: Reading) -> Texts | None:
    """The entries' names as they stand in the entries or in the pool; None where there are only keys."""
    return _named(reading, attributes.NAME, attributes.NAME_AT)


def _keys(reading: Reading) -> Texts:
    """The keys of entries without names, as text."""
    columns = [(what, column, bits) for what in KEYS_IN_ORDER for column, bits in key_columns(reading, what)]
    if not columns:
        return Texts.of([b"%04d" % row for row in range(len(reading.home.starts))], "ascii")
    numbering = numbering_of(reading)
    if numbering is not None:
        return Texts.of(
            [numbering.path(number).encode("ascii", "replace") for number in columns[0][1].tolist()], "ascii"
        )
    texts = [[b"%0*x" % (bits // 4, key) for key in column.tolist()] for _, column, bits in columns]
    return Texts.of(texts[0] if len(texts) == 1 else [b"/".join(keys) for keys in zip(*texts, strict=True)], "ascii")


def key_columns(reading: Reading, what: str) -> list[tuple[Array, int]]:
    """The keys of all entries of one kind (uint64), and their bits; nothing when they have none."""
    found = reading.attribute(what)
    if found is None:
        return []
    bits = bits_of(found[1].type)
    return [(found[0].numbers(found[1].name).astype(np.uint64) & np.uint64((1 << bits) - 1), bits)]


def numbering_of(reading: Reading) -> Numbering | None:
    """The rule by which numbers stand for names, if there is one."""
    rule = next((rule for rule in reading.layout.keys if rule.numbered), None)
    return Numbering(rule) if rule is not None else None


def marked(name: str, variant: str) -> str:
    """The path of one variant: `letters/arrival@de.txt`."""
    if not variant:
        return name
    stem, extension = _split_extension(name)
    return f"{stem}@{variant}{extension}"


def unmarked(name: str, known: Container[str]) -> tuple[str, str]:
    """The path and the variant (one of those known) that it names; nothing when it names none."""
    stem, extension = _split_extension(name)
    base, at, variant = stem.rpartition("@")
    return (base + extension, variant) if at and base and not base.endswith("/") and variant in known else (name, "")


def _split_extension(name: str) -> tuple[str, str]:
    folder, slash, last = name.rpartition("/")
    stem, dot, extension = last.rpartition(".")
    return (f"{folder}{slash}{stem}", dot + extension) if stem else (name, "")


def variants_of(reading: Reading) -> list[str] | None:
    """Which variant of its path each entry is, nothing for the only or plain one; None when the layout tells none."""
    found = reading.attribute(attributes.VARIANT)
    if found is None or not isinstance(found[1].meaning, Attribute):
        return None
    words = {number: "" if word == "none" else word for number, word in found[1].meaning.table}
    return [words.get(number, str(number)) for number in reading.decode_numbers(*found).tolist()]


def _before(reading: Reading) -> list[bytes] | None:
    """The folder of each entry with its slash; None when there are no folders."""
    rows = entry_folders(reading)
    if rows is None:
        return None
    folders = folder_paths(reading)
    return [folders[row] for row in rows.tolist()]


def _after(reading: Reading, nameless: bool) -> list[bytes] | None:
    """The dot and ending of each entry; None when names have theirs."""
    if nameless:
        return None
    texts, encoding = ending_texts(reading), _encoding(reading)
    dot = ".".encode(encoding)
    if texts is not None:
        return [dot + raw if raw else b"" for raw in texts.raws()]
    extensions, found = stored_extensions(reading)
    if found is None:
        return None
    made = {number: dot + word.encode(encoding) if word else b"" for number, word in extensions.items()}
    return [made.get(number, b"") for number in reading.decode_numbers(*found).tolist()]


def ending_texts(reading: Reading) -> Texts | None:
    """The extensions where they stand as texts."""
    found = reading.attribute(attributes.EXTENSION)
    column = found[0].columns[found[1].name] if found is not None else None
    return column if isinstance(column, Texts) else None


def stored_extensions(reading: Reading) -> tuple[dict[int, str], tuple[BlockRead, Field] | None]:
    """What the numbers of extensions or types stand for, and the field that holds them."""
    found = reading.attribute(attributes.EXTENSION)
    if found is not None and isinstance(found[1].type, Text):
        return {}, None
    if found is not None and isinstance(found[1].meaning, Attribute):
        return {number: "" if word == "none" else word for number, word in found[1].meaning.table}, found
    found = reading.attribute(attributes.TYPE)
    if found is None:
        return {}, None
    return dict(enumerate(type_names(reading))), found


def endings_of(reading: Reading) -> list[str] | None:
    """The extension of each entry where numbers tell it; None where names do."""
    texts = ending_texts(reading)
    if texts is not None:
        return texts.all()
    extensions, found = stored_extensions(reading)
    return [extensions.get(number, "") for number in reading.decode_numbers(*found).tolist()] if found else None


def type_names(reading: Reading) -> list[str]:
    """The names of the types of a package, by their numbers."""
    texts = _named(reading, attributes.TYPE_NAME, attributes.TYPE_NAME_AT)
    return [raw.decode(texts.encoding, "replace").lower() for raw in texts.raws()] if texts else []


def _named(reading: Reading, name: str, path: str) -> Texts | None:
    """A column of names, told by themselves or by places in the pool."""
    found = reading.attributes(name)
    if len(found) > 1:
        return _alternatives(found)
    if found:
        column = found[0][0].columns[found[0][1].name]
        assert isinstance(column, Texts)
        return column
    pointing = reading.attribute(path)
    return pooled(reading, *pointing) if pointing else None


def _alternatives(found: list[tuple[BlockRead, Field]]) -> Texts:
    """Names of which each is in one of several fields: the one that its record has."""
    names: list[bytes] = [b""] * len(found[0][0].starts)
    encoding = ""
    for block, field in found:
        column, there = block.columns[field.name], block.present(field)
        assert isinstance(column, Texts)
        encoding = encoding or column.encoding
        for row in np.flatnonzero(there).tolist():
            names[row] = column.raw(row)
    return Texts.of(names, encoding)


def _encoding(reading: Reading) -> str:
    found = reading.attribute(attributes.NAME) or reading.pool()
    if found is not None and isinstance(found[1].meaning, Pool):
        return pool_encoding(found[1])
    return found[1].type.encoding if found and isinstance(found[1].type, Text) else "ascii"


# pools


def pooled(reading: Reading, block: BlockRead, field: Field) -> Texts:
    """The names that stand at the places of the pool which a column tells, counted from its start."""
    places, pool = reading.decode_numbers(block, field), reading.pool()
    assert pool is not None
    if is_bare(pool[1]):
        return _bare_texts(reading, block, field, places, pool)
    assert isinstance(pool[1].type, Text)
    home, kind = pool[0], pool[1].type
    if kind.ending == 1:
        data = np.frombuffer(home.data, np.uint8)
        zeros = np.flatnonzero(data == 0)
        wrong = (places < 0) | (places > (zeros[-1] if len(zeros) else -1))
        _refuse(
            block,
            field,
            wrong,
            lambda row: f"{int(places[row])} is no place in {home.block.name}, which has {len(data)} bytes",
        )
        return Texts(home.data, places, zeros[np.searchsorted(zeros, places)] - places, kind.encoding)
    texts, starts = home.columns[pool[1].name], home.starts - home.start
    assert isinstance(texts, Texts)
    row = np.searchsorted(starts, places)
    wrong = (places < 0) | (row >= len(starts))
    wrong |= starts[np.minimum(row, max(0, len(starts) - 1))] != places if len(starts) else True
    _refuse(block, field, wrong, lambda row: f"no text starts at {int(places[row])} in {home.block.name}")
    return texts.take(row)


def _bare_texts(
    reading: Reading, block: BlockRead, field: Field, places: Array, pool: tuple[BlockRead, Field]
) -> Texts:
    """The names of a pool of bytes, by their starts and lengths."""
    home, length = pool[0], pooled_length(block.block, field)
    assert length is not None  # the check sees to that
    sizes = reading.decode_numbers(block, length)
    wrong = (places < 0) | (sizes < 0) | (places + sizes > len(home.data))
    _refuse(
        block, field, wrong, lambda row: f"{int(sizes[row])} bytes at {int(places[row])} are not in {home.block.name}"
    )
    return Texts(home.data, places, sizes, pool_encoding(pool[1]))


def _refuse(block: BlockRead, field: Field, wrong: Array, say: Callable[[int], str]) -> None:
    if wrong.any():
        row = int(np.argmax(wrong))
        raise FormatError(
            block.source.name,
            say(row),
            offset=block.offset(row, field.name),
            field=block.where(row, field.name),
            hint=FRESH,
            asked="the layout: does it count from somewhere else?",
        )


# folders


def folder_paths(reading: Reading) -> list[bytes]:
    """The path of each folder with its closing slash, nothing for the root; FormatError for folders in a circle."""
    names = _named(reading, attributes.FOLDER_NAME, attributes.FOLDER_NAME_AT)
    assert names is not None
    raws, parents, slash = names.raws(), parents_of(reading), "/".encode(names.encoding)
    paths: list[bytes | None] = [None] * len(raws)
    for row in range(len(raws)):
        chain, at = [], row
        while at >= 0 and paths[at] is None:
            chain.append(at)
            at = parents[at]
            if len(chain) > DEEPEST:
                raise _folder_error(reading, row, f"it lies in itself, or more than {DEEPEST} folders deep")
        above = (paths[at] or b"") if at >= 0 else b""
        for number in reversed(chain):
            above = above + raws[number] + slash if raws[number] else above
            paths[number] = above
    return [path or b"" for path in paths]


def parents_of(reading: Reading) -> list[int]:
    """The folder above each folder, -1 for none."""
    block = reading.rooted("folder")[0]
    count, found = len(block.starts), reading.attribute(attributes.PARENT)
    if found is not None:
        parents = reading.decode_numbers(*found)
        return [  # the root is its own parent, or has one that is not there
            parent if 0 <= parent < count and parent != row else -1 for row, parent in enumerate(parents.tolist())
        ]
    first, told = reading.attribute(attributes.FIRST_FOLDER), reading.attribute(attributes.FOLDERS)
    if told is None:
        return [-1] * count
    numbers = reading.decode_numbers(*told).tolist()
    if first is None:
        return _growing_parents(numbers)
    parents_of = [-1] * count
    for row, (start, number) in enumerate(zip(reading.decode_numbers(*first).tolist(), numbers, strict=True)):
        if number and not (start >= 0 and 0 < number <= count - start):
            raise _folder_error(reading, row, f"{number} folders from {start} on, and there are {count}")
        for child in range(start, start + number):
            parents_of[child] = row
    return parents_of


def _growing_parents(numbers: list[int]) -> list[int]:
    """Parents of folders of which each is followed by all that lie in it."""
    parents, open_ = [], list[list[int]]()  # of each open folder: its row, and how many are still to come
    for row, number in enumerate(numbers):
        while open_ and not open_[-1][1]:
            open_.pop()
        parents.append(open_[-1][0] if open_ else -1)
        if open_:
            open_[-1][1] -= 1
        open_.append([row, number])
    return parents


def _folder_error(reading: Reading, row: int, problem: str) -> FormatError:
    block = reading.rooted("folder")[0]
    return FormatError(
        block.source.name,
        problem,
        offset=int(block.starts[row]) if row < len(block.starts) else None,
        field=f"{block.block.name}[{row}]",
        hint=FRESH,
        asked="another layout",
    )


def entry_folders(reading: Reading) -> Array | None:
    """The folder of each entry as a row of the block of folders; None when there are no folders."""
    blocks = reading.rooted("folder")
    if not blocks:
        return None
    found, count = reading.attribute(attributes.FOLDER), len(blocks[0].starts)
    if found is not None:
        rows = reading.decode_numbers(*found)
        _refuse(
            *found, (rows < 0) | (rows >= count), lambda row: f"there is no folder {int(rows[row])}, there are {count}"
        )
        return rows
    held = next((block.owners for block in reading.entry_blocks() if block.owners is not None), None)
    return held if held is not None else _ranged(reading)


def _ranged(reading: Reading) -> Array:
    """The folder of each entry, where folders tell their first entry and how many there are."""
    first, told = reading.attribute(attributes.FIRST_FILE), reading.attribute(attributes.FILES)
    assert first is not None and told is not None
    count = len(reading.entry_blocks()[0].starts)
    rows = np.full(count, -1, np.int64)
    for row, (start, number) in enumerate(
        zip(reading.decode_numbers(*first).tolist(), reading.decode_numbers(*told).tolist(), strict=True)
    ):
        if number and not (start >= 0 and 0 < number <= count - start):
            raise _folder_error(reading, row, f"{number} entries from {start} on, and there are {count}")
        if (rows[start : start + number] >= 0).any():
            raise _folder_error(reading, row, "an entry that is in another folder already")
        rows[start : start + number] = row
    rows[count - reading.blanks :] = 0
    if (rows < 0).any():
        raise _folder_error(reading, 0, f"entry {int(np.argmax(rows < 0))} is in no folder")
    return rows


def has_ranges(reading: Reading) -> bool:
    """Whether folders say which entries are theirs by the first and how many."""
    return reading.attribute(attributes.FIRST_FILE) is not None and reading.attribute(attributes.FILES) is not None


# taking names apart
