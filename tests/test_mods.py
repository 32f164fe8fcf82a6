"""Mods: made, shared, combined, settled, installed and taken out; hostile ones; stopped at every step."""

from __future__ import annotations

import json
import os
import random
import shutil
import unittest
import zipfile
from pathlib import Path
from unittest.mock import patch

from kelpwick import png
from tests.faulty_disk import KILLED
from tests.modded import WithGame
from tests.support import LAMPS, MAIN, update
from volvex.bench.game_description import GameDescription
from volvex.data import Change, Document, require_data
from volvex.data.differences import differences, merged
from volvex.data.verify import edited
from volvex.layout import Library
from volvex.mods.combine.conflict import Conflict, Decision, Decisions, Side
from volvex.mods.combine.fields import combine_fields
from volvex.mods.combine.text import combine_lines
from volvex.mods.mod import folder as mod_folder
from volvex.mods.mod.content import Requirement
from volvex.mods.mod.folder import read_mod
from volvex.mods.mod.lines import hunks_between, text_of
from volvex.mods.mod.takeover import matches
from volvex.mods.running import LogLine, LogMarks

NONE = Decisions({})
LIBRARY = Library()
ARRIVAL = f"{MAIN}/letters/en/01-arrival.txt"
DESCRIPTOR = 'id = "{id}"\nversion = "1.0"\ngame = "Kelpwick Light"\n'


def table(rows: dict[str, dict[str, str]]) -> Document:
    """A file of records with ids."""
    data = json.dumps({"lamps": [{"id": name, **fields} for name, fields in rows.items()]}).encode()
    return require_data(data, LIBRARY, "lamps.json")


class Fields(unittest.TestCase):
    def changes(self, rng: random.Random, rows: dict[str, dict[str, str]]) -> list[Change]:
        """Edits by chance: of fields, of new records, and of records that go."""
        made = {name: dict(fields) for name, fields in rows.items()}
        for _ in range(rng.randrange(1, 4)):
            what, name = rng.random(), rng.choice(sorted(made) or ["a"])
            if what < 0.6 and name in made:
                made[name][rng.choice("xy")] = rng.choice("pqr")
            elif what < 0.8:
                made[rng.choice(["new1", "new2"])] = {"x": rng.choice("pq"), "y": "s"}
            else:
                made.pop(name, None)
        return differences(table(rows), table(made))

    def test_combining_is_applying_one_after_the_other_and_every_overlap_is_told(self) -> None:
        rng, told, plain = random.Random(7), 0, 0
        for _ in range(400):
            rows = {name: {"x": rng.choice("pqr"), "y": rng.choice("pqr")} for name in "abcd"}
            wanted = [(f"mod{number}", self.changes(rng, rows)) for number in range(3)]
            base, step, clash = table(rows), table(rows), False
            together = combine_fields("lamps.json", base, wanted, NONE)
            for _, changes in wanted:
                one = merged(changes, step)
                clash = clash or bool(one.conflicts)
                step = require_data(edited(step, one.todo), LIBRARY, "lamps.json")
            if together.conflicts:
                told += 1
                continue
            self.assertFalse(clash, "an overlap that was not told")
            plain += 1
            combined = require_data(edited(base, together.changes), LIBRARY, "lamps.json")
            self.assertEqual(differences(combined, step), [])
        self.assertGreater(min(told, plain), 40)

    def test_each_kind_of_conflict_and_its_settlement(self) -> None:
        base = table({"a": {"x": "p"}, "b": {"x": "p"}})

        def change(what: str, name: str, before: str | None = None, after: str | None = None, **fields: str) -> Change:
            return Change(
                what,
                "lamps",
                name,
                "x" if what == "set" else "",
                before,
                after,
                tuple({"id": name, **fields}.items()) if fields else (),
            )

        cases: tuple[tuple[list[Change], list[Change], str, str | None], ...] = (
            ([change("set", "a", "p", "q")], [change("set", "a", "p", "r")], "field", "r"),
            ([change("set", "a", "z", "q")], [], "field", "q"),
            ([change("add", "n", x="p")], [change("add", "n", x="q")], "record", "q"),
            ([change("set", "a", "p", "q")], [change("remove", "a", x="p")], "record", None),
        )
        for changes, two, kind, after in cases:
            wanted = [("one", changes), ("two", two)]
            with self.subTest(kind=kind, after=after):
                (conflict,) = combine_fields("f", base, wanted, NONE).conflicts
                self.assertEqual(conflict.kind, kind)
                winner = "two" if two else "one"
                settled = Decisions({conflict.key: Decision(winner, conflict.state)})
                made = combine_fields("f", base, wanted, settled)
                self.assertEqual(made.conflicts, [])
                (last,) = made.changes
                self.assertEqual(
                    last.after if last.what == "set" else dict(last.fields).get("x") if last.what == "add" else None,
                    after,
                )
                self.assertEqual(combine_fields("f", base, wanted, Decisions({}, (winner,))).changes, made.changes)

    def test_a_decision_counts_for_what_it_was_made_of(self) -> None:
        conflict = Conflict("f", "field", (Side("one", "q"), Side("two", "r")), "p", "lamps", "a", "x")
        other = Conflict("f", "field", (Side("one", "q"), Side("two", "4")), "p", "lamps", "a", "x")
        settled = Decisions({conflict.key: Decision("two", conflict.state)})
        self.assertEqual((conflict.key, settled.of(conflict), settled.of(other)), ("f/lamps/a/x", "two", None))

    def test_a_later_mod_may_change_what_an_earlier_one_made(self) -> None:
        base = table({"a": {"x": "p"}})
        chain = [
            ("one", [Change("set", "lamps", "a", "x", "p", "q")]),
            ("two", [Change("set", "lamps", "a", "x", "q", "r")]),
        ]
        made = combine_fields("f", base, chain, NONE)
        self.assertEqual(
            ([change.after for change in made.changes], made.conflicts, made.counts), (["r"], [], {"one": 1, "two": 1})
        )


