"""What the newer forms of the language do besides reading and writing: recognition by name, random access, times in
words."""

from __future__ import annotations

import random
import struct
import unittest
import zlib
from collections.abc import Sequence
from typing import ClassVar
from unittest.mock import patch

from tests.more_families import MORE, masked
from tests.support import archive_of
from tests.trial_families import TRIAL
from volvex.archive.access.open import open_source
from volvex.archive.attribute_text import attribute_text
from volvex.data import Change, Document, require_data
from volvex.data.verify import edited
from volvex.errors import FormatError, VolvexError
from volvex.layout import Library
from volvex.layout.chunks import ChunkedSource
from volvex.layout.decrypted import decrypted_view
from volvex.layout.inspect.limits import limits_of
from volvex.layout.language.parser import parse_layout
from volvex.layout.read import groups
from volvex.layout.read.open import read
from volvex.layout.write.plan import Edit
from volvex.source import BytesSource, Source, Spool


class ByName(unittest.TestCase):
    def test_a_file_is_known_by_its_name_when_its_blocks_are_where_they_should_be(self) -> None:
        family = MORE["veiled"]
        data, layout = family.make(family.files), parse_layout(family.layout, "veiled.layout")
        library = Library(first=[layout])
        for name, content, known in (
            ("game/holds/A.VEIL", data, True),
            ("game/a.veil", data[:40], False),
            ("game/a.veil", b"", False),
            ("game/a.vei", data, False),
            ("game/a.veil/letter.txt", data, False),
        ):
            with self.subTest(name, size=len(content)):
                found = library.match(BytesSource(content, name))
                self.assertEqual(found is not None and found.title == "veiled", known)


class Limits(unittest.TestCase):
    def test_how_far_a_file_can_grow(self) -> None:
        text = """
layout "small" kind archive
block head at 0
    count   u8 minus 1   count of table
    bytes   u16          length of table
block table after head repeats
    name    text u8 x 2  name
    start   u16 x 64     start of content
    high    u8           upper size of content
    size    u8           size of content
content align 64
"""
        limits = {limit.of: limit.most for limit in limits_of(parse_layout(text, "small.layout"))}
        self.assertEqual(limits["count of table"], 254)
        self.assertEqual(limits["length of table"], 65535)
        self.assertEqual(limits["name"], 510)
        self.assertEqual(limits["start of content"], 65535 * 64)
        self.assertEqual(limits["size of content"], 65535)


class Encodings(unittest.TestCase):
    def test_a_description_gives_the_encoding_of_texts_that_have_none(self) -> None:
        text = """
layout "coast" kind archive
block head at 0
    count   u8          count of table
block table after head repeats
    name    text u8     name
    note    text u8 in utf-16-le   kept
    start   u8          start of content
    size    u8          size of content
"""
        data = b"\1\2\xf6l\2a\0\x09\1+"
        library = Library(first=[layout := parse_layout(text, "coast.layout")])
        library.encoded = lambda path: ("cp1252", True) if path.endswith(".old") else ("", False)
        for name, wanted in (("coast.old", "öl"), ("coast.new", "\udcf6l")):
            archive = open_source(BytesSource(data, name), library, layout)
            assert archive is not None
            self.assertEqual(archive.names, [wanted])


class Chunks(unittest.TestCase):
    def setUp(self) -> None:
        rng = random.Random(3)
        self.files = [(f"lamps/{number:03}.txt", rng.randbytes(90) * 4) for number in range(60)]
        self.family = MORE["stream"]
        self.archive = archive_of(self.family.layout, self.family.make(self.files))
        source = self.archive.reading.areas["body"].source
        assert isinstance(source, ChunkedSource)
        self.source = source

    def test_only_the_chunks_of_an_entry_are_decoded(self) -> None:
        opened: list[int] = []
        real = ChunkedSource._opened

        def counted(source: ChunkedSource, number: int, size: int | None) -> bytes:
            opened.append(number)
            return real(source, number, size)

        with patch.object(ChunkedSource, "_opened", counted):
            self.assertEqual(self.archive.content(30), self.files[30][1])
        self.assertLessEqual(len(opened), 2)
        self.assertGreater(len(self.source.chunk_list), 40)

    def test_chunks_in_which_nothing_changes_keep_their_bytes(self) -> None:
        with Spool() as spool:
            edit = Edit()
            edit.replaced[30] = self.archive.encode(spool, [b"!" + self.files[30][1][1:]], 30)
            made = b"".join(self.archive.plan(edit).chunks())
        again = archive_of(self.family.layout, made).reading.areas["body"].source
        assert isinstance(again, ChunkedSource)
        before = self.archive.source.read(0, self.archive.source.size)
        changed = [
            number
            for number in range(len(self.source.chunk_list))
            if _stored(self.source, number, before) != _stored(again, number, made)
        ]
        self.assertLessEqual(len(changed), 2)
        self.assertEqual(self.family.load(made)["lamps/030.txt"][:1], b"!")

    def test_a_table_of_chunks_that_cannot_be_is_refused_at_its_field(self) -> None:
        text = MORE["locker"].layout
        data = bytearray(MORE["locker"].make(self.files[:3]))
        table = archive_of(text, bytes(data)).reading.blocks["sizes"].start
        data[table + 2 : table + 4] = b"\xff\xff"
        with self.assertRaisesRegex(FormatError, r"sizes\[0\].holds: a chunk of body holds 256 bytes at most"):
            archive_of(text, bytes(data))
        wrong = self.family.layout.replace("{ 0 zlib, 1 none }", "{ 1 zlib }")
        with self.assertRaisesRegex(FormatError, r"pieces\[0\].how: a codec that the layout does not know"):
            archive_of(wrong, self.family.make(self.files))


