"""Archives: a directory of entries, and their content."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec import CHECKSUM, COMPRESS
from volvex.errors import UsageError
from volvex.layout.kinds import sound
from volvex.layout.kinds._ciphers import check_ciphers
from volvex.layout.kinds._frames import check_frames
from volvex.layout.kinds._objects import check_references
from volvex.layout.kinds._objects import meaning as meaning
from volvex.layout.model import (
    Attribute,
    Bits,
    Field,
    IntegerType,
    KeyRule,
    Layout,
    Number,
    Place,
    Pool,
    RecordsOf,
    Text,
    is_bare,
    pooled_length,
)
from volvex.layout.name_hash import KEYS, PLACE, bits_of
from volvex.layout.order import group_holder
from volvex.layout.volumes import NUMBERED, wrong_pattern

NAME, NAME_AT, START, STORED, SIZE, CODEC = (
    "name",
    "start of name",
    "start of content",
    "stored size of content",
    "size of content",
    "codec of content",
)
KEY, FOLDER_KEY, EXTENSION_KEY = KEYS
EXTENSION, FOLDER, KIND, TYPE, ID, VARIANT = "extension", "folder", "file or folder", "type", "id", "variant"
FOLDER_NAME, FOLDER_NAME_AT, PARENT, FIRST_FOLDER, FOLDERS, FIRST_FILE, FILES = (
    "folder name",
    "start of folder name",
    "parent folder",
    "first folder",
    "folders in it",
    "first file",
    "files in it",
)
TYPE_NAME, TYPE_NAME_AT = "type name", "start of type name"
VOLUME = "volume of content"
END = "end of content"  # in place of a size
TIMES = ("unix time", "dos time", "windows time")  # seconds since 1970; as FAT has it; 100 ns since 1601
OWNERS = ("permissions", "owner", "group")
CHUNK_STORED, CHUNK_SIZE, CHUNK_START, CHUNK_CODEC = CHUNKS = (
    "stored size of chunk",
    "size of chunk",
    "start of chunk",
    "codec of chunk",
)
OWN_NUMBER, OWN_START, OWN_NEXT, OWN_LENGTH = OWN = (
    "number of record",
    "start of record",
    "start of next record",
    "length of record",
)
NUMBERS = (IntegerType,)
ATTRIBUTES: dict[str, tuple[type, ...]] = {
    **dict.fromkeys((NAME, FOLDER_NAME, TYPE_NAME), (Text,)),
    **dict.fromkeys(
        (NAME_AT, START, STORED, SIZE, END, CODEC, VOLUME, *KEYS, FOLDER, KIND, TYPE, ID, VARIANT), NUMBERS
    ),
    **dict.fromkeys((*TIMES, *OWNERS, *CHUNKS, *OWN), NUMBERS),
    **dict.fromkeys(sound.FACTS, NUMBERS),
    EXTENSION: (*NUMBERS, Text),
    **dict.fromkeys((FOLDER_NAME_AT, PARENT, FIRST_FOLDER, FOLDERS, FIRST_FILE, FILES, TYPE_NAME_AT), NUMBERS),
}
OF = {  # whose facts they are; the others are an entry's
    **dict.fromkeys((FOLDER_NAME, FOLDER_NAME_AT, PARENT, FIRST_FOLDER, FOLDERS, FIRST_FILE, FILES), "folder"),
    **dict.fromkeys((TYPE_NAME, TYPE_NAME_AT), "type"),
    **dict.fromkeys(CHUNKS, "chunk"),
}
TABLED = (CODEC, CHUNK_CODEC, EXTENSION, KIND, sound.ENCODING, sound.ORDER)  # facts whose numbers are told in a table
WORDED = (VARIANT, sound.RATE)  # facts whose numbers may be told in one
NEEDS = ()
NAMES = ("name", "lower name", "upper name")
PARTS = ("stored content", "content", *NAMES)  # what a checksum of an entry may cover
NAMING = (NAME, NAME_AT, KEY)  # one of them tells an entry from the others


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What an archive's layout needs besides its facts."""
    attributes = {
        field.meaning.what: field
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Attribute) and not field.meaning.upper
    }
    told = {told.fact.what for told in layout.told if isinstance(told.fact, Attribute)}
    yield from _check_chunks(layout, attributes)
    yield from _check_own(layout)
    yield from check_references(layout)
    for of in ("entry", "folder", "type", "chunk"):
        yield from _check_spread(layout, of)
    inline = [block for block in layout.blocks if block.inline]
    if layout.content.after:
        yield from _check_after(layout, attributes)
    elif START in attributes and inline:
        yield attributes[START].place, f"where content starts is given twice: here and in {inline[0].name}", "`kept`"
    elif START not in attributes and START not in told and len(inline) != 1:
        yield (
            layout.place,
            "no field gives the start of content",
            "a field with the meaning `start of content`, or `bytes  content` in the records",
        )
    yield from _check_names(layout, attributes)
    if layout.content.until_next:
        yield from _check_until_next(layout, attributes)
    elif not {STORED, SIZE, END} & (set(attributes) | told):
        yield (
            layout.place,
            "no field gives the size of an entry's content",
            "`stored size of content`, `size of content` or `end of content`",
        )
    if START in attributes:
        yield from _check_start(layout, attributes[START])
    if END in attributes and (STORED in attributes or START not in {*attributes, *told}):
        yield (
            attributes[END].place,
            "content that ends somewhere starts somewhere, and needs no stored size",
            "`kept` for one",
        )
    yield from _check_folders(layout, attributes)
    yield from _check_volumes(layout, attributes)
    yield from _check_content(layout, attributes)
    yield from sound.check_bank(layout, attributes)
    if CODEC in attributes:
        bounded = bool({STORED, END} & {*attributes, *told}) or layout.content.until_next
        yield from _check_codec(attributes[CODEC], bounded, SIZE in attributes or SIZE in told)


