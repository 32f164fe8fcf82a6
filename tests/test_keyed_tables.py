"""Tables in open text files: keyed objects, lists of objects, repeated elements and sections, with sparse and nested
records."""

from __future__ import annotations

import json
import random
import unittest
import zipfile
from typing import Any

from tests.support import Case
from volvex.data.differences import differences
from volvex.data.edit import added
from volvex.data.model.sheet import Document
from volvex.data.text.formats import ini, plist
from volvex.data.text.formats.json import JsonData
from volvex.data.text.formats.xml import XmlData
from volvex.data.verify import edited
from volvex.errors import VolvexError


def json_of(value: object) -> JsonData:
    return JsonData(json.dumps(value, indent=1).encode(), "lamps.json")


def keys(document: Document) -> dict[str, list[str]]:
    return {sheet.name: sheet.ids for sheet in document.sheets}


def lamps(count: int) -> dict[str, Any]:
    return {f"lamp_{n}": {"id": f"lamp_{n}", "range": n, "oil": 2.5, "tags": ["brass"]} for n in range(count)}


class Keyed(unittest.TestCase):
    def test_most_records_decide_and_one_that_lacks_fields_is_a_sparse_one(self) -> None:
        full = {name: {"id": name, "hp": 1, "w": 2} for name in "abcd"}
        self.assertEqual(keys(json_of({**full, "z": {"id": "z"}})), {"records": [*"abcdz"]})
        self.assertEqual(keys(json_of({"version": 3, **full})), {"head": [""], "records": [*"abcd"]})
        mixed = {f"k{n}": {"id": f"k{n}", f"field_{n}": 1, f"other_{n}": 2, f"more_{n}": 3} for n in range(9)}
        self.assertEqual(list(keys(json_of(mixed))), ["records"])  # named by their ids, whatever else is in them
        parts = {"hull": {"name": "Oak", "planks": 40}, "sail": {"name": "Lateen", "cloth": 3, "reefs": 2}}
        self.assertEqual(keys(json_of(parts)), {"hull": ["Oak"], "sail": ["Lateen"]})

    def test_a_new_record_repeats_its_id_in_the_fields_that_do_so(self) -> None:
        foods = {
            name: {"id": 700 + at, "name": name, "title": name.upper()} for at, name in enumerate(("kelp", "whelk"))
        }
        document = json_of(foods)
        made = json.loads(edited(document, added(document, None, "lamp_pie", ["title=Pie"])))
        self.assertEqual(made["lamp_pie"], {"id": 701, "name": "lamp_pie", "title": "Pie"})
        self.assertEqual({name: made[name] for name in foods}, foods)
        document = json_of({"kelp": {"id": "kelp", "name": "Kelp"}, "whelk": {"id": "whelk", "name": "Whelk"}})
        made = json.loads(edited(document, added(document, None, "limpet", [])))
        self.assertEqual(made["limpet"], {"id": "limpet", "name": "Whelk"})

    def test_what_stands_at_one_path_of_several_records_is_one_sheet(self) -> None:
        drops = [{"coin": {"id": "coin", "n": 1}}, {"coin": {"id": "coin", "n": 2}, "gem": {"id": "gem", "n": 1}}, {}]
        value = {f"crab_{n}": {"id": f"crab_{n}", "hp": n, "drops": some} for n, some in enumerate(drops)}
        self.assertEqual(
            keys(json_of(value)),
            {"records": ["crab_0", "crab_1", "crab_2"], "drops": ["crab_0/coin", "crab_1/coin", "crab_1/gem"]},
        )

    def test_objects_in_a_list_have_a_number_where_they_have_no_id(self) -> None:
        document = json_of([{"x": 1, "y": 2}, {"x": 3}])
        self.assertEqual(keys(document), {"records": ["#0", "#1"]})
        self.assertEqual(document.sheets[0].cell(1, "x"), "3")
        self.assertEqual(keys(json_of({"a": [{"id": "p"}, {"id": "q"}, {"hp": 3}]})), {"a": ["p", "q", "#2"]})

    def test_elements_that_repeat_without_an_id_are_rows(self) -> None:
        text = b'<m v="2"><lamp id="a"><wick l="1"/><wick l="2"/></lamp><lamp hp="7"/><def><c>3</c></def><def><c>4</c></def><one><c>1</c></one></m>'  # noqa: E501
        document = XmlData(text, "m.xml")
        self.assertEqual(keys(document), {"m": [""], "lamp": ["a", "#1"], "def": ["#0", "#1"]})
        self.assertEqual(list(document.sheet("m").columns), ["v", "one/c"])
        self.assertIn("wick[2]/l", document.sheet("lamp").columns)
        other = XmlData(text.replace(b"<def><c>4</c></def>", b"<def><c>4</c></def><def><c>9</c></def>"), "m.xml")
        self.assertEqual(edited(document, differences(document, other)), other.data)

    def test_a_new_element_takes_its_form_from_the_record_most_like_it(self) -> None:
        text = b'<m><lamp id="a"><oil>3</oil></lamp><lamp id="b" hp="1"/></m>'
        other = text.replace(b"</m>", b'<lamp id="c"><oil>5</oil></lamp></m>')
        made = edited(XmlData(text, "m.xml"), differences(XmlData(text, "m.xml"), XmlData(other, "m.xml")))
        self.assertEqual(made, other)

    def test_sections_of_one_name_are_a_sheet(self) -> None:
        text = b"// the lamps\r\nVersion = 3\r\n" + b"".join(
            b'[lamp]\r\nid = "l%d"\r\nrange = %d\r\n\r\n' % (n, n) for n in range(3)
        )
        for name, data in {"lamps.dat": text, "lamps.txt": text.replace(b"[lamp]", b"[[lamp]]")}.items():
            with self.subTest(name):
                self.assertTrue(ini.knows(data, "text", name))
                document = ini.open(data, name)
                self.assertEqual(keys(document), {"sections": [""], "lamp": ["l0", "l1", "l2"]})
                more = data + (b"[[lamp]]" if b"[[" in data else b"[lamp]") + b'\r\nid = "l3"\r\nrange = 30\r\n'
                self.assertEqual(edited(document, differences(document, ini.open(more, name))), more)
        wide = "\ufeff[lamp]\nrange = 9\n[buoy]\nlit = 1\n".encode("utf-16-le")
        self.assertTrue(ini.knows(wide, "text", "lamps.dat"))
        self.assertFalse(ini.knows(b"Dear Ansa: the oil came.\nThe boat leaves\nat four.\n", "text", "letter.txt"))

    def test_ids_that_repeat_in_different_records_are_no_fault(self) -> None:
        value = {name: {"id": name, "w": 1, "drops": [{"id": "coin", "n": 1}]} for name in "ab"}
        self.assertEqual(json_of(value).sheet("drops").repeated, [])
        value["a"]["drops"] = [{"id": "coin", "n": 1}, {"id": "coin", "n": 2}]
        self.assertEqual(json_of(value).sheet("drops").repeated, ["a/coin"])


