"""The layout language: what it understands, and what it says to mistakes."""

from __future__ import annotations

import textwrap
import unittest

from tests.support import PACK_LAYOUT, Case
from volvex.codec import COMPRESS
from volvex.errors import FormatError, LayoutError, ManyErrors, VolvexError
from volvex.layout import cache
from volvex.layout.language.parser import parse_layout, read_layout
from volvex.layout.model import (
    At,
    Attribute,
    ChecksumOf,
    Constant,
    Content,
    Known,
    Layout,
    Measure,
    Number,
    NumberChange,
    Opaque,
    Raw,
    Text,
)
from volvex.layout.order import checksum_order
from volvex.layout.write.checks import unwritable

GOOD = """
layout "Test" kind archive
little endian
known by "TEST" at 0

block head at 0
    mark   4 bytes   is "TEST"
    files  u32       count of table
    where  u32       start of table

block table repeats
    name   text u16  name
    start  u32       start of content
    size   u32       size of content
"""


def parse(text: str) -> Layout:
    return parse_layout(textwrap.dedent(text), "t.layout")


def changed(old: str, new: str) -> str:
    assert old in GOOD, old
    return GOOD.replace(old, new)


class Understood(unittest.TestCase):
    def test_the_parts_of_a_layout(self) -> None:
        layout = parse(GOOD)
        self.assertEqual((layout.title, layout.kind, layout.read_only), ("Test", "archive", False))
        self.assertEqual(layout.known, (Known(b"TEST", At(0)),))
        self.assertEqual([block.name for block in layout.blocks], ["head", "table"])
        self.assertEqual([block.repeats for block in layout.blocks], [False, True])
        self.assertEqual(layout.content, Content(1, 0))

    def test_types(self) -> None:
        layout = parse(
            changed(
                "    size   u32",
                "    a u8 kept\n    b i64 big kept\n    c 7 bytes kept\n    d text 9 kept\n"
                "    e text zero in cp1252 kept\n    f text u8 kept\n    size   u32",
            )
        )
        types = {field.name: field.type for field in layout.blocks[1].fields}
        self.assertEqual(types["a"], Number(8, False, False))
        self.assertEqual(types["b"], Number(64, True, True))
        self.assertEqual(types["c"], Raw(7))
        self.assertEqual(types["d"], Text("utf-8", size=9))
        self.assertEqual(types["e"], Text("cp1252"))
        self.assertEqual(types["f"], Text("utf-8", prefix=Number(8, False, False)))

    def test_meanings(self) -> None:
        fields = {field.name: field.meaning for block in read_layout(PACK_LAYOUT).blocks for field in block.fields}
        self.assertEqual(fields["mark"], Constant(b"KWPK"))
        self.assertEqual(fields["version"], Constant(3))
        self.assertEqual(fields["flags"], Opaque())
        self.assertEqual(fields["files"], Measure("count", "directory"))
        self.assertEqual(fields["whole"], Measure("length", "file"))
        self.assertEqual(fields["checksum"], ChecksumOf("crc32", "directory"))
        self.assertEqual(fields["path"], Attribute("name"))
        self.assertEqual(fields["method"], Attribute("codec of content", ((0, "none"), (1, "zlib"))))
        self.assertEqual(fields["check"], ChecksumOf("crc32", "stored content"))

    def test_changes_of_numbers_keep_their_order(self) -> None:
        layout = parse(
            changed("start  u32  ", "start  u32 plus 4 x 16 xor 0xff  ").replace(
                'known by "TEST" at 0', 'known by "TEST" at 0\ncontent align 32 fill 00'
            )
        )
        field = layout.blocks[1].fields[1]
        self.assertEqual(field.changes, (NumberChange("plus", 4), NumberChange("times", 16), NumberChange("xor", 255)))

    def test_byte_order_holds_wherever_it_is_said(self) -> None:
        late = parse(GOOD.replace("little endian\n", "") + "\nbig endian\n")
        self.assertEqual(late.blocks[0].fields[1].type, Number(32, False, True))
        self.assertEqual(parse(GOOD.replace("little endian\n", "")).blocks[0].fields[1].type, Number(32, False, False))

    def test_comments_blank_lines_and_line_ends(self) -> None:
        text = "# a note\r\n\r\n" + GOOD.replace("\n", "  # why\r\n") + "   \r\n# the end"
        plain, noted = parse(GOOD), parse_layout(text, "t.layout")
        self.assertEqual(
            [f.meaning for b in plain.blocks for f in b.fields], [f.meaning for b in noted.blocks for f in b.fields]
        )

    def test_words_of_the_language_may_name_fields(self) -> None:
        layout = parse(
            changed(
                "    name   text u16  name",
                "    name   text u16  name\n    start_of u8 kept\n    kept u8 kept\n    is u8 kept",
            )
        )
        self.assertIn("kept", [field.name for field in layout.blocks[1].fields])

    def test_hex_and_escapes_are_bytes(self) -> None:
        layout = parse(changed('known by "TEST" at 0', 'known by "\\x89T\\n" at 2\nknown by hex 00 fF at 0x10'))
        self.assertEqual(layout.known, (Known(b"\x89T\n", At(2)), Known(b"\x00\xff", At(16))))


