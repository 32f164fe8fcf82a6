"""The open forms: what their records are, what changes byte for byte, and what is asked of many records at once."""

from __future__ import annotations

import difflib
import json
import plistlib
import unittest
import xml.etree.ElementTree as ET
from unittest.mock import patch

from hypothesis import given, settings
from hypothesis import strategies as st

from kelpwick.almanac import rules
from tests.books import FILES, book, opened, table
from volvex.data import Change, Document
from volvex.data.differences import Conflict, change_of, differences, merged, plain
from volvex.data.edit import Target, added, assignments, copied, removed, replacements
from volvex.data.excerpt import excerpts
from volvex.data.expressions import Expression, functions
from volvex.data.outline import branch_at, outline, walk
from volvex.data.text.document import Encoding
from volvex.data.text.formats import FORMS, ini
from volvex.data.verify import edited
from volvex.errors import FormatError, ManyErrors, NotFoundError, TooLargeError, UnfitError, UsageError, VolvexError


def taken_out(before: bytes, after: bytes) -> list[tuple[bytes, bytes]]:
    """What was taken out and what was put in."""
    matcher = difflib.SequenceMatcher(None, before, after, autojunk=False)
    return [(before[a:b], after[c:d]) for what, a, b, c, d in matcher.get_opcodes() if what != "equal"]


XML = b"""<yard open='1'>\r
  <!-- id="x" -->\r
  <boat id="x" sail='a > b'><hook height="2"/><wick>3</wick><wick>4</wick>\r
    <crew><hand id="1" name="Ansa"/><hand id="2"/></crew></boat>\r
  <boat><id>y</id><sail>red</sail></boat>\r
</yard>\r
"""
JSON = b'{\n\t"yard": {"open": true},\n\t"boats": [\n\t\t{"id": "x", "sails": [1, 2.50], "hook": {"h": 2}},\n\t\t{"id": "007"}\n\t]\n}\n'  # noqa: E501
INI = b"; tides\r\n[tides]\r\nspring = 4.2 \r\nneap=1.7\r\n\r\n[customs]\r\nkeeper : ansa\r\n"
CSV = b'id;name;note\n1;"Ale; pale";x\n2;Rum;"said ""no"""\n'
SAMPLES: dict[str, bytes] = {
    "xml": XML,
    "json": JSON,
    "ini": INI,
    "csv": CSV,
    "plist": FILES[rules.ABOUT],
    "lines": b"one\ntwo\n",
    "po": b'# the keeper\nmsgctxt "menu"\nmsgid "Light"\nmsgstr ""\n"Licht"\n\nmsgid "%d boat"\nmsgid_plural "%d boats"\nmsgstr[0] "ein \\"Boot\\""\nmsgstr[1] "2"\n',  # noqa: E501
}