class There(unittest.TestCase):
    """Differences between two states, put into the first one, give the second."""

    def test_new_records_with_all_that_is_in_them(self) -> None:
        old = {"version": 3, **lamps(3)}
        old["lamp_0"]["drops"] = [{"id": "wick", "n": 1}]
        new = json.loads(json.dumps(old))
        new["new"] = {
            "id": "new",
            "tags": [],
            "drops": [{"id": "oil", "odd": {"k": [1, {"z": "5"}]}}],
            "waves": [{"x": 5}],
        }
        new["lamp_1"]["tags"], new["lamp_2"]["tags"] = [], ["1", "x", 2]
        new["lamp_1"]["drops"] = [{"id": "glass"}]
        document = json_of(old)
        self.assertEqual(json.loads(edited(document, differences(document, json_of(new)))), new)

    def test_random_tables_come_there_or_are_refused(self) -> None:
        random_ = random.Random(1874)
        there = 0
        for _ in range(150):
            old = {f"k{n}": _record(random_, f"k{n}") for n in range(random_.randint(2, 9))}
            new = json.loads(json.dumps(old))
            for _ in range(random_.randint(1, 4)):
                name = random_.choice([*new, f"new{random_.randint(0, 99)}"])
                if random_.random() < 0.2 and len(new) > 2 and name in new:
                    del new[name]
                else:
                    new[name] = _record(random_, name)
            document = json_of(old)
            try:
                made = edited(document, differences(document, json_of(new)))
            except VolvexError:  # a type that changes in place: such a mod holds the whole file
                continue
            self.assertEqual(_in_order(json.loads(made)), _in_order(new))
            there += 1
        self.assertGreater(there, 140)

    def test_property_lists_take_new_lists_and_dictionaries(self) -> None:
        head = b"<?xml version='1.0'?><plist><dict>"
        boat = b"<key>%s</key><dict><key>id</key><string>%s</string><key>sails</key>%s</dict>"
        old = (
            head
            + boat % (b"a", b"a", b"<array/>")
            + boat % (b"b", b"b", b"<array><integer>1</integer></array>")
            + b"</dict></plist>"
        )
        new = old.replace(b"<array/>", b"<array><integer>4</integer><string>x</string></array>")
        new = new.replace(
            b"</dict></plist>", boat % (b"c", b"c", b"<dict><key>jib</key><true/></dict>") + b"</dict></plist>"
        )
        document, other = plist.open(old, "f.plist"), plist.open(new, "f.plist")
        self.assertEqual(edited(document, differences(document, other)), new)


