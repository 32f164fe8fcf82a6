"""The workbench: bench, take, set, swap, changes, build; and pack, which is building without a bench."""

from __future__ import annotations

import json
import os
import shutil
import struct
import unittest

from tests.support import LAMPS, LETTER, MAIN, Case, digests
from volvex.archive import open_archive
from volvex.archive.archive import Archive
from volvex.layout import Library


class OnABench(Case):
    """Tests with a game and a bench."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.before = digests(self.source)
        self.work = self.bench(self.source)

    def tearDown(self) -> None:
        self.assertEqual(digests(self.source), self.before, "the game is not written to from a bench")

    def do(self, *words: object, status: int = 0) -> str:
        return self.volvex(*words, cwd=self.work, status=status)

    def refused(self, *words: object, status: int) -> str:
        return self.complaint(*words, cwd=self.work, status=status)

    def built(self) -> Archive:
        archive = open_archive(self.work / "built" / MAIN, Library())
        assert archive is not None
        self.addCleanup(archive.source.close)
        return archive


class Benches(OnABench):
    def test_a_bench_holds_fingerprints_and_no_copies(self) -> None:
        files = [path for path in self.work.rglob("*") if path.is_file()]
        self.assertEqual(sorted(path.name for path in files), ["bench.json", "lock"])
        told = json.loads((self.work / "bench.json").read_text())
        self.assertEqual(told["described as"], "Kelpwick Light")
        self.assertEqual(len(told["fingerprints"]), 17)
        self.assertEqual(told["fingerprints"][MAIN]["size"], 94908)

    def test_where_a_bench_cannot_be(self) -> None:
        self.assertIn("within the game's folder", self.complaint("bench", self.source, self.source / "bench", status=5))
        self.assertIn("is not empty", self.complaint("bench", self.source, self.work, status=5))
        self.assertIn("there is no folder", self.complaint("bench", self.folder / "nowhere", status=3))

    def test_commands_outside_a_bench_say_how_to_make_one(self) -> None:
        said = self.complaint("changes", status=3)
        self.assertIn("volvex bench GAME", said)
        self.assertIn("is not a bench", self.complaint("changes", "--bench", self.source, status=3))

    def test_a_damaged_description(self) -> None:
        good = (self.work / "bench.json").read_text()
        for text in ("", "[]", good[:-30], good.replace('"size"', '"sise"'), good.replace('"bench": 2', '"bench": 99')):
            (self.work / "bench.json").write_text(text)
            self.assertIn("bench.json", self.refused("changes", status=4))

    def test_paths_that_lead_out_of_the_bench_are_refused(self) -> None:
        outside = self.folder / "outside.txt"
        outside.write_text("mine")
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        manifest, description = self.work / "built" / "built.json", self.work / "bench.json"
        good = manifest.read_text()
        manifest.write_text(good.replace(MAIN, "../../outside.txt"))
        self.assertIn("leads out of the bench", self.refused("build", status=4))
        manifest.write_text(good)
        description.write_text(description.read_text().replace(f'"file": "{MAIN}"', '"file": "../../outside.txt"'))
        self.assertIn("leads out of the bench", self.refused("build", status=4))
        self.assertEqual(outside.read_text(), "mine")

    def test_a_game_that_is_gone(self) -> None:
        away = self.folder / "away"
        shutil.move(self.source, away)
        self.refused("changes", status=3)
        shutil.move(away, self.source)


class Take(OnABench):
    def test_entries_land_in_a_tree_like_the_game_s(self) -> None:
        self.assertIn(f"took files/{LAMPS}", self.do("take", LAMPS))
        self.assertEqual((self.work / "files" / LAMPS).read_bytes()[:21], b'<?xml version="1.0" e')
        taken = json.loads((self.work / "bench.json").read_text())["taken"][LAMPS]
        self.assertEqual((taken["file"], taken["entry"], taken["size"]), (MAIN, "rules/lamps.xml", 1086))

    def test_paths_from_the_game_from_here_and_in_full(self) -> None:
        for path in (LAMPS, f"../game/{LAMPS}", f"{self.source}/{LAMPS}", f"files/{LAMPS}", f"./{LAMPS}"):
            with self.subTest(path):
                shutil.rmtree(self.work / "files")
                self.do("take", path)
                self.assertTrue((self.work / "files" / LAMPS).is_file())

    def test_folders_wildcards_and_loose_files(self) -> None:
        self.do("take", f"{MAIN}/letters/en", "data/*.kwp/rules/*.json", "kelpwick.ini", f"{MAIN}/**/gull*")
        files = [
            path.relative_to(self.work / "files").as_posix()
            for path in (self.work / "files").rglob("*")
            if path.is_file()
        ]
        self.assertEqual(len(files), 5 + 4 + 1 + 1)
        self.assertIn("kelpwick.ini", files)

    def test_a_whole_archive(self) -> None:
        self.assertIn("and 55 more files", self.do("take", MAIN))
        self.assertEqual(len(digests(self.work / "files")), 67)
        self.assertIn("no changes", self.do("changes"))

    def test_what_was_edited_is_not_overwritten(self) -> None:
        self.do("take", LAMPS)
        self.assertIn("already in the bench", self.do("take", LAMPS))
        (self.work / "files" / LAMPS).write_bytes(b"mine")
        self.assertIn("was edited in the bench", self.refused("take", LAMPS, status=5))
        self.assertEqual((self.work / "files" / LAMPS).read_bytes(), b"mine")
        self.do("take", LAMPS, "--overwrite")
        self.assertEqual(len((self.work / "files" / LAMPS).read_bytes()), 1086)

    def test_what_is_not_there(self) -> None:
        self.assertIn("rules/lamps.xml", self.refused("take", f"{MAIN}/rules/lmaps.xml", status=3))
        self.assertIn("not in the game: nothing", self.refused("take", "nothing", status=3))
        self.assertIn("nothing in the game matches", self.refused("take", "**/*.wav", status=3))


class SetAndSwap(OnABench):
    def test_set_takes_edits_and_tells(self) -> None:
        out = self.do("set", LAMPS, "--row", "fresnel_3", "range=14", "oil=3.1")
        self.assertIn("row fresnel_3: range 9 -> 14", out)
        self.assertIn(b'range="14" oil="3.1"', (self.work / "files" / LAMPS).read_bytes())
        self.assertIn("range 14 -> 15", self.do("set", f"files/{LAMPS}", "--row", "fresnel_3", "range=15"))

    def test_a_plan_changes_nothing(self) -> None:
        self.assertIn("range 9 -> 14", self.do("set", LAMPS, "--row", "fresnel_3", "range=14", "--plan"))
        self.assertFalse((self.work / "files" / LAMPS).exists())

    def test_all_values_or_none(self) -> None:
        self.refused("set", LAMPS, "--row", "fresnel_3", "range=14", "raneg=15", status=3)
        self.assertIn("no changes", self.do("changes"))

    def test_json_and_what_has_no_values(self) -> None:
        self.assertIn("spring 4.2 -> 5", self.do("set", f"{MAIN}/rules/tides.json", "spring=5"))
        self.assertIn("it has records: 24 of rows", self.refused("set", f"{MAIN}/tables/tides.csv", "hour=1", status=3))
        self.assertIn(
            "is png; values are known in", self.refused("set", f"{MAIN}/pictures/lamps/old_light.png", "a=1", status=2)
        )
        self.assertIn("is not FIELD=VALUE", self.refused("set", LAMPS, "range", status=2))

    def test_swap_brings_a_file_of_yours(self) -> None:
        mine = self.folder / "mine.png"
        mine.write_bytes(b"\x89PNG mine")
        self.do("swap", f"{MAIN}/pictures/lamps/old_light.png", mine, "--as-is")
        self.assertEqual((self.work / "files" / MAIN / "pictures/lamps/old_light.png").read_bytes(), b"\x89PNG mine")
        self.assertIn(
            "not in data/main.kwp: pictures", self.refused("swap", f"{MAIN}/pictures/lamps/new.png", mine, status=3)
        )
        self.assertIn("there is no file", self.refused("swap", LAMPS, self.folder / "none", status=3))

    def test_a_new_file_must_be_called_new(self) -> None:
        mine = self.folder / "mine.txt"
        mine.write_bytes(b"A new letter\n")
        self.do("swap", "--new", f"{MAIN}/letters/en/06-new.txt", mine)
        self.assertIn("added", self.do("changes"))
        self.assertIn("already exists", self.refused("swap", "--new", LAMPS, mine, status=5))
        self.assertIn("climbs out", self.refused("swap", "--new", f"{MAIN}/../../x.txt", mine, status=5))


class Changes(OnABench):
    def test_line_by_line(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        out = self.do("changes")
        self.assertIn("changed  data/main.kwp/rules/lamps.xml  xml, 1,086 -> 1,087 bytes", out)
        self.assertIn("  lamp: row fresnel_3: range 9 -> 14", out)
        self.do("take", LETTER)
        file = self.work / "files" / LETTER
        file.write_text(file.read_text().replace("Yours", "Ever yours"))
        self.assertIn("      6 - Yours, Ansa Tolk\n      6 + Ever yours, Ansa Tolk", self.do("changes"))
        file.unlink()
        self.assertEqual(len(self.do("changes", "--brief").splitlines()), 2)

    def test_records(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        record = self.records("changes", cwd=self.work)[0]
        self.assertEqual((record["what"], record["before"], record["after"]), ("changed", 1086, 1087))
        self.assertEqual(
            record["changes"],
            [{"what": "set", "sheet": "lamp", "id": "fresnel_3", "field": "range", "before": "9", "after": "14"}],
        )
        self.do("set", LAMPS, "--row", "fresnel_3", "range=9")
        self.do("take", LETTER)
        file = self.work / "files" / LETTER
        file.write_text(file.read_text().replace("Yours", "Ever yours"))
        lines = self.records("changes", cwd=self.work)[0]["lines"]
        assert isinstance(lines, list)
        self.assertEqual([(line["sign"], line["line"]) for line in lines], [("-", 6), ("+", 6)])

    def test_lines_put_in_taken_out_and_moved(self) -> None:
        self.do("take", LETTER)
        file = self.work / "files" / LETTER
        old = file.read_text().splitlines()
        file.write_text("\n".join([old[0], "", "A line more.", *old[3:]]) + "\n")
        self.assertEqual([line[:9] for line in self.do("changes").splitlines()[1:-1]], ["      3 -", "      3 +"])
        file.write_text("\n".join(old[:-1]) + "\n")
        self.assertEqual(self.do("changes").splitlines()[1], f"      6 - {old[-1]}")

    def test_binaries_are_told_by_size(self) -> None:
        self.do("take", f"{MAIN}/bells/fog-01.ring")
        (self.work / "files" / MAIN / "bells/fog-01.ring").write_bytes(b"RING\0short")
        self.assertEqual(
            self.do("changes").splitlines()[0], "changed  data/main.kwp/bells/fog-01.ring  binary, 2,104 -> 10 bytes"
        )

    def test_a_binary_that_became_text_is_not_told_line_by_line(self) -> None:
        self.do("take", f"{MAIN}/bells/fog-01.ring", LETTER)
        (self.work / "files" / MAIN / "bells/fog-01.ring").write_text("now a text\n")
        (self.work / "files" / LETTER).write_bytes(b"\0\1\2")
        self.assertEqual(len(self.do("changes").splitlines()), 3)

    def test_a_touch_is_no_change_and_what_is_gone_is_told(self) -> None:
        self.do("take", LAMPS, LETTER)
        os.utime(self.work / "files" / LAMPS)
        (self.work / "files" / LETTER).unlink()
        done = self.run_program("changes", cwd=self.work)
        self.assertIn("no changes", done.stdout)
        self.assertIn("no longer in the bench", done.stderr)

    def test_a_long_text_that_differs_everywhere_is_still_told(self) -> None:
        self.do("take", LETTER)
        (self.work / "files" / LETTER).write_text("".join(f"line {number}\n" for number in range(9000)))
        out = self.do("changes")
        self.assertIn("more lines: --all shows them", out)
        self.assertLess(len(out.splitlines()), 60)


class Build(OnABench):
    def test_one_entry_changed_and_all_others_bit_for_bit(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.assertIn("1 file in built", self.do("build"))
        original = open_archive(self.source / MAIN, Library())
        assert original is not None
        with original:
            built = self.built()
            self.assertEqual(built.names, original.names)
            for row, name in enumerate(built.names):
                old, new = (
                    archive.source.read(int(archive.entries.start[row]), int(archive.entries.stored[row]))
                    for archive in (original, built)
                )
                self.assertEqual(old == new, name != "rules/lamps.xml", name)
            self.assertEqual(original.source.read(36, 28), built.source.read(36, 28), "the makers' stamp stays")

    def test_loaded_by_the_game_longer_shorter_and_empty(self) -> None:
        letter = self.work / "files" / LETTER
        self.do("take", LETTER)
        for text in ("A much longer letter. " * 300, "Short.", ""):
            letter.write_text(text)
            self.do("build")
            other = self.folder / f"copy-{len(text)}"
            shutil.copytree(self.source, other)
            shutil.copy(self.work / "built" / MAIN, other / MAIN)
            played = self.play(other)
            shown = played.partition("A LETTER (en)")[2].partition("AROUND THE ISLES")[0]
            self.assertEqual(shown.strip(), text.strip())

    def test_a_new_entry_is_loaded_by_the_game(self) -> None:
        mine = self.folder / "aaa.txt"
        mine.write_bytes(b"first in the table\n")
        self.do("swap", "--new", f"{MAIN}/aaa/first.txt", mine)
        self.do("swap", "--new", f"{MAIN}/letters/en/zzz.txt", mine)
        self.do("build")
        shutil.copytree(self.source, self.folder / "copy")
        shutil.copy(self.work / "built" / MAIN, self.folder / "copy" / MAIN)
        self.play(self.folder / "copy")
        self.assertEqual(self.built().names[0], "aaa/first.txt")
        self.assertEqual(len(self.built()), 69)

    def test_loose_files_are_built_as_they_are(self) -> None:
        self.do("take", "kelpwick.ini")
        (self.work / "files" / "kelpwick.ini").write_bytes(b"[game]\nlanguage = de\n")
        self.do("swap", "--new", "mods/note.txt", self.work / "bench.json")
        self.assertEqual(
            {load["path"] for load in json.loads(self.do("build", "--json"))}, {"kelpwick.ini", "mods/note.txt"}
        )
        self.assertEqual((self.work / "built" / "kelpwick.ini").read_bytes(), b"[game]\nlanguage = de\n")

    def test_nothing_to_build_removes_what_was_built(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        self.do("take", LAMPS, "--overwrite")
        self.assertIn("nothing was built", self.do("build"))
        self.assertFalse((self.work / "built" / MAIN).exists())

    def test_the_same_bench_gives_the_same_bytes(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        first = digests(self.work / "built")
        self.do("build")
        self.assertEqual(digests(self.work / "built"), first)

    def test_no_space_left_leaves_nothing_half_written(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        for at in range(1, 80):
            done = self.run_program("build", cwd=self.work, status=None, fault=f"full:{at}")
            left = [path.name for path in self.work.rglob("*") if path.is_file()]
            if done.returncode == 0:
                self.assertGreater(at, 3, "the fault was never reached")
                break
            self.assertEqual(done.returncode, 6, done.stderr)
            self.assertIn("no space left on the device", done.stderr)
            self.assertEqual([name for name in left if "part" in name or "spool" in name or name == "built.json"], [])
        else:
            self.fail("the build never came through")


class AfterAnUpdate(Case):
    """The game's archive is another than when the bench was made."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)

    def update(self, entry: str, old: str, new: str) -> None:
        """What a game's update does: one of its files is another."""
        self.volvex("unpack", self.source / MAIN, "--to", self.folder / "all")
        file = self.folder / "all" / entry
        file.write_text(file.read_text(encoding="utf-8").replace(old, new), encoding="utf-8", newline="")
        self.volvex("pack", self.folder / "all", "--like", self.source / MAIN, "--to", self.folder / "new.kwp")
        shutil.move(self.folder / "new.kwp", self.source / MAIN)

    def test_an_update_of_something_else_is_carried_along(self) -> None:
        self.update("letters/en/02-oil.txt", "colza", "oil of colza")
        self.volvex("build", cwd=self.work)
        self.assertIn("oil of colza", self.volvex("show", self.work / "built" / MAIN / "letters/en/02-oil.txt"))
        self.assertIn('range="14"', self.volvex("show", self.work / "built" / MAIN / "rules/lamps.xml"))

    def test_an_update_of_what_was_changed_is_refused(self) -> None:
        self.update("rules/lamps.xml", 'range="18"', 'range="19"')
        said = self.complaint("build", cwd=self.work, status=5)
        self.assertIn("has changed since it was taken", said)
        self.assertIn("take --overwrite", said)


