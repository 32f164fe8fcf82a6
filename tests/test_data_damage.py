"""Damaged data: cut at every byte, flipped at every byte, filled with nonsense; our errors only, and never a
half-written file."""

from __future__ import annotations

import plistlib
import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from kelpwick.almanac.rules import ABOUT
from kelpwick.world import rules
from tests.books import FILES, LIBRARY, barrels, table
from tests.test_data_forms import CSV, INI, JSON, XML
from volvex.data import Change, Document, open_data
from volvex.data.check import problems
from volvex.data.differences import differences, merged
from volvex.data.exchange import Wanted, exchanges
from volvex.data.expressions import Expression
from volvex.data.find import texts, values
from volvex.data.meanings import Meanings
from volvex.data.outline import outline, walk
from volvex.data.references import Catalogue
from volvex.errors import VolvexError

SAMPLES = {
    **FILES,
    "about.bin": plistlib.dumps(plistlib.loads(FILES[ABOUT]), fmt=plistlib.FMT_BINARY),
    "yard.xml": XML,
    "yard.json": JSON,
    "tides.ini": INI,
    "goods.csv": CSV,
    "bells.json": dict(rules())["rules/bells.json"],
}


def all_of(document: Document) -> int:
    """Everything that can be asked of a document; how many cells it has."""
    cells = 0
    for sheet in document.sheets:
        for key in sheet.ids:
            assert sheet.row(key) is not None
        for column in sheet.columns.values():
            cells += len(column.texts())
        for row in range(len(sheet)):
            sheet.record(row)
    for branch in walk(outline(document)):
        assert isinstance(branch.about, str)
    return cells


def tried(data: bytes, name: str) -> int:
    """What came of damaged data: 1 when it was refused, 0 when it was read whole."""
    try:
        document = open_data(data, LIBRARY, name)
        if document is not None:
            all_of(document)
            change = next(
                (
                    Change("set", sheet.name, sheet.ids[0], field, sheet.cell(0, field), sheet.cell(0, field))
                    for sheet in document.sheets
                    for field in sheet.columns
                    if len(sheet) and sheet.cell(0, field) is not None
                ),
                None,
            )
            if change is not None and not document.sheet(change.sheet).columns[change.field].rule.fixed:
                document.written([change])
    except VolvexError as error:
        assert error.message and "Error(" not in error.message.partition(": ")[0]
        return 1
    return 0


