"""Out to files that other programs open, and back: exactly, or with every fault told."""

from __future__ import annotations

import csv
import io
import json
import unittest
from collections.abc import Callable

import polib
from lxml import etree
from openpyxl import Workbook, load_workbook

from tests.books import TABLE, barrels, book, opened, row, table
from volvex.data import Change, Document
from volvex.data.exchange import Wanted, exchange_for, exchanges
from volvex.data.exchange.formats.xliff import SPACE
from volvex.errors import FormatError, UsageError, VolvexError

ALL = Wanted()


def out(document: Document, ending: str, wanted: Wanted = ALL) -> bytes:
    return exchange_for(ending, document).write(document, wanted)


def back(document: Document, ending: str, data: bytes, wanted: Wanted = ALL) -> list[Change]:
    return exchange_for(ending, document).read(data, document, wanted, f"f.{ending}").changes


def faults(document: Document, ending: str, data: bytes, wanted: Wanted = ALL) -> str:
    try:
        back(document, ending, data, wanted)
    except VolvexError as error:
        return "\n".join(error.lines())
    raise AssertionError("nothing was wrong")


def told(changes: list[Change]) -> list[tuple[str, str, str, str | None]]:
    return [(change.what, change.id, change.field, change.after) for change in changes]


def edited(data: bytes, *pairs: tuple[str, str]) -> bytes:
    """A text file with some words replaced, each of which must be there."""
    text = data.decode()
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new, 1)
    return text.encode()


class Conformance(unittest.TestCase):
    """What every form must do for every kind of data that it takes."""

    documents: dict[str, Callable[[], Document]] = {
        "table": table,
        "text": lambda: book("texts/menu.kwx"),
        "long": lambda: book("texts/dialogue.kwy"),
        "scene": lambda: book("scenes/lamp_room.kwn"),
        "xml": lambda: book("rules/workshop.xml"),
        "csv": lambda: book("tables/rations.tsv"),
        "lenses": lambda: book("tables/lenses.kwb"),
    }

    def test_out_and_back_is_no_change(self) -> None:
        tried = set()
        for name, made in self.documents.items():
            document = made()
            for ending, form in exchanges().items():
                if form.FORMS and document.form not in form.FORMS:
                    with self.assertRaises(UsageError):
                        exchange_for(ending, document)
                    continue
                if ending in ("csv", "tsv") and len(document.sheets) > 1:
                    continue
                with self.subTest(f"{name} {ending}"):
                    data = out(document, ending)
                    self.assertEqual(back(made(), ending, data), [])
                    self.assertEqual(out(made(), ending), data)  # the same bytes each time
                    tried.add(ending)
        self.assertEqual(tried, set(exchanges()))

    def test_what_is_no_such_file(self) -> None:
        for ending in exchanges():
            document = book("texts/menu.kwx")
            for junk in (b"", b"\x00\x01\x02", b"<a>", b'{"texts": 5}', b"a,b\n1,2\n"):
                with self.subTest(f"{ending} {junk!r}"), self.assertRaises(VolvexError):
                    if back(document, ending, junk):
                        raise FormatError("f", "taken for changes")
                    raise FormatError("f", "nothing")


