"""Values made of others: what expressions give, what is refused, and that both directions hold when a file changes."""

from __future__ import annotations

import struct
import unittest
import zlib
from collections.abc import Sequence

from benchmarks.formats.mutants import judged
from benchmarks.formats.trial import tried

from tests.support import archive_of
from volvex.archive.mutation_proof import prove_harder
from volvex.codec.fitted import fitted
from volvex.errors import FormatError, LayoutError, ManyErrors, VolvexError
from volvex.layout.expression import Literal, Made, NameOf, numbers, value_of
from volvex.layout.inspect.equal import moving
from volvex.layout.inspect.hints import hints_of
from volvex.layout.inspect.unshown import unshown
from volvex.layout.language.parser import parse_layout
from volvex.layout.model import Computed
from volvex.layout.write.plan import Added, Edit
from volvex.source import Spool

HEAD = """layout "sums" kind archive
known by "SU" at 0
block head at 0
    mark    2 bytes     is "SU"
    count   u8          count of table
    info    u32         {info}
block table after head repeats
    name    text u8     name
    start   u8          start of content
    size    u8          size of content
    more    u32         {more}
"""
NAMES = ("lamps/oil.txt", "Wick", "fog/bells/peal.dat")
CONTENTS = (b"colza", b"", b"four of them")


def sums(info: int = 0, more: tuple[int, ...] = (0, 0, 0)) -> bytes:
    """A file of three entries, with these numbers."""
    at = 7 + sum(7 + len(name) for name in NAMES)
    table = b""
    for name, content, number in zip(NAMES, CONTENTS, more, strict=True):
        table += bytes([len(name)]) + name.encode() + bytes([at, len(content)]) + struct.pack("<I", number)
        at += len(content)
    return b"SU" + bytes([3]) + struct.pack("<I", info) + table + b"".join(CONTENTS)


def layout(info: str = "kept", more: str = "kept", rest: str = "") -> str:
    return HEAD.format(info=info, more=more) + rest


class Values(unittest.TestCase):
    def test_each_operation_gives_what_it_says(self) -> None:
        for words, wanted in (
            ("2 + 3 * 4", 14),
            ("(2 + 3) * 4", 20),
            ("7 / 2 - 1", 2),
            ("7 mod 4", 3),
            ("0 - 7 mod 4", -3),
            ("5 / 0 + 5 mod 0", 0),
            ("1 << 4 >> 2", 4),
            ("0xf0 and 0x3c", 0x30),
            ("0xf0 or 3", 0xF3),
            ("6 xor 3", 5),
            ("100 rounded up to 16", 112),
            ("least(5, 2, 9) + most(1, 8)", 10),
            ("3 >= 3", 1),
            ("6 has 1", 0),
            ("if 2 is 3 then 10 else 20 + 1", 21),
            ('crc32 of "lamp"'.replace('"lamp"', '("lamp")'), zlib.crc32(b"lamp")),
            ('length of ("wick")', 4),
        ):
            with self.subTest(words):
                try:
                    made = parse_layout(layout(info=f"is count of table * 0 + ({words})"), "x.layout")
                except VolvexError as error:  # a sum of a text is written with the text's own words
                    self.assertIn("crc32", words, error.message)
                    continue
                meaning = made.blocks[0].fields[2].meaning
                assert isinstance(meaning, Computed)
                self.assertEqual(value_of(meaning.value.operands[1], None), wanted)  # type: ignore[union-attr,arg-type]

    def test_columns_go_record_by_record(self) -> None:
        column = numbers([3, 5, 9])

        class Scope:
            def field(self, name: str) -> object:
                return column

            def is_column(self, expression: object) -> bool:
                return True

        from volvex.layout.expression import FieldOf

        own = FieldOf("n")
        for expression, wanted in (
            (Made("previous", (own,)), [0, 3, 5]),
            (Made("next", (own,)), [5, 9, 0]),
            (Made("total", (own,)), [3, 8, 17]),
            (Made("largest", (own,)), [3, 5, 9]),
            (Made("at", (own, Literal(1))), 5),
            (Made("at", (own, Literal(7))), 0),
            (Made("if", (Made(">", (own, Literal(4))), Literal(1), own)), [3, 1, 1]),
        ):
            found = value_of(expression, Scope())  # type: ignore[arg-type]
            self.assertEqual(found.tolist() if hasattr(found, "tolist") else found, wanted, expression)

    def test_parts_of_names(self) -> None:
        for of, wanted in (
            (NameOf("leaf", "lower"), b"peal.dat"),
            (NameOf("folder", "upper"), b"FOG/BELLS"),
            (NameOf("extension"), b"Dat"),
            (NameOf("name", "", "\\"), b"fog\\bells\\Peal.Dat"),
            (NameOf("leaf", "", "", "utf-16-le"), "Peal.Dat".encode("utf-16-le")),
        ):
            self.assertEqual(of.of(b"fog/bells/Peal.Dat", "utf-8"), wanted)
        self.assertEqual(NameOf("extension").of(b"a.b/wick", "utf-8"), b"")


