"""The hunt for names: what is read out of files, what follows from it, what is guessed, and how far each is
believed."""

from __future__ import annotations

import io
import json
import random
import re
import unittest
import zipfile
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path
from unittest.mock import patch

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kelpwick import png
from tests.keyed import CRC, FNV, archive, crc_archive, fnv1a, fnv_archive, layout
from tests.support import Case, made_game
from volvex.archive.access.open import open_source
from volvex.archive.access.paths import Found, Group, Walker
from volvex.errors import UsageError
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout
from volvex.names import derive, evidence, finds, mine, patterns
from volvex.names.evidence import EvidenceKind, Find, Kind
from volvex.names.guess import guess, seconds
from volvex.names.scan_cache import ReadMemory
from volvex.names.unresolved import best, quarries, tails_of
from volvex.names.words import words_in
from volvex.source import BytesSource, Disk

RANDOM = random.Random(11)


class Words(unittest.TestCase):
    def of(self, data: bytes) -> tuple[set[str], set[str]]:
        words = list(words_in(data))
        self.assertEqual(len(words), len(set(words)))
        return {word.text for word in words if word.path}, {word.text for word in words if not word.path}

    def test_in_text(self) -> None:
        text = b'<lamp id="gull_rock" mesh="meshes\\lamps\\gull.msh"/> see ../pictures/x.png, or "lens cloth/rag.txt" and 12'  # noqa: E501
        paths, words = self.of(text)
        self.assertLessEqual({"meshes/lamps/gull.msh", "../pictures/x.png", "lens cloth/rag.txt"}, paths)
        self.assertLessEqual({"lamp", "gull_rock", "mesh", "see"}, words)

    def test_in_binary_content_words_are_bounded(self) -> None:
        data = (
            b"\0\1\2KMSH\x05brass\x0aoak_tarred\xff\xfeglass\xff\xfe"
            + b"textures/loft/oak.png\0"
            + b"\x02/x\xff"
            + bytes(40)
        )
        paths, words = self.of(data)
        self.assertEqual(paths, {"textures/loft/oak.png"})
        self.assertLessEqual({"brass", "oak_tarred"}, words)
        self.assertNotIn("glass", words)

    def test_in_utf_16_wherever_it_begins(self) -> None:
        for before in (b"\0\1\2\3", b"\0\1\2\3\4"):
            paths, _ = self.of(before + "boats/skiff_03/hull.msh".encode("utf-16-le") + bytes(30))
            self.assertEqual(paths, {"boats/skiff_03/hull.msh"})
        paths, _ = self.of("letters/öl.txt = on\n".encode("utf-16"))
        self.assertIn("letters/öl.txt", paths)

    def test_noise_and_slopes_give_next_to_nothing(self) -> None:
        slope = bytes((number // 3) & 255 for number in range(60_000))
        paths, words = self.of(b"SDG1\0" + slope)
        self.assertLess(len(paths) + len(words), 3)
        paths, words = self.of(b"\0" + RANDOM.randbytes(1_000_000))
        self.assertLess(len(paths), 40)
        self.assertLess(len(words), 600)

    @settings(deadline=None)
    @given(st.binary(max_size=300))
    def test_any_bytes_at_all(self, data: bytes) -> None:
        for word in words_in(data):
            self.assertGreaterEqual(len(word.text), 3)
            self.assertNotIn("\\", word.text)
            self.assertNotIn("\n", word.text)


class Spellings(Case):
    def test_two_spellings_of_one_path_are_one_find(self) -> None:
        rule = layout("hashes by crc32, upper case", [("u32", "name hash")])
        data = crc_archive({"RULES/LAMPS.XML": b"<x/>", "B.TXT": b"b"})
        with (
            open_source(BytesSource(data, "x.key"), Library(first=[parse_layout(rule, "x.layout")]))
            or self.fail() as archive
        ):
            (unresolved,) = quarries([Group(archive, "x.key", np.arange(len(archive)))])
            unresolved.test(
                ["rules/lamps.xml", "Rules/Lamps.xml", "rules\\lamps.xml"], EvidenceKind.WRITTEN, lambda path: ""
            )
            self.assertEqual([find.path for find in unresolved.finds.values()], ["RULES/LAMPS.XML"])
            self.assertEqual([find.path for find in unresolved.judged() if find.kind is not None], ["RULES/LAMPS.XML"])

    def test_what_is_announced_is_what_is_reported_and_counts_agree(self) -> None:
        game = made_game()
        some = (game / "loft", game / "lockers", game / "speech")
        missing = self.volvex("names", "missing", *some).splitlines()[-1]
        mined = self.volvex("names", "mine", *some)
        unnamed = int(missing.split()[0])
        before = next(line for line in mined.splitlines() if line.startswith("nameless"))
        self.assertIn(f"nameless: {unnamed} before", before)
        after = int(before.split(" before, ")[1].split()[0])
        self.assertTrue(self.volvex("names", "missing", *some).splitlines()[-1].startswith(f"{after} of"))
        done = self.run_program("names", "guess", "guides/chapter_{01..99}.txt", "--in", game, status=None)
        announced = re.search(r"([\d,]+) (?:paths|hashes by)", done.stderr.replace("99 paths, ", ""))
        tried = re.search(r"([\d,]+) (?:paths|hashes) were tried", done.stdout)
        self.assertEqual(announced[1] if announced else "", tried[1] if tried else None)


class Deriving(unittest.TestCase):
    def every(self, products: Iterable[derive.Product]) -> set[str]:
        return {head + tail for heads, tails in products for head in heads for tail in tails}

    def test_relatives(self) -> None:
        known = ["boats/skiff_03/hull_left.msh", "boats/punt_08/hull_left.msh", "boats/punt_08/sail.png"]
        self.assertIn("boats/skiff_03/sail.png", self.every(derive.same_names_elsewhere(known[:1], known)))
        numbered = self.every(derive.numbered(known[:1]))
        self.assertLessEqual({"boats/skiff_17/hull_left.msh", "boats/skiff_99/hull_left.msh"}, numbered)
        self.assertIn("night-0139.txt", self.every(derive.numbered(["night-0120.txt"])))
        sides = self.every(derive.sides(known[:1], known))
        self.assertLessEqual(
            {"boats/skiff_03/hull_right.msh", "boats/skiff_03/hull.msh", "boats/skiff_03/hull_left_de.msh"}, sides
        )
        self.assertIn(
            "boats/skiff_03/hull_left.png", self.every(derive.other_endings(known[:1], derive.extensions(known)))
        )

    def test_paths_as_they_are_told(self) -> None:
        self.assertEqual(derive.plain("../../a//b.txt"), "a/b.txt")
        self.assertEqual(derive.within("meshes/lamps/", "../brass.xml"), "meshes/brass.xml")
        self.assertEqual(derive.within("meshes/", "../../brass.xml"), "brass.xml")
        self.assertEqual(list(derive.shorter("c/work/lamps/a.txt")), ["work/lamps/a.txt", "lamps/a.txt", "a.txt"])
        self.assertEqual(derive.roots(["a/b/c.txt", "a/d/e.txt"])[0], "a/")

    @settings(deadline=None)
    @given(st.lists(st.text("ab/._0", min_size=1, max_size=6), min_size=1, max_size=40, unique=True))
    def test_endings_as_a_tree_are_those_that_were_given(self, tails: list[str]) -> None:
        library = parse_layout(FNV, "test.layout")
        from volvex.layout.name_hash import Keying

        made = Keying.of(library)
        assert made is not None
        tree, texts = tails_of(made.parts[0], tails)
        self.assertEqual({tree.text(node).decode() for node, leaf in enumerate(tree.leaf) if leaf}, set(tails))
        self.assertEqual({node: tree.text(node).decode() for node in texts}, texts)


class Patterns(unittest.TestCase):
    def every(self, text: str, words: tuple[str, ...] = ()) -> list[str]:
        pattern = patterns.parse(text, {"word": words} if words else {})
        made = [patterns.combination(pattern.parts, number) for number in range(pattern.size)]
        heads, tails = patterns.heads_and_tails(pattern.parts)
        size = 1
        for head in heads:
            size *= len(head)
        self.assertEqual(
            sorted(patterns.combination(heads, number) + tail for number in range(size) for tail in tails), sorted(made)
        )
        return made

    def test_choices_numbers_letters_and_words(self) -> None:
        self.assertEqual(self.every("a{b,c}{,_old}.x"), ["ab.x", "ab_old.x", "ac.x", "ac_old.x"])
        self.assertEqual(self.every("n{08..11}"), ["n08", "n09", "n10", "n11"])
        self.assertEqual(self.every("n{000..199}"), [f"n{number:03}" for number in range(200)])
        self.assertEqual(self.every("n{8..11}"), ["n8", "n9", "n10", "n11"])
        self.assertEqual(self.every("{a..c}{A..B}"), ["aA", "aB", "bA", "bB", "cA", "cB"])
        self.assertEqual(self.every("{word}/{word}", ("x", "y")), ["x/x", "x/y", "y/x", "y/y"])
        self.assertEqual(self.every(r"\{a\}"), ["{a}"])
        self.assertEqual(len(self.every("{00..99}{00..99}/{0..9}.{png,msh}")), 200_000)

    def test_what_is_no_pattern_or_would_never_end(self) -> None:
        for text, said in (
            ("{a", "a brace without its other half"),
            ("a}", "a brace without its other half"),
            ("{word}", "a list of words"),
            ("{abc}", "neither a choice"),
            ("{9..1}", "runs backwards"),
            ("{c..a}", "runs backwards"),
            ("{0000000..9999999}{0000000..9999999}", "stands for 100,000,000,000,000 paths"),
            ("{1..99999999}", "numbers of different lengths"),
        ):
            with self.subTest(text), self.assertRaises(UsageError) as caught:
                patterns.parse(text, {})
            self.assertIn(said, caught.exception.message)

    def test_folder_and_extension_taken_apart(self) -> None:
        pattern = patterns.parse("boats/{a,b}/x_{0..9}.{png,msh}", {})
        folder, last = pattern.split()
        self.assertEqual([patterns.combination(folder, number) for number in range(2)], ["boats/a", "boats/b"])
        self.assertEqual(patterns.combination(last, 0), "x_0.png")
        front, extensions = pattern.cut()
        self.assertEqual(patterns.combination(front, 0), "boats/a/x_0")
        self.assertEqual([patterns.combination(extensions, number) for number in range(2)], [".png", ".msh"])
        with self.assertRaises(UsageError):
            patterns.parse("{a/b,c/d}", {}).split()
        with self.assertRaises(UsageError):
            patterns.parse("x{.a,.b}", {}).cut()


class Evidence(unittest.TestCase):
    def test_content_and_extension(self) -> None:
        for path, text, kind in (
            ("a.png", "png", Kind.AGREES),
            ("a.jpeg", "jpg", Kind.AGREES),
            ("a.png", "txt", Kind.DISAGREES),
            ("a.xml", "png", Kind.DISAGREES),
            ("a.csv", "txt", Kind.AGREES),
            ("a.msh", "bin", Kind.UNTOLD),
            ("a", "png", Kind.UNTOLD),
            ("a.txt", "bin", Kind.DISAGREES),
        ):
            self.assertEqual(evidence.kind_of(path, text), kind, (path, text))

    def test_accidents(self) -> None:
        self.assertAlmostEqual(evidence.expected(1 << 22, 1 << 10, 32), 1.0)
        self.assertEqual(evidence.doubt(50.0, 10, Kind.UNTOLD, 0.0), 1.0)
        self.assertAlmostEqual(evidence.doubt(1.0, 100, Kind.UNTOLD, 0.5), 0.01)
        self.assertAlmostEqual(evidence.doubt(1.0, 100, Kind.AGREES, 0.1), 0.001)
        sure = Find("a.png", "x", "00", EvidenceKind.GUESSED, "", Kind.AGREES, 1e-4)
        self.assertTrue(sure.beyond_doubt)
        self.assertAlmostEqual(evidence.doubt(1e-6, 1, Kind.DISAGREES, 0.5), 1e-3)
        self.assertFalse(Find("a.png", "x", "00", EvidenceKind.WRITTEN, "", Kind.DISAGREES, 0.1).beyond_doubt)
        self.assertEqual(
            [evidence.chance(number) for number in (1234.6, 0.5, 3e-15, 0)], ["1,235", "0.50", "3e-15", "0"]
        )


class Hunts(Case):
    """In the core, on archives of this test's own."""

    def found(self, text: str, data: bytes, **others: bytes) -> tuple[Walker, Found]:
        folder = self.folder / "game"
        folder.mkdir(exist_ok=True)
        (folder / "keyed.bin").write_bytes(data)
        for name, content in others.items():
            (folder / name).write_bytes(content)
        walker = Walker(Library(first=[parse_layout(text, "test.layout")]))
        self.addCleanup(walker.__exit__)
        return walker, walker.find(str(folder), deep=True, nested=True)

    def mine(self, text: str, data: bytes, **others: bytes) -> tuple[dict[str, Find], mine.Mined]:
        _, found = self.found(text, data, **others)
        done = mine.mine(found, ReadMemory(None))
        return {find.path: find for find in done.finds}, done

    def test_what_is_written_anywhere_and_what_follows(self) -> None:
        inner = io.BytesIO()
        with zipfile.ZipFile(inner, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("deep/list.txt", "C:\\work\\kelp\\bells\\fog_01.ring\n")
        files = {
            "lamps/red.txt": b"see lamps/green.txt, which is more than the name of it\n",
            "lamps/green.txt": b"no light here\n",
            "bells/fog_01.ring": b"RING\0",
            "bells/fog_07.ring": b"RING\1",
            "bells/fog_07_old.ring": b"RING\2",
            "pictures/red.png": png.lamp(1, 2),
            "pictures/red_de.png": png.lamp(1, 3),
            "zzz/9f3a7c.qqq": b"\0\1",
            "meshes/red.msh": b"\0MESH\x03red\0",
            "boats/x.bin": inner.getvalue(),
        }
        program = b"MZ\0\0" + bytes(60) + b"\x00pictures\\red.png\0" + bytes(100) + b"lamps/red.txt\0meshes/red.msh\0"
        found, done = self.mine(FNV, fnv_archive(files), program=program)
        self.assertEqual(done.before, len(files))
        self.assertLessEqual(set(files) - {"zzz/9f3a7c.qqq", "boats/x.bin"}, set(found))
        self.assertNotIn("zzz/9f3a7c.qqq", found)
        self.assertTrue(all(find.beyond_doubt for find in found.values()))
        self.assertEqual(found["lamps/green.txt"].how, EvidenceKind.WRITTEN)
        self.assertIn("unnamed/", found["lamps/green.txt"].where)
        self.assertTrue(found["bells/fog_01.ring"].where.endswith("deep/list.txt"))
        self.assertEqual(found["bells/fog_07.ring"].how, EvidenceKind.SIBLING)
        self.assertEqual(found["pictures/red_de.png"].how, EvidenceKind.SIBLING)
        self.assertGreaterEqual(done.rounds, 2)

    def test_words_of_a_mesh_in_known_folders(self) -> None:
        files = {"materials/brass.xml": b"<m/>", "materials/oak.xml": b"<m/>", "materials/iron.xml": b"<m/>"}
        mesh = b"\0MSH" + b"\x03oak" + b"\x04iron\0" + bytes(9)
        found, _ = self.mine(FNV, fnv_archive({**files, "x": mesh}), known=b"all begins with materials/brass.xml\n")
        self.assertEqual(found["materials/iron.xml"].how, EvidenceKind.PIECED)
        self.assertTrue(found["materials/iron.xml"].where.endswith(".bin"))

    def test_folders_and_files_with_keys_of_their_own(self) -> None:
        def key(path: str) -> tuple[int, int]:
            folder, _, last = path.rpartition("/")
            return fnv1a(folder.lower().encode(), 32), fnv1a(last.lower().encode(), 32)

        text = layout("hashes by fnv1a, lower case", [("u32", "folder hash"), ("u32", "name hash")])
        paths = ("lamps/red_01.txt", "lamps/red_02.txt", "bells/red_02.txt")
        data = archive({key(path): path.encode() for path in paths}, "II")
        found, _ = self.mine(text, data, list=b"Lamps\\Red_01.txt and bells/nothing.txt\n")
        self.assertEqual(set(found), set(paths))
        _, places = self.found(text, data)
        (unresolved,) = quarries(places.groups)
        pattern = patterns.parse("{lamps,bells}/{red,green}_{00..99}.txt", {})
        self.assertEqual(set(guess(unresolved, pattern)), set(paths))
        self.assertEqual(unresolved.tried[EvidenceKind.GUESSED], 400)

    def test_extensions_that_do_not_count_or_have_a_key_of_their_own(self) -> None:
        cut = layout("hashes by fnv1a(bits 64), without extension", [("u64", "name hash")])
        _, found = self.found(cut, archive({(fnv1a(b"pictures/red"),): png.lamp(1, 2)}, "Q"))
        (unresolved,) = quarries(found.groups)
        guess(unresolved, patterns.parse("pictures/{red,green}.{xml,png,txt}", {}))
        self.assertEqual([find.path for find in unresolved.judged() if find.beyond_doubt], ["pictures/red.png"])
        apart = layout(
            "hashes by fnv1a(bits 64)\nhashes of extensions by fnv1a", [("u64", "name hash"), ("u32", "extension hash")]
        )
        _, found = self.found(apart, archive({(fnv1a(b"pictures/red"), fnv1a(b"png", 32)): png.lamp(1, 2)}, "QI"))
        (unresolved,) = quarries(found.groups)
        self.assertEqual(
            guess(unresolved, patterns.parse("pictures/{red,green}.{xml,png,txt}", {})), ["pictures/red.png"]
        )

    def test_narrow_keys_bring_accidents_and_they_are_told(self) -> None:
        files = {f"lamps/{number:05}.tbl": f"lamp {number}\n".encode() for number in range(0, 40_000, 20)}
        _, found = self.found(CRC, crc_archive(files))
        (unresolved,) = quarries(found.groups)
        guess(unresolved, patterns.parse("x/{0000000..9999999}.bin", {}))
        accidents = unresolved.expected(EvidenceKind.GUESSED)
        self.assertAlmostEqual(accidents, 1e7 * 2000 / 2**32, delta=0.01)
        judged = unresolved.judged()
        self.assertFalse([find for find in judged if find.beyond_doubt])
        _, found = self.found(CRC, crc_archive(files))
        (unresolved,) = quarries(found.groups)
        guess(unresolved, patterns.parse("lamps/{00000..99999}.tbl", {}))
        judged = unresolved.judged()
        self.assertEqual({find.path for find in judged if find.beyond_doubt}, set(files))
        self.assertEqual(len(finds.keep(self.folder / "names", judged, Disk())[0]), 2000)

    def test_the_same_is_found_whatever_is_read_first(self) -> None:
        files = {f"lamps/{RANDOM.getrandbits(40):x}.txt": b"a lamp\n" for _ in range(30)}
        lists = {f"list{number}": "\n".join(files).encode() for number in range(4)}
        first, _ = self.mine(FNV, fnv_archive(files), **lists)
        again, _ = self.mine(FNV, fnv_archive(files), **lists)
        self.assertEqual(first, again)
        self.assertEqual(set(first), set(files))
        self.assertTrue(all(find.where.endswith("list0") for find in first.values()))

    def test_interrupted_it_goes_on_from_what_was_read(self) -> None:
        lists = {f"list{number}": f"lamps/{number}.txt and more\n".encode() * 9 for number in range(40)}
        files = {f"lamps/{number}.txt": b"a lamp\n" for number in range(40)}
        _, found = self.found(FNV, fnv_archive(files), **lists)

        def interrupt(after: int) -> Callable[[int], None]:
            left = after

            def on_progress(size: int) -> None:
                nonlocal left
                left -= 1
                if not left:
                    raise KeyboardInterrupt

            return on_progress

        with ReadMemory(self.folder / "read.sqlite") as memory, self.assertRaises(KeyboardInterrupt):
            mine.mine(found, memory, interrupt(20))
        with ReadMemory(self.folder / "read.sqlite") as memory:
            done = mine.mine(found, memory)
        self.assertGreater(done.read.remembered, 0)
        self.assertEqual({find.path for find in done.finds}, set(files))
        with ReadMemory(self.folder / "read.sqlite") as memory:
            again = mine.mine(found, memory)
        self.assertEqual(again.read.remembered, again.read.bytes)
        self.assertEqual(again.finds, done.finds)
        (self.folder / "read.sqlite").write_bytes(b"no database at all" * 100)
        with ReadMemory(self.folder / "read.sqlite") as memory:
            self.assertEqual(mine.mine(found, memory).finds, done.finds)

    def test_damaged_entries_are_told_and_the_rest_is_read(self) -> None:
        zipped = io.BytesIO()
        with zipfile.ZipFile(zipped, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("a.txt", "lamps/red.txt " * 90)
            made.writestr("b.txt", "lamps/green.txt " * 90)
        data = bytearray(zipped.getvalue())
        data[40:48] = b"\xff" * 8
        files = {"lamps/red.txt": b"x\n", "lamps/green.txt": b"y\n"}
        found, done = self.mine(FNV, fnv_archive(files), zipped=bytes(data))
        self.assertEqual(set(found), {"lamps/green.txt"})
        self.assertEqual(len(done.read.faults), 1)

    def test_an_interrupted_guess_keeps_what_it_found(self) -> None:
        files = {f"lamps/{number:02}.txt": b"a lamp\n" for number in range(100)}
        _, found = self.found(FNV, fnv_archive(files))
        (unresolved,) = quarries(found.groups)
        calls = 0

        def on_progress(count: int) -> None:
            nonlocal calls
            calls += 1
            if calls == 3:
                raise KeyboardInterrupt

        with patch("volvex.names.unresolved.RUN", 1 << 12), self.assertRaises(KeyboardInterrupt):
            guess(
                unresolved,
                patterns.parse("{lamps,bells,boats}/{00..99}{.txt,.png}{,0,1,2,3,4,5,6,7,8,9}{,a,b,c,d,e,f}", {}),
                on_progress,
            )
        self.assertTrue(0 < len(unresolved.finds) <= 100)
        self.assertTrue(0 < unresolved.tried[EvidenceKind.GUESSED] < 3 * 100 * 2 * 11 * 7)

    def test_how_long_it_takes_is_told_beforehand(self) -> None:
        _, found = self.found(FNV, fnv_archive({"lamps/red.txt": b"x\n"}))
        (unresolved,) = quarries(found.groups)
        short, long = (
            seconds(unresolved, patterns.parse(text, {})) for text in ("{000..999}", "{000000..999999}{00000..99999}")
        )
        self.assertGreater(long, 50 * short)
        self.assertGreater(short, 0)


class Waiting(Case):
    def find(self, path: str, doubt: float, key: str = "00aa00aa") -> Find:
        return Find(path, "game/keyed.bin", key, EvidenceKind.GUESSED, "", Kind.UNTOLD, doubt)

    def test_what_is_in_doubt_waits_until_it_is_accepted(self) -> None:
        folder = self.folder / "names"
        sure, rest = finds.keep(folder, [self.find("a", 1e-9, "11"), self.find("b", 0.5), self.find("c", 0.4)], Disk())
        self.assertEqual(([find.path for find in sure], [find.path for find in rest]), (["a"], ["b", "c"]))
        self.assertEqual((folder / "found.txt").read_text(), "a\n")
        finds.keep(folder, [self.find("b", 0.5)], Disk())
        self.assertEqual([find.path for find in finds.waiting(folder)], ["b", "c"])
        self.assertEqual(finds.accept(folder, ["x*"], Disk()), [])
        self.assertEqual([find.path for find in finds.accept(folder, ["b"], Disk())], ["b"])
        self.assertEqual((folder / "found.txt").read_text(), "a\nb = 00aa00aa\n")
        self.assertEqual(finds.waiting(folder), [])

    def test_a_name_beyond_doubt_puts_an_end_to_the_waiting(self) -> None:
        folder = self.folder / "names"
        finds.keep(folder, [self.find("b", 0.5)], Disk())
        finds.keep(folder, [self.find("c", 1e-9)], Disk())
        self.assertEqual(finds.waiting(folder), [])

    def test_of_several_paths_for_one_key_none_is_sure(self) -> None:
        finds = best([self.find("a", 1e-9), self.find("b", 1e-9)])
        self.assertFalse(any(find.beyond_doubt for find in finds))
        self.assertTrue(best([self.find("a", 1e-9)])[0].beyond_doubt)


class Commands(Case):
    """The hunt in the stand-in game, by the program."""

    def test_a_hunt_from_the_shipped_list_to_a_few_that_nobody_names(self) -> None:
        bench = self.bench(self.game())
        mined = self.run_program("names", "mine", cwd=bench)
        self.assertIn("nameless: 103 before, 57 after; of 326 entries; 23 of them go by numbers", mined.stdout)
        self.assertIn("46 new names in names/found.txt", mined.stdout)
        self.assertIn("loft/loft.kwa/fittings/fittings.xml", mined.stdout)
        self.assertIn("not read: ", mined.stderr)
        again = self.volvex("names", "mine", cwd=bench)
        self.assertIn("nameless: 57 before, 57 after", again)
        self.assertIn("of them remembered", again)
        process = self.run_program(
            "names", "guess", "boats/{skiff,punt,barge}_{00..99}/{hull,sail}.{png,msh}", "--in", "loft", cwd=bench
        )
        self.assertIn("1,200 paths on 24 nameless entries, about a second or less", process.stderr)
        self.assertIn("nameless: 24 before, 4 after; of 79 entries", process.stdout)
        (self.folder / "isles.txt").write_text("kelpwick\nsallow_holm\nthe_pans\nnorth_skerry\ngannet_stack\n")
        said = self.volvex("names", "guess", "soundings/{word}/{ebb,flood}.sdg", "--words", "../isles.txt", cwd=bench)
        self.assertIn("nameless: 37 before, 27 after", said)
        missing = self.records("names", "missing", "loft", cwd=bench)
        self.assertEqual(len(missing), 4)
        names = (bench / "names" / "found.txt").read_text().splitlines()
        self.assertIn("sails/tide_tax/jib.sail", names)
        self.assertEqual(len(names), 76)

    def test_the_bench_can_be_named_from_elsewhere(self) -> None:
        self.bench(self.game())
        pattern = "guides/chapter_{00..20}.txt"
        self.assertIn("70 before, 62 after", self.volvex("names", "guess", pattern, "--in", "loft", "--bench", "bench"))
        self.volvex("names", "guess", pattern, "--in", "loft", "--bench", "bench", status=1)
        self.assertIn("guides/chapter_03.txt\n", self.volvex("names", "export", "--bench", "bench"))
        self.assertIn("guides/chapter_03.txt\n", self.volvex("names", "export", "loft", "--bench", "bench"))
        self.assertEqual(len(self.records("names", "missing", "loft", "--bench", "bench")), 62)
        self.assertIn(
            ("this bench", 8),
            {(str(record["for"]), record["names"]) for record in self.records("names", "list", "--bench", "bench")},
        )
        self.assertIn("is not a bench", self.complaint("names", "list", "--bench", "home", status=3))

    def test_without_a_bench_names_go_to_the_user(self) -> None:
        game = self.game()
        self.volvex("names", "guess", "guides/chapter_{00..20}.txt", "--in", game / "loft")
        self.assertEqual((self.home / "names" / "found.txt").read_text().count("\n"), 8)
        self.assertIn("guides/chapter_03.txt", self.volvex("list", game / "loft/loft.kwa"))
        self.assertIn("no archive is given", self.complaint("names", "missing", status=2))
        planned = self.run_program("names", "guess", "x/{000000000..999999999}{0..9}", "--in", game / "loft", "--plan")
        self.assertIn("10,000,000,000 paths", planned.stderr)
        self.assertEqual(planned.stdout, "")

    def test_finds_in_doubt_are_listed_accepted_and_forgotten(self) -> None:
        game = self.folder / "game"
        game.mkdir()
        files = {f"lamps/{number:04}.tbl": b"\0\1\2" + number.to_bytes(2, "big") for number in range(3000)}
        text = layout("hashes by fnv1a", [("u32", "name hash")])
        (game / "keyed.bin").write_bytes(
            archive({(fnv1a(path.encode(), 32),): content for path, content in files.items()}, "I")
        )
        (self.home / "keyed.layout").write_text(text)
        said = self.volvex("names", "guess", "y/{00000000..29999999}.q", "--in", game)
        self.assertIn("accidental hits to be expected: 21", said)
        self.assertIn("in doubt: `volvex names accept PATH`", said)
        self.assertNotIn("named\n", said)
        waits = self.records("names", "accept")
        self.assertGreater(len(waits), 5)
        one, other = str(waits[0]["path"]), str(waits[1]["path"])
        self.assertIn(one, self.volvex("names", "missing", game, "--all"))
        self.assertIn(f"accepted: {one} for", self.volvex("names", "accept", one))
        self.assertEqual(len(self.records("names", "accept")), len(waits) - 1)
        self.assertIn(f"keyed.bin/{one}\n", self.volvex("list", game / "keyed.bin"))
        self.assertIn("discarded", self.volvex("names", "accept", other, "--discard"))
        self.assertIn("not in the list of uncertain", self.complaint("names", "accept", "nowhere", status=3))
        (self.home / "names" / "waiting.json").write_text("{")
        self.assertIn("not a valid list of found names", self.complaint("names", "accept", status=4))

    def test_bad_patterns_words_and_dictionaries(self) -> None:
        game = self.game()
        for words, said, status in (
            (("x{a",), "a brace without its other half", 2),
            (("{word}",), "--words FILE", 2),
            (("{word}", "--words", "nowhere.txt"), "there is no file nowhere.txt", 3),
            (("{0000000..9999999}{0000000..9999999}",), "100,000,000,000,000 paths", 2),
        ):
            self.assertIn(said, self.complaint("names", "guess", *words, "--in", game, status=status))
        (self.folder / "bad.txt").write_bytes(b"a\0b\n")
        self.assertIn("line 1 is no path", self.complaint("names", "add", "bad.txt", status=4))
        self.assertIn("no text encoding", self.complaint("names", "add", "bad.txt", "--encoding", "klingon", status=2))
        self.assertIn(
            "not the name of a folder", self.complaint("names", "add", "bad.txt", "--scope", "../x", status=2)
        )
        self.assertIn("no file", self.complaint("names", "add", "nowhere.txt", status=3))
        self.assertIn("no entry there is without a name", self.volvex("names", "mine", game / "data"))
        self.assertEqual(self.records("names", "mine", game / "data"), [])
        self.assertEqual(self.records("names", "guess", "x", "--in", game / "data"), [])

    def test_names_and_what_was_read_are_kept_for_the_user(self) -> None:
        game = self.game()
        records = json.loads(self.volvex("names", "mine", game / "loft", "--json"))
        self.assertEqual(sum(record["sure"] for record in records), 44)
        self.assertTrue((self.home / "cache" / "read.sqlite").is_file())
        self.assertEqual(
            zlib.crc32(Path(self.home / "names" / "found.txt").read_bytes()),
            zlib.crc32("".join(sorted(f"{record['path']}\n" for record in records)).encode()),
        )


if __name__ == "__main__":
    unittest.main()