MISTAKES: tuple[tuple[str, str, str, int, int, str, str], ...] = (
    # what, old, new, line, column, what the error says, what the hint says
    ("no meaning", "size   u32       size of content", "size   u32", 14, 15, "not understood", "kept"),
    ("a wrong type", "files  u32 ", "files  u23 ", 8, 12, "no type and no record u23", "`u32`"),
    ("a misspelt word", "block table repeats", "block table repeets", 11, 13, "`repeets`", "`repeats`"),
    ("a field that is not indented", "    files  u32", "files  u32", 8, 1, "`files`", ""),
    ("an unknown meaning", "count of table", "counts of table", 8, 22, "`counts of table`", "`count of table`"),
    ("an unknown part", "start of table", "start of tabel", 9, 22, "`start of tabel`", "`start of table`"),
    ("an unknown checksum", "files  u32       count of table", "files  u32       crc33 of table", 8, 22, "crc33", ""),
    ("an unknown kind", "kind archive", "kind archives", 2, 20, "kind archives", "archive"),
    ("a constant of another length", 'is "TEST"', 'is "TES"', 7, 5, "not 4 bytes", ""),
    (
        "a constant that does not fit",
        "files  u32       count of table",
        "files  u8        is 300",
        8,
        5,
        "does not fit",
        "0 to 255",
    ),
    ("a text that measures", "files  u32 ", "files  text u8 ", 8, 5, "measures something", "u32"),
    ("a repeated field", "    where  u32", "    files  u32", 9, 5, "already", "another name"),
    ("a count of one record", "count of table", "count of head", 8, 5, "one record", "repeats"),
    ("no unit in the table", "size of content", "size of content { 0 none }", 14, 22, "takes no table", ""),
    (
        "a checksum that is too wide",
        "size   u32       size of content",
        "size u32 size of content\n    c u16 crc32 of content",
        15,
        5,
        "32 bits",
        "u32",
    ),
    ("an unknown encoding", "text u16  name", "text u16 in utf-9 name", 12, 24, "utf-9", "cp1252"),
    ("a unit that alignment lacks", "start  u32 ", "start  u32 x 64 ", 13, 5, "multiples of 1", "content align 64"),
    ("a text without an end", 'is "TEST"', 'is "TEST', 7, 25, "not understood", ""),
)