class Damaged(unittest.TestCase):
    def test_samples_are_sound(self) -> None:
        for name, data in SAMPLES.items():
            with self.subTest(name):
                self.assertEqual(tried(data, name), 0)
                document = open_data(data, LIBRARY, name)
                assert document is not None
                self.assertGreater(all_of(document), 0)

    def test_cut_at_every_byte(self) -> None:
        refused = 0
        for name, data in SAMPLES.items():
            for end in range(0, len(data), max(1, len(data) // 90)):
                with self.subTest(f"{name} {end}"):
                    refused += tried(data[:end], name)
        self.assertGreater(refused, 500)

    def test_flipped_at_every_byte(self) -> None:
        refused = 0
        rng = random.Random(7)
        for name, data in SAMPLES.items():
            for at in range(0, len(data), max(1, len(data) // 90)):
                bad = bytearray(data)
                bad[at] ^= 1 << rng.randrange(8)
                with self.subTest(f"{name} {at}"):
                    refused += tried(bytes(bad), name)
        self.assertGreater(refused, 200)

    def test_a_table_whose_checksum_is_right_and_whose_content_is_not(self) -> None:
        rng = random.Random(3)
        refused = 0
        good = barrels()
        size = (len(good) - 14 - 21) // 3
        for _ in range(150):
            rows = [bytearray(good[14 + size * number : 14 + size * (number + 1)]) for number in range(3)]
            rows[rng.randrange(3)][rng.randrange(size)] = rng.randrange(256)
            try:
                all_of(table(barrels([bytes(row) for row in rows])))
            except VolvexError:
                refused += 1
        self.assertTrue(10 < refused < 140, refused)

    @given(st.binary(max_size=300), st.sampled_from(["a.xml", "a.json", "a.ini", "a.csv", "a.txt", "a.kwb"]))
    @settings(max_examples=150, deadline=None)
    def test_nonsense(self, data: bytes, name: str) -> None:
        self.assertIn(tried(data, name), (0, 1))

    @given(
        st.text(max_size=80),
        st.sampled_from(
            ["<a>{}</a>", '<a b="{}"/>', '{{"a": {}}}', "[a]\n{}\n", "a;b\n{};2\n", "<plist><dict>{}</dict></plist>"]
        ),
    )
    @settings(max_examples=150, deadline=None)
    def test_nonsense_in_some_form(self, text: str, form: str) -> None:
        try:
            data = form.format(text).encode()
        except UnicodeEncodeError:
            return
        self.assertIn(tried(data, "f.csv"), (0, 1))


class Deep(unittest.TestCase):
    def test_things_within_each_other_without_end(self) -> None:
        for data, name in (
            (b"<a>" * 100_000, "a.xml"),
            (b"<a>" * 5000 + b"</a>" * 5000, "a.xml"),
            (b"[" * 100_000, "a.json"),
            (b"[" * 900 + b"]" * 900, "a.json"),
            (b"<plist>" + b"<array>" * 3000 + b"</array>" * 3000 + b"</plist>", "a.plist"),
        ):
            with self.subTest(data[:9]):
                self.assertEqual(tried(data, name), 1)

    def test_entities_that_grow_without_end(self) -> None:
        lines = "".join(f'<!ENTITY e{number} "{f"&e{number - 1};" * 10}">' for number in range(1, 12))
        data = f'<!DOCTYPE a [<!ENTITY e0 "lamp">{lines}]><a><b id="x">&e11;</b></a>'.encode()
        self.assertEqual(tried(data, "a.xml"), 1)


class Asked(unittest.TestCase):
    """Questions that make no sense are refused in words."""

    table = table()  # read once: nothing here changes it

    @given(st.text(st.sampled_from("id name price<>=!()'\" +-*/%andornotinhas.,1`@\\"), max_size=24))
    @settings(max_examples=200, deadline=None)
    def test_expressions(self, text: str) -> None:
        sheet = self.table.sheets[0]
        try:
            rows = Expression(text).rows(sheet, "f")
        except VolvexError as error:
            self.assertTrue(error.message)
            return
        self.assertLessEqual(len(rows), 3)

    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["set", "add", "remove"]),
                st.sampled_from(["barrels", "x"]),
                st.sampled_from(["1", "9"]),
                st.sampled_from(["name", "big", "marks", "y"]),
                st.sampled_from(["", "7", "Öl", "[1, 2]"]),
            ),
            max_size=4,
        )
    )
    @settings(max_examples=80, deadline=None)
    def test_changes(self, told: list[tuple[str, str, str, str, str]]) -> None:
        changes = [
            Change(
                what,
                sheet,
                key,
                field if what == "set" else "",
                None,
                after,
                ((field, after),) if what == "add" else (),
            )
            for what, sheet, key, field, after in told
        ]
        result = merged(changes, self.table)
        self.assertEqual(len(result.todo) + len(result.done) + len(result.conflicts), len(changes))
        try:
            made = self.table.written(changes)
        except VolvexError:
            return
        self.assertEqual(differences(table(made), table(made)), [])

    def test_exchange_files_that_are_damaged(self) -> None:
        rng = random.Random(5)
        for ending, form in exchanges().items():
            document = open_data(FILES["texts/menu.kwx"], LIBRARY, "menu")
            assert document is not None
            data = form.write(document, Wanted())
            for _ in range(25):
                bad = bytearray(data)
                for _ in range(3):
                    bad[rng.randrange(len(bad))] = rng.randrange(256)
                with self.subTest(ending):
                    try:
                        form.read(bytes(bad[: rng.randrange(1, len(bad))]), document, Wanted(), "f")
                    except VolvexError as error:
                        self.assertTrue(error.message)

    def test_searching_and_checking_damaged_files(self) -> None:
        bad = {name: data[: len(data) // 2] for name, data in SAMPLES.items()}
        catalogue = Catalogue(bad, lambda path: open_data(bad[path], LIBRARY, path), Meanings(data=("*",)))
        found = list(problems(catalogue, catalogue.data()))
        self.assertGreater(len([problem for problem in found if problem.kind == "file"]), 5)
        import re

        for name, data in SAMPLES.items():
            document = open_data(data, LIBRARY, name)
            assert document is not None
            self.assertEqual(list(values(document, "no such value")), [])
            self.assertEqual(list(texts(document, re.compile("no such text"))), [])


if __name__ == "__main__":
    unittest.main()
