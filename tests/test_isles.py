"""The archives of the game's folder `isles`, each of another family: changed by the program, loaded by the game."""

from __future__ import annotations

import random
import unittest
from pathlib import Path

from kelpwick import GameError, isles
from kelpwick.isles import rigging, soundings
from tests.support import LAMPS, MAIN, Case, KeptGame, digests
from volvex.archive.access.open import open_archive
from volvex.layout import Library

DEPTHS = f"isles/soundings.kws/unnamed/{soundings.key_of('soundings/the_pans/ebb.sdg'):016x}.bin"
TIDES = "isles/tides.kwv/the_pans.csv"
JOURNAL = "isles/journals.kwj/cade/spring.txt"
NOTE = "isles/shores.kwt/note.txt"
HULL = "isles/rigging.kwo/marrow.hull"
CHIME = "isles/chimes.kwr/the_pans-3.chime"


class Looking(KeptGame):
    def test_each_is_known_and_proved(self) -> None:
        out = self.volvex("layout", "prove", self.shared / "isles")
        self.assertEqual(out.count("identical"), 6)

    def test_each_survives_the_harder_proof(self) -> None:
        for name in isles.FORMATS:
            out = self.volvex("layout", "prove", self.shared / "isles" / name, "--harder")
            self.assertGreater(out.count("holds: "), 12, name)
            self.assertNotIn("fails", out)

    def test_each_is_explained_without_a_gap(self) -> None:
        for name in isles.FORMATS:
            out = self.volvex("layout", "explain", self.shared / "isles" / name)
            self.assertIn("100% explained", out)
            self.assertIn("every byte is explained", out)

    def test_the_layouts_can_be_written(self) -> None:
        self.assertEqual(self.volvex("layout", "list").count("Kelpwick"), 29)
        for name in isles.FORMATS:
            shown = self.volvex("layout", "show", f"Kelpwick {name.partition('.')[0]}")
            self.assertIn('layout "Kelpwick', shown)

    def test_an_entry_without_a_name_goes_by_its_key_whatever_its_ending(self) -> None:
        whole = self.volvex("show", f"{self.shared}/{DEPTHS}", "--hex")
        self.assertEqual(self.volvex("show", f"{self.shared}/{DEPTHS.removesuffix('.bin')}", "--hex"), whole)
        self.assertEqual(self.volvex("show", f"{self.shared}/{DEPTHS.removesuffix('bin')}sdg", "--hex"), whole)

    def test_what_lies_in_a_wrapped_part_is_told_with_its_own_places(self) -> None:
        found = self.records("layout", "explain", self.shared / "isles" / "journals.kwj")
        inner = [record for record in found if record["within"] == "index"]
        self.assertEqual(
            (inner[0]["start"], inner[0]["name"], inner[0]["value"]), (0, "directory[0].name", "ansa/spring.txt")
        )

    def test_the_game_refuses_damage(self) -> None:
        rng = random.Random(3)
        for name, module in isles.FORMATS.items():
            data = (self.shared / "isles" / name).read_bytes()
            with self.subTest(name):
                with self.assertRaises(GameError):
                    module.read(data[:-1])
                refused = 0
                for _ in range(60):
                    broken = bytearray(data)
                    broken[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
                    try:
                        refused += module.read(bytes(broken)) != module.read(data)
                    except GameError:
                        refused += 1
                self.assertGreater(refused, 40)


class Changing(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def do(self, *words: object) -> str:
        return self.volvex(*words, cwd=self.work)

    def played(self) -> str:
        self.do("build")
        self.do("install")
        return self.play(self.source)

    def edit(self, path: str, data: bytes) -> None:
        self.do("take", path)
        (self.work / "files" / path).write_bytes(data)

    def test_changed_content_reaches_the_game(self) -> None:
        self.edit(TIDES, b"hour;height\n1;9.25\n")
        self.edit(JOURNAL, b"The lamp was never out.\n" * 30)
        self.edit(NOTE, b"Never land.\n")
        self.edit(HULL, rigging.hull(31.0, 4.5, 99))
        self.edit(CHIME, b"CHIM" + bytes(9000))
        self.edit(DEPTHS, b"SDG1" + b"\x40\x00\x40\x00" + b"\x05\x00" * 4096)
        out = self.played()
        for text in (
            "high water 9.25 m",
            "Cade Wether writes: The lamp was never out.",
            "  Never land.",
            "31.0 m long, 4.5 m deep, 99 planks",
            "The Pans             5 fathoms",
            "9 chimes",
        ):
            self.assertIn(text, out)
        self.assertEqual(self.volvex("layout", "prove", self.source / "isles").count("identical"), 6)
        self.do("restore")
        self.assertEqual(self.play(self.source), self.play(self.game("fresh")))  # playing writes into the game's log

    def test_empty_and_tiny_content(self) -> None:
        self.edit(JOURNAL, b"x")
        self.edit(NOTE, b"")
        self.edit(CHIME, b"CHIM")
        self.assertIn("Cade Wether writes: x\n", self.played())

    def test_new_entries(self) -> None:
        mine = self.folder / "mine.txt"
        mine.write_bytes(b"CHIM new")
        for path in (
            "isles/tides.kwv/far_off.csv",
            "isles/journals.kwj/cade/winter.txt",
            "isles/shores.kwt/the_pans/ruins/3.txt",
            "isles/rigging.kwo/ghost.hull",
            "isles/chimes.kwr/ghost-1.chime",
            "isles/soundings.kws/unnamed/00000000000000aa.txt",
        ):
            self.do("swap", "--new", path, mine)
        self.do("build")
        for name, module in isles.FORMATS.items():
            found = module.read((self.work / "built" / "isles" / name).read_bytes())
            self.assertIn(b"CHIM new", found.values(), name)

    def test_entries_left_out_and_taken_in_again(self) -> None:
        paths = [TIDES, JOURNAL, NOTE, HULL, CHIME, DEPTHS]
        self.assertIn("6 paths left out of", self.do("drop", *paths))
        out = self.do("changes")
        self.assertIn("removed  isles/tides.kwv/the_pans.csv  text, 194 bytes", out)
        self.assertIn("0 files changed, 0 added, 6 left out", out)
        self.do("build")
        for name, module in isles.FORMATS.items():
            before = module.read((self.source / "isles" / name).read_bytes())
            after = module.read((self.work / "built" / "isles" / name).read_bytes())
            self.assertEqual(len(after), len(before) - 1, name)
            self.assertEqual(after, {key: one for key, one in before.items() if key in after})
        self.assertIn("6 changes undone", self.do("undo", *paths))
        self.assertIn("no changes", self.do("changes"))

    def test_whole_files_of_the_game_are_left_out_and_come_back(self) -> None:
        old = digests(self.source)
        self.do("drop", "kelpwick.ini")
        self.do("drop", "--whole", "isles/tides.kwv")
        self.do("install") if "2 files" in self.do("build") else self.fail("two files are built")
        self.assertEqual(set(old) - set(digests(self.source)), {"kelpwick.ini", "isles/tides.kwv"})
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("drop", "--whole", MAIN)
        self.assertIn("in it has changes", self.complaint("build", status=5, cwd=self.work))
        self.do("restore")
        self.assertEqual(digests(self.source), old)

    def test_what_an_archive_cannot_say_is_refused(self) -> None:
        mine = self.folder / "mine.txt"
        mine.write_bytes(b"new")
        for path, text in (
            ("isles/rigging.kwo/ghost.anchor", "as numbers"),
            ("lockers/lockers.kwn/depths.txt", "goes by numbers"),
        ):
            self.do("swap", "--new", path, mine)
            said = self.complaint("build", status=5, cwd=self.work)
            self.assertIn(text, said)
            (self.work / "files" / path).unlink()

    def test_a_file_in_a_new_folder_reaches_the_game(self) -> None:
        mine = self.folder / "mine.txt"
        mine.write_bytes(b"new")
        before = isles.FORMATS["shores.kwt"].read((self.source / "isles/shores.kwt").read_bytes())
        self.do("swap", "--new", "isles/shores.kwt/nowhere/far/3.txt", mine)
        self.do("build")
        after = isles.FORMATS["shores.kwt"].read((self.work / "built/isles/shores.kwt").read_bytes())
        self.assertEqual(after, {**before, "nowhere/far/3.txt": b"new"})

    def names_of(self, path: Path) -> list[str]:
        archive = open_archive(path, Library())
        assert archive is not None
        with archive:
            return list(archive.names)

    def test_a_new_entry_stands_behind_the_one_that_was_chosen(self) -> None:
        mine, name = self.folder / "mine.txt", "isles/tides.kwv"
        mine.write_bytes(b"new")
        before = self.names_of(self.source / name)
        self.do("swap", "--new", f"{name}/first.csv", mine, "--after", f"{name}/{before[1]}")
        for words, status, text in (
            ((TIDES, mine, "--after", TIDES), 2, "new entry"),
            (("--new", f"{name}/a.csv", mine, "--after", f"{name}/none"), 3, f"{name}: none"),
            (("--new", f"{name}/a.csv", mine, "--after", NOTE), 5, "of the same archive"),
        ):
            self.assertIn(text, self.complaint("swap", *words, status=status, cwd=self.work))
        self.assertFalse((self.work / "files" / name / "a.csv").exists())
        self.do("build")
        self.assertEqual(self.names_of(self.work / "built" / name), [*before[:2], "first.csv", *before[2:]])
        self.do("drop", f"{name}/{before[1]}")
        self.do("build")
        self.assertEqual(self.names_of(self.work / "built" / name), [before[0], "first.csv", *before[2:]])
        self.do("swap", "--new", f"{MAIN}/letters/en/00.txt", mine, "--after", LAMPS)
        self.assertIn("its records are sorted", self.complaint("build", status=5, cwd=self.work))

    def test_a_mod_keeps_where_a_new_entry_stands(self) -> None:
        mine, name = self.folder / "mine.txt", "isles/tides.kwv"
        mine.write_bytes(b"new")
        before = self.names_of(self.source / name)
        self.do("swap", "--new", f"{name}/first.csv", mine, "--after", f"{name}/{before[1]}")
        self.do("mod", "new", self.folder / "early-tide")
        self.assertIn(f'"{name}/first.csv" = "{name}/{before[1]}"', (self.folder / "early-tide/mod.toml").read_text())
        self.do("undo", ".")
        self.do("mod", "add", self.folder / "early-tide")
        self.do("install")
        self.assertEqual(self.names_of(self.source / name), [*before[:2], "first.csv", *before[2:]])
        self.do("restore")
        self.assertEqual(self.names_of(self.source / name), before)

    def test_unpacked_and_packed_again(self) -> None:
        for name in isles.FORMATS:
            archive = self.source / "isles" / name
            self.volvex("unpack", archive, "--to", name)
            self.volvex("pack", name, "--like", archive, "--to", f"same-{name}")
            self.assertEqual((self.folder / f"same-{name}").read_bytes(), archive.read_bytes())
            first = next(path for path in sorted((self.folder / name).rglob("*")) if path.is_file())
            first.unlink()
            self.volvex("pack", name, "--like", archive, "--to", f"less-{name}")
            module = isles.FORMATS[name]
            self.assertEqual(
                len(module.read((self.folder / f"less-{name}").read_bytes())),
                len(module.read(archive.read_bytes())) - 1,
            )


if __name__ == "__main__":
    unittest.main()
