"""Data: what is written is read again, nothing computes or spoils it on the way, and nothing that is parsed fills the
memory."""

from __future__ import annotations

import io
import json
import time
import unittest
import zipfile
from unittest.mock import patch

from openpyxl import load_workbook

from tests.books import LIBRARY, book, opened
from tests.support import Case
from volvex.data import Change, Document, budget, require_data
from volvex.data.differences import differences
from volvex.data.edit import Target, replacements
from volvex.data.exchange import Wanted, exchange_for, exported, imported
from volvex.data.expressions import Expression
from volvex.data.find import values
from volvex.data.model.sheet import distinct
from volvex.data.open import open_data
from volvex.data.verify import edited
from volvex.errors import FormatError, TooLargeError, UsageError, VolvexError

ALL = Wanted()


def xml(text: str) -> Document:
    return require_data(text.encode(), LIBRARY, "a.xml")


def rows(**cells: str) -> Document:
    """A JSON table of one record with these texts."""
    return require_data(json.dumps({"rows": [{"id": "one", **cells}]}).encode(), LIBRARY, "a.json")


def back(document: Document, form: str, data: bytes) -> list[tuple[str, str | None]]:
    return [(change.field, change.after) for change in imported(form, data, document, ALL, f"a.{form}").changes]


class KeyRing(unittest.TestCase):
    def test_no_two_keys_are_the_same_whatever_they_look_like(self) -> None:
        for keys in (["a", "a", "a#2"], ["a#2", "a", "a"], ["a", "a#2", "a", "a#3", "a"], ["", "", "#2"], ["b"] * 4):
            made = distinct(keys)
            self.assertEqual(len(set(made)), len(keys), made)
            for key in set(keys):  # the first keeps its own
                self.assertEqual(made[keys.index(key)], key)
        began = time.monotonic()
        self.assertEqual(len(set(distinct(["k"] * 200_000))), 200_000)
        self.assertLess(time.monotonic() - began, 20, "not the square of them")

    def test_an_edit_reaches_the_record_that_was_named(self) -> None:
        document = xml('<r><a id="x" v="1"/><a id="x" v="2"/><a id="x#2" v="3"/></r>')
        sheet = document.sheets[0]
        for row, key in enumerate(sheet.ids):
            made = document.reread(edited(document, [Change("set", "a", key, "v", str(row + 1), "9")]))
            self.assertEqual(
                [made.sheets[0].cell(at, "v") for at in range(3)],
                ["9" if at == row else str(at + 1) for at in range(3)],
            )
        self.assertEqual(sheet.repeated, ["x"])