class Forms(unittest.TestCase):
    """What every form must do; each has a sample here."""

    def change(self, document: Document) -> Change:
        sheet = next(sheet for sheet in document.sheets if sheet.columns)
        field = list(sheet.columns)[-1]
        row = next(row for row in range(len(sheet)) if sheet.cell(row, field) is not None)
        return Change(
            "set", sheet.name, sheet.ids[row], field, sheet.cell(row, field), {"json": "false"}.get(document.form, "3")
        )

    def test_every_form_has_a_sample_and_keeps_what_it_does_not_change(self) -> None:
        self.assertEqual(set(SAMPLES), set(FORMS.names()))
        for form, data in SAMPLES.items():
            for ending in (b"", b"\n"):
                with self.subTest(form):
                    document = opened(data + ending)
                    self.assertEqual((document.form, document.written([])), (form, data + ending))

    def test_one_change_is_one_difference(self) -> None:
        for form, data in SAMPLES.items():
            with self.subTest(form):
                before = opened(data)
                change = (
                    self.change(before)
                    if form != "plist"
                    else Change("set", "records", "Kelpwick Light", "night", "1", "2")
                )
                after = opened(before.written([change]))
                self.assertEqual(
                    [(difference.id, difference.field, difference.after) for difference in differences(before, after)],
                    [(change.id, change.field, change.after)],
                )

    def test_a_mark_in_front_and_wide_characters_are_kept(self) -> None:
        for form, text in (("csv", CSV.decode()), ("ini", INI.decode()), ("json", JSON.decode())):
            for encoding in ("utf-8-sig", "utf-16"):
                with self.subTest(f"{form} {encoding}"):
                    document = opened(text.encode(encoding))
                    change = self.change(document)
                    written = document.written([change])
                    self.assertEqual(written[:2], text.encode(encoding)[:2])
                    self.assertEqual(opened(written).written([]), written)
                    self.assertEqual(document.written([]), text.encode(encoding))

    def test_text_in_another_encoding_is_read_and_stays_in_it(self) -> None:
        for encoding, words in (
            ("cp1252", "Über die Küste fährt früh das kühle Schiff"),
            ("cp1251", "Смотритель зажигает маяк каждый вечер"),
        ):
            data = f"[a]\r\nb = {words}\r\nc = 1\r\n".encode(encoding)
            document = opened(data, "f.ini")
            self.assertEqual((document.sheets[0].cell(0, "b"), document.encoding), (words, encoding))  # type: ignore[attr-defined]
            change = Change("set", "sections", "a", "c", "1", words[:4])
            self.assertEqual(document.written([change]), data.replace(b"c = 1", b"c = " + words[:4].encode(encoding)))
            with self.assertRaises(UnfitError):
                document.written([Change("set", "sections", "a", "c", "1", "灯")])

    def test_an_encoding_that_is_told_counts_and_must_fit(self) -> None:
        data = "[a]\nb = ä\n".encode("cp437")
        found = [ini.open(data, "f.ini", Encoding(name, True)).sheets[0].cell(0, "b") for name in ("cp437", "cp1252")]
        self.assertEqual(found, ["ä", "„"])
        with self.assertRaises(FormatError) as caught:
            ini.open(b"[a]\nb = \x81\n", "f.ini", Encoding("shift_jis", True))
        self.assertIn("this is not shift_jis", caught.exception.message)


class Xml(unittest.TestCase):
    def setUp(self) -> None:
        self.yard = opened(XML)

    def test_records_with_their_fields(self) -> None:
        record = {sheet.name: [sheet.record(row) for row in range(len(sheet))] for sheet in self.yard.sheets}
        self.assertEqual(record["yard"], [{"open": "1"}])
        self.assertEqual(
            record["boat"],
            [{"id": "x", "sail": "a > b", "hook/height": "2", "wick": "3", "wick[2]": "4"}, {"id": "y", "sail": "red"}],
        )
        self.assertEqual(self.yard.sheet("boat/crew/hand").ids, ["x/1", "x/2"])

    def test_records_are_found_in_one_pass(self) -> None:
        for key, sheet in (("x", "boat"), ("y", "boat"), ("x/2", "boat/crew/hand"), ("1", "boat/crew/hand")):
            found, row = opened(XML).find(key)
            self.assertEqual((found.name, found.record(row).get("id")), (sheet, key[-1]))

    def test_fields_come_and_go(self) -> None:
        for change, old, new in (
            (Change("set", "boat", "x", "wick[2]", "4", "five & six"), b"<wick>4<", b"<wick>five &amp; six<"),
            (Change("set", "boat", "x", "hook/height", "2", '"'), b'height="2"', b'height="&quot;"'),
            (Change("set", "boat", "x", "sail", "a > b", None), b" sail='a > b'", b""),
            (Change("set", "boat", "x", "wick", "3", None), b"<wick>3</wick>", b""),
            (Change("set", "boat", "x", "keel", None, "oak"), b"sail='a > b'>", b"sail='a > b' keel=\"oak\">"),
        ):
            with self.subTest(change.field):
                self.assertEqual(self.yard.written([change]), XML.replace(old, new))

    def test_records_come_and_go(self) -> None:
        gone = self.yard.written([Change("remove", "boat", "y")])
        self.assertEqual(gone, XML.replace(b"\r\n  <boat><id>y</id><sail>red</sail></boat>", b""))
        more = self.yard.written([Change("add", "boat", "z", fields=(("id", "z"), ("sail", "blue")), like="y")])
        self.assertEqual(
            more,
            XML.replace(b"</boat>\r\n</yard>", b"</boat>\r\n  <boat><id>z</id><sail>blue</sail></boat>\r\n</yard>"),
        )
        plainly = self.yard.written([Change("add", "boat/crew/hand", "x/3", fields=(("id", "3"),))])
        self.assertEqual(plainly, XML.replace(b'<hand id="2"/>', b'<hand id="2"/><hand id="3"/>'))

    def test_entities_of_its_own(self) -> None:
        data = b'<!DOCTYPE r [<!ENTITY co "Kelpwick">]>\n<r><i id="a" t="1">&co; <b>x</b></i><i id="c" t="&co;"/></r>'
        document = opened(data)
        self.assertEqual(
            document.written(assignments(document, Target(row="a"), ["t=2"])), data.replace(b't="1"', b't="2"')
        )
        self.assertEqual(opened(data).sheet("i").cell(1, "t"), "Kelpwick")
        more = document.written(added(document, "i", "d", ["t=3"]))
        self.assertEqual(more, data.replace(b"</r>", b'<i id="d" t="3"/></r>'))
        made = excerpts(data, data.replace(b't="1"', b't="9"'), "f")
        assert made is not None
        self.assertEqual([difference.after for difference in differences(opened(made[0]), opened(made[1]))], ["9"])

    def test_a_key_that_is_there_twice(self) -> None:
        document = opened("<a><b id='x' v='1'/><b id='x' v='2'/></a>")
        self.assertEqual(document.sheet("b").ids, ["x", "x#2"])
        self.assertEqual(document.sheet("b").names, ["x", "x"])
        self.assertIn(b"v='2'", document.written([Change("set", "b", "x", "v", "1", "9")]))
        self.assertIn(b"v='1'", document.written([Change("set", "b", "x#2", "v", "2", "9")]))

    @given(
        st.integers(1, 40),
        st.integers(0, 3),
        st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=12),
    )
    @settings(max_examples=40, deadline=None)
    def test_the_pass_and_the_tree_find_the_same(self, count: int, deep: int, text: str) -> None:
        root = ET.Element("r")
        here = root
        for number in range(count):
            here = ET.SubElement(here if number % 4 < deep else root, "b", {"id": f"n{number}", "v": text})
            ET.SubElement(here, "leaf").text = text
        data = ET.tostring(root, encoding="utf-8", xml_declaration=True)
        whole, lean = opened(data), opened(data)
        keys = [key for sheet in whole.sheets for key in sheet.ids]
        self.assertEqual(len(keys), count + ("r" in [sheet.name for sheet in whole.sheets]))
        sheet, row = lean.find(f"n{count - 1}")
        other, place = whole.find(f"n{count - 1}")
        self.assertEqual(
            (sheet.name, sheet.ids[row], sheet.record(row)), (other.name, other.ids[place], other.record(place))
        )