class Mistakes(unittest.TestCase):
    def test_each_is_told_at_its_line_with_a_hint(self) -> None:
        for what, old, new, line, column, says, hint in MISTAKES:
            with self.subTest(what):
                with self.assertRaises(VolvexError) as caught:
                    parse(changed(old, new))
                error = caught.exception
                errors = error.errors if isinstance(error, ManyErrors) else [error]
                first = errors[0]
                assert isinstance(first, LayoutError)
                self.assertEqual((first.line, first.column), (line, column), first.message)
                self.assertIn(says, first.message)
                self.assertIn(hint, first.hint)
                self.assertTrue(first.message.startswith(f"t.layout:{line}:{column}: "))

    def test_all_mistakes_of_a_layout_are_told_at_once(self) -> None:
        with self.assertRaises(ManyErrors) as caught:
            parse(changed('is "TEST"', 'is "TES"').replace("files  u32 ", "files  4 bytes "))
        self.assertEqual(len(caught.exception.errors), 2)

    def test_what_is_missing_is_named(self) -> None:
        for gone, says in (
            ("    where  u32       start of table\n", "no field gives the start of table"),
            ("    files  u32       count of table\n", "the count of table"),
            ("    name   text u16  name\n", "no field gives the name"),
            ("    size   u32       size of content\n", "the size of an entry's content"),
        ):
            with self.subTest(gone), self.assertRaises(VolvexError) as caught:
                parse(changed(gone, ""))
            self.assertIn(says, caught.exception.message)

    def test_blocks_that_can_only_be_found_through_themselves(self) -> None:
        text = (
            changed("    where  u32       start of table\n", "")
            .replace("    name   text", "    where u32 kept\n    name   text")
            .replace("block head at 0", "block head")
        )
        with self.assertRaises(VolvexError) as caught:
            parse(text)
        self.assertIn("no field gives the start of head", caught.exception.message)

    def test_compressed_content_needs_both_sizes(self) -> None:
        with self.assertRaises(VolvexError) as caught:
            parse(GOOD + "    how u8 codec of content { 0 none, 1 zlib }\n")
        self.assertIn("stored size and its size", caught.exception.message)

    def test_a_codec_must_exist(self) -> None:
        text = GOOD + "    how u8 codec of content { 0 none, 9 squash }\n"
        with self.assertRaises(VolvexError) as caught:
            parse(text)
        self.assertIn("squash", caught.exception.message)

    def test_bytes_that_are_not_text(self) -> None:
        with self.assertRaises(LayoutError) as caught:
            parse(changed('"TEST" at 0', '"\\xZZ" at 0'))
        self.assertIn("not a text", caught.exception.message)


class Structures(unittest.TestCase):
    """Mistakes in what ties blocks together."""

    IN_A_ROW = """
    layout "row" kind archive
    block entry at 0 repeats until end
        name  text u8  name
        size  u32      size of content
        data  bytes    content
    """

    def refused(self, text: str, says: str, hint: str = "") -> None:
        with self.assertRaises(VolvexError) as caught:
            parse(text)
        told = "\n".join(caught.exception.lines())
        self.assertIn(says, told)
        self.assertIn(hint, told)

    def row(self, old: str, new: str) -> str:
        text = textwrap.dedent(self.IN_A_ROW)
        self.assertIn(old, text)
        return text.replace(old, new)

    def test_places_are_understood(self) -> None:
        layout = parse(
            changed("block head at 0", "block head at end - 12").replace("block table", "block table after head")
        )
        self.assertEqual([block.at for block in layout.blocks], [At(12, from_end=True), At(after="head")])
        layout = parse(changed("block head at 0", 'block head at last "TEST"'))
        self.assertEqual(layout.blocks[0].at, At(mark=b"TEST"))

    def test_a_block_behind_one_that_is_not_there(self) -> None:
        self.refused(
            changed("block table repeats", "block table after haed repeats"), "there is no such block", "try head"
        )

    def test_blocks_behind_each_other_in_a_circle(self) -> None:
        text = changed("block head at 0", "block head after table").replace(
            "block table repeats", "block table after head repeats"
        )
        self.refused(text, "can only be known after it was read")

    def test_records_with_a_block_that_is_not_there_or_is_one_record(self) -> None:
        self.refused(changed("block table repeats", "block table repeats with tabel"), "cannot repeat with tabel")
        self.refused(changed("block table repeats", "block table repeats with head"), "head is one record")

    def test_facts_that_nothing_ties_together(self) -> None:
        text = changed(
            "    size   u32       size of content", "block sizes after table repeats\n    size u32 size of content"
        )
        self.refused(text + "\n    n u32 kept\n", "no field gives the count of sizes")
        text = text.replace("    where ", "    many u32 count of sizes\n    where ")
        self.refused(text, "spread over sizes, table, which nothing ties together")

    def test_sizes_told_twice_or_with_filling(self) -> None:
        self.refused(GOOD + "content until next\n", "and so does `content until next`")
        text = changed("    size   u32       size of content\n", "") + "content until next align 4\n"
        self.refused(text, "cannot be distinguished from the padding")

    def test_names_told_twice_or_nowhere(self) -> None:
        pool = "\nblock pool after table repeats\n    text text zero names\n"
        counted = changed("    where ", "    bytes u32 length of pool\n    where ") + pool
        self.refused(counted, "a pool of names, and no field that points into it")
        self.refused(
            changed("name   text u16  name", "name   u32  start of name"),
            "needs one block with a field of the meaning `names`",
        )
        odd = counted.replace("name   text u16  name", "name   u32  start of name").replace(
            "text text zero names", "text text 8 names"
        )
        self.refused(odd, "a pool of names is a repeating block with one field")

    def test_content_in_a_row(self) -> None:
        layout = parse(self.IN_A_ROW)
        self.assertTrue(layout.blocks[0].inline)
        self.assertEqual(layout.blocks[0].until, b"")
        self.refused(self.row("data  bytes    content", "data  bytes    kept"), "content that lies here is both")
        self.refused(self.row("data  bytes    content", "data  u32    content"), "content that lies here is both")
        self.refused(
            self.row("    data  bytes    content\n", "").replace("entry", "entry", 1) + "    x u8 kept\n",
            "no field gives the start of content",
        )
        self.refused(self.row("    size  u32      size of content\n", ""), "the length of the content that follows")
        self.refused(
            self.row("    data  bytes    content\n", "    data  bytes    content\n    x u8 kept\n"),
            "behind the other fields",
        )
        self.refused(self.row("size of content", "size of content\n    at u32 start of content"), "given twice")
        self.refused(self.row("until end", "until 5"), "only bytes can end a row", "quotes")
        checksum = self.row("block entry at 0", "block head at 0\n    s u32 crc32 of entry\nblock entry after head")
        self.assertEqual(getattr(parse(checksum).blocks[0].fields[0].meaning, "edge", ""), "over")
        both = checksum.replace("crc32 of entry", "crc32 of head and entry")
        self.refused(both, "holds content, so its checksum stands alone")

    def test_a_footer_that_may_change_its_own_length(self) -> None:
        text = changed("block head at 0", "block head at end - 30").replace(
            "    where ", "    note text u8 kept\n    where "
        )
        self.assertEqual(
            [reason for _, reason in unwritable(parse(text))],
            ["head is found from the end of the file, but may change its own length"],
        )

    def test_digests_stand_in_bytes(self) -> None:
        self.assertEqual(
            len(parse(GOOD + "    d 16 bytes md5 of content\n    x u64 xxh64 of content\n").blocks[1].fields), 5
        )
        self.refused(GOOD + "    d 20 bytes md5 of content\n", "md5 has 128 bits", "16 bytes")


