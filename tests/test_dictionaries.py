"""Dictionaries: what may stand in them, how they are matched, and how entries get their names from them."""

from __future__ import annotations

import unittest
import zlib
from pathlib import Path

import numpy as np

from tests.keyed import CRC, FNV, archive, crc_archive, fnv1a, fnv_archive, layout
from tests.support import Case, archive_of, digests
from volvex.archive import LayoutArchive
from volvex.archive.safe_names import Refusal, disk_names
from volvex.errors import FormatError
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.names import dictionary
from volvex.names.dictionary import Dictionary
from volvex.names.dictionary_set import DictionarySet
from volvex.source import BytesSource, Disk

SAIL = b"\\sails\\marrow\\jib.sail"  # as the loft hashes it
FILES = {"lamps/red.txt": b"lit\n", "lamps/green.txt": b"dark\n", "bells/fog.ring": b"RING\0\1", "never": b"\0\1\2"}


class Files(Case):
    def lines(self, data: bytes, encoding: str | None = None) -> list[str]:
        return dictionary.parsed(dictionary.decoded(data, "list.txt", encoding), "list.txt")

    def test_comments_blanks_slashes_marks_and_line_ends(self) -> None:
        text = "# a list\r\n\r\nlamps\\red.txt\r\n  /lamps/green.txt \r\n\t# no\r\n\nbells/fog.ring\nlamps/Öl.txt"
        wanted = ["lamps/red.txt", "lamps/green.txt", "bells/fog.ring", "lamps/Öl.txt"]
        for data in (text.encode(), b"\xef\xbb\xbf" + text.encode(), text.encode("utf-16")):
            self.assertEqual(self.lines(data), wanted)
        self.assertEqual(self.lines("Öl.txt".encode("cp1252"), "cp1252"), ["Öl.txt"])
        self.assertEqual(self.lines(b""), [])
        self.assertEqual(self.lines(b"# only\n\n"), [])

    def test_what_is_no_list_of_paths_is_refused_with_its_line(self) -> None:
        for data, said in (
            (b"lamps/red.txt\nlamps/\xd6l.txt\n", "line 2 is not utf-8"),
            (b"a\nb\nc\0d\n", "line 3 is no path: a zero byte in it"),
            (b"a\n" + b"x" * 2000 + b"\n", "line 2 is no path: 2,000 characters"),
        ):
            with self.assertRaises(FormatError) as caught:
                self.lines(data)
            self.assertIn(said, caught.exception.message)

    def test_adding_merges_sorts_and_keeps_the_comment_at_the_start(self) -> None:
        file = self.folder / "names" / "list.txt"
        self.assertEqual(dictionary.add(file, ["b", "a", "b"], Disk()), (2, 2))
        file.write_text("# from the harbour\n" + file.read_text())
        self.assertEqual(dictionary.add(file, ["c", "a", "d = 9743"], Disk()), (2, 4))
        self.assertEqual(file.read_text(), "# from the harbour\na\nb\nc\nd = 9743\n")
        self.assertEqual(dictionary.add(file, ["c"], Disk()), (0, 4))
        self.assertEqual([path.name for path in file.parent.iterdir()], ["list.txt"])

    def test_keys_are_remembered_by_content_and_made_anew_when_they_are_damaged(self) -> None:
        file, memory = self.folder / "list.txt", self.folder / "memory"
        file.write_text("".join(f"lamps/{number}.txt\n" for number in range(1000)))
        keying = archive_of(CRC, crc_archive(FILES)).keying
        assert keying is not None
        first = np.array(Dictionary(file, "", memory).table(keying))
        self.assertEqual(sorted(first[0].tolist()), first[0].tolist())
        (kept,) = memory.iterdir()
        self.assertTrue((np.array(Dictionary(file, "", memory).table(keying)) == first).all())
        kept.write_bytes(kept.read_bytes()[:100])
        self.assertTrue((np.array(Dictionary(file, "", memory).table(keying)) == first).all())
        file.write_text("lamps/1.txt\n")
        self.assertEqual(Dictionary(file, "", memory).table(keying).shape, (3, 1))
        self.assertEqual(len(list(memory.iterdir())), 2)