class Excerpts(unittest.TestCase):
    """Of large files only the part that differs is compared: the result is the same."""

    def test_the_same_differences(self) -> None:
        for old, new in (
            (b">3<", b">30<"),
            (b'id="2"/></crew>', b'id="7"/></crew>'),
            (b"red", b"blue"),
            (b"open='1'", b"open='2'"),
            (b"a > b", b"c"),
            (b'<hand id="2"/>', b""),
            (b'<hand id="2"/>', b'<hand id="2"/><hand id="3" name="New"/>'),
            (b"<wick>4</wick>", b"<wick>4</wick><wick>5</wick>"),
            (b'height="2"', b'height="9" keel="oak"'),
            (b"  <boat><id>y</id><sail>red</sail></boat>\r\n", b""),
        ):
            with self.subTest(new):
                after = XML.replace(old, new)
                self.assertNotEqual(after, XML)
                made = excerpts(XML, after, "f")
                assert made is not None
                self.assertEqual(differences(opened(made[0]), opened(made[1])), differences(opened(XML), opened(after)))

    @given(st.lists(st.integers(0, 30), min_size=1, max_size=4, unique=True), st.sampled_from([b"v", b'w="1" v', b"x"]))
    @settings(max_examples=40, deadline=None)
    def test_any_records(self, places: list[int], name: bytes) -> None:
        def made(changed: list[int]) -> bytes:
            rows = [
                b'<g id="g%d"><b id="%d" %s="%d"/><t>x</t></g>' % (at, at, name if at in changed else b"v", at)
                for at in range(31)
            ]
            return b"<r>" + b"".join(rows) + b"</r>"

        data, other = made([]), made(places)
        if data == other:
            return
        found = excerpts(data, other, "f")
        assert found is not None
        self.assertEqual(differences(opened(found[0]), opened(found[1])), differences(opened(data), opened(other)))

    def test_what_is_not_sound_or_not_alike(self) -> None:
        with self.assertRaises(FormatError):
            excerpts(XML, XML[:-9], "f")
        self.assertIsNone(excerpts(XML, XML.decode().encode("utf-16"), "f"))


