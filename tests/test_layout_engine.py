"""Reading, explaining, proving and writing: on golden bytes and on archives made by other code."""

from __future__ import annotations

import random
import struct
import textwrap
import unittest
import zlib
from collections.abc import Iterable
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.formats import (
    COMPRESSED,
    COUNTED,
    FIXED,
    FOOTER,
    FORMATS,
    LOADERS,
    MARKED,
    PACKED,
    ROW,
    SAMPLES,
    STREAM,
    ZERO,
    counted,
    fixed,
    in_a_row,
    marked,
    packed,
    stream,
    zero,
)
from tests.support import archive_of, made_game, pack_layout
from volvex.archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.errors import FormatError, RefusedError
from volvex.layout.columns import Texts
from volvex.layout.inspect.coverage import coverage, covering, stretches
from volvex.layout.inspect.proof import prove
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.layout.records.block import Records
from volvex.layout.records.codegen import compile_walk
from volvex.layout.write.plan import Added, Edit, NewContent
from volvex.layout.write.planner import plan
from volvex.source import BytesSource, FileSource, Spool


def contents(archive: LayoutArchive) -> dict[str, bytes]:
    return {name: archive.content(row) for row, name in enumerate(archive.names)}


def new(archive: LayoutArchive, data: bytes, codec: str | None = None) -> NewContent:
    """New content as it would be stored in an archive."""
    with Spool() as spool:
        made = archive.encode_as(spool, [data], codec or archive.entries.codecs[-1])
        stored = made.source.read(made.offset, made.stored)
    return NewContent(BytesSource(stored, "new"), 0, made.stored, made.size, made.codec, made.checksums)


def rewritten(archive: LayoutArchive, edit: Edit, each: bool = False) -> bytes:
    made = plan(archive.reading, edit, each)
    data = b"".join(made.chunks())
    assert len(data) == made.size
    return data


GOLDEN = """
layout "golden" kind archive
big endian
known by "GLD" at 2
block head at 0
    version  u16         is 2
    mark     3 bytes     is "GLD"
    odd      i8          kept
    places   u32 plus 2  start of list
    count    u16 xor 3   count of list
block list repeats
    name     text u8     name
    begin    u16 x 4     start of content
    size     u32 little  size of content
content align 4 fill ee
"""
# offset by offset: the specification as a test
GOLDEN_BYTES = b"".join(
    bytes.fromhex(line.partition("|")[0])
    for line in """
    0002        | version = 2
    474c44      | mark "GLD"
    fe          | odd = -2, kept
    00000018    | places = 24, and 2 more: the list starts at 26
    0001        | count = 1 xor 3 = 2
    6f696c21    | content of "oil", at 12
    77          | content of "wick", at 16
    eeeeee      | what could be padding up to a multiple of 4, if a content followed
    0102030405  | five bytes that nobody names
    99          | and one more
    03 6f696c   | name "oil"
    0003        | begin = 3, times 4
    04000000    | size = 4, little endian
    04 7769636b | name "wick"
    0004        | begin = 4, times 4
    01000000    | size = 1
    """.splitlines()
)