class Spreadsheets(unittest.TestCase):
    TEXTS = (
        "=1+1",
        "+5",
        "-",
        "-x",
        "@SUM(A1)",
        "'=1",
        "''x",
        "\ttab",
        "\rback",
        "one\rtwo",
        "a\r\nb",
        "-5",
        "-5.5",
        'q"q',
        "plain",
        " = ",
        "=",
        "U+2028 \u2028 here",
        "\x1c",
        "\x85",
        "x,y;z",
    )

    def test_no_program_computes_a_text_and_all_come_back(self) -> None:
        for text in self.TEXTS:
            document = rows(t=text)
            for form in ("csv", "tsv", "json", "xlsx"):
                with self.subTest(form=form, text=text):
                    try:
                        data = exported(form, document, ALL)
                    except FormatError as error:
                        self.assertEqual(form, "xlsx", error.message)  # which has no such characters, and says so
                        self.assertTrue(set(text) & set("\r\x1c\x85"), error.message)
                        continue
                    self.assertEqual(back(document, form, data), [])
                    if form in ("csv", "tsv") and text not in ("-5", "-5.5"):
                        cell = list(io.StringIO(data.decode("utf-8-sig"), newline=""))[1].split(
                            "\t" if form == "tsv" else ","
                        )[-1]
                        self.assertNotRegex(cell.lstrip('"'), r"^[=+\-@\t\r]")
        book_ = load_workbook(io.BytesIO(exported("xlsx", rows(t="=1+1", **{"=head": "x"}), ALL)))
        self.assertEqual({cell.data_type for line in book_.worksheets[0].iter_rows() for cell in line}, {"s"})

    def test_keys_and_heads_are_guarded_as_well(self) -> None:
        document = require_data(
            json.dumps({"rows": [{"id": "=cmd", "+h": "x"}, {"id": "-b", "+h": "y"}]}).encode(), LIBRARY, "a.json"
        )
        for form in ("csv", "xlsx"):
            self.assertEqual(back(document, form, exported(form, document, ALL)), [])
        data = exported("csv", document, ALL)
        self.assertIn(b"'=cmd", data)
        self.assertIn(b"'+h", data)
        self.assertEqual(back(document, "csv", data.replace(b"y\n", b"z\n")), [("+h", "z")])

    def test_numbers_in_xml_are_numbers_in_a_workbook(self) -> None:
        document = xml('<r><a id="007" n="14" f="4.5" t="4.0" m="1"/><a id="008" n="-3" f="0.25" t="5" m="x"/></r>')
        page = load_workbook(io.BytesIO(exported("xlsx", document, ALL))).worksheets[0]
        lines = list(page.iter_rows(values_only=True))
        kinds = dict(zip(lines[0], map(type, lines[1]), strict=True))
        self.assertEqual([kinds[name] for name in ("id", "n", "f", "t", "m")], [str, int, float, str, str])

    def test_bytes_that_are_no_text_are_refused_with_their_place(self) -> None:
        document = opened(b"[a]\nk = x\n", "k.ini")
        document.sheets[0].cells[0]["k"] = "\udcff"  # type: ignore[index]
        for form in ("csv", "tsv", "json", "xlsx"):
            with self.subTest(form), self.assertRaises(FormatError) as caught:
                exported(form, document, ALL)
            self.assertIn("k", caught.exception.message)

    def test_a_file_saved_in_another_encoding_is_refused_with_its_line(self) -> None:
        document = rows(t="Wärter")
        for form in ("csv", "tsv", "json"):
            data = exported(form, document, ALL).decode("utf-8-sig").encode("latin-1")
            with self.assertRaises(FormatError) as caught:
                imported(form, data, document, ALL, "a")
            self.assertIn("not UTF-8", caught.exception.message)
        texts = book("texts/menu.kwx")
        data = exported("po", texts, Wanted(language="de"))
        with self.assertRaises(FormatError):
            imported("po", data + b"\xfc", texts, ALL, "a.po")

    def test_damaged_and_hostile_workbooks_are_refused_in_words(self) -> None:
        document = rows(t="x")
        good = exported("xlsx", document, ALL)

        def changed(name: str, data: bytes) -> bytes:
            out = io.BytesIO()
            with zipfile.ZipFile(io.BytesIO(good)) as before, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as after:
                for text in before.namelist():
                    after.writestr(text, data if text == name else before.read(text))
            return out.getvalue()

        page = zipfile.ZipFile(io.BytesIO(good)).read("xl/worksheets/sheet1.xml")
        for data in (
            b"",
            b"PK",
            good[:-30],
            changed("xl/workbook.xml", b"<x/>"),
            changed("xl/worksheets/sheet1.xml", page[:80]),
            changed("[Content_Types].xml", b""),
            changed("xl/worksheets/sheet1.xml", page.replace(b"<row", b'<row r="x"', 1)),
        ):
            try:
                imported("xlsx", data, document, ALL, "a.xlsx")
            except VolvexError as error:
                self.assertIn("a.xlsx", error.message)
        bomb = changed("docProps/app.xml", b" " * (1 << 27))
        with self.assertRaises(FormatError) as caught:
            imported("xlsx", bomb, document, ALL, "a.xlsx")
        self.assertIn("unpack to", caught.exception.message)
        lying = changed(
            "xl/worksheets/sheet1.xml", page.replace(b"<sheetData", b'<dimension ref="A1:XFD1048576"/><sheetData', 1)
        )
        began = time.monotonic()
        self.assertEqual(imported("xlsx", lying, document, ALL, "a.xlsx").changes, [])
        self.assertLess(time.monotonic() - began, 10)

    def test_texts_for_translators_come_back_exactly(self) -> None:
        texts = book("texts/menu.kwx")
        for text in ("first\u2028second", "a\x85b\x1cc\x1dd\x1ee\u2029f", "\x0b\x0c", "tab\tnew\nline\r", 'q"\\n'):
            made = texts.reread(
                edited(
                    texts,
                    [
                        Change(
                            "set",
                            texts.sheets[0].name,
                            texts.sheets[0].ids[0],
                            "de",
                            texts.sheets[0].cell(0, "de"),
                            text,
                        )
                    ],
                )
            )
            for form in ("po", "xlf"):
                try:
                    data = exported(form, made, Wanted(language="de"))
                except FormatError:
                    self.assertEqual(form, "xlf")  # XML has no such characters
                    continue
                self.assertEqual(
                    imported(form, data, made, Wanted(language="de"), f"a.{form}").changes, [], (form, text)
                )
                self.assertEqual(
                    [
                        change.after
                        for change in imported(form, data, texts, Wanted(language="de"), f"a.{form}").changes
                    ],
                    [text],
                )

    def test_content_that_is_the_name_of_a_file_is_not_opened(self) -> None:
        texts = book("texts/menu.kwx")
        with self.assertRaises(FormatError):
            imported("po", __file__.encode(), texts, Wanted(language="de"), "evil.po")

    def test_a_form_that_would_not_come_back_is_refused(self) -> None:
        document = rows(t="x")
        with (
            patch.object(exchange_for("csv", document), "write", return_value=b"record,id,t\none,one,other\n"),
            self.assertRaises(FormatError) as caught,
        ):
            exported("csv", document, ALL)
        self.assertIn("would come back from csv as 'other'", caught.exception.message)