class Csv(unittest.TestCase):
    def test_it_is_what_others_read(self) -> None:
        rows = list(csv.DictReader(io.StringIO(out(table(), "csv").decode("utf-8-sig"))))
        self.assertEqual(
            next((row["id"], row["name"], row["big"], row["code"], row["price"], row["marks"]) for row in rows),
            ("1", "Brine", "18446744073709551614", "001", "1.1", "[7, 1]"),
        )

    def test_values_records_and_their_order(self) -> None:
        document = table()
        lines = out(document, "csv").decode().splitlines()
        moved = [
            lines[0],
            lines[3],
            lines[1].replace("Brine", 'Rüm; "x"').replace('Rüm; "x"', '"Rüm; ""x"", y"'),
            lines[3].replace("3,", "8,", 1),
        ]
        changes = back(document, "csv", "\r\n".join(moved).encode() + b"\r\n")
        self.assertEqual(
            [(change.what, change.id, change.field) for change in changes],
            [("set", "1", "name"), ("add", "8", ""), ("remove", "2", "")],
        )
        after = table(document.written(changes))
        self.assertEqual(after.sheets[0].ids, ["1", "3", "8"])
        self.assertEqual(after.sheets[0].cell(0, "name"), 'Rüm; "x", y')

    def test_semicolons_and_tabs(self) -> None:
        document = book("tables/lenses.kwb")
        for ending, separator in (("csv", ";"), ("tsv", "\t")):
            data = out(document, "csv").decode().replace(",", separator).replace("14.75", "14.5").encode()
            self.assertEqual(told(back(document, ending, data)), [("set", "103", "weight", "14.5")])

    def test_every_fault_with_its_place_and_what_was_allowed(self) -> None:
        data = edited(
            out(book("tables/lenses.kwb"), "csv"),
            ("101,Penny glass,pressed,5", "101,Penny glass,presed,70000"),
            ("120,1,yes", "121,1,oui"),
            ("14.75", "heavy"),
        )
        said = faults(book("tables/lenses.kwb"), "csv", data)
        for one in (
            "line 2, column glass: 'presed'",
            "one of crown, flint, pressed; perhaps pressed",
            "line 2, column reach: '70000'",
            "from 0 to 65535",
            "line 3, column focus: '121'",
            "in steps of 5",
            "line 3, column clean: 'oui'",
            "line 4, column weight: 'heavy'",
            "a number such as",
        ):
            self.assertIn(one, said)

    def test_what_a_spreadsheet_spoils(self) -> None:
        text = TABLE.replace("id      u16           id", "id      u16           value").replace(
            "code    text 6        value", "code    text 6        id"
        )
        data = out(table(text=text), "csv")
        self.assertIn("has taken its leading zeros", faults(table(text=text), "csv", edited(data, ("002", "2"))))
        plain = out(table(), "csv")
        self.assertIn(
            "002: a spreadsheet has taken its leading zeros", faults(table(), "csv", edited(plain, ("002", "2")))
        )
        self.assertIn(
            "a spreadsheet has rounded it",
            faults(table(), "csv", edited(plain, ("18446744073709551613", "1.84467E+19"))),
        )
        dated = table(barrels([row(1, code=b"3-1"), row(2), row(3)]))
        self.assertIn("took it for a date", faults(dated, "csv", edited(out(dated, "csv"), ("3-1", "2026-03-01"))))
        long = opened("id;v\n123456789012345678;a\n2;b\n", "f.csv")
        self.assertIn(
            "has rounded it", faults(long, "csv", edited(out(long, "csv"), ("123456789012345678", "1.23457E+17")))
        )

    def test_numbers_keep_all_their_digits(self) -> None:
        document = table(barrels([row(1, weight=1 / 3), row(2, weight=0.1 + 0.2), row(3)]))
        data = out(document, "csv")
        self.assertIn("0.30000000000000004", data.decode())
        incoming = exchange_for("csv", document).read(
            edited(data, ("0.30000000000000004", "0.3"), ("0.3333333333333333", "0.333333333333333")),
            document,
            ALL,
            "f",
        )
        self.assertEqual(told(incoming.changes), [("set", "2", "weight", "0.3")])
        self.assertIn("1 number came back with fewer digits", incoming.notes[0])
        self.assertEqual(back(document, "csv", edited(data, ("2.1,", "2.100,"))), [])

    def test_columns_and_keys_that_are_not_right(self) -> None:
        data = out(table(), "csv")
        self.assertIn("there is no field nmae", faults(table(), "csv", edited(data, ("name", "nmae"))))
        self.assertIn("no column id", faults(table(), "csv", edited(data, ("id,", "idd,"))))
        self.assertIn("line 2 has it", faults(table(), "csv", edited(data, ("\n2,", "\n1,"))))

    def test_records_with_more_or_fewer_values(self) -> None:
        for old, new, said in (
            ("Penny glass,", "Penny, glass,", "more values than the first line"),
            (",no,1", ",no", "values, the first line"),
            (",0,no,1", "", "values, the first line"),
        ):
            self.assertIn(
                said,
                faults(book("tables/lenses.kwb"), "csv", edited(out(book("tables/lenses.kwb"), "csv"), (old, new))),
            )
        german = Wanted(language="de", original="en")
        data = out(book("texts/dialogue.kwy"), "csv", german)
        self.assertIn(
            "has 3 values",
            faults(
                book("texts/dialogue.kwy"),
                "csv",
                edited(
                    data,
                    (
                        ',"Die {boat} bringt {n} Fässer."'
                        if b'"Die {boat}' in data
                        else ",Die {boat} bringt {n} Fässer.",
                        "",
                    ),
                ),
                german,
            ),
        )

    def test_records_without_a_key(self) -> None:
        document = opened("a;b\n1;x\n1;x\n", "f.csv")
        data = out(document, "csv")
        self.assertTrue(data.decode("utf-8-sig").startswith("record,a,b\n#0,1,x\n"))
        self.assertEqual(told(back(document, "csv", edited(data, ("1,1,x", "1,1,y")))), [("set", "#1", "b", "y")])

    def test_several_sorts_need_to_be_told_apart(self) -> None:
        with self.assertRaises(UsageError) as caught:
            out(book("scenes/quay.kwn"), "csv")
        self.assertIn("--sheet lamp", caught.exception.hint)
        self.assertEqual(len(out(book("scenes/quay.kwn"), "csv", Wanted("lamp")).splitlines()), 2)