class Golden(unittest.TestCase):
    """One small file, every byte of it known."""

    def setUp(self) -> None:
        self.archive = archive_of(GOLDEN, GOLDEN_BYTES)

    def test_every_number_is_what_it_says(self) -> None:
        self.assertEqual(contents(self.archive), {"oil": b"oil!", "wick": b"w"})
        self.assertEqual(self.archive.entries.start.tolist(), [12, 16])
        self.assertEqual(int(self.archive.reading.blocks["head"].numbers("odd")[0]), -2)
        self.assertEqual(self.archive.reading.blocks["list"].start, 26)

    def test_explained_byte_by_byte(self) -> None:
        told = [
            (stretch.start, stretch.size, stretch.what, stretch.name, stretch.value)
            for stretch in stretches(self.archive.reading)
        ]
        self.assertEqual(
            told,
            [
                (0, 2, "field", "head.version", "2"),
                (2, 3, "field", "head.mark", "'GLD'"),
                (5, 1, "field", "head.odd", "-0x2"),
                (6, 4, "field", "head.places", "24 (0x1a)"),
                (10, 2, "field", "head.count", "1 (0x2)"),
                (12, 4, "content", "oil", ""),
                (16, 1, "content", "wick", ""),
                (17, 9, "unexplained", "unexplained", "ee ee ee 01 02 03 04 05 99"),
                (26, 4, "field", "list[0].name", "oil"),
                (30, 2, "field", "list[0].begin", "3 (0xc)"),
                (32, 4, "field", "list[0].size", "4"),
                (36, 5, "field", "list[1].name", "wick"),
                (41, 2, "field", "list[1].begin", "4 (0x10)"),
                (43, 4, "field", "list[1].size", "1"),
            ],
        )
        counted = coverage(self.archive.reading)
        self.assertEqual((counted.size, counted.fields, counted.kept, counted.content), (47, 33, 1, 5))
        self.assertEqual(sum(stretch.size for stretch in counted.unexplained), 9)

    def test_every_byte_is_covered_by_something(self) -> None:
        for offset in range(len(GOLDEN_BYTES)):
            stretch = covering(self.archive.reading, offset)
            self.assertLessEqual(stretch.start, offset)
            self.assertGreater(stretch.start + stretch.size, offset, stretch)

    def test_written_anew_it_is_the_same(self) -> None:
        self.assertIsNone(prove(self.archive.reading).difference)
        self.assertEqual(rewritten(self.archive, Edit()), GOLDEN_BYTES)

    def test_bytes_that_nobody_names_stay_in_front_of_what_followed_them(self) -> None:
        data = rewritten(self.archive, Edit({1: new(self.archive, b"wicked", "none")}))
        grown = archive_of(GOLDEN, data)
        self.assertEqual(contents(grown), {"oil": b"oil!", "wick": b"wicked"})
        self.assertIn(bytes.fromhex("eeeeee010203040599"), data)
        self.assertEqual(grown.reading.blocks["list"].start, len(data) - 21)


class Everywhere(unittest.TestCase):
    """What must hold for every format."""

    def archives(self) -> Iterable[tuple[str, str, LayoutArchive]]:
        for name, (text, make) in FORMATS.items():
            with self.subTest(name):
                yield name, text, archive_of(text, make(SAMPLES))

    def test_read(self) -> None:
        for _, _, archive in self.archives():
            self.assertEqual(contents(archive), dict(SAMPLES))

    def test_proved(self) -> None:
        for _, _, archive in self.archives():
            self.assertIsNone(prove(archive.reading).difference)

    def test_the_harder_proof_holds(self) -> None:
        for _, _, archive in self.archives():
            trials = list(prove_harder(archive))
            self.assertGreater(len(trials), 8)
            self.assertEqual([(trial.what, trial.fault) for trial in trials if trial.fault and not trial.refused], [])

    def test_the_harder_proof_notices_a_writer_that_is_wrong(self) -> None:
        for _, _, archive in self.archives():
            with patch("volvex.layout.write.directory.Directory.put"):  # facts are not brought up to date
                self.assertTrue([trial for trial in prove_harder(archive) if trial.fault])

    def test_fast_and_careful_writing_agree(self) -> None:
        for _, _, archive in self.archives():
            for row in range(len(archive)):
                edit = Edit({row: new(archive, b"0123456789" * 40)})
                self.assertEqual(rewritten(archive, edit), rewritten(archive, edit, each=True))

    def test_what_we_write_is_loaded_by_other_code(self) -> None:
        for name, _, archive in self.archives():
            if name not in LOADERS:  # the writers of the others give the same bytes: see below
                continue
            self.assertEqual(LOADERS[name](rewritten(archive, Edit())), dict(SAMPLES))
            for row, path in enumerate(archive.names):
                for content in (b"", b"x", b"0123456789" * 500):
                    made = rewritten(archive, Edit({row: new(archive, content, archive.codec(row))}))
                    self.assertEqual(LOADERS[name](made), {**dict(SAMPLES), path: content})
            grown = Edit(added=[Added(b"zzz.new", 0, new(archive, b"new", archive.codec(0)))], removed={1})
            wanted = {
                path: data for path, data in {**dict(SAMPLES), "zzz.new": b"new"}.items() if path != archive.names[1]
            }
            self.assertEqual(LOADERS[name](rewritten(archive, grown)), wanted)

    def test_written_by_us_is_what_the_other_writer_writes(self) -> None:
        for name, text, archive in self.archives():
            changed = [(text, b"longer than it was, by far" if text == "odd" else data) for text, data in SAMPLES]
            row = archive.names.index("odd")
            if name not in COMPRESSED:
                self.assertEqual(
                    rewritten(archive, Edit({row: new(archive, changed[3][1])})), FORMATS[name][1](changed)
                )
            else:
                data = rewritten(archive, Edit({row: new(archive, changed[3][1], "none")}))
                self.assertEqual(contents(archive_of(text, data)), dict(changed))

    def test_grown_shrunk_emptied_added_and_removed(self) -> None:
        rng = random.Random(1)
        for _, text, archive in self.archives():
            wanted = dict(SAMPLES)
            edit = Edit(removed={archive.names.index("tide.csv")})
            del wanted["tide.csv"]
            for name, size in (("bell.ring", 300), ("letter.txt", 3), ("odd", 0), ("empty.lst", 77)):
                wanted[name] = rng.randbytes(size)
                edit.replaced[archive.names.index(name)] = new(archive, wanted[name])
            wanted["moth.png"] = b"new"
            edit.added.append(Added(b"moth.png", 0, new(archive, b"new")))
            again = archive_of(text, rewritten(archive, edit))
            self.assertEqual(contents(again), wanted)
            self.assertIsNone(prove(again.reading).difference)

    def test_everything_removed_and_one_put_back(self) -> None:
        for _, text, archive in self.archives():
            edit = Edit(removed=set(range(len(archive))), added=[Added(b"only", 0, new(archive, b"one"))])
            self.assertEqual(contents(archive_of(text, rewritten(archive, edit))), {"only": b"one"})

    def test_kept_fields_of_a_new_entry_come_from_the_one_it_is_like(self) -> None:
        archive = archive_of(ZERO, zero(SAMPLES, b"Bero"))
        again = archive_of(ZERO, rewritten(archive, Edit(added=[Added(b"x", 2, new(archive, b"y"))])))
        column = again.reading.home.columns["author"]
        assert isinstance(column, Texts)
        self.assertEqual(column.all(), ["Bero"] * 6)
        self.assertEqual(again.reading.home.numbers("flag").tolist(), [-3] * 6)