def _in_order(value: dict[str, Any]) -> dict[str, Any]:
    """A table with the records in its lists in one order, which is no change."""
    for record in value.values():
        record.get("drops", []).sort(key=lambda drop: drop["id"])
    return value


def _record(random_: random.Random, name: str) -> dict[str, Any]:
    """A record with whatever a game may put into one."""
    made: dict[str, Any] = {"id": name}
    for field in random_.sample(["hp", "title", "tags", "waves", "drops", "lag", "none"], random_.randint(0, 6)):
        made[field] = {
            "hp": random_.randint(0, 3),
            "title": random_.choice(["Marl", "12", "true", "{}", 'ä " \n']),
            "tags": random_.sample(["a", "b", "c"], random_.randint(0, 3)),
            "waves": [{"x": n} for n in range(random_.randint(0, 2))],
            "drops": [{"id": key, "n": random_.randint(0, 2)} for key in random_.sample("pqr", random_.randint(0, 3))],
            "lag": {"pans": {"deep": 1}} if random_.random() < 0.5 else {},
            "none": None,
        }[field]
    return made


class Mods(Case):
    def test_two_mods_that_each_add_a_record_to_one_keyed_file_merge(self) -> None:
        game = self.folder / "game"
        game.mkdir()
        value = {**lamps(40), "bare": {"id": "bare"}}
        with zipfile.ZipFile(game / "rules.zip", "w") as archive:
            archive.writestr("lamps.json", json.dumps(value, indent=2))
        for name in ("one", "two"):
            bench = self.folder / f"bench-{name}"
            self.volvex("bench", game, bench)
            self.volvex("take", "rules.zip/lamps.json", cwd=bench)
            file = bench / "files" / "rules.zip" / "lamps.json"
            record = {"id": name, "range": 3, "tags": [], "drops": [{"id": "glass", "n": 2}]}
            file.write_text(json.dumps({**value, name: record}, indent=2))
            self.volvex("mod", "new", self.folder / name, cwd=bench)
            self.assertLess(sum(one.stat().st_size for one in (self.folder / name / "changes").rglob("*.json")), 600)
            self.volvex("mod", "add", self.folder / name, "--game", game)
        self.volvex("install", "--game", game)
        with zipfile.ZipFile(game / "rules.zip") as archive:
            made = json.loads(archive.read("lamps.json"))
        self.assertEqual(list(made), [*value, "one", "two"])
        self.assertEqual(made["two"]["drops"], [{"id": "glass", "n": 2}])
        self.assertIn("2 records of 43", self.volvex("show", game / "rules.zip/lamps.json", "--where", "range > 37"))


if __name__ == "__main__":
    unittest.main()