class Names(Case):
    """What an archive's entries are called, with known dictionaries."""

    def archive(self, text: str, data: bytes, *lists: str, game: str = "") -> LayoutArchive:
        for number, lines in enumerate(lists):
            file = self.folder / "names" / game / f"{number}.txt"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(lines, encoding="utf-8")
        dictionaries = DictionarySet([self.folder / "names"], self.folder / "memory")
        return LayoutArchive(
            read(parse_layout(text, f"{self.folder}/kelp/test.layout"), BytesSource(data, "test.bin")), dictionaries
        )

    def test_all_dictionaries_count_together(self) -> None:
        made = self.archive(CRC, crc_archive(FILES), "lamps/red.txt\nelse\n", "bells/fog.ring\nlamps/red.txt\n")
        self.assertEqual(
            sorted(name for name in made.names if not name.startswith("unnamed/")), ["bells/fog.ring", "lamps/red.txt"]
        )
        self.assertEqual(made.content(made.rows["bells/fog.ring"]), b"RING\0\1")
        self.assertEqual(sum(made.is_unnamed(row) for row in range(len(made))), 2)
        self.assertEqual(
            [row for row in range(len(made)) if row not in made.known],
            [row for row in range(len(made)) if made.is_unnamed(row)],
        )

    def test_a_dictionary_for_one_game_is_not_asked_for_another(self) -> None:
        self.assertEqual(len(self.archive(CRC, crc_archive(FILES), "lamps/red.txt\n", game="other").known), 0)
        self.assertEqual(len(self.archive(CRC, crc_archive(FILES), "lamps/red.txt\n", game="kelp").known), 1)

    def test_two_names_with_one_key_are_both_kept_and_in_doubt(self) -> None:
        text, other = collision()
        data = crc_archive({text: b"lit\n"})
        made = self.archive(CRC, data, f"{text}\n{other}\n")
        self.assertEqual({row: sorted(names) for row, names in made.candidates.items()}, {0: sorted([text, other])})
        self.assertTrue(made.is_unnamed(0))
        self.assertEqual(made.names, [f"unnamed/{zlib.crc32(text.encode()):08x}.txt"])
        decided = self.archive(CRC, data, f"{text}\n{other}\n", f"{other} = {zlib.crc32(text.encode()):08x}\n")
        self.assertEqual(decided.names, [other])

    def test_of_two_names_that_is_right_whose_extension_the_content_has(self) -> None:
        text = layout("hashes by fnv1a(bits 64), without extension", [("u64", "name hash")])
        made = self.archive(
            text,
            archive({(fnv1a(b"lamps/red"),): b"\x89PNG\r\n\x1a\n"}, "Q"),
            "lamps/red.xml\nlamps/red.png\nlamps/red.mesh\n",
        )
        self.assertEqual(made.names, ["lamps/red.png"])

    def test_spellings_of_one_path_are_no_doubt(self) -> None:
        text = layout("hashes by fnv1a(bits 64), lower case", [("u64", "name hash")])
        made = self.archive(
            text, archive({(fnv1a(b"lamps/red.txt"),): b"lit"}, "Q"), "Lamps/Red.txt\nlamps/red.txt\nLAMPS\\RED.TXT\n"
        )
        self.assertEqual(made.names[0].lower(), "lamps/red.txt")

    def test_keys_that_are_told_outright_need_no_rule(self) -> None:
        key = zlib.crc32(b"lamps/red.txt")
        data = crc_archive(FILES)
        made = self.archive(
            layout("", [("u32", "name hash")]), data, f"bells/new.ring = {key:08x}\nelse = 12\nnot = zz\n"
        )
        self.assertEqual([name for name in made.names if "unnamed" not in name], ["bells/new.ring"])
        numbered = self.archive(
            layout('names numbered "{000}/{00}", 64 to a folder', [("u32", "name hash")]),
            archive({(9743,): b"a", (9744,): b"b", (5,): b"c"}, "I"),
            "lamps/fresnel.tbl = 9743\nlamps/other.tbl = 152/16\n",
        )
        self.assertEqual(numbered.names, ["unnamed/000/05.txt", "lamps/fresnel.tbl", "lamps/other.tbl"])
        self.assertEqual(numbered.rows_of("unnamed/152/15"), [1])

    def test_folders_and_files_apart(self) -> None:
        def key(path: str) -> tuple[int, int]:
            folder, _, last = path.rpartition("/")
            return fnv1a(folder.encode(), 32), fnv1a(last.encode(), 32)

        paths = ["lamps/a.txt", "lamps/b.txt", "bells/a.txt"]
        text = layout("hashes by fnv1a", [("u32", "folder hash"), ("u32", "name hash")])
        made = self.archive(
            text, archive({key(path): path.encode() for path in paths}, "II"), "lamps/b.txt\nbells/a.txt\nbells/b.txt\n"
        )
        self.assertEqual(sorted(name for name in made.names if "unnamed" not in name), ["bells/a.txt", "lamps/b.txt"])
        for path in ("bells/a.txt", "lamps/b.txt"):
            self.assertEqual(made.content(made.rows[path]), path.encode())

    def test_a_dictionary_leads_nothing_out_of_a_folder(self) -> None:
        key = zlib.crc32(b"lamps/red.txt")
        made = self.archive(
            CRC, crc_archive(FILES), f"../../out.txt = {key:08x}\nC:/out.txt = {zlib.crc32(b'never'):08x}\n"
        )
        self.assertIn("../../out.txt", made.names)
        places = disk_names(made.names)
        self.assertEqual(
            [isinstance(place, Refusal) for place in places], [name.endswith("out.txt") for name in made.names]
        )

    def test_names_do_not_change_what_is_written(self) -> None:
        from volvex.layout.write.plan import Edit

        data = fnv_archive(FILES)
        made = self.archive(FNV, data, "\n".join(FILES))
        self.assertEqual(sorted(made.names), sorted(FILES))
        self.assertEqual(b"".join(made.plan(Edit(), each=True).chunks()), data)


