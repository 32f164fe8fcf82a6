"""Tables, texts and scenes by their layouts: read, written again, changed, and refused where they are not sound."""

from __future__ import annotations

import struct
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.books import FILES, ROW, TABLE, WORDS, barrels, book, laid_out, opened, row, table
from volvex.data import Change, open_data
from volvex.data.differences import differences
from volvex.data.model.layout_document import LayoutDocument
from volvex.data.model.scene import SceneData
from volvex.data.model.sheet import InvalidValue, cell_text, float_texts, float_value, parsed
from volvex.errors import FormatError, LayoutError, NotFoundError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.layout.inspect.proof import prove
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource


def setting(key: str, field: str, after: str, sheet: str = "barrels") -> Change:
    return Change("set", sheet, key, field, None, after)


class Tables(unittest.TestCase):
    def test_every_type_is_read_as_it_is(self) -> None:
        record = table().sheets[0].record(1)
        self.assertEqual(
            record,
            {
                "id": "2",
                "name": "Oil of colza",
                "label": "Ale",
                "deep": "Oil of colza",
                "good": "tallow",
                "big": "18446744073709551613",
                "small": "-2",
                "wide": "2000",
                "half": "1.5",
                "price": "2.1",
                "weight": "0.2",
                "code": "002",
                "raw": "01 02 ff",
                "marks": "[7, 2]",
                "berth": "115",
                "mask": "2",
                "wet": "yes",
                "tier": "1",
                "owner": "42",
            },
        )

    def test_what_is_read_is_written_again(self) -> None:
        document = table()
        self.assertIsNone(prove(document.reading).difference)
        self.assertEqual(document.written([]), barrels())

    def test_each_field_is_set_and_nothing_else_changes(self) -> None:
        before = table()
        news = {
            "id": "9",
            "name": "Brine",
            "label": "Oil of colza",
            "deep": "Ale",
            "good": "colza",
            "big": "5",
            "small": "127",
            "wide": "-8000000",
            "half": "-0.25",
            "price": "0.3",
            "weight": "1e+300",
            "code": "x",
            "raw": "00 ff 10",
            "marks": "[65535, 0]",
            "berth": "100",
            "mask": "255",
            "wet": "no",
            "tier": "15",
            "owner": "0",
        }
        for field, value in news.items():
            with self.subTest(field):
                data = before.written([setting("2", field, value)])
                after = table(data)
                found = differences(before, after) if field != "id" else []
                if field == "id":
                    self.assertEqual(after.sheets[0].ids, ["1", "9", "3"])
                else:
                    self.assertEqual(
                        [(change.id, change.field, change.after) for change in found], [("2", field, value)]
                    )
                self.assertIsNone(prove(after.reading).difference)
                self.assertEqual(len(data), len(barrels()))
        self.assertEqual(set(news), set(before.sheets[0].columns))

    def test_a_new_text_goes_behind_the_pool(self) -> None:
        after = table(
            table().written([setting("1", "name", "Tar"), setting("2", "name", "Tar"), setting("3", "deep", "Pitch")])
        )
        self.assertEqual(after.sheets[0].columns["name"].texts(), ["Tar", "Tar", "Ale"])
        self.assertEqual(after.sheets[0].columns["deep"].texts(), ["Oil of colza", "Oil of colza", "Pitch"])
        self.assertTrue(after.reading.source.read(0, after.reading.source.size).endswith(b"colza\0Tar\0Pitch\0"))

    def test_records_come_and_go_with_what_nobody_knows(self) -> None:
        document = table()
        changes = [
            Change("add", "barrels", "7", fields=(("id", "7"), ("name", "Rum")), like="3"),
            Change("remove", "barrels", "1"),
        ]
        data = document.written(changes)
        after = table(data)
        self.assertEqual(after.sheets[0].ids, ["2", "3", "7"])
        self.assertEqual(after.sheets[0].record(2) | {"id": "3", "name": "Ale"}, document.sheets[0].record(2))
        body = data[14 : 14 + 3 * ROW.size]
        self.assertEqual(struct.unpack_from("<I", body, 3 * ROW.size - 4)[0], 0xDEAD0003)
        self.assertEqual(body[2 * ROW.size + ROW.size - 7] >> 5, 0xA3 >> 5)

    def test_records_stay_in_their_order(self) -> None:
        text = TABLE.replace("after head repeats", "after head repeats sorted by id", 1)
        after = table(table(text=text).written([setting("1", "id", "5")]), text)
        self.assertEqual(after.sheets[0].ids, ["2", "3", "5"])
        self.assertIsNone(prove(after.reading).difference)

    def test_values_that_do_not_fit(self) -> None:
        for field, value, said in (
            ("big", str(1 << 64), "a whole number from 0 to 18446744073709551615"),
            ("small", "-129", "from -128 to 127"),
            ("berth", "101", "in steps of 5"),
            ("good", "talow", "one of colza, tallow; perhaps tallow"),
            ("price", "1e39", "at most 3.4"),
            ("price", "dear", "a number such as"),
            ("code", "1234567", "at most 6 bytes in utf-8, this has 7"),
            ("raw", "00", "3 bytes"),
            ("small", "05", "a whole number"),
            ("small", "-0", "a whole number"),
            ("name", "a\0b", "without the character 0"),
            ("tier", "16", "from 0 to 15"),
        ):
            with self.subTest(field), self.assertRaises(FormatError) as caught:
                table().written([setting("2", field, value)])
            self.assertIn(said, " ".join(caught.exception.lines()))
            self.assertIn("row 2", caught.exception.message)
        with self.assertRaises(VolvexError):
            table().written([setting("2", "marks", "[1, 2, 3]")])

    def test_what_is_not_there(self) -> None:
        for change, said in ((setting("9", "name", "x"), "no row 9"), (setting("2", "nmae", "x"), "no field nmae")):
            with self.assertRaises(NotFoundError) as caught:
                table().written([change])
            self.assertIn(said, caught.exception.message)
        with self.assertRaises(NotFoundError) as caught:
            table().sheet("barels")
        self.assertEqual(caught.exception.hint, "barrels")

    def test_places_in_a_pool_that_lead_nowhere(self) -> None:
        good = row(1)
        for at, number in ((2, 99), (4, 7)):
            bad = bytearray(good)
            bad[at] = number
            with self.assertRaises(FormatError) as caught:
                table(barrels([bytes(bad), row(2), row(3)])).sheets[0].record(0)
            self.assertIn("no text", caught.exception.message)
        none = good[:2] + b"\xff\xff" + good[4:]
        self.assertNotIn("name", table(barrels([none, row(2), row(3)])).sheets[0].record(0))
        tail = good[:2] + b"\x07\x00" + good[4:]
        self.assertEqual(table(barrels([tail, row(2), row(3)])).sheets[0].cell(0, "name"), "ne")

    def test_a_table_that_is_cut_or_damaged(self) -> None:
        data = barrels()
        for end in range(0, len(data), 7):
            with self.assertRaises(VolvexError, msg=str(end)):
                for column in table(data[:end]).sheets[0].columns.values():
                    column.texts()
        with self.assertRaises(FormatError) as caught:
            table(data[:20] + bytes([data[20] ^ 1]) + data[21:])
        self.assertIn("crc32 of barrels", caught.exception.message)

    def test_a_page_of_a_column_needs_no_more(self) -> None:
        column = table().sheets[0].columns["name"]
        self.assertEqual(column.text(2), "Ale")
        self.assertNotIn("values", vars(column))

    @given(
        st.lists(
            st.tuples(st.integers(0, 2), st.sampled_from(["name", "big", "price", "code", "tier"]), st.data()),
            max_size=6,
        )
    )
    @settings(max_examples=40, deadline=None)
    def test_any_changes_read_back(self, wanted: list[tuple[int, str, st.DataObject]]) -> None:
        values = {
            "name": st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=9),
            "big": st.integers(0, (1 << 64) - 1).map(str),
            "price": st.floats(width=32, allow_nan=False).map(lambda one: cell_text(float_value(repr(one), 32)) or ""),
            "code": st.sampled_from(["", "a", "ä1", "123456"]),
            "tier": st.integers(0, 15).map(str),
        }
        record = {(at, field): data.draw(values[field]) for at, field, data in wanted}
        made = table().written([setting(str(at + 1), field, value) for (at, field), value in record.items()])
        sheet = table(made).sheets[0]
        for (at, field), value in record.items():
            self.assertEqual(sheet.cell(at, field), value)