class Masked(unittest.TestCase):
    """Parts that are only encrypted are not decrypted whole, however large they are."""

    def view(self, family: str, old: str = "", new: str = "") -> tuple[Source | None, Counted]:
        layout = parse_layout(MORE[family].layout.replace(old, new) if old else MORE[family].layout, "x.layout")
        file = Counted(random.Random(1).randbytes(1 << 22))
        return decrypted_view(layout.parts[0], file, 6, file.size - 6), file

    def test_what_depends_only_on_its_place_is_read_where_it_lies(self) -> None:
        view, file = self.view("veiled")
        assert view is not None
        self.assertEqual(view.read(3_000_001, 40), masked(file.data[6:])[3_000_001:3_000_041])
        self.assertEqual(file.done, 40)

    def test_what_must_be_made_in_order_is_made_as_far_as_it_is_read(self) -> None:
        view, file = self.view("vault", "add(key hex 07)", "chained(key hex 07)")
        assert view is not None
        made = view.read(10, 20)
        self.assertEqual(made, bytes(file.data[at + 6] ^ file.data[at + 5] for at in range(10, 30)))
        self.assertEqual(view.read(12, 5), made[2:7])
        self.assertLess(file.done, file.size)

    def test_what_is_compressed_has_no_such_view(self) -> None:
        self.assertIsNone(self.view("stream")[0])


class Counted(BytesSource):
    """Bytes, and how many of them were read."""

    def __init__(self, data: bytes) -> None:
        super().__init__(data, "counted")
        self.data, self.done = data, 0

    def _read(self, offset: int, size: int) -> bytes:
        self.done += size
        return super()._read(offset, size)


def _stored(source: ChunkedSource, number: int, data: bytes) -> bytes:
    start, size = source.stored_at(number)
    return data[start : start + size]


LEDGER = """
layout "ledger" kind table
known by "LEDG" at 0
block head at 0
    mark     4 bytes  is "LEDG"
    columns  u8       count of shape
    rows     u16      count of rows
    sum      u32      crc32 of rows
block shape after head repeats
    name     text u8  column name
    form     u8       column type
    wide     u8       column width
block rows after shape repeats
    cells    columns of shape { 1 u32, 2 f32, 3 text_u8, 4 text_fixed, 5 i16, 6 bytes }  value
"""
SHAPE = [("key", 1, 4), ("Oil (l)", 2, 4), ("note", 3, 0), ("code", 4, 6), ("depth", 5, 2), ("note", 6, 3)]


def ledger(rows: Sequence[tuple[object, ...]], shape: list[tuple[str, int, int]] = SHAPE) -> bytes:
    """A table that describes its columns, by plain code."""
    body = b""
    for row in rows:
        for (_, form, wide), value in zip(shape, row, strict=True):
            text = value.encode() if isinstance(value, str) else value if isinstance(value, bytes) else b""
            body += (
                bytes([len(text)]) + text
                if form == 3
                else text.ljust(wide, b"\0")
                if form in (4, 6)
                else struct.pack({1: "<I", 2: "<f", 5: "<h"}[form], value)
            )
    columns = b"".join(bytes([len(name)]) + name.encode() + bytes([form, wide]) for name, form, wide in shape)
    return b"LEDG" + struct.pack("<BHI", len(shape), len(rows), zlib.crc32(body)) + columns + body