class Structure(unittest.TestCase):
    def test_a_sorted_table_stays_sorted(self) -> None:
        archive = archive_of(PACKED, packed(SAMPLES))
        again = archive_of(PACKED, rewritten(archive, Edit(added=[Added(b"coal", 0, new(archive, b"c"))])))
        self.assertEqual(again.names, sorted(again.names))
        self.assertEqual(contents(again)["coal"], b"c")
        self.assertIsNone(prove(again.reading).difference)

    def test_a_table_that_is_not_sorted_as_the_layout_says(self) -> None:
        text = FIXED.replace("block table repeats", "block table repeats sorted by name")
        archive = archive_of(text, fixed(tuple(reversed(SAMPLES))))
        with self.assertRaises(FormatError) as caught:
            prove(archive.reading)
        self.assertIn("not sorted by name", caught.exception.message)

    def test_shared_bytes_stay_shared_until_one_is_changed(self) -> None:
        data = bytearray(fixed((("a", b"same"), ("b", b"more"), ("c", b"same"))))
        struct.pack_into("<I", data, 14 + 2 * 24 + 16, 14 + 3 * 24)  # c starts where a starts
        archive = archive_of(FIXED, bytes(data))
        self.assertIsNone(prove(archive.reading).difference)
        unshared = archive_of(FIXED, rewritten(archive, Edit({0: new(archive, b"changed")})))
        self.assertEqual(contents(unshared), {"a": b"changed", "b": b"more", "c": b"same"})
        grown = archive_of(FIXED, rewritten(archive, Edit({1: new(archive, b"much more")})))
        self.assertEqual(grown.entries.start[0], grown.entries.start[2])
        self.assertEqual(contents(grown), {"a": b"same", "b": b"much more", "c": b"same"})

    def test_two_entries_with_one_name_are_both_kept(self) -> None:
        archive = archive_of(FIXED, fixed((("a", b"first"), ("a", b"second"))))
        again = archive_of(FIXED, rewritten(archive, Edit({1: new(archive, b"2")})))
        self.assertEqual([again.content(row) for row in (0, 1)], [b"first", b"2"])

    def test_content_order_differs_from_directory_order(self) -> None:
        archive = archive_of(FIXED, fixed(SAMPLES))
        reordered = (
            archive.reading.source.read(0, 14)
            + b"".join(archive.reading.source.read(14 + 24 * row, 24) for row in (4, 0, 3, 1, 2))
            + archive.reading.source.read(134, archive.source.size - 134)
        )
        again = archive_of(FIXED, reordered)
        self.assertIsNone(prove(again.reading).difference)
        changed = archive_of(FIXED, rewritten(again, Edit({1: new(again, b"!" * 99)})))
        self.assertEqual(contents(changed), {**dict(SAMPLES), "bell.ring": b"!" * 99})
        self.assertEqual([int(x) for x in changed.entries.start.argsort(kind="stable")][-1], 0)

    def test_bytes_behind_everything_are_kept(self) -> None:
        archive = archive_of(FIXED, fixed(SAMPLES) + b"the makers' tail")
        data = rewritten(archive, Edit({0: new(archive, b"short")}))
        self.assertTrue(data.endswith(b"the makers' tail"))
        self.assertIsNone(prove(archive.reading).difference)

    def test_an_archive_without_entries(self) -> None:
        for text, make in FORMATS.values():
            archive = archive_of(text, make(()))
            self.assertEqual(len(archive), 0)
            self.assertIsNone(prove(archive.reading).difference)

    def test_a_layout_that_is_read_only_is_refused_with_its_line(self) -> None:
        archive = archive_of(FIXED + "read only\n", fixed(SAMPLES))
        with self.assertRaises(RefusedError) as caught:
            prove(archive.reading)
        self.assertIn("line 2: declared `read only`", caught.exception.message)

    def test_a_wrong_alignment_is_found_out(self) -> None:
        archive = archive_of(PACKED.replace("content align 16 fill 20", "content align 32 fill 20"), packed(SAMPLES))
        with self.assertRaises(FormatError) as caught:
            prove(archive.reading)
        self.assertIn("does not start at a multiple of 32", caught.exception.message)

    def test_a_number_that_does_not_fit_any_more(self) -> None:
        text = FIXED.replace("size   u32 ", "size   u8 ").replace("start  u32 ", "pad 3 bytes kept\n    start  u32 ")
        data = struct.pack("<4sHH6s16s3sIB", b"FXT1", 1, 14, bytes(6), b"a", b"", 38, 5) + b"01234"
        archive = archive_of(text, data)
        self.assertEqual(contents(archive), {"a": b"01234"})
        with self.assertRaises(FormatError) as caught:
            rewritten(archive, Edit({0: new(archive, b"x" * 300)}))
        self.assertIn("300 does not fit u8", caught.exception.message)
        self.assertEqual(caught.exception.field, "size")

    def test_a_name_that_does_not_fit_is_an_error_and_not_cut(self) -> None:
        archive = archive_of(FIXED, fixed(SAMPLES))
        with self.assertRaises(FormatError) as caught:
            rewritten(archive, Edit(added=[Added(b"seventeen letters", 0, new(archive, b""))]))
        self.assertIn("17 bytes do not fit into 16", caught.exception.message)

    def test_a_file_of_the_game_in_full(self) -> None:
        with FileSource(made_game() / "data" / "main.kwp") as source:
            reading = read(pack_layout(), source)
            self.assertIsNone(prove(reading).difference)
            counted = coverage(reading)
            self.assertEqual(counted.fields + counted.content + counted.padding + 28, source.size)
            self.assertEqual([(stretch.start, stretch.size) for stretch in counted.unexplained], [(36, 28)])