def collision() -> tuple[str, str]:
    """Two paths with one CRC-32."""
    text, other = "lamps/plumless.tbl", "lamps/buckeroo.tbl"  # two words of one length with one CRC-32, so these too
    assert zlib.crc32(text.encode()) == zlib.crc32(other.encode())
    return text, other


class OnABench(Case):
    """Names as a user meets them."""

    LOFT = "loft/loft.kwa"

    def unnamed(self, game: Path, kind: str) -> list[str]:
        """The entries of the loft that have no name, from the game's folder."""
        return [
            str(record["path"]).partition(f"{game.name}/")[2]
            for record in self.records("list", f"{game.name}/{self.LOFT}")
            if "unnamed" in str(record["path"]) and record["type"] == kind
        ]

    def test_without_a_name_an_entry_is_shown_taken_changed_and_put_back_under_its_key(self) -> None:
        game = self.game()
        path = self.unnamed(game, "text")[0]
        bench = self.bench(game)
        self.volvex("take", path, cwd=bench)
        (bench / "files" / path).write_text("Chapter 0\n")
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        self.assertIn("Chapter 0", self.volvex("show", f"game/{path}"))
        self.play(game)
        self.assertEqual(len(self.records("list", f"game/{self.LOFT}")), 79)
        self.volvex("restore", cwd=bench)

    def test_a_bench_follows_when_names_become_known(self) -> None:
        game = self.game()
        bench = self.bench(game)
        texts, meshes = self.unnamed(game, "text"), self.unnamed(game, "binary")
        self.volvex("take", texts[0], meshes[0], cwd=bench)
        (bench / "files" / texts[0]).write_text("Chapter 0\n")
        self.volvex("drop", meshes[1], cwd=bench)
        before = self.volvex("changes", cwd=bench)
        (self.folder / "list.txt").write_text("\n".join(f"guides/chapter_{n:02}.txt" for n in range(1, 9)))
        lamps = (
            "harbour_1",
            "harbour_2",
            "mole_red",
            "mole_green",
            "gull_rock",
            "drowned_tower",
            "fresnel_1",
            "fresnel_2",
            "fresnel_3",
            "bell_reef",
            "north_skerry",
            "old_light",
        )
        others = [f"meshes/lamps/{lamp}.msh" for lamp in lamps]
        others += [
            f"boats/{boat}/{part}.msh"
            for boat in ("skiff_03", "skiff_17", "punt_08", "barge_42", "barge_77")
            for part in ("hull", "sail")
        ]
        (self.folder / "more.txt").write_text("\n".join(others))
        said = self.volvex("names", "add", "../list.txt", "../more.txt", cwd=bench)
        self.assertIn("8 new names", said)
        done = self.run_program("changes", cwd=bench)
        self.assertIn(f"note: {texts[0]} has a name now: {self.LOFT}/guides/chapter_", done.stderr)
        self.assertEqual(done.stdout.count("\n"), before.count("\n"))
        self.assertFalse((bench / "files" / texts[0]).exists())
        self.assertNotIn("unnamed", done.stdout.partition("removed")[0])
        self.assertEqual(self.run_program("changes", cwd=bench).stderr, "")
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        self.assertIn(
            "Chapter 0",
            "".join(
                self.volvex("show", f"../game/{self.LOFT}/guides/chapter_{n:02}.txt", cwd=bench) for n in range(1, 9)
            ),
        )

    def test_a_move_that_was_interrupted_is_finished(self) -> None:
        game = self.game()
        bench = self.bench(game)
        (path,) = self.unnamed(game, "text")[:1]
        self.volvex("take", path, cwd=bench)
        (bench / "names").mkdir()
        (bench / "names" / "list.txt").write_text("\n".join(f"guides/chapter_{n:02}.txt" for n in range(1, 9)))
        self.run_program("changes", cwd=bench, status=None, fault="stop:2")
        done = self.run_program("changes", cwd=bench)
        files = [digest for digest in digests(bench / "files") if digest.endswith(".txt")]
        self.assertEqual(len(files), 1)
        self.assertIn("guides/chapter_", files[0])
        self.assertIn("no changes", done.stdout)

    def test_two_files_for_one_entry_are_not_built(self) -> None:
        game = self.game()
        bench = self.bench(game)
        path = self.unnamed(game, "text")[0]
        self.volvex("take", path, cwd=bench)
        for ending, text in ((".txt", "one\n"), (".xml", "<two/>\n")):
            (bench / "files" / path).with_suffix(ending).write_text(text)
        self.assertIn("are the same entry of loft/loft.kwa", self.complaint("build", cwd=bench, status=5))
        self.assertFalse((bench / "built" / self.LOFT).exists())

    def test_what_no_rule_makes_a_key_of_is_not_learnt(self) -> None:
        bench = self.bench(self.game())
        (self.folder / "new.txt").write_text("oil\n")
        self.volvex("swap", "lockers/lockers.kwn/depths.txt", "../new.txt", "--new", cwd=bench)
        self.assertIn("goes by numbers", self.complaint("build", cwd=bench, status=5))
        self.assertFalse((bench / "names").exists())

    def test_a_new_entry_by_its_path_has_the_key_that_the_game_asks_for(self) -> None:
        game = self.game()
        bench = self.bench(game)
        (self.folder / "new.txt").write_text("Chapter 99\n")
        self.volvex("swap", f"{self.LOFT}/guides/Chapter_99.txt", "../new.txt", "--new", cwd=bench)
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        names = [str(record["path"]) for record in self.records("list", f"../game/{self.LOFT}", cwd=bench)]
        self.assertIn(f"../game/{self.LOFT}/guides/Chapter_99.txt", names)
        self.assertEqual(self.volvex("show", f"game/{self.LOFT}/guides/CHAPTER_99.txt"), "Chapter 99\n")
        self.play(game)
        self.assertIn(
            "leaving --new out",
            self.complaint(
                "swap", f"{self.LOFT}/meshes/lamps/gull_rock.msh", "../new.txt", "--new", cwd=bench, status=5
            ),
        )

    def test_in_place_what_has_no_name_is_changed_and_put_back(self) -> None:
        game = self.game()
        before = digests(game)
        bench = self.bench(game)
        path = self.unnamed(game, "text")[0]
        for text in ("Chapter 0\n", "{}\n"):  # the second time under another ending
            self.volvex("take", path, "--overwrite", cwd=bench)
            (bench / "files" / path).write_text(text)
            self.volvex("build", "--in-place", cwd=bench)
            self.assertEqual(self.volvex("show", f"game/{path}"), text)
            self.assertEqual(len(self.records("list", f"game/{self.LOFT}")), 79)
        self.volvex("restore", game)
        self.assertEqual(
            {name: digest for name, digest in digests(game).items() if "logs" not in name and ".volvex" not in name},
            {name: text for name, text in before.items() if "logs" not in name},
        )

    def test_lists_of_names_and_what_is_missing(self) -> None:
        game = self.game()
        (self.folder / "calls.txt").write_bytes("Öl.txt\nlamps/red.txt\nlamps\\red.txt\n".encode("cp1252"))
        self.assertIn("line 1 is not utf-8", self.complaint("names", "add", "calls.txt", status=4))
        said = self.volvex("names", "add", "calls.txt", "--encoding", "cp1252")
        self.assertIn("2 new names of 2; 1 line given twice", said)
        self.volvex("names", "add", "calls.txt", "--encoding", "cp1252", "--scope", "kelpwick")
        listed = {(str(record["for"]), record["names"]) for record in self.records("names", "list")}
        self.assertEqual(listed, {("all games", 2), ("kelpwick", 2), ("kelpwick", 7), ("kelpwick", 10)})
        self.assertIn("Öl.txt\n", self.volvex("names", "export"))
        self.volvex("names", "export", "game/loft", "--to", "sails.txt")
        self.assertEqual((self.folder / "sails.txt").read_text().count("\n"), 9)
        self.assertIn("already exists", self.complaint("names", "export", "--to", "sails.txt", status=5))
        self.assertIn("lockers/cade/lantern.txt = 152/15", self.volvex("names", "export", "game/lockers/lockers.kwn"))
        missing = self.records("names", "missing", game)
        self.assertEqual(len(missing), 70 + 10 + 23)
        self.assertEqual(
            [record["size"] for record in missing],
            sorted((record["size"] for record in missing), key=lambda size: -int(str(size))),
        )
        self.assertIn("70 of 79 entries have no name", self.volvex("names", "missing", f"{game}/loft"))
        key = self.records("names", "of", "soundings/kelpwick/ebb.sdg", "--layout", "soundings")
        self.assertEqual([record["hash"] for record in key], [f"{fnv1a(b'soundings/kelpwick/ebb.sdg'):016x}"])
        told = self.records("names", "of", "sails\\marrow\\jib.sail", "--layout", "loft")[0]["hash"]
        self.assertEqual(
            told,
            f"{fnv1a(SAIL):016x}",
        )
        self.assertEqual(
            [record["path"] for record in self.records("names", "of", str(told))], ["sails/marrow/jib.sail"]
        )
        hexadecimal = self.records("names", "of", "bead/0cafe", "--layout", "soundings")[0][
            "hash"
        ]  # a path that looks like hashes
        self.assertEqual(hexadecimal, f"{fnv1a(b'bead/0cafe'):016x}")
        self.assertIn("no path is known", self.volvex("names", "of", "00000000000000ff", status=1))
        both = self.records("names", "of", "lamp-lamp-lamp-x", "00000000000000ff", "--layout", "loft")
        self.assertEqual([(one["path"], len(str(one["hash"]))) for one in both], [("lamp-lamp-lamp-x", 16)])
        self.assertIn("no layout nowhere", self.complaint("names", "of", "1", "--layout", "nowhere", status=2))


