"""Fields that only some records have, constants in rows of records, and layouts that cannot be right."""

from __future__ import annotations

import unittest

from tests.support import Case, archive_of
from volvex.archive.mutation_proof import prove_harder
from volvex.errors import FormatError, LayoutError, VolvexError
from volvex.layout import cache
from volvex.layout.language.parser import parse_layout
from volvex.layout.match import fits
from volvex.layout.write.plan import Added, Edit, PlannedSource
from volvex.source import BytesSource, Spool

NAMES = """
layout "two widths" kind archive
block head at 0
    count   u8            count of table
block table after head repeats
    long    u8            kept
    short   text 4        name     when long is 0
    wide    text 8        name     when long is 1
    start   u8            start of content
    size    u8            size of content
"""
ROWS = """
layout "row" kind archive
block head at 0
    mark    4 bytes   is "ROW!"
block entry after head repeats until end
    mark    2 bytes   is "lm"
    name    text u8   name
    size    u32       size of content
    data    bytes     content
"""
ENTRIES = ((0, b"ab"), (1, b"cdefgh"), (0, b"xyz"), (1, b"longname"), (0, b"k"), (1, b"m"))


def two_widths() -> bytes:
    """An archive whose names are of 4 or of 8 bytes."""
    at, rows, body = 1 + sum(11 if long else 7 for long, _ in ENTRIES), b"", b""
    for long, name in ENTRIES:
        content = (name * 3)[: 5 + len(name)]
        rows += bytes([long]) + name.ljust(8 if long else 4, b"\0") + bytes([at + len(body), len(content)])
        body += content
    return bytes([len(ENTRIES)]) + rows + body


class Alternatives(unittest.TestCase):
    def test_each_record_has_the_name_of_its_own_field(self) -> None:
        archive = archive_of(NAMES, two_widths())
        self.assertEqual(archive.names, [name.decode() for _, name in ENTRIES])
        self.assertIsNone(archive.prove().difference)
        self.assertEqual([trial for trial in prove_harder(archive) if trial.fault and not trial.refused], [])

    def test_a_new_entry_is_named_as_the_one_that_it_is_like(self) -> None:
        archive = archive_of(NAMES, two_widths())
        with Spool() as spool:
            edit = Edit(
                added=[
                    Added(name, like, archive.encode(spool, [b"new"], like))
                    for name, like in ((b"pq", 0), (b"eightlng", 1))
                ]
            )
            again = archive.reopened(PlannedSource(archive.plan(edit), "again"))
            self.assertEqual(again.names[-2:], ["pq", "eightlng"])
            self.assertEqual([again.content(row) for row in (0, 1, 6, 7)], [b"ababab", b"cdefghcdefg", b"new", b"new"])
            self.assertIsNone(again.prove().difference)


class Constants(unittest.TestCase):
    def test_a_constant_of_some_records_is_checked_in_those(self) -> None:
        text = NAMES.replace("    start   u8", '    mark    2 bytes       is "ab" when long is 1\n    start   u8')
        good = bytes([2, 0]) + b"ab\0\0" + bytes([21, 1, 1]) + b"cd".ljust(8, b"\0") + b"ab" + bytes([22, 1]) + b"xy"
        self.assertEqual(archive_of(text, good).names, ["ab", "cd"])
        with self.assertRaisesRegex(FormatError, r"table\[1\]\.mark: b'zz', expected b'ab'"):
            archive_of(text, good.replace(b"\0ab", b"\0zz"))

    def test_the_first_record_that_is_wrong_is_named_and_not_a_later_one(self) -> None:
        def row(name: bytes, content: bytes, mark: bytes = b"lm") -> bytes:
            return mark + bytes([len(name)]) + name + len(content).to_bytes(4, "little") + content

        data = b"ROW!" + row(b"a", b"one") + row(b"b", b"two", b"xx") + b"\x70\xff\xff\xff"
        with self.assertRaisesRegex(FormatError, r"0xf, field entry\[1\]\.mark: b'xx', expected b'lm'"):
            archive_of(ROWS, data)


class Known(unittest.TestCase):
    def test_a_file_is_known_by_one_of_several_signatures(self) -> None:
        text = NAMES.replace(
            "kind archive\n", 'kind archive\nknown by "II" or "MMM" at 0\nknown by "end" or "fin" at end - 3\n'
        )
        layout = parse_layout(text, "known.layout")
        for data, known in (
            (b"II, end", True),
            (b"MMM fin", True),
            (b"MM, end", False),
            (b"II, not", False),
            (b"M", False),
        ):
            with self.subTest(data):
                self.assertEqual(fits(layout, BytesSource(data, "x")), known)
        dumped = cache.load(cache.dump(layout) or b"", "known.layout")
        assert dumped is not None
        self.assertEqual((dumped.known, dumped.layout.known), (layout.known, layout.known))