class UpToTheNext(unittest.TestCase):
    """Where content ends at the next start, empty entries must not be taken for the one that starts with them."""

    def test_any_of_several_empty_entries_filled(self) -> None:
        files = [(f"file-{number}", b"") for number in range(4)]
        for row in range(4):
            for full in ((), (1,), (0, 3)):
                with self.subTest(row=row, full=full):
                    before = [(name, b"old" if at in full else data) for at, (name, data) in enumerate(files)]
                    archive = archive_of(FORMATS["next"][0], FORMATS["next"][1](before))
                    again = archive_of(FORMATS["next"][0], rewritten(archive, Edit({row: new(archive, b"new")})))
                    self.assertEqual(contents(again), dict(before) | {f"file-{row}": b"new"})
                    self.assertIsNone(prove(again.reading).difference)


class FromTheEnd(unittest.TestCase):
    """What is found from the end of a file, or by a mark that is searched."""

    def test_a_mark_is_found_behind_a_long_comment(self) -> None:
        for size in (0, 10, 200):
            archive = archive_of(MARKED, marked(SAMPLES, b"x" * size))
            self.assertEqual(contents(archive), dict(SAMPLES))

    def test_the_last_of_several_marks_counts(self) -> None:
        files = (("a", b"<ends> is not the end"), ("b", b"<ends>"))
        archive = archive_of(MARKED, marked(files))
        self.assertEqual(contents(archive), dict(files))

    def test_a_mark_across_the_steps_of_the_search(self) -> None:
        for shift in range(-8, 3):
            with patch("volvex.layout.match.STEP", 64):
                data = marked((("a", b"y" * 300),), b"z" * (64 + shift))
                self.assertEqual(len(archive_of(MARKED, data)), 1)

    def test_a_mark_that_is_not_there(self) -> None:
        with self.assertRaises(FormatError) as caught:
            archive_of(MARKED, marked(SAMPLES).replace(b"<ends>", b"<gone>"))
        self.assertIn("foot starts with b'<ends>', which is not within the last 16 MB", caught.exception.message)

    def test_a_file_that_is_shorter_than_its_foot(self) -> None:
        with self.assertRaises(FormatError) as caught:
            archive_of(FOOTER, b"KELP")
        self.assertIn("foot should stand 20 bytes before the end", caught.exception.message)