class Lines(unittest.TestCase):
    def test_changes_of_different_lines_are_all_in(self) -> None:
        rng = random.Random(3)
        for _ in range(200):
            lines = [f"line {number}" for number in range(30)]
            text = text_of("\n".join(lines).encode(), "utf-8")
            assert text is not None
            places = rng.sample(range(1, 29, 3), 3)
            wanted, expected = [], list(lines)
            for place in places:
                mine = list(lines)
                mine[place] = f"changed {place}"
                wanted.append((f"mod{place}", hunks_between(lines, mine)))
                expected[place] = f"changed {place}"
            made = combine_lines("t", text, wanted, NONE)
            self.assertEqual((made.lines, made.conflicts), (expected, []))

    def test_found_where_the_game_moved_it_and_told_where_it_is_gone(self) -> None:
        old = ["one", "two", "lamp 4", "three", "four"]
        hunks = hunks_between(old, ["one", "two", "lamp 9", "three", "four"])
        moved = text_of(b"new\nnew\none\ntwo\nlamp 4\nthree\nfour", "utf-8")
        gone = text_of(b"one\ntwo\nlamp 5\nthree\nfour", "utf-8")
        done = text_of(b"one\ntwo\nlamp 9\nthree\nfour", "utf-8")
        assert moved is not None and gone is not None and done is not None
        self.assertEqual(combine_lines("t", moved, [("m", hunks)], NONE).lines[4], "lamp 9")
        (conflict,) = combine_lines("t", gone, [("m", hunks)], NONE).conflicts
        self.assertEqual((conflict.key, conflict.sides[0].value), ("t:3", "lamp 5"))
        self.assertEqual(combine_lines("t", done, [("m", hunks)], NONE).lines, done.lines)

    def test_the_same_line_is_a_conflict_and_the_same_change_is_not(self) -> None:
        text = text_of(b"a\r\nb\r\nc\r\n", "utf-8")
        assert text is not None
        sides = [
            (name, hunks_between(text.lines, ["a", value, "c", ""]))
            for name, value in (("x", "B"), ("y", "BB"), ("z", "B"))
        ]
        made = combine_lines("t", text, sides, NONE)
        self.assertEqual([[side.mod for side in conflict.sides] for conflict in made.conflicts], [["x", "y"]])
        made = combine_lines("t", text, [sides[0], sides[2]], NONE)
        self.assertEqual((text.encoded(made.lines), made.counts), (b"a\r\nB\r\nc\r\n", {"x": 1, "z": 1}))

    def test_only_texts_that_come_back_as_they_are(self) -> None:
        self.assertIsNone(text_of(b"a\r\nb\n", "utf-8"))
        self.assertIsNone(text_of(b"\xff", "utf-8"))


