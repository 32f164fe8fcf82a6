"""Data on a bench: shown, found, set, opened in other programs, compared, checked, merged and built; by the program
itself."""

from __future__ import annotations

import io
import json
import shutil
import unittest
from pathlib import Path

from openpyxl import load_workbook

from kelpwick.pack import Item, read_pack, write_pack
from tests.books import BOOK, TABLE, barrels
from tests.support import LAMPS, LETTER, MAIN, Case, KeptGame, made_game

LENSES, FITTINGS, MENU, TALK, ROOM, JOBS = (
    f"{BOOK}/{one}"
    for one in (
        "tables/lenses.kwb",
        "tables/fittings.kwb",
        "texts/menu.kwx",
        "texts/dialogue.kwy",
        "scenes/lamp_room.kwn",
        "rules/workshop.xml",
    )
)


class Looking(KeptGame):
    def show(self, path: str, *words: str, status: int = 0) -> str:
        return self.volvex("show", self.shared / path, *words, status=status)

    def test_tables(self) -> None:
        out = self.show(
            LENSES,
            "--where",
            "glass == 'flint' and reach > 9",
            "--sort",
            "weight",
            "--reverse",
            "--columns",
            "name, weight",
        )
        self.assertEqual(
            [line.split() for line in out.splitlines()],
            [["name", "weight"], ["Great", "drum", "88.8"], ["Drum", "31.1"], ["2", "records", "of", "6"]],
        )
        self.assertEqual(
            json.loads(self.show(LENSES, "--limit", "1", "--json")),
            [
                {
                    "id": "101",
                    "name": "Penny glass",
                    "glass": "pressed",
                    "reach": "5",
                    "weight": "0.4",
                    "focus": "35",
                    "fitted": "2",
                    "clean": "yes",
                    "grade": "1",
                }
            ],
        )
        self.assertIn("4 more: --all", self.show(LENSES, "--limit", "2"))
        self.assertIn("menu.start", self.show(MENU))
        self.assertIn(
            "sallow_holm",
            self.show(f"{MAIN}/tables/prices.csv", "--where", "price > 80", "--sort", "price"),
        )
        self.assertIn("has no field wieght", self.complaint("show", self.shared / LENSES, "--sort", "wieght", status=3))
        self.assertIn("expected a value", self.complaint("show", self.shared / LENSES, "--where", "reach >", status=2))

    def test_trees(self) -> None:
        self.assertEqual(len(self.show(LAMPS, "--depth", "0").splitlines()), 1)
        self.assertIn("lamps  (12 in it)", self.show(LAMPS, "--depth", "0"))
        self.assertIn("└─ note  Half drum, the chipped one.", self.show(JOBS, "--at", "job[1]", "--depth", "1"))
        self.assertIn("6 Ansa Tolk's chest  hidden=yes  barrels=4  holds/0=101", self.show(ROOM))
        self.assertIn("--at job", self.complaint("show", self.shared / JOBS, "--at", "job[9]", status=3))
        self.assertIn("<lamp id=", self.show(LAMPS))  # without any of these it is text
        self.assertIn("4b 57 4c 45", self.show(LENSES, "--hex"))

    def test_records_and_what_they_refer_to(self) -> None:
        out = self.show(FITTINGS, "--row", "fresnel_3", "--follow", "--users")
        self.assertIn(f"lens -> lenses 103  {LENSES}", out)
        self.assertIn("name    Half drum", out)
        self.assertIn(f"keeper -> keeper dunna  {MAIN}/rules/keepers.xml", out)
        users = json.loads(self.show(LENSES, "--row", "103", "--users", "--json"))[0]["users"]
        self.assertEqual(
            {(user["path"], user["id"]) for user in users},
            {(FITTINGS, "gull_rock"), (FITTINGS, "fresnel_3"), (JOBS, "grind_3")},
        )
        self.assertIn("need a record", self.complaint("show", self.shared / LENSES, "--follow", status=2))
        self.assertIn("--row fresnel_", self.complaint("show", self.shared / FITTINGS, "--row", "fresnel_4", status=3))

    def test_values_and_texts_are_found_by_key(self) -> None:
        found = self.records("find", self.shared / "data", "--value", "103")
        self.assertEqual(
            {record["record"] for record in found},
            {"lenses 103: id", "fittings gull_rock: lens", "fittings fresnel_3: lens", "job grind_3: lens"},
        )
        said = self.records("find", self.shared / BOOK, "--text", "Light the lamp")
        self.assertEqual(
            [(record["record"], record["use"]) for record in said],
            [("texts menu.start: en", "menu"), ("texts shop.start: en", "tutorial")],
        )
        self.assertEqual(len(self.records("find", self.shared / BOOK, "--text", "LIGHT THE", "-i")), 2)
        self.assertIn("[harbour, first night]", self.volvex("find", self.shared / BOOK, "--text", "Kamst"))
        self.assertEqual(self.volvex("find", self.shared / BOOK, "--value", "1035", status=1), "0 hits in 0 files\n")
        self.assertIn("one of them", self.complaint("find", self.shared, "--value", "1", "--text", "x", status=2))

    def test_layouts_are_proved_and_explained(self) -> None:
        for path, said in (
            (LENSES, "table of 6 records"),
            (MENU, "text of 7 records"),
            (ROOM, "scene of 6 records"),
            (FITTINGS, "identical, 243 bytes"),
        ):
            self.assertIn(said, self.volvex("layout", "prove", self.shared / path))
        self.assertIn("every byte is explained", self.volvex("layout", "explain", self.shared / LENSES))
        self.assertIn("Kelpwick lenses", self.volvex("layout", "list"))