class InARow(unittest.TestCase):
    """Entries that are each followed by their content."""

    def test_records_are_found_whatever_the_window(self) -> None:
        files = [(f"entry-{number}", bytes([number % 251]) * (number * 37 % 400)) for number in range(300)]
        for window in (16, 64, 1000, 1 << 16):
            with patch("volvex.layout.records.block.WINDOW", window):
                for text, make in ((ROW, in_a_row), (STREAM, stream), (COUNTED, counted)):
                    self.assertEqual(contents(archive_of(text, make(files))), dict(files))

    def test_long_contents_are_passed_over_unread(self) -> None:
        class Counting(BytesSource):
            read_so_far = 0

            def _read(self, offset: int, size: int) -> bytes:
                Counting.read_so_far += size
                return super()._read(offset, size)

        files = [(f"entry-{number}", bytes(4_000_000)) for number in range(5)]
        source = Counting(stream([(name, data[:60_000]) for name, data in files]), "s")
        big = Counting(counted(files), "c")
        self.assertEqual(len(LayoutArchive(read(parse_layout(STREAM, "s"), source))), 5)
        Counting.read_so_far = 0
        self.assertEqual(len(LayoutArchive(read(parse_layout(COUNTED, "c"), big))), 5)
        self.assertLess(Counting.read_so_far, 500_000)

    def test_a_count_behind_the_records_must_agree(self) -> None:
        data = bytearray(in_a_row(SAMPLES))
        data[-1] ^= 1
        with self.assertRaises(FormatError) as caught:
            archive_of(ROW, bytes(data))
        self.assertEqual(caught.exception.field, "foot.count")
        self.assertIn("entry has 5 records, this field gives 4", caught.exception.message)

    def test_a_missing_end_mark(self) -> None:
        data = in_a_row(SAMPLES)
        with self.assertRaises(FormatError) as caught:
            archive_of(ROW, data[:-8])
        self.assertEqual(caught.exception.field, "entry[5]")

    def test_every_byte_is_explained(self) -> None:
        for text, make, unexplained in ((ROW, in_a_row, 0), (STREAM, stream, 0), (COUNTED, counted, 3)):
            archive = archive_of(text, make(SAMPLES))
            counted_bytes = coverage(archive.reading)
            self.assertEqual(sum(stretch.size for stretch in counted_bytes.unexplained), unexplained)
            told = list(stretches(archive.reading))
            self.assertEqual(
                [stretch.start for stretch in told[1:]], [stretch.start + stretch.size for stretch in told[:-1]]
            )
            for offset in range(archive.source.size):
                stretch = covering(archive.reading, offset)
                self.assertTrue(stretch.start <= offset < stretch.start + stretch.size, (offset, stretch))


