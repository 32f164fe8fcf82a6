"""Drawing a format: which numbers its head and its records have, where its parts lie, and what they go through."""

from __future__ import annotations

import random
from dataclasses import dataclass, field, replace

SUMS = {  # checksums, and their bits
    "crc32": 32,
    "adler32": 32,
    "sum8": 8,
    "sum16": 16,
    "sum32": 32,
    "fnv1a(bits 32)": 32,
    "fnv1a(bits 64)": 64,
    "djb2": 32,
}
NAME_TEXTS = (
    "name",
    "lower name",
    "upper name",
    "leaf of name",
    "lower leaf of name",
    "folder of name",
    "extension of name",
    "upper leaf of name",
    "name with backslashes",
)
EXTRAS = ("sum", "sum", "name sum", "name sum", "kept", "number", "gap", "units", "length", "const", "hash")
INFOS = ("file", "units", "total", "largest", "sum table", "sum head", "first", "copy", "kept", "const", "both")


@dataclass(frozen=True)
class Item:
    """A field: its name, its kind (see `writer`), the bytes of its number, and what the kind needs."""

    name: str
    kind: str
    size: int = 4
    sum: str = ""
    of: str = ""
    by: int = 0  # a unit, a base, a mask, a constant
    flag: bool = False  # only there when the record's flag has bit 1
    form: str = ""  # how its number is written, where that is not in whole bytes: varint, digits, hexadecimal


@dataclass
class Format:
    """A format as it was drawn."""

    seed: int
    big: bool = False
    mark: bytes = b""
    head: list[Item] = field(default_factory=list)
    record: list[Item] = field(default_factory=list)
    behind: bool = False  # the directory lies behind the content
    placed: str = "start"  # how the directory is found: start (a field), after
    form: str = "rows"  # rows, arrays, inline
    names: str = "u8"  # u8, u16, zero, fixed, pool
    backslashes: bool = False
    wrap: str = ""  # of the directory: xor, zlib, seed
    wrap_key: int = 0
    order: str = ""  # name, hash, start
    align: int = 1
    fill: int = 0
    row_align: int = 1
    file_align: int = 1
    tight: bool = False  # content lies in the order of the records
    codec: str = ""  # zlib, deflate, bzip2, table, differ
    cipher: str = ""  # const, number, size, seed, name
    cipher_key: int = 0
    ciphered: str = "all"  # all, flag
    unit: int = 1  # in which starts are stored
    base: str = ""  # what starts count from: nothing, contents (start of), table (end of)
    counted: str = "count"  # how the records are counted: count, length, end
    foot: bool = False  # the head lies at the end, behind the directory
    wide: bool = False  # names are in UTF-16
    local: list[Item] = field(default_factory=list)  # a record in front of each content, and behind it
    last: list[Item] = field(default_factory=list)

    @property
    def encoding(self) -> str:
        """That of names."""
        return ("utf-16-be" if self.big else "utf-16-le") if self.wide else "utf-8"