class Variants(Case):
    """One path, stored several times."""

    SPEECH = "speech/speech.kwl"

    def test_a_path_is_one_line_with_its_variants(self) -> None:
        self.game()
        listed = {
            str(record["path"]).rpartition("/")[2]: record.get("variants")
            for record in self.records("list", f"game/{self.SPEECH}")
        }
        self.assertEqual(
            listed,
            {"ahoy.txt": ["en", "de", "fr"], "fog.txt": ["en", "de", "fr"], "oil.txt": ["en", "de"], "horn.ring": None},
        )
        whole = self.records("list", f"game/{self.SPEECH}")
        self.assertEqual(sum(int(str(record["size"])) for record in whole), 598)
        every = [
            str(record["path"]).rpartition("/")[2]
            for record in self.records("list", f"game/{self.SPEECH}", "--variant", "all")
        ]
        self.assertEqual(len(every), 9)
        self.assertIn("oil@de.txt", every)

    def test_variant_picks_on_every_command(self) -> None:
        game = self.game()
        self.assertIn("2 files match", self.complaint("show", f"game/{self.SPEECH}/calls/oil.txt", status=2))
        self.assertIn("Zehn", self.volvex("show", f"game/{self.SPEECH}/calls/oil.txt", "--variant", "de"))
        self.assertIn(
            "has no variant xx",
            self.complaint("show", f"game/{self.SPEECH}/calls/oil.txt", "--variant", "xx", status=3),
        )
        self.volvex("unpack", f"game/{self.SPEECH}", "--to", "out", "--variant", "fr")
        self.assertEqual(
            sorted(digests(self.folder / "out")), ["calls/ahoy@fr.txt", "calls/fog@fr.txt", "calls/horn.ring"]
        )
        self.assertIn("1 file", self.volvex("find", f"game/{self.SPEECH}", "--text", "barrels", "--variant", "en"))
        self.volvex("find", f"game/{self.SPEECH}", "--text", "barrels", "--variant", "de", status=1)
        bench = self.bench(game)
        self.volvex("take", f"{self.SPEECH}/calls/oil.txt", "--variant", "en", cwd=bench)
        self.assertEqual(list(digests(bench / "files")), [f"{self.SPEECH}/calls/oil@en.txt"])
        self.volvex("drop", f"{self.SPEECH}/calls/fog.txt", "--variant", "fr", cwd=bench)
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        listed = {
            str(record["path"]).rpartition("/")[2]: record.get("variants")
            for record in self.records("list", f"game/{self.SPEECH}")
        }
        self.assertEqual(listed["fog.txt"], ["en", "de"])

    def test_one_variant_in_the_place_of_another(self) -> None:
        game = self.game()
        bench = self.bench(game)
        said = self.volvex("swap", f"{self.SPEECH}/calls/ahoy.txt", "--variant", "en", "--from", "fr", cwd=bench)
        self.assertIn("calls/ahoy@en.txt is now speech/speech.kwl/calls/ahoy@fr.txt", said)
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        self.assertIn("Ohé, du phare", self.play(game))
        self.assertIn(
            "has no variant fr",
            self.complaint(
                "swap", f"{self.SPEECH}/calls/oil.txt", "--variant", "en", "--from", "fr", cwd=bench, status=3
            ),
        )
        self.assertIn(
            "has no variant fr",
            self.complaint("swap", f"{self.SPEECH}/calls/horn.ring", "--from", "fr", cwd=bench, status=3),
        )
        same = ("swap", f"{self.SPEECH}/calls/oil.txt", "--variant", "de", "--from", "de")
        self.assertIn("is that variant already", self.complaint(*same, cwd=bench, status=3))
        self.assertIn("another variant", self.complaint("swap", f"{self.SPEECH}/calls/horn.ring", cwd=bench, status=2))

    def test_options_may_stand_between_paths(self) -> None:
        bench = self.bench(self.game())
        (self.folder / "horn.txt").write_text("Hoy!\n")
        said = self.volvex("swap", f"{self.SPEECH}/calls/ahoy.txt", "--variant", "de", "../horn.txt", cwd=bench)
        self.assertIn("calls/ahoy@de.txt is now ../horn.txt, 5 bytes", said)
        self.volvex("swap", f"{self.SPEECH}/calls/hoy.txt", "--new", "../horn.txt", cwd=bench)
        whole = self.records("list", "game/lockers/lockers.kwn", "--sort", "name", "game/peal/peal.kpi")
        self.assertEqual(len(whole), 36)

    def test_a_new_variant_is_added_under_its_mark(self) -> None:
        game = self.game()
        bench = self.bench(game)
        (self.folder / "dix.txt").write_text("Dix barils.\n")
        self.volvex("swap", f"{self.SPEECH}/calls/oil@fr.txt", "../dix.txt", "--new", cwd=bench)
        self.volvex("build", cwd=bench)
        self.volvex("install", cwd=bench)
        self.assertEqual(self.volvex("show", f"game/{self.SPEECH}/calls/oil.txt", "--variant", "fr"), "Dix barils.\n")
        self.play(game)
        folder = self.folder / "whole"
        self.volvex("unpack", f"game/{self.SPEECH}", "--to", folder)
        self.volvex("pack", folder, "--like", f"game/{self.SPEECH}", "--to", "again.kwl")
        self.assertEqual((self.folder / "again.kwl").read_bytes(), (game / self.SPEECH).read_bytes())

    def test_variants_of_entries_without_names(self) -> None:
        text = layout("hashes by crc32", [("u32", "name hash"), ("u8", "variant { 1 en, 2 de }")])
        key = zlib.crc32(b"calls/ahoy.txt")
        made = archive_of(text, archive({(key, 1): b"Ahoy\n", (key, 2): b"Ahoi\n"}, "IB"))
        self.assertEqual(made.names, [f"unnamed/{key:08x}@en.txt", f"unnamed/{key:08x}@de.txt"])
        self.assertEqual(made.rows_of("calls/ahoy.txt"), [0, 1])
        self.assertEqual(made.rows_of("calls/ahoy@de.txt"), [1])


if __name__ == "__main__":
    unittest.main()