class BothWays(unittest.TestCase):
    def assert_holds(self, text: str, data: bytes) -> None:
        archive = archive_of(text, data)
        self.assertIsNone(archive.prove().difference)
        trials = list(prove_harder(archive))
        self.assertEqual([(trial.what, trial.fault) for trial in trials if trial.fault and not trial.refused], [])

    def test_each_kind_of_value_is_made_again(self) -> None:
        size = len(sums())
        table = sums()[7 : size - sum(map(len, CONTENTS))]
        for info, value in (
            ("is length of file / 4", size // 4),
            ("is count of table * 3 + 1", 10),
            ("is largest of table.size - smallest of table.size", 12),
            ("is total of (table.size > 0)", 2),
            ("is table.size at count", 0),
            ("is crc32 of table xor 0xffffffff", zlib.crc32(table) ^ 0xFFFFFFFF),
            ("is length of table + length of contents", len(table) + 17),
            ("crc32 of table  when count > 2", zlib.crc32(table)),
        ):
            with self.subTest(info):
                self.assert_holds(layout(info=info), sums(value))

    def test_a_sum_of_its_own_block_counts_itself_as_zero(self) -> None:
        data = sums(0)
        self.assert_holds(layout(info="is (0 - sum32 of head) mod 0x100000000"), sums(-sum(data[:7]) % (1 << 32)))

    def test_each_kind_of_a_record(self) -> None:
        starts = [7 + sum(7 + len(name) for name in NAMES)]
        for content in CONTENTS:
            starts.append(starts[-1] + len(content))
        leaves = [name.rpartition("/")[2] for name in NAMES]
        for more, values in (
            ("is number of record + 7", (7, 8, 9)),
            ("is length of folder of name", (5, 0, 9)),
            ("is crc32 of upper leaf of name", tuple(zlib.crc32(leaf.upper().encode()) for leaf in leaves)),
            ("is start of content - previous (end of content)", (starts[0], 0, 0)),
            ("is total of size", (5, 5, 17)),
            ("is size of content rounded up to 8", (8, 0, 16)),
            ("is crc32 of content xor 1", tuple(zlib.crc32(content) ^ 1 for content in CONTENTS)),
            ("is head.info * 2 + size", (19, 14, 26)),
        ):
            with self.subTest(more):
                self.assert_holds(layout(more=more), sums(7, values))

    def test_drawn_formats_are_right_in_everything(self) -> None:
        wrong = [result for result in map(tried, range(7000, 7010)) if result.outcome != "right"]
        self.assertEqual(wrong, [])


class Wrong(unittest.TestCase):
    def test_each_is_refused_at_its_line(self) -> None:
        for info, more, said in (
            ("is hed.count", "kept", "there is no field hed.count"),
            ("is table.size", "kept", "table has many records"),
            ("is name", "kept", "is known of entries"),
            ("is start of contnet", "kept", "names nothing"),
            ("is info + 1", "kept", "in a circle"),
            ("is crc23 of table", "kept", "no checksum"),
            ("is count of head", "kept", "is one record, it has no count"),
            ("is mark + 1", "kept", "takes numbers"),
            ("is mark", "kept", "gives bytes"),
            ("is length of count", "kept", "only a text or bytes have a length"),
            ("is previous count", "kept", "no previous record"),
            ("is count is mark", "kept", "never the same"),
            ("kept", "is crc32 of content + start of content", "where content lies may change"),
            ("kept", "is crc32 of content + crc32 of stored content", "two checksums over content"),
            ("kept", "is crc32 of content xor start", "may change while the content does not"),
            ("kept", "is crc32 of table", "each record of table"),
            ("kept", "is lower leaf of name", "gives bytes"),
        ):
            with self.subTest(info=info, more=more):
                with self.assertRaises((LayoutError, ManyErrors)) as raised:
                    parse_layout(layout(info, more), "x.layout")
                self.assertIn(said, str(raised.exception))

    def test_what_reads_as_something_is_given_once_and_from_fields(self) -> None:
        for rest, said in (
            ("size of content reads as start", "given twice"),
            ("count of table reads as head.count", "given twice"),
            ("name reads as 1", "nothing that could be read"),
            ("end of content reads as length of name", "cannot be found from names"),
        ):
            with self.subTest(rest):
                with self.assertRaises((LayoutError, ManyErrors)) as raised:
                    parse_layout(layout(rest=rest + "\n"), "x.layout")
                self.assertIn(said, str(raised.exception))

    def test_a_file_that_differs_is_told_with_the_place(self) -> None:
        with self.assertRaises(FormatError) as raised:
            archive_of(layout(info="is count of table + 1"), sums(9))
        self.assertEqual((raised.exception.offset, raised.exception.field), (3, "head.info"))
        self.assertIn("`is count of table + 1` gives 4", raised.exception.problem)
        archive = archive_of(layout(more="is crc32 of content xor 1"), sums(0, (1, 1, 1)))
        with self.assertRaises(FormatError) as raised:
            archive.content(0)
        self.assertEqual(raised.exception.field, "table[0].more")

    def test_a_shift_makes_no_memory(self) -> None:
        with self.assertRaises(VolvexError):
            archive_of(layout(info="is 1 << (count * 1000000)"), sums(1))


class Kept(unittest.TestCase):
    """What a proof must not say: kept numbers that are something."""

    def test_a_kept_number_that_equals_something_is_told_with_its_line(self) -> None:
        many = [f"lamp{number}".ljust(200, "x") for number in range(200)]
        text = layout().replace("    more    u32         kept\n", "")

        def made(info: int) -> bytes:
            at = 7 + sum(3 + len(name) for name in many)
            table = b"".join(bytes([len(name)]) + name.encode() + bytes([at % 256, 0]) for name in many)
            return b"SU" + bytes([len(many)]) + struct.pack("<I", info) + table

        for info, line in ((len(made(0)), "info  u32  length of file"), (len(made(0)) + 16, "is length of file + 16")):
            hints = [hint.line for hint in hints_of(archive_of(text, made(info)).reading)]
            self.assertTrue(any(line in one for one in hints), hints)
        noise = [hint.about for hint in hints_of(archive_of(text, made(1_234_567)).reading)]
        self.assertNotIn("head.info", noise)

    def test_an_edit_shows_what_has_gone_stale(self) -> None:
        data = sums()
        faults = [str(trial.fault) for trial in prove_harder(archive_of(layout(), sums(len(data)))) if trial.fault]
        self.assertTrue(any("stale: it was the length of file" in fault for fault in faults), faults)

    def test_several_files_show_together_what_one_cannot(self) -> None:
        readings = []
        for count in (2, 5, 11):
            table = b"".join(bytes([2, 97, 97 + number, 0, 0]) for number in range(count))
            data = b"SU" + bytes([count]) + struct.pack("<I", count * 7 + 4) + table
            text = layout().replace("    more    u32         kept\n", "")
            readings.append(archive_of(text, data).reading)
        self.assertEqual([one.words for one in moving(readings)], ["count of table * 7 + 4"])

    def test_mutants_that_matter_are_noticed(self) -> None:
        outcomes = [outcome for seed in (1, 4) for _, outcome, _ in judged(seed)]
        self.assertIn("noticed", outcomes)
        self.assertNotIn("MISSED", outcomes)

    def test_what_a_file_did_not_show(self) -> None:
        self.assertEqual(
            list(unshown(archive_of(layout(), sums()).reading)), ["what the 16 kept bytes in 2 fields mean"]
        )


class Fitted(unittest.TestCase):
    def test_a_stream_of_a_wanted_size(self) -> None:
        data = b"".join(b"fog/bells/peal%d.dat\0" % (number * number) for number in range(40))
        least = len(zlib.compress(data, 9))
        for more in range(4):
            stream = fitted("zlib", data, least + more)
            if stream is not None:
                self.assertEqual((zlib.decompress(stream), len(stream)), (data, least + more))
        self.assertIsNotNone(fitted("zlib", data, least + 7))
        self.assertIsNone(fitted("zlib", data, least - 20))


class Empty(unittest.TestCase):
    """Entries without content whose start lies where something else does."""

    TEXT = """layout "hanging" kind archive
block head at 0
    count   u8          count of table
    where   u8          start of table
block table repeats
    name    text u8     name
    start   u8          start of content
    size    u8          size of content
content align 16
"""

    def test_they_move_with_what_they_stand_behind(self) -> None:
        rows = b"\x03oil\x10\x05" + b"\x04wick\x20\x00"  # the second would start at 32, within the table
        data = bytes([2, 21]) + bytes(14) + b"colza" + rows
        archive = archive_of(self.TEXT, data)
        self.assertIsNone(archive.prove().difference)
        with Spool() as spool:
            edit = Edit(replaced={0: archive.encode(spool, [b"x" * 20], 0)})
            written = b"".join(archive.plan(edit).chunks())
        again = archive_of(self.TEXT, written)
        self.assertEqual([again.content(0), again.content(1)], [b"x" * 20, b""])
        self.assertEqual(again.entries.start.tolist(), [16, 48])


class Around(unittest.TestCase):
    """Records in front of content and behind it."""

    TEXT = """layout "said twice" kind archive
block head at 0
    count   u8          count of table
block table after head repeats
    name    text u8     name
    start   u8          start of content
    size    u16         size of content
record local
    mark    1 bytes     is "<"
    name    text u8     is name
    sum     u8          is sum8 of content
    spare   u8          kept
record last
    size    u16         is size of content
    number  u8          is number of record
content{align} headed by local ended by last
"""
    FILES = (("oil", b"colza"), ("wick", b""), ("lens", b"four"))

    def made(self, files: Sequence[tuple[str, bytes]] = FILES) -> bytes:
        table, body, at = b"", b"", 1 + sum(4 + len(name) for name, _ in files)
        for number, (name, content) in enumerate(files):
            table += bytes([len(name)]) + name.encode() + struct.pack("<BH", at + len(body), len(content))
            body += b"<" + bytes([len(name)]) + name.encode() + bytes([sum(content) % 256, 7]) + content
            body += struct.pack("<HB", len(content), number)
        return bytes([len(files)]) + table + body

    def test_they_are_made_from_the_entry_as_it_is_then(self) -> None:
        archive = archive_of(self.TEXT.format(align=""), self.made())
        self.assertIsNone(archive.prove().difference)
        with Spool() as spool:
            for edit, files in (
                (Edit(replaced={0: archive.encode(spool, [b"lit"], 0)}), (("oil", b"lit"), *self.FILES[1:])),
                (Edit(removed={0}), self.FILES[1:]),
                (
                    Edit(replaced={1: archive.encode(spool, [b"new"], 1)}, removed={2}),
                    (self.FILES[0], ("wick", b"new")),
                ),
                (Edit(added=[Added(b"bell", 0, archive.encode(spool, [b"x"], 0))]), (*self.FILES, ("bell", b"x"))),
            ):
                self.assertEqual(b"".join(archive.plan(edit).chunks()), self.made(files))
        faults = [(trial.what, trial.fault) for trial in prove_harder(archive) if trial.fault and not trial.refused]
        self.assertEqual(faults, [])

    def test_what_differs_is_told(self) -> None:
        data = self.made()
        at = data.index(b"<\x03oil")
        for place, field in ((at, "local.mark"), (at + 2, "local.name"), (at + 5, "local.sum"), (at + 12, "last.size")):
            with self.subTest(field):
                damaged = data[:place] + bytes([data[place] ^ 1]) + data[place + 1 :]
                with self.assertRaises(FormatError) as raised:
                    archive_of(self.TEXT.format(align=""), damaged).content(0)
                self.assertEqual(raised.exception.field, field)

    def test_what_cannot_be_is_refused(self) -> None:
        text = self.TEXT.format(align="")
        for old, new, said in (
            ("is number of record", "number of record", "it is an expression"),
            ("is number of record", "is length of file", "what is measured"),
            ("is number of record", "is size2", "no field before it"),
            ("headed by local", "headed by locl", "there is no record locl"),
            (
                "    size    u16         is size",
                "    more  text u8  is name\n    size    u16         is size",
                "found by its size",
            ),
            ("content headed", "content until next\ncontent headed", "a start and a size in fields"),
            (
                "size of content\nrecord local",
                "size of content\n    s u8 sum8 of stored content\nrecord local",
                "around which",
            ),
        ):
            with self.subTest(new):
                self.assertIn(old, text)
                with self.assertRaises((LayoutError, ManyErrors)) as raised:
                    parse_layout(text.replace(old, new, 1), "x.layout")
                self.assertIn(said, str(raised.exception))