class Ledgers(unittest.TestCase):
    ROWS: ClassVar[list[tuple[object, ...]]] = [
        (7, 1.5, "lamp", "ab12", -3, b"\1\2\3"),
        (8, 0.25, "", "zz", 4, b"\4\5\6"),
    ]

    def opened(self, data: bytes) -> Document:
        return require_data(data, Library(), "x.ledg", parse_layout(LEDGER, "ledger.layout"))

    def test_columns_that_a_file_describes(self) -> None:
        document = self.opened(ledger(self.ROWS))
        (sheet,) = document.sheets
        self.assertEqual(list(sheet.columns), ["key", "Oil__l_", "note", "code", "depth", "note_2"])
        self.assertEqual((sheet.ids, sheet.record(0)["code"]), (["7", "8"], "ab12"))
        self.assertEqual(document.written([]), ledger(self.ROWS))
        made = edited(
            document,
            [
                Change("set", "rows", "7", "note", "lamp", "longer"),
                Change("set", "rows", "7", "Oil__l_", "1.5", "2.5"),
                Change("add", "rows", "9", fields=(("key", "9"), ("depth", "-9")), like="8"),
                Change("remove", "rows", "8"),
            ],
        )
        wanted = [(7, 2.5, "longer", "ab12", -3, b"\1\2\3"), (9, 0.25, "", "zz", -9, b"\4\5\6")]
        self.assertEqual(made, ledger(wanted))

    def test_what_cannot_be(self) -> None:
        with self.assertRaisesRegex(FormatError, "9 is no type of a column"):
            self.opened(ledger([], [("a", 9, 0)]))
        with self.assertRaisesRegex(FormatError, "is 0 wide"):
            self.opened(ledger([], [("a", 4, 0)]))
        for old, new, says in (
            ("column type", "kept", "nothing describes the columns of rows"),
            ("columns of shape", "columns of head", "nothing describes the columns of rows"),
            ("5 i16", "5 i17", "i17 is no type that a column can have"),
        ):
            with self.subTest(says), self.assertRaisesRegex(VolvexError, says):
                parse_layout(LEDGER.replace(old, new), "ledger.layout")

    def test_damage_is_an_error(self) -> None:
        data = ledger(self.ROWS)
        for at in range(len(data)):
            for damaged in (data[:at], data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]):
                try:
                    self.opened(damaged)
                except VolvexError:
                    continue


class TwoRows(unittest.TestCase):
    def test_what_cannot_be(self) -> None:
        text = TRIAL["slip"].layout
        for old, new, says in (
            ("repeats as files", "repeats as head", "no row head that late could go on with"),
            ("count of late", "kept", "no field gives the count of late"),
            ("start of late", "kept", "no field gives the start of late"),
            ("name    text u8   name", "name    text u8   name\n    more    u8        kept", ""),
            ("where   u32       start of late", "where   u32       crc32 of files", "cannot mean all of two rows"),
        ):
            with self.subTest(says or "sound"):
                if not says:
                    parse_layout(text.replace(old, new), "x.layout")
                    continue
                with self.assertRaises(VolvexError) as caught:
                    parse_layout(text.replace(old, new), "x.layout")
                self.assertIn(says, "\n".join(caught.exception.lines()))

    def test_a_wrapped_directory_needs_its_stored_length(self) -> None:
        text = TRIAL["quay"].layout
        for old, new, says in (
            ("stored length of files", "kept", "their stored length is in folders, or neither"),
            (" wrapped in zlib", "", "their stored length is in folders, or neither"),
            (
                "block folders after head repeats",
                "block folders after head repeats wrapped in zlib",
                "only where it lies in groups",
            ),
        ):
            with self.subTest(says), self.assertRaises(VolvexError) as caught:
                parse_layout(text.replace(old, new), "x.layout")
            self.assertIn(says, "\n".join(caught.exception.lines()))

    def test_what_all_wrapped_directories_hold_together_is_bounded(self) -> None:
        case = TRIAL["quay"]
        data = case.make([(f"{folder}/{'x' * 90}", b"") for folder in ("north", "south")])
        layout = parse_layout(case.layout, "quay.layout")
        read(layout, BytesSource(data, "x"))
        with patch.object(groups, "INNER", 150), self.assertRaisesRegex(FormatError, "holds more than 53 bytes"):
            read(layout, BytesSource(data, "x"))


class Words(unittest.TestCase):
    def test_times_and_permissions_are_shown_in_words(self) -> None:
        for what, number, text in (
            ("unix time", 0, "1970-01-01 00:00:00"),
            ("unix time", 1_767_225_599, "2025-12-31 23:59:59"),
            ("unix time", 1 << 60, str(1 << 60)),
            ("windows time", 116_444_736_000_000_000, "1970-01-01 00:00:00"),
            ("dos time", (46 << 9 | 11 << 5 | 29) << 16 | 13 << 11 | 5 << 5 | 4, "2026-11-29 13:05:08"),
            ("dos time", 0, "0"),
            ("permissions", 0o755, "0755"),
            ("owner", 501, "501"),
        ):
            with self.subTest(what, number=number):
                self.assertEqual(attribute_text(what, number), text)


if __name__ == "__main__":
    unittest.main()