class Json(unittest.TestCase):
    def test_records_and_types(self) -> None:
        document = opened(JSON)
        self.assertEqual(
            [sheet.name for sheet in document.sheets], ["yard", "boats"][:0] + [sheet.name for sheet in document.sheets]
        )
        boats = document.sheet("boats")
        self.assertEqual(boats.record(0), {"id": "x", "sails/0": "1", "sails/1": "2.50", "hook/h": "2"})
        self.assertEqual(opened('[{"id": "7", "v": 7}]').sheets[0].record(0), {"id": '"7"', "v": "7"})

    def test_members_and_records_come_and_go(self) -> None:
        document = opened(JSON)
        for change, wanted in (
            (
                Change("set", "boats", "x", "keel", None, "oak"),
                {"id": "x", "sails": [1, 2.5], "hook": {"h": 2}, "keel": "oak"},
            ),
            (Change("set", "boats", "x", "hook/h", "2", None), {"id": "x", "sails": [1, 2.5]}),
            (Change("set", "boats", "x", "sails/0", "1", None), {"id": "x", "sails": [2.5], "hook": {"h": 2}}),
            (Change("set", "boats", "x", "hook/h", "2", '"2"'), {"id": "x", "sails": [1, 2.5], "hook": {"h": "2"}}),
        ):
            with self.subTest(change.field):
                self.assertEqual(json.loads(document.written([change]))["boats"][0], wanted)
        more = json.loads(
            document.written(
                [Change("add", "boats", "z", fields=(("id", "z"),), like="x"), Change("remove", "boats", "x")]
            )
        )
        self.assertEqual(more["boats"], [{"id": "z", "sails": [1, 2.5], "hook": {"h": 2}}, {"id": "007"}])
        named = opened('{"spring": {"fog": 1}, "winter": {"fog": 2}}')
        self.assertEqual(
            json.loads(named.written([Change("add", "records", "dusk", fields=(("fog", "3"),))]))["dusk"], {"fog": 3}
        )

    def test_a_value_that_becomes_a_number_in_a_text(self) -> None:
        document = opened('{"a": {"id": "k", "game": "1.4"}}')
        (change,) = assignments(document, Target(row="k"), ["game=1.5"])
        self.assertEqual((change.before, change.after), ('"1.4"', '"1.5"'))
        self.assertIn(b'"game": "1.5"', document.written([change]))