class ProofFails(unittest.TestCase):
    """The proof must notice what a layout says wrongly."""

    def test_the_first_byte_and_its_field_are_named(self) -> None:
        # the layout calls a number the count which is one only by chance of the reading order
        text = FIXED.replace("spare  6 bytes  kept", "twice  u32      length of file\n    spare  2 bytes  kept")
        data = bytearray(fixed(SAMPLES))
        struct.pack_into("<I", data, 8, len(data))
        self.assertIsNone(prove(archive_of(text, bytes(data)).reading).difference)
        wrong = text.replace("length of file", "length of table")
        struct.pack_into("<I", data, 8, 24 * len(SAMPLES))
        self.assertIsNone(prove(archive_of(wrong, bytes(data)).reading).difference)
        text = wrong.replace("length of table", "count of table").replace(
            "count  u16      count of table", "count  u16      kept"
        )
        with self.assertRaises(FormatError):
            archive_of(text, bytes(data))

    def test_a_checksum_that_is_not_over_what_the_layout_says(self) -> None:
        data = zero(SAMPLES)
        with self.assertRaises(FormatError) as caught:
            archive_of(ZERO.replace("crc32 of head", "crc32 of list"), data)
        self.assertEqual(caught.exception.field, "head.own")
        self.assertEqual(caught.exception.offset, 16)

    def test_a_difference_is_located(self) -> None:
        text = FIXED.replace("start of table", "start of table\n    again  u16      count of table").replace(
            "spare  6", "spare  4"
        )
        data = bytearray(fixed(SAMPLES, b"\x05\x00\x01\x01\x01\x01"))
        self.assertIsNone(prove(archive_of(text, bytes(data)).reading).difference)
        data[8] = 9  # read by nobody, but measured on writing
        proof = prove(archive_of(text, bytes(data)).reading)
        assert proof.difference is not None
        self.assertEqual((proof.difference.offset, proof.difference.field.name), (8, "head.again"))
        self.assertEqual((proof.difference.original[:1], proof.difference.written[:1]), (b"\x09", b"\x05"))


RECORDS = """
layout "r" kind archive
block head at 0
    n      u32            count of rows
block rows at 4 repeats
    a      u16 big        kept
    name   text {name}    name
    b      i32            kept
    note   text {note}    kept
    start  u64            start of content
    size   u8             size of content
"""


class RecordTypes(unittest.TestCase):
    """Variable-size records: the generated loop against a plain reading, both directions."""

    @given(
        st.lists(
            st.tuples(
                st.integers(0, 65535), st.binary(max_size=40), st.integers(-(2**31), 2**31 - 1), st.binary(max_size=30)
            ),
            max_size=30,
        ),
        st.sampled_from(["u8", "u16", "u32", "u16 big", "zero"]),
        st.sampled_from(["u8", "u16 big", "zero", "32"]),
    )
    @settings(max_examples=60, deadline=None)
    def test_there_and_back(self, rows: list[tuple[int, bytes, int, bytes]], name: str, note: str) -> None:
        rows = [(a, n.replace(b"\0", b"-") if name == "zero" else n, b, _clean(t, note)) for a, n, b, t in rows]
        data = struct.pack("<I", len(rows)) + b"".join(
            struct.pack(">H", a) + _text(n, name) + struct.pack("<i", b) + _text(t, note) + struct.pack("<QB", 0, 0)
            for a, n, b, t in rows
        )
        layout = parse_layout(textwrap.dedent(RECORDS.format(name=name, note=note)), "r.layout")
        reading = read(layout, BytesSource(data, "r"))
        columns = reading.blocks["rows"].columns
        names, notes = columns["name"], columns["note"]
        assert isinstance(names, Texts) and isinstance(notes, Texts)
        self.assertEqual(reading.blocks["rows"].numbers("a").tolist(), [row[0] for row in rows])
        self.assertEqual(names.raws(), [row[1] for row in rows])
        self.assertEqual(reading.blocks["rows"].numbers("b").tolist(), [row[2] for row in rows])
        wanted = [row[3].partition(b"\0")[0] if note == "32" else row[3] for row in rows]  # padded texts end at a zero
        self.assertEqual(notes.raws(), wanted)
        records = Records(layout.blocks[1])
        self.assertEqual(records.write(columns), data[4:])
        self.assertEqual(records.size(columns), len(data) - 4)

    def test_the_loop_stops_before_a_record_that_is_not_whole(self) -> None:
        layout = parse_layout(textwrap.dedent(RECORDS.format(name="u16", note="zero")), "r.layout")
        walk = compile_walk(Records(layout.blocks[1]).runs, layout.blocks[1].fields)
        data = struct.pack(">H", 1) + b"\x03\x00abc" + bytes(4) + b"note\0" + bytes(9)
        for cut in range(len(data) * 2):
            starts: list[int] = []
            zeros: list[int] = []
            reached = walk((data * 2)[:cut], 0, 2, starts, zeros)
            self.assertEqual((starts, zeros, reached), ([0], [4], len(data)) if cut >= len(data) else ([], [], 0))

    def test_more_records_than_are_read_at_first(self) -> None:
        rows = [(f"folder/{number:07}" + "x" * (number % 90), b"") for number in range(30_000)]
        archive = archive_of(ZERO, zero(rows))
        self.assertEqual(archive.names, [name for name, _ in rows])

    def test_names_in_other_encodings(self) -> None:
        files = (("Öl.txt", b"1"), ("Wärter.txt", b"2"))
        archive = archive_of(PACKED, packed(files))
        self.assertEqual(archive.names, ["Wärter.txt", "Öl.txt"])
        broken = archive_of(PACKED.replace(" in cp1252", ""), packed(files))
        self.assertEqual(
            [name.encode("utf-8", "surrogateescape") for name in broken.names], [b"W\xe4rter.txt", b"\xd6l.txt"]
        )
        self.assertIsNone(prove(broken.reading).difference)