def drawn(seed: int) -> Format:
    """The format of a seed."""
    rng = random.Random(seed)
    chance = rng.random
    made = Format(seed, big=chance() < 0.4)
    made.mark = bytes(rng.choice(b"ABCDEFGHKLMNPRSTVW") for _ in range(rng.choice((3, 4, 4, 4, 6, 8))))
    made.form = rng.choices(("rows", "arrays", "inline"), (6, 2, 2))[0]
    made.names = rng.choices(("u8", "u16", "zero", "fixed", "pool"), (4, 2, 3, 3, 2))[0]
    if made.form == "inline" and made.names == "pool":
        made.names = "zero"
    made.backslashes = chance() < 0.15
    made.behind = made.form != "inline" and chance() < 0.4
    made.placed = "start" if made.behind else rng.choice(("start", "after"))
    if made.form == "inline":
        made.placed = "after"
    made.wrap = (
        rng.choices(("", "xor", "zlib", "seed"), (7, 1, 1, 1))[0]
        if made.form == "rows" and made.names != "pool"
        else ""
    )
    made.wrap_key = rng.randrange(1, 256)
    made.align = rng.choices((1, 4, 16, 32, 256, 2048), (6, 2, 2, 1, 1, 1))[0]
    made.fill = rng.choices((0, 0xFF, 0x2E), (6, 1, 1))[0]
    made.unit = rng.choice([unit for unit in (1, 1, 4, 16, 32, 256, 2048) if made.align % unit == 0])
    made.file_align = rng.choices((1, made.align), (3, 1))[0] if not made.behind else 1
    made.row_align = rng.choices((1, 4, 8), (6, 1, 1))[0] if made.form == "inline" else 1
    made.tight = chance() < 0.3
    made.codec = rng.choices(("", "zlib", "deflate", "bzip2", "table", "differ"), (6, 2, 1, 1, 2, 1))[0]
    made.cipher = rng.choices(("", "const", "number", "size", "seed", "name"), (6, 1, 1, 1, 1, 1))[0]
    made.cipher_key = rng.randrange(1, 1 << 32)
    made.ciphered = rng.choices(("all", "flag"), (1, 1))[0] if made.cipher else "all"
    made.base = rng.choices(("", "contents", "table"), (6, 1, 1))[0] if made.form != "inline" else ""
    if made.base == "table" and (made.behind or made.wrap or made.names == "pool" or made.form == "arrays"):
        made.base = ""
    if made.base == "table":
        made.unit = 1
    made.counted = rng.choices(("count", "plus", "length", "end"), (6, 2, 1, 1))[0]
    if made.form in ("inline", "arrays") or made.names == "pool" or made.wrap:
        made.counted = "count"
    _draw_record(made, rng)
    _draw_head(made, rng)
    more = random.Random(seed ^ 0x5EED)  # so that what is drawn besides changes no other seed
    made.foot = made.behind and made.counted == "count" and more.random() < 0.4
    made.wide = made.names in ("u8", "u16", "fixed") and more.random() < 0.15
    made.record = [_formed(item, more) for item in made.record]
    if made.form != "inline" and more.random() < 0.2:
        _draw_around(made, more)
    made.order = rng.choices(("", "name", "hash"), (6, 1, 1))[0] if made.form == "rows" and made.names != "pool" else ""
    if made.order == "hash" and not any(item.name == "hash" for item in made.record):
        made.order = ""
    return made


def _draw_record(made: Format, rng: random.Random) -> None:
    chance, flags = rng.random, []
    items = []
    if made.form != "inline":
        items.append(
            Item("start", "start", rng.choice((4, 4, 4, 8)), by=rng.choice((0, 0, 0, rng.randrange(1, 1 << 16))))
        )
    items.append(Item("size", "size", rng.choice((3, 4, 4, 8))))
    if made.codec or made.cipher:
        items.append(Item("stored", "stored", 4))
    if made.codec == "table":
        items.append(Item("packing", "codec", rng.choice((1, 2))))
    if made.ciphered == "flag" or chance() < 0.2:
        flags.append(Item("flags", "flags", rng.choice((1, 2, 4))))
    conditional = bool(flags) and chance() < 0.5
    for number in range(rng.choices((0, 1, 2, 3), (2, 4, 3, 1))[0]):
        extra = _extra(made, rng, number, conditional)
        if extra.name not in {item.name for item in items}:
            items.append(extra)
    rng.shuffle(items)
    items = flags + items  # conditions ask what stands before
    where = 0 if made.names in ("u8", "u16", "zero") and chance() < 0.5 else rng.randrange(len(flags), len(items) + 1)
    items.insert(where, Item("name", "name"))
    made.record = items