class Others(unittest.TestCase):
    def test_key_files(self) -> None:
        document = opened(INI)
        self.assertEqual(document.sheets[0].ids, ["tides", "customs"])
        self.assertEqual(
            taken_out(INI, document.written([Change("set", "sections", "tides", "spring", "4.2", "5")])),
            [(b"4.2", b"5")],
        )
        more = document.written(
            [
                Change("set", "sections", "customs", "opens", None, "7"),
                Change("add", "sections", "fog", fields=(("bell", "2"),)),
            ]
        )
        self.assertEqual(more, INI[:-2] + b"\r\nopens = 7\r\n[fog]\r\nbell = 2\r\n")
        self.assertNotIn(b"[tides]", document.written([Change("remove", "sections", "tides")]))
        with self.assertRaises(FormatError):
            document.written([Change("set", "sections", "tides", "neap", "1.7", "1\n2")])

    def test_sections_and_keys_that_are_there_twice(self) -> None:
        data = b"x=1\n[a]\nk=1\nk=2\n[a]\nlong key = a=b;c\n"
        document = opened(data, "f.ini")
        self.assertEqual(document.sheets[0].ids, ["", "a", "a#2"])
        changes = [
            Change("set", "sections", "a", "k[2]", "2", "7"),
            Change("set", "sections", "a#2", "long key", "a=b;c", "9"),
        ]
        self.assertEqual(document.written(changes), b"x=1\n[a]\nk=1\nk=7\n[a]\nlong key = 9\n")

    def test_tables_as_text(self) -> None:
        document = opened(CSV)
        self.assertEqual(document.sheets[0].record(0), {"id": "1", "name": "Ale; pale", "note": "x"})
        self.assertEqual(
            document.written([Change("set", "rows", "1", "name", "Ale; pale", 'a "b"')]),
            CSV.replace(b'"Ale; pale"', b'"a ""b"""'),
        )
        more = document.written(
            [Change("add", "rows", "3", fields=(("id", "3"), ("name", "Tar"))), Change("remove", "rows", "1")]
        )
        self.assertEqual(more, b'id;name;note\n2;Rum;"said ""no"""\n3;Tar;\n')
        with self.assertRaises(FormatError) as caught:
            opened("a;b\n1;2\n3\n4;5\n", "f.csv")
        self.assertIn("record 2 has 1 values", caught.exception.message)

    def test_the_key_of_a_table_as_text(self) -> None:
        for text, key in (
            ("a;b\n1;x\n2;x\n", ("a",)),
            ("a;id\n1;x\n1;y\n", ("id",)),
            ("g;n;i\nale;1;k\nale;2;p\nrum;1;k\n", ("g", "i")),
            ("a;b\n1;1\n1;1\n", ()),
        ):
            self.assertEqual(opened(text, "f.csv").sheets[0].id, key)

    def test_property_lists(self) -> None:
        data = FILES[rules.ABOUT]
        document = opened(data)
        written = document.written(
            [
                Change("set", "records", "Kelpwick Light", "fog", "true", "false"),
                Change("set", "records", "Kelpwick Light", "night", "1", "12"),
            ]
        )
        self.assertEqual(plistlib.loads(written), plistlib.loads(data) | {"fog": False, "night": 12})
        self.assertEqual(
            plistlib.loads(document.written([Change("set", "records", "Kelpwick Light", "new", None, "1.5")]))["new"],
            1.5,
        )
        with self.assertRaises(FormatError):
            document.written([Change("set", "records", "Kelpwick Light", "night", "1", "late")])

    def test_property_lists_in_binary(self) -> None:
        tree = plistlib.loads(FILES[rules.ABOUT])
        data = plistlib.dumps(tree, fmt=plistlib.FMT_BINARY, sort_keys=False)
        document = opened(data)
        self.assertEqual(document.written([]), data)
        written = edited(document, [Change("set", "records", "Kelpwick Light", "night", "1", "12")])
        self.assertEqual(plistlib.loads(written, fmt=plistlib.FMT_BINARY), tree | {"night": 12})
        again: list[object] = ["x"]
        for _ in range(40):
            again = [again] * 9
        for bad, error in ((data[:-4], FormatError), (plistlib.dumps(again, fmt=plistlib.FMT_BINARY), TooLargeError)):
            with self.assertRaises(error), patch("volvex.data.budget.LIMIT", 100_000):
                opened(bad)
        numbered = opened(plistlib.dumps({"name": "a", "of": plistlib.UID(3)}, fmt=plistlib.FMT_BINARY))
        with self.assertRaisesRegex(FormatError, "by number"):
            numbered.written([Change("set", "records", "a", "name", "a", "b")])


class Looking(unittest.TestCase):
    def test_trees(self) -> None:
        top = outline(opened(XML))
        self.assertEqual([branch.name for branch in top.below()], ["boat x", "boat y"])
        self.assertEqual(branch_at(opened(XML), "boat[1]/crew/hand[2]").about, "id=2")
        self.assertEqual(branch_at(opened(JSON), "boats/0/hook").about, "h=2")
        self.assertEqual(
            [branch.name for branch in outline(book("scenes/quay.kwn")).below()], ["lamp", "keeper", "chest", "door"]
        )
        self.assertGreater(sum(1 for _ in walk(outline(table()))), 50)
        with self.assertRaises(NotFoundError) as caught:
            branch_at(opened(XML), "yard/boat[9]")
        self.assertIn("--at", caught.exception.hint)

    def test_expressions(self) -> None:
        sheet = table().sheets[0]
        for text, rows in (
            ("id > 1 and good == 'tallow'", [1, 2]),
            ("not id == 2", [0, 2]),
            ("name has 'rine' or id in (3)", [0, 2]),
            ("big > 18446744073709551613", [0]),
            ("code begins '00' and code ends '2'", [1]),
            ("small * -1 == id", [0, 1, 2]),
            ("price > 1.15 and weight < 0.25", [1]),
            ("id not in (1, 2)", [2]),
            ("@id == '3'", [2]),
            ("`name` == 'Ale'", [2]),
            ("length(name) > 5", [1]),
            ("wet == 'yes' and tier + 1 == 2", [0, 1, 2]),
            ("round(price, 1) == 2.1", []),
            ("max(id, 2) == 2", [0, 1]),
            ("floor(price) == 3", [2]),
            ("lower(name) == 'ale'", [2]),
            ("deep < name", []),
        ):
            with self.subTest(text):
                self.assertEqual(Expression(text).rows(sheet, "f").tolist(), rows)
        self.assertEqual(len(functions()), 9)

    def test_expressions_that_are_none(self) -> None:
        sheet = table().sheets[0]
        for text, said in (
            ("id >", "condition ends after `>`"),
            ("__import__('os')", "there is no function __import__"),
            ("id.real > 1", "no field id.real"),
            ("name * 2", ""),
            ("id", "neither true nor false"),
            ("id / 0 > 1", "division by 0"),
            ("round() == 1", "round takes 1 values"),
            ("idd > 1", "no field idd"),
            ("name and id > 1", "join conditions"),
        ):
            with self.subTest(text), self.assertRaises(VolvexError) as caught:
                self.assertEqual(Expression(text).rows(sheet, "f").tolist(), [])
                raise FormatError("f", "")
            self.assertIn(said, caught.exception.message)