class Edits(unittest.TestCase):
    def test_an_edit_that_does_not_read_back_is_refused(self) -> None:
        document = xml('<r><a id="q" v="1"/></r>')
        change = Change("set", "a", "q", "v", "1", "2")
        for made, said in (
            (b"<r><a", "would break the file"),
            (b'<r><a id="q" v="3"/></r>', "read back as '3'"),
            (b'<r><a id="q" v="2" w="5"/></r>', "w would read back as '5'"),
            (b'<r><a id="other" v="2"/></r>', ""),
        ):
            with patch.object(type(document), "written", return_value=made):
                if said:
                    with self.assertRaises(FormatError) as caught:
                        edited(document, [change])
                    self.assertIn(said, caught.exception.message)

    def test_of_large_xml_the_records_that_change_are_compared(self) -> None:
        document = xml('<r><a id="q" v="1"><b>x</b></a><a id="p" v="2"/></r>')
        changes = [Change("set", "a", "q", "v", "1", "long 5"), Change("set", "a", "p", "v", "2", "9")]
        with patch("volvex.data.text.formats.xml.LARGE", 10):
            made = edited(document, changes)
            self.assertEqual(made, b'<r><a id="q" v="long 5"><b>x</b></a><a id="p" v="9"/></r>')
            for wrong in (
                made.replace(b"x", b"y"),
                made.replace(b"</r>", b"</q>"),
                made[:-1],
                made.replace(b"long 5", b"long 6"),
            ):
                with patch.object(type(document), "written", return_value=wrong), self.assertRaises(FormatError):
                    edited(document, changes)
            removed = [Change("remove", "a", "p", fields=(("id", "p"), ("v", "2")))]
            self.assertEqual(len(document.reread(edited(document, removed)).sheets[0]), 1)

    def test_content_of_entities_is_not_edited_into_broken_xml(self) -> None:
        for text, key, field in (
            ('<!DOCTYPE r [<!ENTITY e "<a>1</a>">]>\n<r id="z">&e;<b>7</b></r>', "z", "a"),
            ('<!DOCTYPE r [<!ENTITY e "<a v=\'1\'/>">]>\n<r id="z">&e;it\'s</r>', "z", "a/v"),
        ):
            document = xml(text)
            with self.assertRaises(FormatError) as caught:
                edited(document, [Change("set", document.sheets[0].name, key, field, "1", "5")])
            self.assertIn("entity", caught.exception.message)
            self.assertIn("a.xml", caught.exception.message)

    def test_an_attribute_that_the_document_type_gives_can_be_set(self) -> None:
        document = xml('<!DOCTYPE r [<!ATTLIST a v CDATA "d">]>\n<r><a id="q"/></r>')
        self.assertIn(b'<a id="q" v="5"/>', edited(document, [Change("set", "a", "q", "v", "d", "5")]))

    def test_two_references_to_one_new_text_by_place_and_by_number(self) -> None:
        from tests.books import table

        document = table()
        found = replacements(document, Target(), "Brine", "Rum", False)
        self.assertEqual(len(found), 2)
        again = document.reread(edited(document, found))
        self.assertEqual(
            [(difference.field, difference.after) for difference in differences(document, again)],
            [("name", "Rum"), ("label", "Rum")],
        )

    def test_odd_characters_are_refused_in_words(self) -> None:
        for document in (
            rows(t="x"),
            opened(b"[a]\nk = x\n", "k.ini"),
            opened(b"id;n\n1;x\n2;y\n", "k.csv"),
            opened(b"just text\n", "t.txt"),
        ):
            sheet = document.sheets[0]
            field = list(sheet.columns)[-1]
            change = Change("set", sheet.name, sheet.ids[-1], field, sheet.cell(len(sheet) - 1, field), "\udcff")
            try:
                edited(document, [change])
            except FormatError as error:
                self.assertTrue(error.message)

    def test_halves_of_characters_in_json_stay(self) -> None:
        document = require_data(b'{"a": [{"id": "x", "t": "\\ud800", "n": 1}]}', LIBRARY, "a.json")
        made = edited(document, [Change("set", "a", "x", "n", "1", "2")])
        self.assertIn(b'"\\ud800"', made)
        self.assertIn(b'"\\udc00"', edited(document, [Change("set", "a", "x", "t", "\ud800", "\udc00")]))