class Xlsx(unittest.TestCase):
    def test_cells_have_their_types(self) -> None:
        page = load_workbook(io.BytesIO(out(table(), "xlsx")))["barrels"]
        heads = [cell.value for cell in page[1]]
        values = dict(zip(heads, (cell.value for cell in page[2]), strict=True))
        self.assertEqual(
            (values["id"], values["big"], values["code"], values["small"], values["price"]),
            ("1", "18446744073709551614", "001", -1, 1.1),
        )

    def test_edited_cells_come_back(self) -> None:
        document = book("scenes/lamp_room.kwn")
        pages = load_workbook(io.BytesIO(out(document, "xlsx")))
        self.assertEqual(pages.sheetnames, [sheet.name for sheet in document.sheets])
        pages["chest"]["E2"] = 7.0
        pages["door"]["C3"] = "Hatch"
        pages["lamp"]["F2"] = 0.1
        made = io.BytesIO()
        pages.save(made)
        self.assertEqual(
            told(back(document, "xlsx", made.getvalue())),
            [("set", "1", "range", "0.1"), ("set", "3", "name", "Hatch"), ("set", "6", "barrels", "7")],
        )
        pages["chest"]["E2"] = 7.5
        made = io.BytesIO()
        pages.save(made)
        self.assertIn("chest row 2, column barrels: '7.5'", faults(document, "xlsx", made.getvalue()))

    def test_a_key_that_became_a_number(self) -> None:
        document = book("tables/lenses.kwb")
        pages = load_workbook(io.BytesIO(out(document, "xlsx")))
        pages.active["A2"] = 101  # type: ignore[index]
        made = io.BytesIO()
        pages.save(made)
        self.assertEqual(back(document, "xlsx", made.getvalue()), [])

    def test_another_workbook(self) -> None:
        made = io.BytesIO()
        Workbook().save(made)
        self.assertIn("no worksheet barrels", faults(table(), "xlsx", made.getvalue()))


class Json(unittest.TestCase):
    def test_values_have_their_types(self) -> None:
        value = json.loads(out(table(), "json"))["barrels"][0]
        self.assertEqual(
            (value["id"], value["big"], value["price"], value["code"], value["wet"]),
            (1, "18446744073709551614", 1.1, "001", "yes"),
        )
        self.assertIn(b'"price": 1.1', out(table(), "json"))

    def test_a_single_object(self) -> None:
        document = book("scenes/lamp_room.kwn")
        wanted = Wanted(row="6")
        value = json.loads(out(document, "json", wanted))
        self.assertEqual(list(value), ["chest"])
        value["chest"][0] |= {"hidden": "no", "holds/0": 105}
        self.assertEqual(
            told(back(document, "json", json.dumps(value).encode(), wanted)),
            [("set", "6", "hidden", "no"), ("set", "6", "holds/0", "105")],
        )

    def test_the_whole_scene(self) -> None:
        document = book("scenes/lamp_room.kwn")
        value = json.loads(out(document, "json"))
        value["door"].append(value["door"][0] | {"id": 9, "to": 9})
        value["lamp"] = []
        changes = back(document, "json", json.dumps(value).encode())
        self.assertEqual(
            [(change.what, change.sheet, change.id) for change in changes],
            [("remove", "lamp", "1"), ("add", "door", "9")],
        )
        del value["sign"]
        self.assertIn("it has no sign", faults(document, "json", json.dumps(value).encode()))
        value["door"][0]["lockd"] = 1
        self.assertIn("there is no field lockd", faults(document, "json", json.dumps(value).encode()))

    def test_rules_in_xml(self) -> None:
        document = book("rules/workshop.xml")
        value = json.loads(out(document, "json"))
        value["job"][0]["lens"] = "104"
        self.assertEqual(told(back(document, "json", json.dumps(value).encode())), [("set", "grind_3", "lens", "104")])