def _check_own(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What a record stores about itself is known where all records of a row stand one behind the other."""
    for block in layout.blocks:
        loose = block.skip is not None or group_holder(layout, block) is not None or not block.repeats
        for field in block.fields:
            if not isinstance(field.meaning, Attribute) or field.meaning.what not in OWN:
                continue
            if loose or field.when is not None or block not in layout.entry_blocks():
                yield (
                    field.place,
                    f"`{field.words}` is for records of entries that stand in one row, each with it",
                    "`kept`",
                )


def _check_after(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """Content in a row needs sizes, and nothing that says where it starts."""
    content = layout.content
    if layout.block(content.after) is None:
        yield (
            layout.place,
            f"there is no block {content.after} for the content to be behind",
            "content after table in order",
        )
    if START in attributes or any(block.inline for block in layout.blocks):
        yield (
            layout.place,
            "where content starts is given twice: by `content after` and by the records",
            "leaving one of them out",
        )
    if not content.ordered or content.others or content.volumes or content.until_next:
        yield (
            layout.place,
            "content that lies in a row is `in order`, and all of it is placed alike",
            "content after table in order",
        )


def _check_chunks(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """A part that is cut needs a table of its chunks, and the table such a part."""
    cut = [part for part in layout.parts if part.cut is not None]
    told = next((attributes[what] for what in CHUNKS if what in attributes), None)
    if told is not None and len(cut) != 1:
        yield (
            told.place,
            f"`{told.words}` needs one part that is cut into chunks",
            "part ... cut every 0x8000 wrapped in ...",
        )
    for part in cut:
        if CHUNK_STORED not in attributes:
            yield (
                part.place,
                f"no field gives the sizes of the chunks of {part.name}",
                f"a row of records with a field `{CHUNK_STORED}`",
            )
        if part.cut is not None and part.cut.short and part.cut.bare and CHUNK_SIZE not in attributes:
            yield (
                part.place,
                "their sizes alone do not show which chunks are bare",
                f"a field `{CHUNK_SIZE}` or `{CHUNK_CODEC}`",
            )
    table = attributes.get(CHUNK_CODEC)
    for _, name in getattr(table.meaning, "table", ()) if table is not None else ():
        try:
            COMPRESS.get(name)
        except UsageError as error:
            assert table is not None
            yield table.place, error.message, error.hint


def _check_spread(layout: Layout, of: str) -> Iterator[tuple[Place, str, str]]:
    roots = {
        layout.root(block).name: block
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Attribute) and field.meaning.of == of
    }
    unconditional = [block for block in roots.values() if block.when is None]
    if len(unconditional) > 1 or (unconditional and len(roots) > 1):
        text = ", ".join(sorted(roots))
        whose = "an entry" if of == "entry" else f"a {of}"
        yield (
            layout.place,
            f"the facts about {whose} are spread over {text}, which nothing ties together",
            "block ... repeats with ...",
        )


def _check_folders(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    lines = [what for what in attributes if OF.get(what) == "folder"]
    if not lines:
        if FOLDER in attributes:
            yield (
                attributes[FOLDER].place,
                "the number of a folder, and no block of folders",
                f"a block with a field `{FOLDER_NAME}`",
            )
        return
    place = attributes[lines[0]].place
    if FOLDER_NAME not in attributes and FOLDER_NAME_AT not in attributes:
        yield place, "no field gives the folders' names", f"a field with the meaning `{FOLDER_NAME}`"
    held = any(isinstance(field.meaning, RecordsOf) for block in layout.rooted("folder") for field in block.fields)
    held = held or any(group_holder(layout, block) in layout.rooted("folder") for block in layout.entry_blocks())
    if FOLDER not in attributes and not (FIRST_FILE in attributes and FILES in attributes) and not held:
        yield (
            place,
            "no field links entries to folders",
            (f"`{FOLDER}` in the entries, or `{FIRST_FILE}` and `{FILES}` in the folders"),
        )
    if FIRST_FOLDER in attributes and FOLDERS not in attributes:
        yield (
            attributes[FIRST_FOLDER].place,
            "the first folder within another, and not how many there are",
            f"`{FOLDERS}`",
        )


def _check_volumes(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    content = layout.content
    if not content.volumes:
        if VOLUME in attributes:
            yield (
                attributes[VOLUME].place,
                "the number of a volume, and nothing gives the names of volumes",
                'content in volumes "bells_{00}.kwd"',
            )
        return
    problem = wrong_pattern(content.volumes)
    if problem:
        yield layout.place, problem, 'content in volumes "{name}_{00}.kwd", or one file by its name'
    if (VOLUME in attributes) != (NUMBERED.search(content.volumes) is not None):
        yield (
            layout.place,
            "the volumes have numbers in their names, and each entry the number of its volume, or neither",
            f"a field `{VOLUME}`",
        )
    if (
        content.until_next
        or any(block.inline for block in layout.blocks)
        or any("start" in derived.asks for transform in content.transforms for derived in transform.derived)
    ):
        yield (
            layout.place,
            "content in volumes has a start and a size in fields, and no key that comes from where it is",
            "",
        )


def _check_content(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    content = layout.content
    if content.codec:
        try:
            COMPRESS.get(content.codec)
        except UsageError as error:
            yield content.place or layout.place, error.message, error.hint
        if CODEC in attributes and not content.differing:
            yield attributes[CODEC].place, "the codec is given twice: here and behind `content ... as`", "`kept`"
        known = {*attributes, *(told.fact.what for told in layout.told if isinstance(told.fact, Attribute))}
        told = bool({STORED, END} & known) or content.until_next
        if not told or (SIZE not in known and (content.differing or not _shows_size(content.codec))):
            yield (
                content.place or layout.place,
                f"content in {content.codec} needs its stored size and its size, each in a field",
                "",
            )
    yield from check_ciphers(layout, attributes)
    yield from check_frames(layout)
    yield from _check_keys(layout, attributes)
    if content.within and layout.part(content.within) is None:
        yield (
            layout.place,
            f"there is no part {content.within} for the content to be in",
            f"part {content.within} wrapped in ...",
        )
    if content.within and any(block.inline for block in layout.blocks):
        yield layout.place, "content that follows its records lies in no other part", ""
    aligns = {content.align, *(placing.align for placing in content.others)}
    if content.until_next and aligns != {1}:
        yield (
            layout.place,
            "content that ends where the next starts cannot be distinguished from the padding behind it",
            "leaving `align` out",
        )


def _check_keys(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """Keys are plain numbers, and their rules are rules for keys that there are, in as many bits as those have."""
    for what in KEYS:
        field = attributes.get(what)
        if field is not None and (
            field.changes or not isinstance(field.type, Number | Bits) or getattr(field.type, "signed", False)
        ):
            yield field.place, f"a {what} is a plain number, `{field.name}` is {field.shape}", "u64"
    for what in (FOLDER_KEY, EXTENSION_KEY):
        if what in attributes and KEY not in attributes:
            yield attributes[what].place, f"a {what}, and no `{KEY}`", f"a field with the meaning `{KEY}`"
    seen = set[str]()
    for rule in layout.keys:
        if rule.what in seen:
            yield rule.place, f"how a {rule.what} is made is given twice", "leaving one of them out"
        seen.add(rule.what)
        if rule.what not in attributes:
            yield rule.place, f"no field is a {rule.what}", f"a field with the meaning `{rule.what}`"
            continue
        yield from _check_rule(rule, attributes)
    if layout.keys and KEY in attributes and KEY not in seen:
        yield layout.keys[0].place, "no hash function of names is given", "hashes by fnv1a(bits 64)"


def _check_rule(rule: KeyRule, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    bits = bits_of(attributes[rule.what].type)
    if rule.numbered:
        places = PLACE.findall(rule.numbered)
        if not places or (len(places) > 1) != (rule.unit > 1) or "." in rule.numbered:
            yield (
                rule.place,
                f"`{rule.numbered}` with {rule.unit} to a folder gives no number",
                'names numbered "{000}/{00}", 64 to a folder',
            )
        if FOLDER_KEY in attributes or EXTENSION_KEY in attributes:
            yield (
                rule.place,
                "a number stands for the whole path, so folders and extensions have no keys of their own",
                "",
            )
        return
    try:
        made = CHECKSUM.get(rule.algorithm).bits
    except UsageError as error:
        yield rule.place, error.message, error.hint
        return
    if made < bits or made > 64:
        yield rule.place, f"{rule.algorithm} has {made} bits, `{attributes[rule.what].name}` has {bits}", f"u{made}"
    if {"lower case", "upper case"} <= set(rule.traits):
        yield rule.place, "letters are either small or capital", "leaving one of them out"


def _check_start(layout: Layout, start: Field) -> Iterator[tuple[Place, str, str]]:
    unit, based = 1, any(change.how == "from" for change in start.changes)
    for change in start.changes:
        unit = change.number if change.how == "times" else unit
    for align in (layout.content.align, *(placing.align for placing in layout.content.others)):
        if align % unit and not based:
            problem = f"content starts at multiples of {align}, which `{start.name}` cannot give in units of {unit}"
            yield start.place, problem, f"content align {unit}"


def _check_names(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """Names stand in the entries, in a pool to which the entries point, or there are only keys."""
    pools = [(block, field) for block in layout.blocks for field in block.fields if isinstance(field.meaning, Pool)]
    pointing = [attributes[what] for what in (NAME_AT, FOLDER_NAME_AT, TYPE_NAME_AT) if what in attributes]
    if not any(what in attributes for what in NAMING) and any(block.inline for block in layout.blocks):
        return  # content in a row without names: a wrapper around one file is the least of these
    if not any(what in attributes for what in NAMING):
        yield (
            layout.place,
            "no field gives the name",
            f"a field with the meaning `{NAME}`, or `{NAME_AT}` and a pool of `names`, or a `{KEY}`",
        )
    elif NAME in attributes and NAME_AT in attributes:
        yield (
            attributes[NAME].place,
            "the names are given twice: in the entries and in a pool",
            "`kept` for one of them",
        )
    elif pools and not pointing:
        yield pools[0][1].place, "a pool of names, and no field that points into it", f"`{NAME_AT}`, or `kept`"
    elif pointing and len(pools) != 1:
        what = pointing[0].words
        yield pointing[0].place, f"`{what}` needs one block with a field of the meaning `names`", "text zero  names"
    for block, field in pools:
        if len(block.fields) > 1 or not block.repeats or not (is_bare(field) or _has_ends(field)):
            yield (
                field.place,
                "a pool of names is a repeating block with one field: a text zero, a text with its length, or u8",
                "text zero  names",
            )
        for pointed in pointing:
            home = next(block for block in layout.blocks if pointed in block.fields)
            if is_bare(field) and pooled_length(home, pointed) is None:
                yield (
                    pointed.place,
                    f"no field gives the length of the text to which `{pointed.name}` points",
                    f"u16  length of {pointed.name}",
                )


def _has_ends(pool: Field) -> bool:
    """Whether the texts of a pool say themselves where they end."""
    return isinstance(pool.type, Text) and pool.type.size is None and not pool.type.length_by


def _check_until_next(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    field = attributes.get(STORED) or attributes.get(SIZE)
    if field is not None:
        yield (
            field.place,
            f"`{field.name}` gives the size of content, and so does `content until next`",
            "leaving `until next` out",
        )


def _shows_size(codec: str) -> bool:
    """Whether the stored bytes of a codec show how much they hold."""
    try:
        return hasattr(COMPRESS.get(codec), "content_size")
    except UsageError:
        return True  # which codec it is, is told elsewhere


def _check_codec(codec: Field, stored: bool, sized: bool) -> Iterator[tuple[Place, str, str]]:
    assert isinstance(codec.meaning, Attribute)
    if not codec.meaning.table:
        yield (
            codec.place,
            f"`{codec.name}` has no table of codecs",
            "codec of content { 0 none, 1 zlib }",
        )
    for _, name in codec.meaning.table:
        try:
            COMPRESS.get(name)
        except UsageError as error:
            yield codec.place, error.message, error.hint
        if name != "none" and not (stored and (sized or _shows_size(name))):
            yield codec.place, f"content in {name} needs its stored size and its size, each in a field", ""


def unwritable(layout: Layout) -> Iterator[tuple[Place, str]]:
    """Why such an archive could be read but not written."""
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Attribute) and field.meaning.what == CODEC:
                for _, name in field.meaning.table:
                    if not hasattr(COMPRESS.get(name), "encode_stream"):
                        yield field.place, f"the codec {name} only decodes"