NEW = """layout "n" kind archive
record point
    x u8 kept
block head at 0
    n u8 count of t
    size u8 length of index
    packed u16 described
    low packed bits 0 to 3 kept
part index after head wrapped in xor(key hex 01)
block t in index at 0 repeats
    letters u8 length of name
    corners u8 kept
    shape array of corners point kept
    name text of letters name
    start u8 start of content
    bytes u8 size of content
"""


class NewConstructs(unittest.TestCase):
    """Mistakes in parts, bits, records, conditions: each told at its line, with what to do."""

    def refused(self, old: str, new: str, line: int, *words: str) -> None:
        self.assertIn(old, NEW)
        with self.assertRaises((LayoutError, ManyErrors)) as caught:
            parse(NEW.replace(old, new))
        text = "\n".join(caught.exception.lines())
        self.assertIn(f":{line}:", text)
        for word in words:
            self.assertIn(word, text)

    def test_it_is_sound(self) -> None:
        self.assertEqual(unwritable(parse(NEW)), [])

    def test_parts(self) -> None:
        self.refused("block t in index", "block t in indx", 10, "no part indx")
        self.refused("xor(key hex 01)", "xor(kee hex 01)", 9, "no parameter kee")
        self.refused("xor(key hex 01)", "xor(key from name)", 9, "is no entry")
        self.refused("xor(key hex 01)", "squash", 9, "no cipher and no compression called squash", "zlib")
        self.refused("length of index", "kept", 9, "no field gives the length of index", "stored length of index")
        self.refused("part index after head", "part index after hed", 9, "index is can only be known after it was read")

    def test_bits(self) -> None:
        self.refused("low packed bits 0 to 3", "low packd bits 0 to 3", 8, "uses packd", "packed")
        self.refused("bits 0 to 3", "bits 3 to 0", 8, "no bits 3 to 0")
        self.refused("bits 0 to 3", "bits 0 to 16", 8, "u16 has no bit 16")
        self.refused(
            "packed u16 described",
            "packed u16 kept",
            7,
            "some bits of `packed` have a meaning of their own",
            "described",
        )
        self.refused("packed u16 described", "packed 2 bytes described", 7, "only a number's bits are described")

    def test_told_lengths_and_counts(self) -> None:
        self.refused("letters u8 length of name", "letters u8 kept", 11, "should have that meaning", "length of name")
        self.refused("letters u8", "letters i8", 11, "cannot be negative", "u8")
        self.refused("array of corners", "array of corner", 13, "uses corner", "corners")
        self.refused(
            "array of corners point kept", "array of corners pint kept", 13, "no type and no record pint", "`point`"
        )
        self.refused("x u8 kept", "x array of 0 u8 kept", 13, "no bytes at all")
        self.refused("point kept\n", "point name\n", 13, "can only be kept")

    def test_conditions(self) -> None:
        self.refused("kept\npart", "kept when hed.n is 1\npart", 8, "there is no field hed.n", "head.n")
        self.refused("kept\npart", "kept when t.start is 1\npart", 8, "t has many records")
        self.refused("corners u8 kept", 'corners u8 kept when letters is "x"', 12, "a number for a number")
        self.refused("corners u8 kept", 'corners u8 kept when letters >= "x"', 12, "only a number can be compared")

    def test_upper_halves_and_places(self) -> None:
        self.refused(
            "start u8 start of content", "start u8 upper start of content", 15, "no field of t holds the lower bits"
        )
        self.refused("start u8 start", "start u8 from end of nothing start", 15, "no such block or part")

    def test_conditions_ask_what_is_known_by_then(self) -> None:
        self.refused("corners u8 kept", "corners u8 kept when start is 1", 12, "no field before `corners`")
        self.refused("x u8 kept", "y u8 kept when z is 1\n    x u8 kept", 3, "no field before `y`")
        row = NEW.replace("start u8 start of content", "data bytes content").replace("bytes u8 size of content\n", "")
        row = row.replace(
            "block t in index at 0 repeats",
            "block t in index at 0 repeats\n    big u8 size of content when letters is 1",
        )
        with self.assertRaises((LayoutError, ManyErrors)) as caught:
            parse(row)
        self.assertIn("gives the start of the next record", "\n".join(caught.exception.lines()))

    def test_keys_of_content(self) -> None:
        end = "bytes u8 size of content\n"
        self.refused(
            end, f"{end}content wrapped in xor(key from sise u32)\n", 17, "cannot come from sise", "name, lower name"
        )
        self.refused(end, f"{end}content wrapped in xtea(key from size u32)\n", 17, "16 bytes")
        self.refused(
            end, f"{end}content wrapped in xor(key from start u32 from end of head)\n", 17, "counts from nowhere"
        )
        self.refused(end, f"{end}content wrapped in rolling(kee hex 01)\n", 17, "no parameter kee")
        self.refused(
            "name text of letters name",
            "name text of letters kept\n    key i32 name hash",
            15,
            "a name hash is a plain number",
        )

    def test_a_record_within_itself(self) -> None:
        self.refused("x u8 kept", "x array of 2 point kept", 3, "would hold itself")