class Shared(WithGame):
    def test_everything_that_a_bench_can_change_is_in_a_mod_and_comes_back(self) -> None:
        self.volvex("take", ARRIVAL, cwd=self.work)
        letter = self.work / "files" / ARRIVAL
        letter.write_bytes(letter.read_bytes().replace(b"The lamp room", b"The whole house"))
        (self.folder / "new.png").write_bytes(png.lamp(7, 9))
        self.volvex("swap", f"{MAIN}/pictures/boats/marrow.png", self.folder / "new.png", cwd=self.work)
        self.volvex("swap", "--new", f"{MAIN}/pictures/boats/gull.png", self.folder / "new.png", cwd=self.work)
        self.volvex("drop", f"{MAIN}/charts/the_pans.sdg", cwd=self.work)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.volvex("mod", "new", self.folder / "all", "--author", "Ansa", cwd=self.work)
        self.volvex("build", "--anyway", cwd=self.work)
        self.volvex("install", cwd=self.work)
        wanted = self.content()
        self.volvex("restore", self.source)
        shown = self.volvex("mod", "show", self.folder / "all")
        for word in (
            "by Ansa",
            "1 field, 1 line change, 2 files, 1 removal",
            "The whole house is dry",
            "range 9 -> 14",
            "removes",
        ):
            self.assertIn(word, shown)
        text = b"".join(path.read_bytes() for path in (self.folder / "all").rglob("*.json"))
        self.assertNotIn(b"Bell Reef", text)  # a lamp that nobody touched
        self.volvex("mod", "export", self.folder / "all", self.folder / "all.zip")
        first = (self.folder / "all.zip").read_bytes()
        os.utime(self.folder / "all/mod.toml", (1, 1))
        self.volvex("mod", "export", self.folder / "all", self.folder / "all.zip", "--overwrite")
        self.assertEqual((self.folder / "all.zip").read_bytes(), first)
        self.mod("add", self.folder / "all.zip")
        self.volvex("install", self.source, "--anyway")
        self.assertEqual(self.content(), wanted)
        self.volvex("restore", self.source)
        self.assertEqual(self.content(), self.old)

    def test_in_the_game_s_folder_nothing_need_be_named(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        self.assertIn("one", self.volvex("mod", "list", cwd=self.source / "data"))
        self.volvex("install", cwd=self.source)
        self.assertEqual(self.reach(), "14")
        self.volvex("mod", "off", "one", cwd=self.source)
        self.volvex("install", cwd=self.source)
        self.assertEqual(self.content(), self.old)
        self.assertIn("not in a bench", self.complaint("install", cwd=self.folder, status=3))

    def test_two_mods_are_combined_one_is_turned_off_and_all_comes_back(self) -> None:
        self.mod(
            "add", self.made("one", "fresnel_3 range=14", "fresnel_2 oil=3"), self.made("two", "fresnel_3 oil=2.6")
        )
        said = self.volvex("install", self.source)
        for line in ("one 1.0: 2 changes in 1 file", "two 1.0: 1 change in 1 file"):
            self.assertIn(line, said)
        self.assertEqual(self.reach(), "14")
        state = json.loads((self.source / ".volvex/state.json").read_text())["state"]["installed"][MAIN]
        self.assertEqual((state["by"], state["made_of"]), ("mods", ["one 1.0", "two 1.0"]))
        self.assertIn("installed already", self.volvex("install", self.source))
        self.mod("off", "one")
        self.volvex("install", self.source)
        self.assertEqual(self.reach(), "9")
        self.assertIn('"2.6"', self.lamp("fresnel_3"))
        self.mod("remove", "two")
        self.volvex("install", self.source)
        self.assertEqual(self.content(), self.old)

    def test_the_bench_comes_last_and_conflicts_with_it_are_told(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        self.volvex("set", LAMPS, "--row", "fresnel_3", "oil=2.6", cwd=self.work)
        said = self.volvex("install", cwd=self.work)
        self.assertIn("the bench: 1 change in 1 file", said)
        self.assertEqual(self.reach(), "14")
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=11", cwd=self.work)
        done = self.run_program("install", cwd=self.work, status=1)
        self.assertIn(f"{LAMPS}/lamp/fresnel_3/range", done.stdout)
        self.assertEqual(self.reach(), "14")
        self.volvex("install", "--prefer", "one", cwd=self.work)
        self.mod("off", "one")
        self.volvex("build", cwd=self.work)
        self.volvex("install", cwd=self.work)  # the mod is off: what it installed goes without being asked
        self.assertEqual(self.reach(), "11")

    def test_a_conflict_is_listed_settled_remembered_and_forgotten(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"), self.made("two", "fresnel_3 range=12"))
        key = f"{LAMPS}/lamp/fresnel_3/range"
        self.assertIn("differs from two", self.mod("list"))
        self.assertIn("1 conflict", self.mod("list", "--check"))
        self.assertIn(key, self.run_program("install", self.source, status=1).stdout)
        self.assertEqual(self.content(), self.old)
        self.assertIn("no side", self.mod("settle", key, "--winner", "three", status=2))
        self.assertIn("no conflict", self.mod("settle", key + "x", "--winner", "one", status=3))
        self.assertIn("no conflicts are left", self.mod("settle", key, "--winner", "two"))
        self.volvex("install", self.source)
        self.assertEqual(self.reach(), "12")
        self.mod("settle", "--forget", status=1)
        self.assertIn("one or two, or game", self.mod("settle", key, "--winner", "three", status=2))
        self.mod("settle", key, "--winner", "game")
        self.volvex("install", self.source)
        self.assertEqual(self.content(), self.old)

    def test_a_later_mod_may_change_a_file_that_an_earlier_one_adds(self) -> None:
        path = f"{MAIN}/rules/boats2.xml"
        for name in ("first", "second"):
            (self.folder / name / "files").mkdir(parents=True)
            (self.folder / name / "mod.toml").write_text(DESCRIPTOR.format(id=name))
        file = self.folder / "first/files" / path
        file.parent.mkdir(parents=True)
        file.write_text('<boats><boat id="gull" load="4"/></boats>')
        changes = self.folder / "second/changes" / f"{path}.json"
        changes.parent.mkdir(parents=True)
        changes.write_text(
            '{"changes": [{"what": "set", "sheet": "boat", "id": "gull", "field": "load", "before": "4", "after": "6"}]}'  # noqa: E501
        )
        self.mod("add", self.folder / "first", self.folder / "second")
        said = self.volvex("install", self.source)
        self.assertIn("second 1.0: 1 change in 1 file", said)
        self.assertIn('load="6"', self.volvex("show", self.source / path, "--raw"))
        self.mod("order", "second", "first")
        self.assertIn("conflict", self.run_program("install", self.source, status=1).stdout)

    def test_a_reference_that_one_mod_breaks_for_another_stops_the_install(self) -> None:
        bench = self.folder / "other"
        self.volvex("bench", self.source, bench)
        self.volvex("set", LAMPS, "--copy", "fresnel_3=deep_1", cwd=bench)
        self.volvex("mod", "new", self.folder / "adds", cwd=bench)
        self.volvex("set", f"{MAIN}/rules/keepers.xml", "--row", "ansa", "lamp=deep_1", cwd=bench)
        self.volvex("mod", "new", self.folder / "uses", cwd=bench)
        self.mod("add", self.folder / "uses")
        self.volvex("install", self.source)
        changes = self.folder / "uses/changes" / f"{LAMPS}.json"
        changes.unlink()
        self.mod("add", self.folder / "uses", "--overwrite")
        self.assertIn("deep_1", self.complaint("install", self.source, status=5))
        self.mod("add", self.folder / "adds")
        self.volvex("install", self.source)

    def test_a_change_of_a_file_that_is_gone_is_never_left_out_silently(self) -> None:
        self.volvex("set", "kelpwick.ini", "--row", "game", "language=de", cwd=self.work)
        self.volvex("mod", "new", self.folder / "german", cwd=self.work)
        self.mod("add", self.folder / "german", self.made("one", "fresnel_3 range=14"))
        (self.source / "kelpwick.ini").unlink()
        for words in ((), ("--prefer", "german")):
            said = self.run_program("install", self.source, *words, status=1).stdout
            self.assertRegex(said, r"conflict +kelpwick.ini")
        self.mod("settle", "kelpwick.ini", "--winner", "game")
        self.assertIn("german 1.0: nothing that the others have not", self.volvex("install", self.source))

    def test_a_damaged_mod_spoils_only_itself_and_an_update_shows_as_merges(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"), self.made("two", "harbour_1 oil=3"))
        self.assertNotIn("merge", self.mod("list", "--check"))
        update(self.source)
        self.assertEqual(self.mod("list", "--check").count("applies with 1 merge"), 2)
        (target,) = self.home.glob("mods/*/added/two/mod.toml")
        target.write_text("x")
        said = self.mod("list", "--check", status=4)
        self.assertIn("damaged: ", said)
        self.assertIn("applies with 1 merge", said)
        self.complaint("install", self.source, status=4)
        self.volvex("game-log", self.source, status=3)
        compared = self.run_program("compare", self.source, self.folder / "one", status=1).stdout
        self.assertIn("lamp: row fresnel_3: range 9 -> 14", compared)


class Library_(WithGame):
    def descriptor(self, name: str, more: str = "") -> Path:
        folder = self.folder / f"mod-{name}"
        folder.mkdir()
        (folder / "mod.toml").write_text(DESCRIPTOR.format(id=name) + more)
        return folder

    def order(self) -> list[str]:
        return [one["id"] for one in json.loads(self.mod("list", "--json"))]

    def test_requirements_order_and_circles(self) -> None:
        self.mod("add", self.descriptor("b", 'requires = ["a >= 1.0"]\n'), self.descriptor("c"), self.descriptor("a"))
        self.assertEqual(self.order(), ["c", "a", "b"])
        self.assertIn("before one that it requires", self.mod("order", "b", "a", status=5))
        self.mod("order", "a", "c")
        self.assertEqual(self.order(), ["a", "c", "b"])
        self.mod("off", "a")
        self.assertIn("b requires a >= 1.0, which is not on", self.complaint("install", self.source, status=5))
        self.mod("on", "a")
        self.mod(
            "add",
            self.descriptor("d", 'conflicts = ["c"]\n'),
            self.descriptor("e", 'requires = ["f"]\n'),
            self.descriptor("f", 'requires = ["e"]\n'),
        )
        listed = self.mod("list")
        self.assertIn("d cannot be on together with c", listed)
        self.assertIn("require each other, in a circle", listed)

    def test_two_with_one_id_another_game_and_a_new_version(self) -> None:
        self.mod("add", self.descriptor("a"))
        (self.folder / "mod-a/mod.toml").write_text(DESCRIPTOR.format(id="a").replace("1.0", "1.1"))
        self.assertIn("in the library already", self.mod("add", self.folder / "mod-a", status=5))
        self.assertIn("replaces 1.0", self.mod("add", self.folder / "mod-a", "--overwrite"))
        other = self.descriptor("z")
        (other / "mod.toml").write_text(DESCRIPTOR.format(id="z").replace("Kelpwick", "Other"))
        self.assertIn("is for Other Light", self.mod("add", other, status=5))
        self.mod("add", other, "--anyway")
        self.assertEqual(self.order(), ["a", "z"])

    def test_versions(self) -> None:
        for text, version, fits in (
            ("a", "1", True),
            ("a >= 1.2", "1.10", True),
            ("a < 2", "2.0", False),
            ("a == 1", "1.0.0", True),
        ):
            self.assertEqual(Requirement.of(text).fits(version), fits, text)
        with self.assertRaises(ValueError):
            Requirement.of("a => 1")

    def test_bad_mods_are_refused_in_words(self) -> None:
        good = DESCRIPTOR.format(id="x")
        cases: tuple[tuple[dict[str, str | bytes], str], ...] = (
            ({}, "has no mod.toml"),
            ({"mod.toml": "id = "}, "not a valid descriptor"),
            ({"mod.toml": good.replace('"x"', '"X Y"')}, "id is 'X Y'"),
            ({"mod.toml": good + 'colour = "red"\n'}, "no `colour`"),
            ({"mod.toml": good + 'requires = ["a => 1"]\n'}, "a => 1"),
            ({"mod.toml": b"\xff\xfe"}, "not a valid descriptor"),
            ({"mod.toml": good + "x = " + "[" * 5000}, "not a valid descriptor"),
            ({"mod.toml": good + 'icon = "../../etc/passwd"\n'}, "icon"),
            ({"mod.toml": good + 'icon = "i.png"\n', "i.png": "no picture"}, "expected a picture"),
            ({"mod.toml": good, "changes/a.json": "[]"}, "not a valid list"),
            ({"mod.toml": good, "changes/a.json": '{"changes": [{"what": "set"}]}'}, "not a change"),
            ({"mod.toml": good, "changes/a.txt": "x"}, "expected a file .json"),
            ({"mod.toml": good, "lines/a.json": '{"lines": [{"line": "x"}]}'}, "not a valid change"),
            ({"mod.toml": good, "files/a": "x", "changes/a.json": '{"changes": []}'}, "two parts"),
            ({"mod.toml": good, "files/a": "x", "files/A": "y"}, "one file on some systems"),
            ({"mod.toml": good, "files/a": "x", "lines/a/b.json": '{"lines": []}'}, "lies in it"),
            ({"mod.toml": good, "files/con.txt": "x"}, "not a path"),
            ({"mod.toml": good, "contents.json": '{"removed": {"../a": "' + "0" * 64 + '"}}'}, "not a path"),
            ({"mod.toml": good, "contents.json": '{"removed": {"a": "0"}}'}, "expected digests"),
            ({"mod.toml": good, "contents.json": "[" * 100_000}, "not valid"),
        )
        for number, (files, said) in enumerate(cases):
            folder = self.folder / f"bad{number}"
            folder.mkdir()
            for name, data in files.items():
                path = folder / name
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(data if isinstance(data, bytes) else data.encode())
            with self.subTest(said):
                status = 3 if not files else 4
                self.assertIn(said, self.complaint("mod", "add", folder, "--game", self.source, status=status))
        folder = self.descriptor("linked")
        (folder / "files").mkdir()
        (folder / "files/a").symlink_to("/etc/passwd")
        self.assertIn("this is a link", self.complaint("mod", "add", folder, "--game", self.source, status=4))
        self.assertEqual(self.order(), [])

    def test_bad_zips_are_refused_in_words(self) -> None:
        cases: tuple[tuple[dict[str, bytes], str], ...] = (
            ({"a.txt": b"x"}, "has no mod.toml"),
            ({"mod.toml": DESCRIPTOR.format(id="x").encode(), "../up": b"x"}, ".."),
            ({"mod.toml": DESCRIPTOR.format(id="x").encode(), "files/x": b"1", "files/X": b"2"}, "files/X"),
            ({"mod.toml": DESCRIPTOR.format(id="x").encode(), "files/bomb": bytes(40 << 20)}, "bomb"),
        )
        for files, said in cases:
            path = self.folder / "bad.zip"
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
                for name, data in files.items():
                    archive.writestr(name, data)
            with self.subTest(said):
                if said == "bomb":  # large, not dangerous: there is room for it
                    self.mod("add", path)
                    self.mod("remove", "x")
                else:
                    self.assertIn(said, self.run_program("mod", "add", path, "--game", self.source, status=4).stderr)
        (self.folder / "no.zip").write_bytes(b"PK\x03\x04" + bytes(99))
        self.complaint("mod", "add", self.folder / "no.zip", "--game", self.source, status=4)
        self.assertEqual(
            [path.name for path in self.home.glob("mods/*/*") if path.name not in ("library.json", "added")], []
        )

    def test_nothing_in_a_mod_is_a_layout_or_a_description(self) -> None:
        """A description says which command `start` runs: one in a mod must never count."""
        folder = self.descriptor("sly")
        (folder / "files/deep").mkdir(parents=True)
        (folder / "files/game.toml").write_text(
            'name = "Kelpwick Light"\nknown = ["kelpwick.ini"]\nstart = ["{python}", "-c", "print(1)"]\n'
        )
        (folder / "files/deep/game.toml").write_text((folder / "files/game.toml").read_text())
        (folder / "files/x.layout").write_text('layout "sly pack" kind archive\n')
        self.mod("add", folder)
        self.assertTrue(list(self.home.rglob("game.toml")))
        self.assertNotIn("sly", self.volvex("layout", "list"))
        self.volvex("install", self.source)
        self.assertIn("started", self.volvex("start", self.source))  # which only the game itself writes

    def test_a_mod_of_very_many_files_is_refused(self) -> None:
        folder = self.descriptor("many")
        (folder / "files").mkdir()
        for number in range(30):
            (folder / f"files/{number}").write_bytes(b"")
        with patch.object(mod_folder, "MOST_FILES", 20):
            self.assertIn("more than 20 files", self.complaint("mod", "add", folder, "--game", self.source, status=5))

    def test_a_damaged_library_is_told_and_the_mods_are_kept(self) -> None:
        self.mod("add", self.descriptor("a"))
        (file,) = self.home.glob("mods/*/library.json")
        file.write_text("{")
        self.assertIn("removing it", self.complaint("mod", "list", "--game", self.source, status=4))
        file.unlink()
        self.assertEqual([(one["id"], one["on"]) for one in json.loads(self.mod("list", "--json"))], [("a", False)])


class Imported(WithGame):
    def changed_archive(self, name: str, row: str, value: str) -> Path:
        """The game's main archive as somebody else would ship it, whole."""
        bench = self.folder / f"bench-{name}"
        self.volvex("bench", self.source, bench)
        self.volvex("set", LAMPS, "--row", row, value, cwd=bench)
        self.volvex("build", cwd=bench)
        target = self.folder / name / "main.kwp"
        target.parent.mkdir()
        shutil.copy(bench / "built" / MAIN, target)
        return target

    def test_two_mods_that_ship_the_same_archive_whole_are_combined(self) -> None:
        for name, row, value in (("one", "fresnel_3", "range=14"), ("two", "fresnel_2", "oil=3")):
            self.mod("import", self.changed_archive(name, row, value), self.folder / f"{name}-mod", "--id", name)
            self.assertIn("; 1 field", self.mod("add", self.folder / f"{name}-mod"))
        self.volvex("install", self.source)
        self.assertEqual(self.reach(), "14")
        self.assertIn('"3"', self.lamp("fresnel_2"))

    def test_files_are_matched_by_path_and_doubt_is_told(self) -> None:
        theirs = self.folder / "theirs"
        for name in ("Their Mod/Rules/LAMPS.xml", "x/01-arrival.txt", "fresnel_3.lns", "notes.nfo"):
            (theirs / name).parent.mkdir(parents=True, exist_ok=True)
            (theirs / name).write_bytes(b"")
        lamps = self.volvex("show", self.source / LAMPS, "--raw")
        (theirs / "Their Mod/Rules/LAMPS.xml").write_text(lamps.replace('range="9"', 'range="10"'), newline="")
        said = self.mod("import", theirs, self.folder / "made", status=1)
        for word in ("end of path", "ambiguous", "new", "in doubt"):
            self.assertIn(word, said)
        self.assertIn("range 9 -> 10", self.volvex("mod", "show", self.folder / "made"))
        self.mod("import", theirs / "x/01-arrival.txt", self.folder / "letter", "--path", ARRIVAL)
        self.assertIn(ARRIVAL, self.volvex("mod", "show", self.folder / "letter"))
        self.assertIn("nothing differs", self.mod("import", self.source / MAIN, self.folder / "same", "--path", MAIN))

    def test_how_names_are_matched(self) -> None:
        paths = [
            "data/a.kwp/rules/lamps.xml",
            "data/a.kwp/letters/en/one.txt",
            "data/a.kwp/letters/de/one.txt",
            "data/a.kwp/boats/skiff.msh",
        ]
        record = {
            match.name: (match.how, match.path)
            for match in matches(
                ["data/A.kwp/rules/lamps.xml", "lamps.xml", "en/one.txt", "one.txt", "skif.msh", "x.y"], paths
            )
        }
        self.assertEqual(
            record,
            {
                "data/A.kwp/rules/lamps.xml": ("exact", paths[0]),
                "lamps.xml": ("end of path", paths[0]),
                "en/one.txt": ("end of path", paths[1]),
                "one.txt": ("ambiguous", ""),
                "skif.msh": ("near name", paths[3]),
                "x.y": ("new", "x.y"),
            },
        )

    def test_compare_tells_what_differs_by_field_and_line(self) -> None:
        other = self.changed_archive("one", "fresnel_3", "range=14")
        said = self.run_program("compare", self.source / MAIN, other, status=1).stdout
        self.assertEqual(said.splitlines()[1:], ["  lamp: row fresnel_3: range 9 -> 14", "1 file differs"])
        copy = self.game("copy")
        self.assertIn("no differences", self.volvex("compare", self.source, copy))
        shutil.copy(other, copy / MAIN)
        (copy / "note.txt").write_text("x")
        (record, note) = sorted(
            json.loads(self.run_program("compare", self.source, copy, "--json", status=1).stdout),
            key=lambda one: len(one["path"]),
            reverse=True,
        )
        self.assertEqual((record["path"], record["changes"][0]["after"], note["what"]), (LAMPS, "14", "added"))


class Played(WithGame):
    """The game started, its log read, the guilty change found, the mods carried into its next version."""

    def test_the_log_says_which_mod_it_is_and_bisect_which_change(self) -> None:
        self.mod(
            "add",
            self.made("one", "fresnel_3 range=14"),
            self.made("two", "mole_red fuel=coal", "mole_green oil=2"),
            self.made("three", "bell_reef range=12"),
        )
        done = self.run_program("start", self.source, "--install", status=1)
        self.assertRegex(done.stdout, r"error +refused to start: lamp mole_red: no fuel coal +\(two\)")
        self.assertIn("stopped at once with status 1", done.stdout)
        self.assertIn("look at two", self.volvex("game-log", self.source))
        self.volvex("install", self.source, "--way", "loose", "--prefer", "one")
        before = self.content()
        said = self.mod("bisect")
        self.assertIn("it fails with two", said)
        self.assertIn("lamp mole_red: fuel colza -> coal", said)
        self.assertNotIn("mole_green: oil", said)
        self.assertEqual(self.content(), before)
        self.mod("off", "two")
        self.assertIn("does not fail", self.mod("bisect"))
        self.assertEqual(self.content(), before)
        said = self.mod("bisect", "--test", "false", status=1)
        self.assertIn("also fails without mods", said)
        self.assertNotIn("other files are installed than before", said)
        self.mod("remove", "two")
        self.assertIn("other files are installed than before", self.mod("bisect", "--test", "true"))
        self.volvex("install", self.source)
        self.assertIn("ended after", self.volvex("start", self.source, "--restore"))
        self.assertEqual(self.content(), self.old)

    def test_a_search_goes_on_after_an_interruption_and_keeps_what_is_required(self) -> None:
        base, user = self.made("base", "fresnel_3 range=14"), self.made("user", "mole_red fuel=coal")
        text = (user / "mod.toml").read_text()
        (user / "mod.toml").write_text(text.replace("requires = []", 'requires = ["base"]'))
        self.mod("add", base, user, self.made("other", "bell_reef range=12"))
        self.volvex("install", self.source)
        self.run_program("mod", "bisect", "--game", self.source, status=KILLED, fault="stop:150")
        self.run_program("mod", "list", "--game", self.source)
        done = self.run_program("mod", "bisect", "--game", self.source)
        self.assertIn("of an interrupted search", done.stderr)
        self.assertIn("it fails with user", done.stdout)
        self.assertNotRegex(done.stdout, r"(fails|works) +user \(1\)\n")  # never without what it requires

    def test_an_update_of_the_game_keeps_what_mods_do_not_change(self) -> None:
        self.mod("add", self.made("one", "gull_rock oil=1.2"), self.made("two", "gull_rock range=12"))
        self.volvex("install", self.source)
        self.assertIn("Kelpwick Light 1.4", self.volvex("status", self.source))
        update(self.source)
        new = self.content()
        said = self.volvex("status", self.source)
        for words in ("Kelpwick Light 1.5", "changed since", "carries the mods"):
            self.assertIn(words, said)
        listed = self.mod("list", "--check")
        self.assertRegex(listed, r"one .* applies\n")
        self.assertRegex(listed, r"two .* 1 conflict\n")
        self.assertIn("the game has  '9'", self.run_program("install", self.source, status=1).stdout)
        self.volvex("install", self.source, "--prefer", "two")
        self.assertIn("Gull Rock       colza          12 nm         1.2 l", self.play(self.source))
        self.run_program("restore", self.source, status=5)  # the older original is kept
        self.assertEqual(self.content(), new)

    def test_a_game_that_cannot_be_started_is_told(self) -> None:
        (self.home / "mine").mkdir()
        text = 'name = "Kelpwick Light"\nknown = ["kelpwick.ini"]\n'
        (self.home / "mine/game.toml").write_text(text)
        self.assertIn("gives no command that starts the game", self.complaint("start", self.source, status=5))
        self.assertIn("gives no path of a log", self.complaint("game-log", self.source, status=5))
        (self.home / "mine/game.toml").write_text(text + 'start = ["{game}/nothing"]\n')
        self.assertIn("cannot be started", self.complaint("start", self.source, status=5))

    def test_lines_are_marked_by_what_they_name(self) -> None:
        mod = read_mod(self.made("one", "fresnel_3 range=14"))
        marks = LogMarks(GameDescription("x"), [mod])
        for text, level, mods in (
            ("all is well with fresnel_3", "", ()),
            ("ERROR in rules/lamps.xml, line 4", "error", ("one",)),
            ("warning: fresnel_3", "warning", ("one",)),
            ("error: fresnel_4", "error", ()),
        ):
            self.assertEqual(marks.line(text), LogLine(text, level, mods))


class NewItem(WithGame):
    """A mod that starts from an item of the game."""

    BOATS = f"{MAIN}/rules/boats.xml"

    def start(self, *words: object, status: int = 0) -> str:
        done = self.run_program("mod", "new", self.folder / "skiff", *words, cwd=self.work, status=status)
        return done.stdout + done.stderr

    def test_records_files_titles_and_icon_follow(self) -> None:
        self.start(
            "--item",
            self.BOATS,
            "--row",
            "patience",
            "--item-id",
            "swift",
            "--title",
            "Swift",
            "--title",
            "de=Mauersegler",
        )
        self.assertIn("no errors", self.volvex("check", cwd=self.work))
        mod = read_mod(self.folder / "skiff")
        self.assertEqual(
            sorted(mod.parts),
            [
                f"{MAIN}/pictures/boats/swift.png",
                self.BOATS,
                "isles/rigging.kwo/swift.hull",
                "isles/rigging.kwo/swift.sail",
                "loft/loft.kwa/sails/swift/jib.sail",
                "loft/loft.kwa/sails/swift/main.sail",
                "slip/swift.kmm",
                "slip/swift.kms",
            ],
        )
        self.assertEqual(
            (mod.descriptor.titles, mod.descriptor.icon), ({"en": "Swift", "de": "Mauersegler"}, "icon.png")
        )
        self.mod("add", self.folder / "skiff")
        self.volvex("install", self.source)
        self.assertRegex(self.play(self.source), r"Swift +punt")
        self.volvex("set", self.BOATS, "--row", "swift", "load=9", cwd=self.work)
        self.volvex("mod", "new", self.folder / "skiff", "--overwrite", cwd=self.work)
        self.assertEqual(read_mod(self.folder / "skiff").descriptor.titles["de"], "Mauersegler")

    def test_names_in_each_language_and_what_belongs_to_the_item(self) -> None:
        menu = "data/almanac.kwp/texts/menu.kwx"
        self.start(
            "--item",
            menu,
            "--row",
            "lamp.range",
            "--item-id",
            "lamp.far",
            "--title",
            "To %d miles",
            "--title",
            "de=Bis %d Meilen",
        )
        record = json.loads(self.volvex("show", menu, "--row", "lamp.far", "--json", cwd=self.work))[0]
        texts = {name: str(record).count(name) for name in ("To %d miles", "Bis %d Meilen")}
        self.assertEqual(texts, {"To %d miles": 2, "Bis %d Meilen": 1})
        said = self.start("--item", LAMPS, "--row", "gull_rock", "--item-id", "petrel", "--overwrite")
        self.assertIn("tables/fittings.kwb: fittings petrel, like gull_rock", said)
        self.assertNotIn("keepers", said)

    def test_an_id_that_is_there_or_is_none_is_refused(self) -> None:
        for words, said, status in (
            (("--row", "patience", "--item-id", "marrow"), "already", 5),
            (("--row", "patience", "--item-id", "a b"), "is not an id", 2),
            (("--row", "nobody", "--item-id", "b"), "nobody", 3),
        ):
            with self.subTest(said):
                self.assertIn(said, self.start("--item", self.BOATS, *words, status=status))
        self.assertIn("no changes", self.volvex("changes", cwd=self.work))


class Packs(WithGame):
    """What is known of a game, drafted, checked, shared and used."""

    def test_a_descriptor_of_a_mod_gives_a_template(self) -> None:
        for name, text, made in (
            (
                "parcel.xml",
                '<parcel id="a" version="2">\n  <title language="en">A</title>\n  <title language="de">B</title>\n  <icon file="a.png"/>\n</parcel>\n',  # noqa: E501
                '<parcel id="{id}" version="{version}">\n  <title language="{language}">{title}</title>\n  <icon file="{icon}"/>\n</parcel>\n',  # noqa: E501
            ),
            (
                "crate.json",
                '{"id": "a", "version": "2", "author": "Bero"}',
                '{"id": "{id}", "version": "{version}", "author": "{author}"}',
            ),
        ):
            with self.subTest(name):
                place = self.folder / f"{name}-mods/a"
                place.mkdir(parents=True)
                (place / name).write_text(text)
                self.volvex("games", "new", self.source, self.folder / f"pack-{name}", "--descriptor", place / name)
                template = (
                    self.folder / f"pack-{name}" / name.replace(".xml", ".template").replace(".json", ".template")
                ).read_text()
                self.assertEqual(template, made)
                self.assertIn("no faults", self.volvex("games", "check", self.folder / f"pack-{name}"))

    def test_a_draft_is_filled_in_and_teaches_the_game(self) -> None:
        self.volvex("games", "new", self.source, self.folder / "mine")
        text = (self.folder / "mine/game.toml").read_text()
        for words in (
            'known = ["kelpwick.exe", ',
            '"saves/*"]',
            "data/main.kwp: Kelpwick pack",
            '"post/winter.kpz" = ',
        ):
            self.assertIn(words, text)
        (self.folder / "mine/game.toml").write_text(text.replace('name = "game"', 'name = "My Light"'))
        (self.folder / "mine/names").mkdir()
        (self.folder / "mine/names/paths.txt").write_text("boats/skiff_01/hull.msh\n")
        self.assertIn(
            "My Light: no faults, 0 layouts, 1 list of names", self.volvex("games", "check", self.folder / "mine")
        )
        self.volvex("games", "add", self.folder / "mine")
        self.assertIn("My Light", self.volvex("status", self.source))
        self.assertIn("already", self.complaint("games", "add", self.folder / "mine", status=5))
        self.volvex("games", "export", "mine", self.folder / "mine.zip")
        self.volvex("games", "remove", "mine")
        self.assertIn("Kelpwick Light", self.volvex("status", self.source))
        self.volvex("games", "add", self.folder / "mine.zip", "--name", "again")
        self.assertEqual(
            [one["pack"] for one in json.loads(self.volvex("games", "list", "--json"))], ["again", "kelpwick"]
        )
        self.assertIn("names/paths.txt", self.volvex("games", "show", "again"))

    def test_what_does_not_belong_into_a_pack_is_refused(self) -> None:
        for name, data, said in (
            ("run.py", b"x", "run.py"),
            ("keys.json", b"{}", "keys.json"),
            ("a.layout", b"layout", "a.layout"),
            ("names/x.txt", b"\xff\n", "line 1"),
        ):
            folder = self.folder / f"pack-{name.replace('/', '-')}"
            (folder / name).parent.mkdir(parents=True)
            (folder / "game.toml").write_text('name = "X"\nknown = ["x"]\n')
            (folder / name).write_bytes(data)
            with self.subTest(name):
                done = self.run_program("games", "add", folder, "--name", "x", status=None)
                self.assertNotEqual(done.returncode, 0)
                self.assertIn(said, done.stderr)
        self.assertIn("ships with Volvex", self.complaint("games", "remove", "kelpwick", status=5))
        self.assertIn("no game pack", self.complaint("games", "show", "nothing", status=3))
        self.complaint("games", "add", self.folder / "pack-run.py", "--name", "mods", status=5)


class Benches(WithGame):
    def test_a_bench_moves_to_the_game_at_another_place(self) -> None:
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        elsewhere = self.folder / "elsewhere"
        self.source.rename(elsewhere)
        self.assertIn("is not at", self.complaint("build", cwd=self.work, status=3))
        said = self.volvex("bench", "--game", elsewhere, cwd=self.work)
        self.assertIn("17 archives as they were", said)
        self.volvex("mod", "new", self.folder / "moved", cwd=self.work)
        update(elsewhere)
        self.assertIn(
            "different: data/almanac.kwp, data/main.kwp", self.volvex("bench", "--game", elsewhere, cwd=self.work)
        )
        (self.folder / "other").mkdir()
        self.assertIn(
            "none of the archives", self.complaint("bench", "--game", self.folder / "other", cwd=self.work, status=5)
        )
        self.assertIn("no game is given", self.complaint("bench", status=2))

    def test_single_values_are_undone(self) -> None:
        for edit in ("range=14", "oil=3.1"):
            self.volvex("set", LAMPS, "--row", "fresnel_3", edit, cwd=self.work)
        self.volvex("set", LAMPS, "--row", "gull_rock", "oil=2", cwd=self.work)
        self.assertIn(
            "range 14 -> 9", self.volvex("undo", LAMPS, "--row", "fresnel_3", "--fields", "range", cwd=self.work)
        )
        text = self.volvex("changes", cwd=self.work)
        self.assertTrue("oil 2.5 -> 3.1" in text and "range" not in text and "gull_rock" in text, text)
        self.volvex("undo", LAMPS, "--row", "fresnel_3", cwd=self.work)
        self.assertIn(
            "as the game has it", self.complaint("undo", LAMPS, "--row", "fresnel_3", cwd=self.work, status=3)
        )
        self.assertIn(
            "--fields needs a record", self.complaint("undo", LAMPS, "--fields", "x", cwd=self.work, status=2)
        )

    def test_formats_are_found_by_their_first_bytes(self) -> None:
        self.assertIn("Kelpwick pack", self.volvex("identify", "--signature", "4b57"))
        self.assertIn("png", self.volvex("identify", "--signature", "89504e470d0a1a0a00"))
        self.assertIn("no known format", self.volvex("identify", "--signature", "0102030405", status=1))
        self.complaint("identify", "--signature", "xyz", status=2)
        self.complaint("identify", status=2)


class Stopped(WithGame):
    def test_install_of_five_mods(self) -> None:
        lamps = ("harbour_1", "harbour_2", "fresnel_1", "fresnel_2", "fresnel_3")
        self.mod("add", *(self.made(f"mod-{number}", f"{lamp} range=1{number}") for number, lamp in enumerate(lamps)))
        clean = self.folder / "clean"
        shutil.copytree(self.source, clean)
        self.volvex("install", self.source)
        new = self.content()
        self.volvex("restore", self.source)
        reached = 0
        for at in range(1, 400, 7):
            done = self.run_program("install", self.source, status=None, fault=f"stop:{at}")
            if done.returncode == 0:
                break
            reached += 1
            self.assertEqual(done.returncode, KILLED, done.stderr)
            self.mod("list")
            self.volvex("survey", self.source)  # the next command, which finishes it or takes it back
            self.assertIn(self.content(), (self.old, new), f"step {at}")
            self.volvex("restore", self.source)
            self.assertEqual(self.content(), self.old, f"step {at}")
        self.assertEqual(self.content(), new)
        self.assertGreater(reached, 6)

    def test_on_off_order_and_add(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"), self.made("two", "fresnel_2 range=12"))
        for words in (
            ("off", "one"),
            ("on", "one"),
            ("order", "two", "one"),
            ("add", self.folder / "one", "--overwrite"),
        ):
            for at in range(1, 60, 2):
                done = self.run_program("mod", *words, "--game", self.source, status=None, fault=f"stop:{at}")
                listed = {one["id"] for one in json.loads(self.mod("list", "--json"))}
                self.assertEqual(listed, {"one", "two"}, f"{words} {at}")
                if done.returncode == 0:
                    break
            else:
                self.fail("never came through")


if __name__ == "__main__":
    unittest.main()