def _extra(made: Format, rng: random.Random, number: int, conditional: bool) -> Item:
    """A number of a record that no reader needs, and every strict one checks."""
    kind = rng.choice(
        ("sum", "sum", "name sum", "name sum", "kept", "number", "gap", "units", "length", "const", "hash")
    )
    flag = conditional and kind in ("sum", "kept") and rng.random() < 0.6
    name, algorithm = f"extra{number}", rng.choice(tuple(SUMS))
    by = rng.choice((0, 0, (1 << 32) - 1 if SUMS[algorithm] >= 32 else 0x5A))
    if kind == "sum":
        of = rng.choice(("content", "stored content") if made.codec or made.cipher else ("content",))
        return Item(name, "sum", SUMS[algorithm] // 8, algorithm, of, by, flag)
    if kind in ("name sum", "hash"):
        name = "hash" if kind == "hash" else name
        return Item(name, "name sum", SUMS[algorithm] // 8, algorithm, rng.choice(NAME_TEXTS), by)
    if kind == "kept":
        return Item(name, "kept", rng.choice((1, 2, 4)), flag=flag)
    if kind == "number":
        return Item(name, "number", rng.choice((2, 4)), by=rng.choice((0, 1, 100)))
    if kind == "gap" and made.form != "inline" and not made.base:
        return Item(name, "gap", 4)
    if kind == "units":
        return Item(name, "units", 4, by=rng.choice((16, 100, 2048)))
    if kind == "length":
        return Item(name, "length", 2, of=rng.choice(("name", "leaf of name", "folder of name")), by=rng.choice((0, 1)))
    return Item(name, "const", 2, by=rng.randrange(1 << 16))


def _draw_head(made: Format, rng: random.Random) -> None:
    width = rng.choice((2, 4, 4, 4)) if made.counted in ("count", "plus") else 4
    items = []
    if made.counted == "count":
        items.append(Item("count", "count", width, by=rng.choice((0, 0, 0, 1, 7))))
    elif made.counted == "plus":  # two counts that add up to a third
        items += [Item("more", "count more", width, by=rng.randrange(2, 60)), Item("less", "kept const", width)]
    else:
        items.append(Item("reach", f"{made.counted} table", 4))
    if made.placed == "start":
        items.append(Item("table", "start table", 4, by=rng.choice((0, 0, 0, 4))))
    if made.wrap == "zlib":
        items += [Item("packed", "stored table", 4), Item("whole", "length table", 4)]
    elif made.wrap:
        items.append(Item("packed", "stored table", 4))
    if made.names == "pool":
        items.append(Item("pool", "length pool", 4))
    if made.base == "contents":
        items.append(Item("first", "start contents", 4))
    if made.cipher == "seed" or made.wrap == "seed":
        items.append(Item("seed", "seed", 4))
    for number in range(rng.choices((0, 1, 2, 3, 4), (2, 3, 3, 1, 1))[0]):
        items.append(_head_extra(made, rng, number))
    own = [item for item in items if item.kind == "sum head"]
    items = [item for item in items if item not in own[1:]]
    rng.shuffle(items)
    made.head = items


def _head_extra(made: Format, rng: random.Random, number: int) -> Item:
    name, algorithm = f"info{number}", rng.choice(tuple(SUMS))
    kind = rng.choice(
        ("file", "units", "total", "largest", "sum table", "sum head", "first", "copy", "kept", "const", "both")
    )
    if kind == "file":
        return Item(name, "file", rng.choice((4, 8)), by=rng.choice((0, 0, 16)))
    if kind == "units":
        return Item(name, "file units", 4, by=rng.choice((16, 512, 1024)))
    if kind in ("total", "largest"):
        return Item(name, kind, 8)
    if kind == "sum table" and made.form != "inline" and made.names != "pool" and made.form != "arrays":
        return Item(name, "sum table", SUMS[algorithm] // 8, algorithm, by=rng.choice((0, (1 << SUMS[algorithm]) - 1)))
    if kind == "sum head":
        return Item(name, "sum head", 4, "crc32")
    if kind == "first" and made.form != "inline":
        return Item(name, "first", 8)
    if kind == "both" and made.counted == "count":
        return Item(name, "both", 4, by=rng.randrange(1, 9))
    if kind == "const":
        return Item(name, "const", 2, by=rng.randrange(1 << 16))
    return Item(name, "kept", rng.choice((1, 2, 4, 8)))


def _formed(item: Item, rng: random.Random) -> Item:
    """An item whose number may be written in another way."""
    form = rng.choices(("", "varint", "digits", "hexadecimal"), (12, 1, 1, 1))[0]
    plain = item.kind in ("size", "stored", "number", "units", "length", "kept")
    if form == "hexadecimal" and item.kind in ("sum", "name sum") and not item.flag:
        return replace(item, form=form)
    return replace(item, form=form) if plain and not item.flag and form != "hexadecimal" else item


def _draw_around(made: Format, rng: random.Random) -> None:
    """A record in front of each content that says once more what the directory says, and perhaps one behind it."""
    made.record = [replace(item, of="content") if item.kind == "sum" else item for item in made.record]
    choices = [
        Item("magic", "const", 4, by=rng.randrange(1 << 32)),
        Item("own_size", "size", 4),
        Item("own_start", "own start", 4),
        Item("own_number", "number", 2, by=rng.choice((0, 1))),
        Item("own_sum", "sum", 4, rng.choice(("crc32", "adler32")), "content"),
        Item("own_name", "own name", 1),
        Item("junk", "kept", 2),
    ]
    if any(item.kind == "stored" for item in made.record):
        choices.append(Item("own_stored", "stored", 4))
    made.local = rng.sample(choices, rng.randrange(1, len(choices) + 1))
    if rng.random() < 0.4:
        fixed = [item for item in choices if item.kind != "own name"]
        made.last = [replace(item, name=f"{item.name}_too") for item in rng.sample(fixed, rng.randrange(1, 3))]