class Translations(unittest.TestCase):
    german = Wanted(language="de", original="en")

    def test_a_table_for_translators(self) -> None:
        document = book("texts/dialogue.kwy")
        data = out(document, "csv", self.german)
        rows = list(csv.reader(io.StringIO(data.decode("utf-8-sig"))))
        self.assertEqual(rows[0], ["id", "used in", "original", "translation"])
        self.assertEqual(
            rows[2], ["ansa.oil", "harbour, every week", "{boat} brings {n} barrels.", "Die {boat} bringt {n} Fässer."]
        )
        changed = back(document, "csv", edited(data, ("Fässer.", "Tonnen.")), self.german)
        self.assertEqual(told(changed), [("set", "ansa.oil@de", "text", "Die {boat} bringt {n} Tonnen.")])

    def test_messages(self) -> None:
        document = book("texts/menu.kwx")
        data = out(document, "po", self.german)
        made = polib.pofile(data.decode())
        start = next(one for one in made if one.msgstr == "An Land rudern")
        self.assertEqual((start.comment, start.msgid), ("menu", "Row ashore"))
        start.msgstr = "Heim\trudern\n"
        self.assertEqual([change.after for change in back(document, "po", str(made).encode())], ["Heim\trudern\n"])
        start.flags.append("fuzzy")
        incoming = exchange_for("po", document).read(str(made).encode(), document, ALL, "f")
        self.assertEqual((incoming.changes, len(incoming.notes)), ([], 1))
        start.flags.clear()
        start.msgid = "Go ashore"
        self.assertIn(
            "was another one: 'Go ashore'",
            exchange_for("po", document).read(str(made).encode(), document, ALL, "f").notes[0],
        )
        start.msgctxt = "none"
        self.assertIn("column id: 'none'", faults(document, "po", str(made).encode()))

    def test_units(self) -> None:
        document = book("texts/dialogue.kwy")
        data = out(document, "xlf", Wanted(language="fr", original="en"))
        root = etree.fromstring(data)
        self.assertEqual(
            (root.get("version"), root.get("srcLang"), root.get("trgLang"), etree.QName(root).namespace),
            ("2.0", "en", "fr", SPACE),
        )
        unit = root[0][4]
        self.assertEqual(
            (unit.get("name"), "".join(map(str, unit[0].itertext())).strip()), ("sign.stair", "lamp room, on the wall")
        )
        unit[1][1].text = "GARE À LA MARCHE"
        changed = back(document, "xlf", etree.tostring(root))
        self.assertEqual(told(changed), [("set", "sign.stair@fr", "text", "GARE À LA MARCHE")])
        self.assertIn("not the root of an XLIFF 2 file", faults(document, "xlf", b"<xliff/>"))
        bomb = (
            b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/hostname">]><xliff xmlns="%s" trgLang="fr">&a;</xliff>'
            % SPACE.encode()
        )
        self.assertEqual(back(document, "xlf", bomb), [])

    def test_languages_that_are_not_there(self) -> None:
        for wanted, said in ((Wanted(language="nl"), "has no language nl"), (Wanted(language="de", original="nl"), "")):
            with self.assertRaises(VolvexError) as caught:
                out(book("texts/menu.kwx"), "po", wanted)
                raise FormatError("f", "")
            self.assertIn(said, caught.exception.message)
        with self.assertRaises(UsageError):
            out(table(), "csv", self.german)


if __name__ == "__main__":
    unittest.main()