class Writable(unittest.TestCase):
    def test_checksums_over_the_file_cover_each_other(self) -> None:
        head = 'layout "s" kind archive\nblock head at 0\n    n u8 count of t\n    a u32 crc32 of file\n'
        table = (
            "block t after head repeats\n    name text u8 name\n    start u8 start of content\n    size u8 size of "
            "content\n"
        )
        foot = "block foot at end - 20\n    b 20 bytes sha1 of {}\n"
        self.assertEqual(unwritable(parse(head + table)), [])
        both = [reason for _, reason in unwritable(parse(head + table + foot.format("file before foot")))]
        self.assertEqual(both, ["a checksum over the file beside another: each would cover the other"])
        covered = [reason for _, reason in unwritable(parse(head + table + foot.format("head")))]
        self.assertEqual(covered, ["head holds a checksum over the file, which this checksum would cover"])

    def test_read_only_is_the_authors_word(self) -> None:
        layout = parse(GOOD + "\nread only\n")
        self.assertEqual([reason for _, reason in unwritable(layout)], ["declared `read only`"])

    def test_a_fixed_place_behind_a_block_that_grows(self) -> None:
        text = changed("block table repeats", "block tail at 600\n    x u32 kept\n\nblock table at 12 repeats")
        reasons = unwritable(parse(text))
        self.assertEqual(
            [(place.line, reason) for place, reason in reasons],
            [(11, "tail has a fixed place behind a block that may grow into it")],
        )

    def test_checksums_that_cover_each_other(self) -> None:
        text = changed("    where  u32", "    s u32 crc32 of foot\n    foot_at u32 start of foot\n    where  u32") + (
            "\nblock foot\n    t u32 crc32 of head\n"
        )
        layout = parse(text)
        self.assertEqual([block.name for block in checksum_order(layout)], ["table"])
        self.assertEqual(len(unwritable(layout)), 2)

    def test_a_codec_that_only_decodes(self) -> None:
        class Decoder:
            decode = decode_stream = decode_start = None

        COMPRESS._loaded["peeler"] = Decoder  # type: ignore[assignment]
        self.addCleanup(COMPRESS._loaded.pop, "peeler")
        text = GOOD + "    stored u32 stored size of content\n    how u8 codec of content { 0 none, 9 peeler }\n"
        self.assertEqual([reason for _, reason in unwritable(parse(text))], ["the codec peeler only decodes"])

    def test_the_game_s_layout_can_be_written(self) -> None:
        self.assertEqual(unwritable(read_layout(PACK_LAYOUT)), [])