class Files(Case):
    """Without a game: a table of one's own."""

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "barrels.layout").write_text(TABLE)
        (self.folder / "b.tbl").write_bytes(barrels())
        shutil.copy(self.folder / "barrels.layout", self.home)

    def test_there_and_back(self) -> None:
        self.volvex("convert", "b.tbl", "b.csv")
        self.assertIn("already exists", self.complaint("convert", "b.tbl", "b.csv", status=5))
        text = (self.folder / "b.csv").read_text(encoding="utf-8").replace("Brine", "Rum")
        (self.folder / "b.csv").write_text(text, encoding="utf-8")
        self.assertIn("2 changes,", self.volvex("convert", "b.csv", "new.tbl", "--like", "b.tbl"))
        self.assertEqual((self.folder / "new.tbl").read_bytes()[-4:], b"Rum\0")
        (self.folder / "b.csv").write_text(text.replace("tallow", "talow"), encoding="utf-8")
        done = self.run_program("convert", "b.csv", "other.tbl", "--like", "b.tbl", status=4)
        self.assertEqual(done.stderr.count("perhaps tallow"), 3)
        self.assertFalse((self.folder / "other.tbl").exists())
        self.assertIn("one of csv, json, tsv, xlsx", self.complaint("convert", "b.tbl", "b.po", status=2))

    def test_a_layout_that_is_named(self) -> None:
        (self.home / "barrels.layout").unlink()
        self.assertIn("42 41 52 4c", self.volvex("show", "b.tbl"))
        self.assertIn("Oil of colza", self.volvex("show", "b.tbl", "--layout", "barrels.layout"))
        self.assertIn("table of 3 records", self.volvex("layout", "prove", "b.tbl", "--layout", "barrels.layout"))
        self.volvex("convert", "b.tbl", "b.json", "--layout", "barrels.layout")
        self.assertEqual(len(json.loads((self.folder / "b.json").read_text())["barrels"]), 3)

    def test_what_it_is(self) -> None:
        self.assertIn("opens  barrels, a table", self.volvex("identify", "b.tbl"))
        (record,) = [record for record in self.records("survey", self.folder) if str(record["path"]).endswith("b.tbl")]
        self.assertEqual((record["type"], record["layout"]), ("table", "barrels"))