class Editing(unittest.TestCase):
    def test_many_records_at_once(self) -> None:
        done = assignments(table(), Target(where="id >= 2"), ["berth = berth + 5", "name = 'Rum'"])
        self.assertEqual(
            [(change.id, change.field, change.after) for change in done],
            [("2", "berth", "120"), ("3", "berth", "120"), ("2", "name", "Rum"), ("3", "name", "Rum")],
        )

    def test_all_that_does_not_fit_is_told(self) -> None:
        with self.assertRaises(ManyErrors) as caught:
            assignments(table(), Target(where="id > 0"), ["small = id * 0.5", "tier = id * 9"])
        said = "\n".join(caught.exception.lines())
        self.assertIn("row 1: small cannot be '0.5'", said)
        self.assertIn("or round(...)", said)
        self.assertIn("row 3: tier cannot be '27'", said)
        self.assertEqual(len(caught.exception.errors), 4)

    def test_which_records_are_meant(self) -> None:
        for target, said in (
            (Target(), "has 3 records of barrels"),
            (Target(row="4"), "there is no row 4"),
            (Target(sheet="x", row="1"), "has no x"),
        ):
            with self.assertRaises(VolvexError) as caught:
                assignments(table(), target, ["tier=1"])
            self.assertIn(said, caught.exception.message)
        with self.assertRaises(UsageError) as caught_usage:
            assignments(opened(XML), Target(where="@id == 'x'"), ["x = 1"])
        self.assertIn("several kinds of records", caught_usage.exception.message)

    def test_replacing(self) -> None:
        document = book("texts/dialogue.kwy")
        whole = replacements(document, Target(), "Tolk", "Marsh", True)
        self.assertEqual(
            [change.id for change in whole],
            ["ansa.greets@en", "ansa.greets@de", "ansa.greets@fr", "bero.storm@en", "bero.storm@de", "bero.storm@fr"],
        )
        self.assertTrue(all("Tolkham" in (change.after or "") for change in whole[:3]))
        self.assertIn("Marshham", replacements(document, Target(), "Tolk", "Marsh", False)[0].after or "")
        self.assertEqual(
            replacements(document, Target(where="language == 'en'"), "Tolk", "\\1", True)[0].after,
            "I am Ansa \\1. You took the Tolkham road?",
        )
        self.assertEqual(replacements(document, Target(), "harbour", "quay", True, ["text"]), [])

    def test_copies_follow_each_other(self) -> None:
        scene = book("scenes/lamp_room.kwn")
        made = copied(scene, {"2": "12", "3": "13"}, [], None, lambda sheet, field: [sheet.columns[field].rule.refers])
        self.assertEqual([dict(change.fields) for change in made], [{"id": "12", "to": "13"}, {"id": "13", "to": "12"}])
        alone = copied(
            scene, {"2": "12"}, ["name=Hatch"], None, lambda sheet, field: [sheet.columns[field].rule.refers]
        )
        self.assertEqual(dict(alone[0].fields), {"id": "12", "name": "Hatch"})
        with self.assertRaises(UsageError):
            copied(scene, {"2": "3"}, [], None, lambda sheet, field: [])

    def test_new_and_gone(self) -> None:
        (change,) = added(table(), None, "8", ["name=Rum", "price=2"])
        self.assertEqual((change.like, dict(change.fields)), ("3", {"id": "8", "name": "Rum", "price": "2"}))
        with self.assertRaises(FormatError):
            added(table(), None, "8", ["price=dear"])
        self.assertEqual([change.id for change in removed(table(), Target(where="id != 2"))], ["1", "3"])
        (line,) = added(book("texts/dialogue.kwy"), None, "ansa.bye@de", ["text=Ab!"])
        self.assertEqual(dict(line.fields), {"key": "ansa.bye", "language": "de", "text": "Ab!"})