class Budgets(Case):
    def test_more_values_than_can_be_held_are_told(self) -> None:
        self.assertGreater(len(rows(t="x").sheets), 0)
        for name, data in (
            ("a.json", b"[" + b"[1]," * 300_000 + b"1]"),
            ("a.xml", b"<r>" + b"<a/>" * 210_000 + b"</r>"),
            ("a.txt", b"line\n" * 210_000),
        ):
            limited = patch.object(budget, "LIMIT", budget.LIMIT // 10)  # which a small file reaches
            with self.subTest(name), limited, self.assertRaises(TooLargeError) as caught:
                document = open_data(data, LIBRARY, name)
                assert document is not None
                self.assertIsNotNone(document.sheets)
            self.assertIn("too many to be held in memory", caught.exception.message)

    def test_commas_in_texts_are_no_values(self) -> None:
        data = json.dumps({"a": [{"id": "x", "t": "," * 2_500_000}]}).encode()
        document = require_data(data, LIBRARY, "a.json")
        self.assertEqual(len(document.sheets[0]), 1)

    def test_a_search_by_value_says_what_it_left_out(self) -> None:
        with zipfile.ZipFile(self.folder / "big.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("j.json", b"[" + b"[1]," * 3_000_000 + b"1]")
            archive.writestr("k.json", b'{"a": [{"id": "x", "n": 77}]}')
        done = self.run_program("find", "big.zip", "--value", "77")
        self.assertIn("a x: n", done.stdout)
        self.assertIn("not searched: big.zip/j.json", done.stderr)

    def test_nothing_takes_the_square_of_its_size(self) -> None:
        began = time.monotonic()
        many = opened(b"[s]\n" + b"k = 1\n" * 20_000, "c.ini")
        self.assertEqual(len(many.sheets[0].columns), 20_000)
        self.assertEqual(len(set(opened(b"[s]\nk = 1\n" * 20_000, "c.ini").sheets[0].ids)), 20_000)
        long = opened(b"[s]\na = x" + b" " * 100_000 + b"y\n", "e.ini")
        self.assertEqual(len(long.sheets[0].cell(0, "a") or ""), 100_002)
        wide = xml("<r>" + "".join(f'<a id="k{number}" own{number}="x"/>' for number in range(5_000)) + "</r>")
        self.assertEqual(len(list(values(wide, "x"))), 5_000)
        self.assertEqual(len(replacements(wide, Target(sheet="a"), "x", "y", False)), 5_000)
        edited(wide, [Change("set", "a", "k77", "own77", "x", "y")])
        self.assertLess(time.monotonic() - began, 60)

    def test_conditions_of_any_length(self) -> None:
        for text in ("not " * 5_000 + "true", "9" * 4_400 + " > 1", "(" * 600 + "1" + ")" * 380):
            with self.assertRaises(UsageError):
                Expression(text)


if __name__ == "__main__":
    unittest.main()