def _clean(text: bytes, kind: str) -> bytes:
    if kind == "zero":
        return text.replace(b"\0", b"-")
    return text.rstrip(b"\0") if kind.isdigit() else text


def _text(text: bytes, kind: str) -> bytes:
    if kind == "zero":
        return text + b"\0"
    if kind.isdigit():
        return text.ljust(int(kind), b"\0")
    form = {"u8": "B", "u16": "<H", "u32": "<I", "u16 big": ">H"}[kind]
    return struct.pack(form, len(text)) + text


class Random(unittest.TestCase):
    """Edits by chance, on every format: what comes out is what was asked for, and can be proved."""

    @given(st.sampled_from(sorted(FORMATS)), st.lists(st.binary(max_size=80), max_size=8), st.data())
    @settings(max_examples=60, deadline=None)
    def test_edits(self, name: str, bodies: list[bytes], data: st.DataObject) -> None:
        text, make = FORMATS[name]
        files = [(f"file-{number}", body) for number, body in enumerate(bodies)]
        archive = archive_of(text, make(files))
        wanted, edit = dict(files), Edit()
        for row, one in enumerate(archive.names):
            action = data.draw(st.sampled_from(["keep", "replace", "remove"]))
            if action == "replace":
                wanted[one] = data.draw(st.binary(max_size=120))
                edit.replaced[row] = new(archive, wanted[one])
            elif action == "remove":
                del wanted[one]
                edit.removed.add(row)
        if len(archive):
            for number in range(data.draw(st.integers(0, 2))):
                wanted[f"added-{number}"] = data.draw(st.binary(max_size=50))
                edit.added.append(Added(f"added-{number}".encode(), 0, new(archive, wanted[f"added-{number}"])))
        written = rewritten(archive, edit)
        self.assertEqual(written, rewritten(archive, edit, each=True))
        again = archive_of(text, written)
        self.assertEqual(contents(again), wanted)
        self.assertIsNone(prove(again.reading).difference)


class Streams(unittest.TestCase):
    def test_long_content_comes_in_pieces_with_its_checksums_checked(self) -> None:
        import volvex.archive.archive as module

        body = random.Random(5).randbytes(5000) * 400
        archive = archive_of(PACKED, packed((("long", body),)))
        old, module.WHOLE = module.WHOLE, 1000
        try:
            pieces = list(archive.chunks(0))
            self.assertGreater(len(pieces), 1)
            self.assertEqual(b"".join(pieces), body)
            damaged = bytearray(packed((("long", body),)))
            at = len(damaged) - 4
            damaged[at] ^= 1
            with self.assertRaises(FormatError) as caught:
                list(archive_of(PACKED, bytes(damaged)).chunks(0))
            self.assertEqual(caught.exception.field, "table[0].check")
        finally:
            module.WHOLE = old

    def test_the_beginning_of_an_entry_needs_little_of_it(self) -> None:
        archive = archive_of(PACKED, packed((("long", b"RING" * 100_000),)))
        self.assertEqual(archive.beginning(0, 6), b"RINGRI")
        self.assertEqual(zlib.crc32(archive.content(0)), int(archive.reading.home.numbers("check")[0]))


if __name__ == "__main__":
    unittest.main()