class Benches(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def do(self, *words: object, status: int = 0) -> str:
        return self.volvex(*words, cwd=self.work, status=status)

    def changes(self) -> dict[str, list[tuple[str, str, str]]]:
        found: dict[str, list[tuple[str, str, str]]] = {}
        for record in self.records("changes", cwd=self.work):
            told = record.get("changes")
            assert isinstance(told, list)
            found[str(record["path"])] = [
                (str(change["id"]), str(change.get("field")), str(change.get("after"))) for change in told
            ]
        return found


class Setting(Benches):
    def test_each_sort_of_data(self) -> None:
        for path, words, said in (
            (LENSES, ("--row", "103", "weight=14.5", "name=Half round"), "lenses: row 103: weight 14.75 -> 14.5"),
            (MENU, ("--row", "menu.quit", "de=Heim rudern"), "texts: row menu.quit: de An Land rudern -> Heim rudern"),
            (
                TALK,
                ("--row", "ansa.oil@fr", "text={boat} : {n}"),
                "lines: row ansa.oil@fr: text {boat} apporte {n} barils. -> {boat} : {n}",
            ),
            (ROOM, ("--row", "Stair", "locked=yes"), "door: row 2: locked no -> yes"),
            (JOBS, ("--at", "job[1]/note", "text=Chipped"), ""),
            (f"{BOOK}/rules/harbour.ini", ("--row", "tides", "spring=5.1"), "sections: row tides: spring 4.2 -> 5.1"),
            (f"{BOOK}/rules/about.plist", ("fog=false",), "fog true -> false"),
            (
                f"{MAIN}/tables/prices.csv",
                ("--where", "good == 'tea' and island == 'kelpwick'", "price = price * 2"),
                "rows: row tea@kelpwick: price",
            ),
        ):
            if said:
                self.assertIn(said, self.do("set", path, *words))
        self.assertEqual(self.changes()[LENSES], [("103", "name", "Half round"), ("103", "weight", "14.5")])
        self.do("build")
        self.do("install")
        played = self.play(self.source, "--language", "de")
        self.assertIn("Half round", played)
        self.assertIn("Heim rudern", played)
        self.assertIn("Stair, locked", played)
        self.do("restore", self.source)

    def test_a_plan_changes_nothing(self) -> None:
        before = sorted(self.work.rglob("*"))
        for words in (
            ("--row", "103", "reach=1"),
            ("--where", "id > 0", "reach = 1"),
            ("--row", "103", "--remove"),
            ("--copy", "103=203"),
            ("--add", "300"),
            ("--replace", "drum", "keg"),
        ):
            self.assertIn("plan only", self.do("set", LENSES, *words, "--plan"))
        self.assertEqual(sorted(self.work.rglob("*")), before)

    def test_records_come_and_go(self) -> None:
        self.assertIn(
            "row 204 added like 104: id 204, name Long drum",
            self.do("set", LENSES, "--copy", "104=204", "name=Long drum", "fitted=0"),
        )
        self.assertIn("row 300 added like 204", self.do("set", LENSES, "--add", "300", "name=Glass"))
        self.assertIn("row 106 removed", self.do("set", LENSES, "--row", "106", "--remove"))
        self.assertEqual(
            [line.split()[0] for line in self.do("show", LENSES).splitlines()[1:]],
            ["101", "102", "103", "104", "105", "204", "300"],
        )
        out = self.do("set", ROOM, "--copy", "2=12", "--copy", "3=13")
        self.assertIn("row 12 added like 2: id 12, type door, name Stair, hidden no, locked no, to 13", out)
        self.assertIn("has a row 104 already", self.complaint("set", LENSES, "--add", "104", cwd=self.work, status=2))

    def test_replacing_shows_each_hit_first(self) -> None:
        out = self.do("set", "data/*.kwp/**", "--replace", "Tolk", "Marsh", "--whole-words")
        self.assertEqual(out.splitlines()[-1], "16 changes")
        self.assertIn(
            "text Ich bin Ansa Tolk. Kamst du über Tolkham? -> Ich bin Ansa Marsh. Kamst du über Tolkham?", out
        )
        self.assertEqual((self.work / "files" / LETTER).read_text().splitlines()[-1], "Yours, Ansa Marsh")
        self.assertIn("as requested", self.do("set", TALK, "--replace", "Tolk", "x", "--whole-words", status=1))

    def test_what_goes_with_what(self) -> None:
        for words, said in (
            ((LENSES,), "no field is given"),
            ((LENSES, "--remove"), "no record is given"),
            ((LENSES, "--row", "1", "--copy", "1=2"), "name their records themselves"),
            ((LENSES, "a=1", "--row", "1", "--remove"), "goes with no --remove"),
            ((LENSES, "--copy", "1"), "is not OLD=NEW"),
            ((LENSES, "reach=5"), "has 6 records of lenses"),
        ):
            self.assertIn(said, self.complaint("set", *words, cwd=self.work, status=2))

    def test_nothing_is_written_when_one_value_does_not_fit(self) -> None:
        done = self.run_program("set", LENSES, "--where", "id > 0", "reach = reach * 5000", cwd=self.work, status=2)
        self.assertIn("row 104: reach cannot be '80000'", done.stderr)
        self.assertEqual(list((self.work / "files").rglob("*.kwb")), [])


class Opened(Benches):
    def test_a_spreadsheet_a_hand_and_set_make_the_same_change(self) -> None:
        self.do("set", FITTINGS, "--row", "harbour_1", "screws=5")
        by_set = self.changes()[FITTINGS]
        self.do("take", FITTINGS, "--overwrite", "--as", "xlsx")
        file = self.work / "open" / f"{FITTINGS}.xlsx"
        pages = load_workbook(file)
        pages.active["D2"] = 5  # type: ignore[index]
        pages.save(file)
        self.assertEqual(self.changes()[FITTINGS], by_set)
        self.do("take", FITTINGS, "--overwrite", "--as", "csv")
        file = self.work / "open" / f"{FITTINGS}.csv"
        file.write_bytes(file.read_bytes().replace(b"101,3,1851", b"101,5,1851"))
        self.assertEqual(self.changes()[FITTINGS], by_set)
        self.do("set", JOBS, "--row", "grind_3", "lens=104")
        by_set = self.changes()[JOBS]
        self.do("take", JOBS, "--overwrite")
        mine = self.work / "files" / JOBS
        mine.write_bytes(mine.read_bytes().replace(b'lens="103"', b"lens = '104'"))
        self.assertEqual(self.changes()[JOBS], by_set)

    def test_faults_keep_everything_as_it_was(self) -> None:
        self.do("take", LENSES, "--as", "csv")
        file = self.work / "open" / f"{LENSES}.csv"
        file.write_text(file.read_text(encoding="utf-8").replace("pressed,5", "presed,70000"), encoding="utf-8")
        done = self.run_program("build", cwd=self.work, status=4)
        self.assertIn("line 2, column glass: 'presed'", done.stderr)
        self.assertIn("line 2, column reach: '70000'", done.stderr)
        self.assertEqual(
            (self.work / "files" / LENSES).read_bytes(), read_pack(self.source / BOOK)["tables/lenses.kwb"]
        )

    def test_what_is_edited_elsewhere_is_written_anew(self) -> None:
        self.do("take", LENSES, "--as", "csv")
        self.do("set", LENSES, "--row", "103", "reach=13")
        self.do("changes")
        file = self.work / "open" / f"{LENSES}.csv"
        self.assertIn("103,Half drum,crown,13", file.read_text(encoding="utf-8"))
        file.write_text(
            file.read_text(encoding="utf-8").replace("103,Half drum,crown,13", "103,Half drum,crown,14"),
            encoding="utf-8",
        )
        mine = self.work / "files" / LENSES
        mine.write_bytes(read_pack(self.source / BOOK)["tables/lenses.kwb"])
        self.assertIn("were both edited", self.complaint("changes", cwd=self.work, status=5))
        self.assertIn("was edited", self.complaint("take", LENSES, "--as", "csv", cwd=self.work, status=5))
        file.unlink()
        self.assertIn("no changes", self.do("changes"))

    def test_two_files_of_the_same_data(self) -> None:
        self.do("take", LENSES, "--as", "csv")
        self.do("take", LENSES, "--as", "json")
        first, second = (self.work / "open" / f"{LENSES}.{ending}" for ending in ("csv", "json"))
        first.write_text(first.read_text(encoding="utf-8").replace("14.75", "14.5"), encoding="utf-8")
        self.assertEqual(self.changes()[LENSES], [("103", "weight", "14.5")])
        self.assertIn('"weight": 14.5', second.read_text(encoding="utf-8"))
        for file in (first, second):
            file.write_text(file.read_text(encoding="utf-8").replace("14.5", "14.25"), encoding="utf-8")
        self.assertIn("are the same data and were both edited", self.complaint("changes", cwd=self.work, status=5))
        first.unlink()
        self.assertEqual(self.changes()[LENSES], [("103", "weight", "14.25")])

    def test_translations(self) -> None:
        self.do("take", MENU, TALK, "--as", "po", "--language", "de")
        file = self.work / "open" / f"{MENU}.de.po"
        self.assertIn(
            'msgctxt "menu.quit"\nmsgid "Row ashore"\nmsgstr "An Land rudern"', file.read_text(encoding="utf-8")
        )
        file.write_text(
            file.read_text(encoding="utf-8").replace('"{0} Pence das Fass"', '"Pence das Fass"'), encoding="utf-8"
        )
        out = self.do("check", status=1)
        self.assertIn("de lacks {0}: the original is '{0} pence a barrel'", out)


class Checks(Benches):
    def test_an_error_stops_a_build_and_a_warning_does_not(self) -> None:
        self.do("set", FITTINGS, "--row", "fresnel_3", "lens=140")
        self.do("set", ROOM, "--row", "5", "hidden=yes")
        out = self.do("check", status=1)
        self.assertIn("there is no 140 in lenses", out)
        self.assertIn("1 error, 1 warning", out)
        said = self.complaint("build", cwd=self.work, status=5)
        self.assertIn("fittings: row fresnel_3: lens: there is no 140", said)
        self.assertFalse((self.work / "built" / BOOK).exists())
        self.do("build", "--anyway")
        self.do("install")
        self.assertIn("which there is not", self.play(self.source, status=1))
        self.do("restore", self.source)
        self.do("set", FITTINGS, "--row", "fresnel_3", "lens=103")
        self.assertIn("warning", self.run_program("build", cwd=self.work).stderr)

    def test_a_record_that_is_gone_is_told_where_it_is_used(self) -> None:
        self.do("set", LENSES, "--row", "105", "--remove")
        found = json.loads(self.do("check", "--json", status=1))
        self.assertEqual({one["file"] for one in found}, {FITTINGS, JOBS})
        self.assertTrue(all("refers to 105, which you removed" in one["message"] for one in found))

    def test_a_key_twice_in_a_table_of_text(self) -> None:
        self.do("set", f"{BOOK}/tables/rations.tsv", "--row", "bero", "keeper=ansa")
        self.assertIn("rows: row ansa: keeper\n         this id occurs more than once", self.do("check", status=1))

    def test_what_was_wrong_before_is_not_told(self) -> None:
        files = read_pack(self.source / BOOK)
        files["rules/workshop.xml"] = files["rules/workshop.xml"].replace(b'lens="105"', b'lens="999"')
        write_pack(self.source / BOOK, [Item(path, data, 8) for path, data in files.items()], b"salt")
        self.do("set", LENSES, "--row", "101", "name=Penny")
        self.assertIn("no errors", self.do("check"))


class Merging(Benches):
    def update(self, path: str, old: bytes, new: bytes) -> None:
        """The game's makers change a file."""
        archive, _, inner = path.partition(".kwp/")
        files = read_pack(self.source / f"{archive}.kwp")
        self.assertIn(old, files[inner])
        files[inner] = files[inner].replace(old, new)
        write_pack(self.source / f"{archive}.kwp", [Item(name, data, 8) for name, data in files.items()], b"new")

    def test_edits_go_into_the_games_newer_files(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("take", f"{MAIN}/rules/islands.xml")
        self.update(LAMPS, b'range="18" oil="3.4"', b'range="19" oil="3.4"')
        self.update(f"{MAIN}/rules/islands.xml", b"The Pans", b"The Great Pans")
        self.assertIn("a game update?", self.complaint("build", cwd=self.work, status=5))
        self.assertIn("plan only", self.do("merge", "--plan"))
        out = self.do("merge")
        self.assertIn("lamp: row fresnel_3: range 9 -> 14", out)
        self.assertIn("islands.xml: not edited, so it is the game's new one", out)
        self.assertEqual(self.changes(), {LAMPS: [("fresnel_3", "range", "14")]})
        self.assertIn(b'range="19"', (self.work / "files" / LAMPS).read_bytes())
        self.do("build")
        self.assertIn("nothing to carry over", self.do("merge"))

    def test_where_both_changed_the_same_nothing_is_decided(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14", "oil=3")
        mine = (self.work / "files" / LAMPS).read_bytes()
        self.update(LAMPS, b'range="9" oil="2.5"', b'range="10" oil="2.5"')
        out = self.do("merge", status=1)
        self.assertIn("conflict: lamp: row fresnel_3: range was '9', is '10' now, the change makes it '14'", out)
        self.assertIn("1 conflict: nothing was written", out)
        self.assertEqual((self.work / "files" / LAMPS).read_bytes(), mine)

    def test_changes_in_a_file(self) -> None:
        self.do("set", LENSES, "--row", "103", "reach=13")
        self.do("set", LENSES, "--row", "106", "--remove")
        self.do("set", JOBS, "--row", "spare", "lens=104")
        self.do("set", LETTER, "--replace", "Ansa", "Anna")
        said = self.run_program("changes", "--save", "mine.json", cwd=self.work).stderr
        self.assertEqual(said, "")
        value = json.loads((self.work / "mine.json").read_text())
        self.assertEqual(set(value["files"]), {LENSES, JOBS, LETTER})
        self.volvex("bench", self.source, self.folder / "other")
        self.volvex("merge", self.work / "mine.json", cwd=self.folder / "other")
        for path in (LENSES, JOBS):
            self.assertEqual(
                (self.folder / "other" / "files" / path).read_bytes(), (self.work / "files" / path).read_bytes()
            )
        self.assertIn(
            "3 changes there already" if False else "made already",
            self.volvex("merge", self.work / "mine.json", cwd=self.folder / "other"),
        )
        for text, says in (
            ("[]", "not a file of changes"),
            ('{"changes": 1, "files": {"../x": []}}', "leads out"),
            ('{"changes": 1, "files": {"a": [{}]}}', "not a change"),
        ):
            (self.work / "bad.json").write_text(text)
            self.assertIn(says, self.complaint("merge", "bad.json", cwd=self.work, status=4))

    def test_what_nobody_understands_is_not_merged(self) -> None:
        chart = f"{MAIN}/charts/kelpwick.sdg"
        self.do("take", chart)
        file = self.work / "files" / chart
        file.write_bytes(file.read_bytes() + b"x")
        files = read_pack(self.source / MAIN)
        files["charts/kelpwick.sdg"] = b"SDG1 new"
        write_pack(self.source / MAIN, [Item(name, data, 8) for name, data in files.items()], b"new")
        self.assertIn("its format is unknown", self.complaint("merge", cwd=self.work, status=5))


class Large(Case):
    def test_a_large_file_is_set_without_being_read_whole(self) -> None:
        folder = self.folder / "game"
        folder.mkdir()
        note = "the lamp was lit " * 6  # few long rows: the size counts here, not their number
        rows = "".join(f'<b id="n{number}" v="{number}" note="{note}"/>\r\n' for number in range(150_000))
        (folder / "big.xml").write_bytes(f"<all>\r\n{rows}</all>".encode())
        self.assertGreater((folder / "big.xml").stat().st_size, 1 << 24)
        work = self.bench(folder)
        self.volvex("take", "big.xml", cwd=work)
        self.assertIn(
            "b: row n149000: v 149000 -> 7", self.volvex("set", "big.xml", "--row", "n149000", "v=7", cwd=work)
        )
        self.assertIn("  b: row n149000: v 149000 -> 7\n", self.volvex("changes", cwd=work))
        self.assertIn("MB of text: its values were not looked at", self.run_program("build", cwd=work).stderr)
        self.assertEqual(
            (work / "files/big.xml").read_bytes(), (folder / "big.xml").read_bytes().replace(b'v="149000"', b'v="7"')
        )


__all__ = ["Path", "io", "made_game"]

if __name__ == "__main__":
    unittest.main()