class Pack(Case):
    def setUp(self) -> None:
        super().setUp()
        self.archive = self.game() / MAIN
        self.volvex("unpack", self.archive, "--to", "all")

    def pack(self, *words: object) -> str:
        return self.volvex("pack", "all", "--like", self.archive, "--to", "new.kwp", *words)

    def test_an_unpacked_archive_packs_to_the_same_bytes(self) -> None:
        self.assertIn("67 entries as in main.kwp, 0 changed, 0 added, 0 left out", self.pack())
        self.assertEqual((self.folder / "new.kwp").read_bytes(), self.archive.read_bytes())

    def test_changed_added_and_left_out(self) -> None:
        (self.folder / "all" / "rules" / "tides.json").write_text('{"spring": 5}')
        (self.folder / "all" / "letters" / "en" / "06.txt").write_text("new\n")
        (self.folder / "all" / "bells" / "fog-06.ring").unlink()
        self.assertIn("65 entries as in main.kwp, 1 changed, 1 added, 1 left out", self.pack())
        self.assertIn("identical", self.volvex("layout", "prove", "new.kwp"))
        self.assertEqual(self.volvex("show", "new.kwp/letters/en/06.txt"), "new\n")
        record = self.records("list", "new.kwp/letters/en/06.txt")[0]
        self.assertEqual((record["codec"], record["size"]), ("zlib", 4))

    def test_thousands_of_new_files_are_packed_like_their_neighbours(self) -> None:
        for number in range(3000):
            (self.folder / "all" / "letters" / "fr" / f"new-{number}.txt").write_text(f"number {number}\n")
        self.assertIn("3,000 added", self.pack())
        records = self.records("list", "new.kwp/letters/fr")
        self.assertEqual({record["codec"] for record in records}, {"zlib"})
        self.assertEqual(len(records), 3005)
        self.assertIn("identical", self.volvex("layout", "prove", "new.kwp"))

    def test_nothing_is_overwritten_silently(self) -> None:
        (self.folder / "new.kwp").write_bytes(b"mine")
        said = self.complaint("pack", "all", "--like", self.archive, "--to", "new.kwp", status=5)
        self.assertIn("already exists", said)
        self.assertEqual((self.folder / "new.kwp").read_bytes(), b"mine")
        self.pack("--overwrite")

    def test_links_in_the_folder_are_refused(self) -> None:
        (self.folder / "all" / "link").symlink_to(self.archive)
        self.assertIn("is a link", self.complaint("pack", "all", "--like", self.archive, "--to", "new.kwp", status=5))
        self.assertFalse((self.folder / "new.kwp").exists())

    def test_what_it_cannot_be_like(self) -> None:
        self.assertIn(
            "unknown format",
            self.complaint("pack", "all", "--like", self.folder / "all/rules/tides.json", "--to", "n", status=3),
        )
        self.assertIn(
            "there is no folder", self.complaint("pack", "nowhere", "--like", self.archive, "--to", "n", status=3)
        )

    def test_unpack_does_not_overwrite_unless_told(self) -> None:
        (self.folder / "all" / "rules" / "tides.json").write_text("mine")
        self.assertIn(
            "67 of 67 files are in all already", self.complaint("unpack", self.archive, "--to", "all", status=5)
        )
        (self.folder / "all" / "rules" / "lamps.xml").unlink()
        self.assertIn(
            "1 file, 1,086 bytes in all; 66 files left as they were",
            self.volvex("unpack", self.archive, "--to", "all", "--skip-existing"),
        )
        self.assertEqual((self.folder / "all" / "rules" / "tides.json").read_text(), "mine")
        self.volvex("unpack", self.archive, "--to", "all", "--overwrite")
        self.assertNotEqual((self.folder / "all" / "rules" / "tides.json").read_text(), "mine")

    def test_several_archives_get_a_folder_each(self) -> None:
        shutil.copy(self.archive, self.archive.parent / "extra.kwp")
        self.volvex("unpack", f"{self.archive.parent}/*.kwp/rules", "--to", "two")
        self.assertEqual(len(digests(self.folder / "two" / "extra.kwp" / "rules")), 8)
        self.assertEqual(len(digests(self.folder / "two" / "main.kwp" / "rules")), 8)

    def test_archives_of_one_name_do_not_fall_together(self) -> None:
        other = self.archive.parent / "other"
        other.mkdir()
        shutil.copy(self.archive, other / "main.kwp")
        self.volvex(
            "unpack",
            f"{self.archive}/rules/tides.json",
            "game/data/../data/other/main.kwp/rules/tides.json",
            "--to",
            "two",
        )
        self.assertEqual(
            sorted(digests(self.folder / "two")), ["main.kwp/rules/tides.json", "other/main.kwp/rules/tides.json"]
        )

    def test_several_paths_into_one_archive_are_one_tree(self) -> None:
        self.volvex(
            "unpack",
            f"{self.archive}/rules",
            f"{self.archive}/tables",
            f"{self.archive}/rules/lamps.xml",
            "--to",
            "one",
        )
        self.assertEqual(
            len(digests(self.folder / "one" / "rules")) + len(digests(self.folder / "one" / "tables")), 8 + 3
        )

    def test_no_space_left_while_packing_or_unpacking(self) -> None:
        for words in (
            ("pack", "all", "--like", self.archive, "--to", "new.kwp"),
            ("unpack", self.archive, "--to", "other"),
        ):
            done = self.run_program(*words, status=6, fault="full:20" if words[0] == "unpack" else "full:2")
            self.assertIn("no space left", done.stderr)
            self.assertFalse((self.folder / "new.kwp").exists())
            self.assertEqual(list(self.folder.rglob("*part")), [])

    def test_packed_archives_have_the_mark_of_the_format(self) -> None:
        self.pack()
        self.assertEqual(struct.unpack_from("<4sHHI", (self.folder / "new.kwp").read_bytes()), (b"KWPK", 3, 0x21, 67))


if __name__ == "__main__":
    unittest.main()