class Remembered(unittest.TestCase):
    def test_a_layout_comes_back_as_it_was(self) -> None:
        layout = read_layout(PACK_LAYOUT)
        there = cache.load(cache.dump(layout) or b"", layout.file)
        assert there is not None
        self.assertEqual((there.kind, there.known, there.layout), (layout.kind, layout.known, layout))

    def test_what_does_not_load_is_nothing(self) -> None:
        dumped = cache.dump(read_layout(PACK_LAYOUT)) or b""
        for data in (b"", b"[]", b"{}", b'{"is": "Layout"}', dumped[:-4], dumped.replace(b'"Raw"', b'"Path"')):
            self.assertIsNone(cache.load(data, "x"), data[:40])

    def test_another_text_has_another_key(self) -> None:
        self.assertNotEqual(cache.key(b"a"), cache.key(b"b"))
        self.assertEqual(cache.key(b"a"), cache.key(b"a"))


class Program(Case):
    def test_check_says_sound_and_writable(self) -> None:
        out = self.volvex("layout", "check", PACK_LAYOUT)
        self.assertIn("no faults, can be written", out)
        self.assertIn("2 blocks, 15 fields", out)

    def test_check_says_which_line_cannot_be_written(self) -> None:
        file = self.folder / "t.layout"
        file.write_text(GOOD + "read only\n", encoding="utf-8")
        self.assertIn(f"{file}:2:8: declared `read only`", self.volvex("layout", "check", file, status=1))

    def test_check_tells_a_mistake_at_its_line(self) -> None:
        file = self.folder / "t.layout"
        file.write_text(changed("count of table", "cuont of table"), encoding="utf-8")
        said = self.complaint("layout", "check", file, status=4)
        self.assertIn("t.layout:8:22", said)
        self.assertIn("try `count of table`", said)

    def test_a_layout_that_is_not_text(self) -> None:
        file = self.folder / "t.layout"
        file.write_bytes(b"layout \xff\xfe")
        self.assertIn("UTF-8", self.complaint("layout", "check", file, status=4))
        with self.assertRaises(FormatError):
            read_layout(file)

    def test_a_layout_that_is_missing(self) -> None:
        self.assertIn("there is no file", self.complaint("layout", "check", "none.layout", status=3))


class Written(unittest.TestCase):
    def test_what_is_often_written_gets_the_right_form(self) -> None:
        for line, hint in (
            ("name text 8 filled 0 name", "two digits: 00"),
            ("mark 2 bytes is hex 6c6d", "hex 6c 6d"),
            ("m u8 codec of content { 0 = none }", "{ 0 none, 1 zlib }"),
        ):
            with self.subTest(line), self.assertRaises(LayoutError) as caught:
                parse_layout(f'layout "x" kind archive\nblock t at 0 repeats\n    {line}\n', "x.layout")
            self.assertIn(hint, caught.exception.hint)


if __name__ == "__main__":
    unittest.main()