class Mistakes(unittest.TestCase):
    """What the newer forms of the language say when they cannot be meant."""

    HEAD = 'layout "x" kind archive\nblock head at 0\n    count u8 count of table\nblock table after head repeats\n'
    ROW = "    name text u8 name\n    start u8 start of content\n    size u8 size of content\n"

    def told(self, text: str) -> str:
        with self.assertRaises(VolvexError) as caught:
            parse_layout(text, "x.layout")
        return "\n".join(caught.exception.lines())

    def test_each_is_told_at_its_line(self) -> None:
        for more, line, said in (
            ("    a digits 0 kept\n", 8, "a number has 1 to 18 digits"),
            ("    a u16 escape 0xff u16 kept\n", 8, "the number behind it has more bits"),
            ("    a text zero padded 1 kept\n", 8, "a multiple is at least 2"),
            ("    a text zero padded 4 counted kept\n", 8, "only a length in front"),
            ("    a text 8 padded 4 kept\n", 8, "a text of a fixed size needs no padding"),
            ("    a u8 kept when none is 3\n", 8, "there is no field none"),
            ("    a u8 kept when start is 1 and none is 3\n", 8, "there is no field none"),
            ('    a u8 kept when start is "ab"\n', 8, "a number for a number"),
            ("    a u16 crc32 of record\n", 8, "crc32 has 32 bits"),
            ("    a u32 plus 1 crc32 of record\n", 8, "not a number that could be changed"),
            ("    a u8 stored size of chunk\n", 8, "needs one part that is cut into chunks"),
            ("content wrapped in xor(key from field seed)\n", 8, "the entries have no field seed"),
            ("    a u8 kept when none is 1 and bits is 2\n    bits none bits 0 kept\n", 8, "there is no field none"),
            ("    a u8 length of start\n", 8, "is not a meaning"),
            (
                "part p after table cut every 8 wrapped in zlib\ncontent in p\n",
                8,
                "no field gives the sizes of the chunks",
            ),
            ("part p after table cut every 0 wrapped in zlib\ncontent in p\n", 8, "a chunk has 1 to"),
            (
                "part p after table as long as its records wrapped in zlib\ncontent in p\n",
                8,
                "only where ciphers keep the size",
            ),
            ("\ncontent as blocks(size 3, codec none, colour 5)\n", 9, "size cannot be 3"),
        ):
            with self.subTest(more):
                told = self.told(self.HEAD + self.ROW + more)
                self.assertIn(f"x.layout:{line}:", told)
                self.assertIn(said, told)

    def test_places_in_a_circle_are_told_when_all_else_is_right(self) -> None:
        circle = "block one after two\n    a u8 kept\nblock two after one\n    a u8 kept\n"
        self.assertIn("can only be known after", self.told(self.HEAD + self.ROW + circle))
        self.assertNotIn("can only be known after", self.told(self.HEAD + self.ROW + circle + "    a u8 kept\n"))

    def test_of_many_mistakes_the_first_are_told(self) -> None:
        told = self.told(self.HEAD + self.ROW + "    name u8 kept\n" * 30)
        self.assertEqual(told.count("there is a field name already"), 5)
        self.assertIn("and 25 more mistakes", told)


class Unsound(Case):
    def test_what_cannot_be_is_told_at_its_line(self) -> None:
        head = 'layout "x" kind archive\n{}block head at 0\n    count u8 count of table\nblock table after head repeats\n    {}\n    start u8 start of content\n    size u8 size of content\n'  # noqa: E501
        for known, name, more, said in (
            ("", "name text u8 filled 00 name", "", "only a text of a fixed size is filled up"),
            ("", "name text of start filled 00 name", "", "only a text of a fixed size is filled up"),
            ('known by "AB" at 0\nknown by "AC" at 0\n', "name text u8 name", "", "no file is known by"),
            (
                "",
                "name text u8 name",
                "block foot at end - 28\n    a 32 bytes kept\n",
                "foot has 32 bytes, and starts 28 before the end",
            ),
            (
                "",
                "name text u8 name",
                "block more at 8 align 16\n    a u8 kept\n",
                "more is at 8, which is no multiple of 16",
            ),
        ):
            with self.subTest(said), self.assertRaisesRegex(LayoutError, said):
                parse_layout(head.format(known, name) + more, "x.layout")

    def test_while_a_layout_is_written_nobody_is_sent_for_a_fresh_copy(self) -> None:
        (self.folder / "r.layout").write_text(ROWS)
        (self.folder / "r.bin").write_bytes(b"ROW!lm\x01a\x09\0\0\0cut")
        for words in (("list", "r.bin", "--layout", "r.layout"), ("layout", "prove", "r.bin", "--layout", "r.layout")):
            said = self.complaint(*words, status=4)
            self.assertEqual("fresh copy" in said, words[0] == "list", said)


if __name__ == "__main__":
    unittest.main()