class Numbers(unittest.TestCase):
    @given(st.integers(0, (1 << 32) - 1))
    @settings(max_examples=150, deadline=None)
    def test_any_bits_come_back(self, bits: int) -> None:
        import numpy as np

        for kind, size in ((np.float32, 32), (np.float64, 64)):
            raw = struct.pack("<Q", bits * 0x1_0000_0001 & (1 << 64) - 1)[: size // 8]
            value = np.frombuffer(raw, kind)
            (text,) = float_texts(value)
            self.assertEqual(float_value(text or "", size).tobytes(), raw, text)

    def test_they_are_told_shortly(self) -> None:
        import numpy as np

        self.assertEqual(
            float_texts(np.array([0.1, 14.75, 5, -0.0, 1e20, float("inf")], np.float32)),
            ["0.1", "14.75", "5", "-0", "1e+20", "inf"],
        )

    def test_what_is_no_number(self) -> None:
        from volvex.data.model.sheet import FLOAT, INT, Rule

        for rule, text in (
            (Rule(INT), "1.0"),
            (Rule(INT), "٣"),
            (Rule(FLOAT), "1,5"),
            (Rule(FLOAT), ""),
            (Rule(FLOAT, bits=16), "70000"),
        ):
            with self.assertRaises(InvalidValue):
                parsed(rule, text)


class Texts(unittest.TestCase):
    def test_the_menu_goes_by_names_or_their_keys(self) -> None:
        plain = book("texts/menu.kwx").sheets[0]
        self.assertEqual(plain.record(plain.row("shop.price") or 0)["en"], "{0} pence a barrel")
        self.assertEqual(plain.row("SHOP.price"), plain.row("shop.price"))
        self.assertTrue(plain.ids[0].startswith("0x"))  # nobody told the names
        document = book("texts/menu.kwx")
        data = document.written(
            [Change("add", "texts", "menu.help", fields=(("hash", "menu.help"), ("en", "Help")), like=plain.ids[0])]
        )
        sheet = open_data(data, Library(), "menu").sheets[0]  # type: ignore[union-attr]
        self.assertEqual(sheet.record(sheet.row("menu.help") or 0)["en"], "Help")
        self.assertEqual(sheet.ids, sorted(sheet.ids))

    def test_a_key_that_is_none(self) -> None:
        document = book("texts/menu.kwx")
        for key in ("0xzz", "0x123456789"):
            with self.assertRaises(FormatError):
                document.written([Change("add", "texts", key, fields=(("hash", key),), like=document.sheets[0].ids[0])])

    def test_dialogues_go_by_key_and_language(self) -> None:
        document = book("texts/dialogue.kwy")
        self.assertEqual(document.sheets[0].id, ("key", "language"))
        data = document.written([setting("ansa.oil@de", "text", "Öl & {boat} {n} 🛢", "lines")])
        after = open_data(data, Library(), "dialogue")
        assert after is not None
        self.assertEqual(after.sheets[0].record(after.sheets[0].rows["ansa.oil@de"])["text"], "Öl & {boat} {n} 🛢")
        self.assertEqual(len(differences(document, after)), 1)


class Scenes(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = book("scenes/lamp_room.kwn")

    def changed(self, *changes: Change) -> SceneData:
        found = open_data(self.scene.written(changes), Library(), "scene")
        assert isinstance(found, SceneData)
        return found

    def test_each_type_is_a_sheet_with_its_fields(self) -> None:
        record = {sheet.name: list(sheet.columns) for sheet in self.scene.sheets}
        self.assertEqual(record["lamp"], ["id", "type", "name", "hidden", "lit", "range", "keeper"])
        self.assertEqual(record["chest"][4:], ["barrels", "holds/0", "holds/1"])
        self.assertEqual(record["keeper"][4:], ["mood", "place/x", "place/y"])
        assert isinstance(self.scene, LayoutDocument)
        self.assertIsNone(prove(self.scene.reading).difference)

    def test_fields_of_any_depth_are_set(self) -> None:
        for sheet, key, field, value in (
            ("keeper", "5", "place/y", "-32768"),
            ("chest", "6", "holds/1", "105"),
            ("lamp", "1", "range", "0.1"),
            ("door", "2", "locked", "yes"),
            ("sign", "4", "says", "ansa.oil"),
            ("chest", "6", "hidden", "no"),
            ("keeper", "5", "mood", "cheerful"),
            ("lamp", "1", "name", "Größer"),
        ):
            with self.subTest(field):
                after = self.changed(setting(key, field, value, sheet))
                self.assertEqual(
                    [
                        (difference.sheet, difference.id, difference.field, difference.after)
                        for difference in differences(self.scene, after)
                    ],
                    [(sheet, key, field, value)],
                )
                self.assertIsNone(prove(after.reading).difference)

    def test_objects_come_and_go(self) -> None:
        after = self.changed(
            Change("add", "door", "9", fields=(("id", "9"), ("to", "9")), like="2"), Change("remove", "sign", "4")
        )
        self.assertEqual([sheet.name for sheet in after.sheets], ["lamp", "door", "keeper", "chest"])
        self.assertEqual(
            after.sheet("door").record(2),
            {"id": "9", "type": "door", "name": "Stair", "hidden": "no", "locked": "no", "to": "9"},
        )

    def test_what_an_object_has_not(self) -> None:
        with self.assertRaises(NotFoundError):
            self.changed(setting("2", "range", "5", "door"))
        with self.assertRaises(FormatError) as caught:
            self.changed(setting("5", "place/x", "40000", "keeper"))
        self.assertIn("-32768 to 32767", caught.exception.hint)

    def test_bytes_that_could_not_be_written_back_are_left_alone(self) -> None:
        layout = """layout "odd" kind scene
known by "ODD" at 0
record bell
    tone   text 4 filled 20   value
    loud   u8       value
block head at 0
    mark   3 bytes  is "ODD"
    count  u8       count of things
block things after head repeats
    id     u8       id
    sort   u8       kept
    body   choice by sort { 1 bell }  value
"""
        data = b"ODD\x01" + b"\x07\x01" + b"ab\0\0" + b"\x05"
        document = laid_out(layout, data)
        self.assertIsNone(prove(document.reading).difference)
        with self.assertRaises(FormatError) as caught:
            document.written([setting("7", "loud", "6", "bell")])
        self.assertIn("could not be written back", caught.exception.message)


class Layouts(unittest.TestCase):
    def wrong(self, old: str, new: str, *said: str) -> None:
        with self.assertRaises(VolvexError) as caught:
            parse_layout(TABLE.replace(old, new), "t.layout")
        for text in said:
            self.assertIn(text, " ".join(caught.exception.lines()))

    def test_mistakes_are_told_where_they_are(self) -> None:
        self.wrong("text in words", "text in wods", "t.layout:12:", "`text in wods` is not a meaning")
        self.wrong("u16           id", "u16           id in barrels", "barrels is no pool of texts")
        self.wrong("big     u64           value", "big     u64           id", "a second id of barrels")
        self.wrong("code    text 6        value", "code    text 6        value { 0 a }", "stand for numbers")
        self.wrong(
            "code    text 6        value", "code    text 6        text in words", "points to a text, so it is a number"
        )
        self.wrong(
            "count   u16      count of barrels",
            "count   u16      value",
            "no field gives the count",
            "is one for each record",
        )
        self.wrong("refers to keepers", "refers keepers", "`refers keepers` is not a meaning")

    def test_a_kind_asks_for_what_it_needs(self) -> None:
        for kind, body, said in (
            ("text", "    id  u8  id", "has no id, or no text"),
            ("scene", "    id  u8  value", "have no id"),
            ("table", "    id  u8  kept", "a table without records"),
            ("scene", "    id  u8  id\n    a   u8  type\n    b   u8  type", "two fields for the type"),
        ):
            with self.assertRaises(LayoutError) as caught:
                parse_layout(f'layout "x" kind {kind}\nblock rows at 0 repeats until end\n{body}\n', "x.layout")
            self.assertIn(said, caught.exception.message)

    def test_keys_are_made_of_names_for_numbers_only(self) -> None:
        for rule, said in (
            ("hashes by fnv1a(bits 32)", ""),
            ('names numbered "{0}"', "of its name as a whole"),
            ("hashes of folders by crc32", "as a whole"),
        ):
            text = f'layout "x" kind table\n{rule}\nblock rows at 0 repeats until end\n    id  u32  id\n'
            if not said:
                self.assertEqual(len(parse_layout(text, "x.layout").keys), 1)
                continue
            with self.assertRaises(VolvexError) as caught:
                parse_layout(text, "x.layout")
            self.assertIn(said, " ".join(caught.exception.lines()))

    def test_a_layout_that_only_reads(self) -> None:
        document = table(text=TABLE + "read only\n")
        with self.assertRaises(RefusedError):
            document.written([setting("2", "name", "x")])

    def test_tables_are_no_archives(self) -> None:
        library = Library(first=[])
        source = BytesSource(FILES["tables/lenses.kwb"], "lenses")
        self.assertIsNone(library.match(source))
        self.assertEqual(library.match_data(source).title, "Kelpwick lenses")  # type: ignore[union-attr]

    def test_the_game_has_every_kind(self) -> None:
        forms = {book(path).form for path in FILES}
        self.assertEqual(forms, {"table", "text", "scene", "xml", "json", "ini", "plist", "csv"})
        for path in FILES:
            self.assertEqual(book(path).written([]), FILES[path], path)

    def test_plain_text_is_lines(self) -> None:
        document = opened("one\r\ntwo\nthree", "a.txt")
        self.assertEqual(document.written([Change("set", "lines", "#2", "line", "two", "zwei")]), b"one\r\nzwei\nthree")
        self.assertEqual(len(WORDS), 3)


if __name__ == "__main__":
    unittest.main()