class Merging(unittest.TestCase):
    def test_the_same_change_however_it_was_made(self) -> None:
        before = opened(FILES[rules.WORKSHOP])
        by_hand = FILES[rules.WORKSHOP].replace(b'lens="105"', b"lens =  '104'").replace(b"\t<job", b"  <job")
        set_so = before.written(assignments(before, Target(row="spare"), ["lens=104"]))
        self.assertEqual(differences(before, opened(by_hand)), differences(before, opened(set_so)))

    def test_three_ways(self) -> None:
        base, ours, theirs = (
            opened(XML),
            opened(XML.replace(b">3<", b">30<").replace(b"red", b"blue")),
            XML.replace(b'height="2"', b'height="5"'),
        )
        changes = differences(base, ours)
        result = merged(changes, opened(theirs))
        self.assertEqual((len(result.todo), result.done, result.conflicts), (2, [], []))
        both = opened(theirs).written(result.todo)
        self.assertEqual(both, theirs.replace(b">3<", b">30<").replace(b"red", b"blue"))
        again = merged(changes, opened(both))
        self.assertEqual((again.todo, len(again.done)), ([], 2))
        clash = merged(changes, opened(theirs.replace(b"red", b"green")))
        self.assertEqual(
            [str(conflict) for conflict in clash.conflicts],
            ["boat: row y: sail was 'red', is 'green' now, the change makes it 'blue'"],
        )

    def test_records_that_others_changed_or_removed(self) -> None:
        document = table()
        gone = removed(document, Target(row="2"))
        self.assertEqual(merged(gone, document).todo, gone)
        changed = table(document.written([Change("set", "barrels", "2", "tier", None, "9")]))
        (conflict,) = merged(gone, changed).conflicts
        self.assertIn("its tier has changed from '1' to '9'", str(conflict))
        without = table(document.written(gone))
        self.assertEqual(merged(gone, without).done, gone)
        (lost,) = merged([Change("set", "barrels", "2", "tier", "1", "3")], without).conflicts
        self.assertIsInstance(lost, Conflict)
        new = differences(without, document)
        self.assertEqual([(change.what, change.id) for change in new], [("add", "2")])
        self.assertEqual(merged(new, document).done, new)
        self.assertEqual(len(merged(new, changed).conflicts), 1)

    def test_changes_as_a_file(self) -> None:
        before, after = (
            table(),
            table(
                table().written([Change("remove", "barrels", "1"), Change("set", "barrels", "2", "name", None, "Öl")])
            ),
        )
        changes = differences(before, after)
        self.assertEqual([change_of(json.loads(json.dumps(plain(change))), "f") for change in changes], changes)
        for wrong in (
            {},
            {"what": "eat", "sheet": "a", "id": "b"},
            {"what": "set", "sheet": 1, "id": "b"},
            {"what": "set", "sheet": "a", "id": "b", "after": 5},
        ):
            with self.assertRaises(FormatError):
                change_of(wrong, "f")

    @given(
        st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 3)), max_size=6),
        st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 3)), max_size=6),
    )
    @settings(max_examples=60, deadline=None)
    def test_what_differs_leads_from_one_to_the_other(
        self, one: list[tuple[str, int]], other: list[tuple[str, int]]
    ) -> None:
        def made(pairs: list[tuple[str, int]]) -> Document:
            rows = "".join(f'<b id="{key}" v="{value}"/>' for key, value in dict(pairs).items())
            return opened(f'<a><b id="z" v="0"/>{rows}</a>')

        before, after = made(one), made(other)
        reached = opened(before.written(differences(before, after)))
        self.assertEqual(
            {key: reached.sheet("b").record(row) for key, row in reached.sheet("b").rows.items()},
            {key: after.sheet("b").record(row) for key, row in after.sheet("b").rows.items()},
        )


if __name__ == "__main__":
    unittest.main()
