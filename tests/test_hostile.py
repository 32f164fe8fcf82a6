"""Names, patterns, links and archives made to do harm, and files that disappear or cannot be read."""

from __future__ import annotations

import io
import json
import os
import shutil
import struct
import threading
import time
import unittest
import warnings
import zipfile
from pathlib import Path
from unittest.mock import patch

from tests.support import LAMPS, MAIN, Case, digests
from volvex.archive import key_file
from volvex.archive.access.match import matching
from volvex.archive.access.search import LARGE, Wanted, _search_large
from volvex.archive.safe_names import Refusal, disk_names
from volvex.bench.build import build
from volvex.bench.game import Game
from volvex.bench.game_description import UNKNOWN
from volvex.bench.workbench import Workbench
from volvex.data.open import open_data
from volvex.errors import VolvexError
from volvex.layout import Library, cache
from volvex.layout.columns import Texts
from volvex.layout.keyring import Key, KeyRing
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.source import BytesSource, Disk
from volvex.source.disk import atomic, clear_stale, is_leftover


class Names(Case):
    def test_many_equal_names_are_told_apart_at_once(self) -> None:
        began = time.monotonic()
        for names in (["a"] * 60_000, [f"{'aA'[number % 2]}bC{'xX'[number // 2 % 2]}" for number in range(20_000)]):
            self.assertEqual(len({str(name).casefold() for name in disk_names(names)}), len(names))
        self.assertLess(time.monotonic() - began, 30)
        self.assertEqual(disk_names(["a", "a~2", "a", "A"]), ["a", "a~2", "a~3", "A~4"])

    def test_a_long_name_is_refused_alone(self) -> None:
        with zipfile.ZipFile(self.folder / "long.zip", "w") as archive:
            for name in ("n" * 240, "ä" * 240, "zz", "n" * 5000):
                archive.writestr(name, "ok")
        done = self.run_program("unpack", "long.zip", "--to", "out", status=5)
        self.assertEqual(sorted(path.name for path in (self.folder / "out").iterdir()), ["n" * 240, "zz"])
        self.assertEqual(done.stderr.count("longer than 240 bytes"), 2)

    def test_entries_that_are_called_like_temporary_files(self) -> None:
        names = ["notes.volvex-part", "a.123.volvex-part", "plain"]
        with zipfile.ZipFile(self.folder / "odd.zip", "w") as archive:
            for name in names:
                archive.writestr(name, name)
        self.volvex("unpack", "odd.zip", "--to", "tree")
        files = sorted(path.name for path in (self.folder / "tree").iterdir())
        self.assertEqual(files, ["a.123.volvex-par%74", "notes.volvex-part", "plain"])
        self.assertFalse(any(map(is_leftover, files)))
        (self.folder / "tree" / "notes.volvex-part").write_text("changed")
        (self.folder / "tree" / "left.77.volvex-part").write_text("of a kill")
        done = self.run_program("pack", "tree", "--like", "odd.zip", "--to", "new.zip", status=5)
        self.assertIn("left out: left.77.volvex-part", done.stderr)
        with zipfile.ZipFile(self.folder / "new.zip") as archive:
            self.assertEqual(
                {name: archive.read(name) for name in archive.namelist()},
                {"notes.volvex-part": b"changed", "a.123.volvex-part": b"a.123.volvex-part", "plain": b"plain"},
            )

    def test_names_in_utf_16_with_half_a_character(self) -> None:
        for raw in (b"\x00\xd8", b"a\x00\x00\xdc", b"a"):
            self.assertEqual(len(Texts.of([raw], "utf-16-le").all()), 1)
        self.assertIsInstance(disk_names(Texts.of([b"\x00\xd8"], "utf-16-le").all())[0], str | Refusal)

    def test_an_entry_that_cannot_be_taken_out_stays_when_packing(self) -> None:
        with zipfile.ZipFile(self.folder / "climbs.zip", "w") as archive:
            for name in ("../climbs", "plain", "other"):
                archive.writestr(name, name)
        self.run_program("unpack", "climbs.zip", "--to", "tree", status=5)
        (self.folder / "tree" / "plain").write_text("changed")
        (self.folder / "tree" / "other").unlink()
        done = self.run_program("pack", "tree", "--like", "climbs.zip", "--to", "new.zip")
        self.assertIn("../climbs cannot be taken out, so it stays", done.stderr)
        with zipfile.ZipFile(self.folder / "new.zip") as archive:
            self.assertEqual(
                {name: archive.read(name) for name in archive.namelist()},
                {"../climbs": b"../climbs", "plain": b"changed"},
            )


class Patterns(Case):
    def test_odd_brackets_stand_for_themselves(self) -> None:
        names = ["[z-a]", "[]", "[^]", "a", "b", "^", "a[", "]", "\\"]
        for pattern, found in (
            ("[z-a]", ["[z-a]"]),
            ("[]", ["[]"]),
            ("[^]", ["[^]", "^"]),
            ("[ab]", ["a", "b"]),
            ("[!ab^\\]]", []),
            ("a[", ["a["]),
            ("[^a]", ["a", "^"]),
            ("[!a]", ["b", "^", "]", "\\"]),
            ("[\\]", ["\\"]),
        ):
            rows = matching(names, [pattern])
            self.assertTrue(
                set(found) & {names[row] for row in rows} or not found, (pattern, [names[row] for row in rows])
            )

    def test_many_stars_take_no_time(self) -> None:
        began = time.monotonic()
        name = "/".join(["a" * 120] * 12)
        for pattern in ("*a" * 60 + "b", "/".join(["**", "*a*a*a*"] * 8 + ["x"]), "**/" * 30 + "b"):
            self.assertEqual(len(matching([name] * 20, pattern.split("/"))), 0)
        self.assertLess(time.monotonic() - began, 10)
        self.assertEqual(len(matching(["x/aab/y/caad/z.txt"], ["**", "a*b", "**", "*aa*", "*.txt"])), 1)
        self.assertEqual(len(matching(["abcabc"], ["a*c*c"])), 1)
        self.assertEqual(len(matching(["a/b/c/b/d"], ["a", "**", "b", "d"])), 1)


class Disks(Case):
    @unittest.skipIf(os.name == "nt", "making links needs rights on Windows")
    def test_links_that_lead_nowhere_or_around(self) -> None:
        (self.folder / "c").mkdir()
        (self.folder / "c" / "file.txt").write_text("x")
        for name, target in (("1", "."), ("2", "."), ("3", "nowhere")):
            (self.folder / "c" / name).symlink_to(target)
        done = self.run_program("list", "c", "--deep", status=None)
        self.assertIn("file.txt", done.stdout)
        self.assertIn("c/3 is a broken link", done.stderr)
        self.assertIn("entered already", done.stderr)
        self.assertIn("file.txt", self.run_program("list", "c", status=None).stdout)

    @unittest.skipIf(os.name == "nt", "names that are no text")
    def test_a_name_on_disk_that_is_no_text(self) -> None:
        (self.folder / "s").mkdir()
        try:
            (self.folder / "s" / os.fsdecode(b"a\xff")).write_text("x")
        except OSError:
            self.skipTest("this disk has no such names")
        for words in (("survey", "s"), ("list", "s"), ("find", "s", "--text", "x"), ("survey", "s", "--json")):
            self.volvex(*words)

    def test_archives_in_archives_without_end(self) -> None:
        data = b"x"
        for level in range(10):
            path = self.folder / f"{level}.zip"
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
                for number in range(10):
                    archive.writestr(f"{number}.zip" if level else f"{number}.txt", data)
            data = path.read_bytes()
        done = self.run_program("find", "9.zip", "--text", "lamp", status=5)
        self.assertEqual(done.stderr.count("archives nested too deep"), 1)

    def test_a_thousand_archives_are_searched(self) -> None:
        (self.folder / "many").mkdir()
        for number in range(1100):
            with zipfile.ZipFile(self.folder / "many" / f"{number}.zip", "w") as archive:
                archive.writestr("a.txt", "a lamp")
        self.assertIn("1,100 hits in 1,100 files", self.volvex("find", "many", "--text", "lamp"))

    def test_large_content_passes_by(self) -> None:
        line = b"a line of text\n"
        chunk = line * 70_000
        needle = b"the fresnel lens\n"
        chunks = [chunk, chunk[:-5], chunk[-5:] + needle[:7], needle[7:] + chunk, needle]
        hits = _search_large("x", iter(chunks), Wanted(text="fresnel"), [])
        whole = b"".join(chunks)
        self.assertEqual(
            [(hit.line, hit.before, hit.match, hit.after) for hit in hits],
            [
                (whole[: whole.index(needle)].count(b"\n") + 1, "the ", "fresnel", " lens"),
                (whole.count(b"\n"), "the ", "fresnel", " lens"),
            ],
        )
        found = _search_large(
            "x", iter([b"\0" * 100 + b"\x01\x02", b"\x03" + b"\0" * 50]), Wanted(data=b"\x01\x02\x03"), []
        )
        self.assertEqual([hit.offset for hit in found], [100])
        self.assertGreater(LARGE, 1 << 20)

    def test_an_archive_that_vanishes_while_it_is_built(self) -> None:
        game = self.game()
        work = self.bench(game)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=work)
        with Workbench.open(work, Game(game, UNKNOWN), Library([], memory=None), Disk()) as bench:
            (game / MAIN).unlink()
            with self.assertRaises((VolvexError, OSError)):
                build(bench)

    def test_repeated_names_in_place(self) -> None:
        game = self.folder / "g"
        game.mkdir()
        with warnings.catch_warnings(), zipfile.ZipFile(game / "maps.zip", "w") as archive:
            warnings.simplefilter("ignore")
            for number in range(6):
                archive.writestr("channel-buoys", f"map {number} buoys")
                archive.writestr("sunken-rocks", f"map {number} rocks")
        original = (game / "maps.zip").read_bytes()

        def held(path: Path) -> list[bytes]:
            with zipfile.ZipFile(path) as archive:
                return [archive.read(info) for info in archive.infolist() if info.filename == "channel-buoys"]

        self.volvex("bench", game, "b")
        self.volvex("take", "maps.zip/**", "--bench", "b")
        for text in ("changed, and longer than it was", "short"):
            (self.folder / "b/files/maps.zip/channel-buoys~5").write_text(text)
            self.volvex("build", "--bench", "b")
            self.volvex("build", "--in-place", "--bench", "b")
            expected = [f"map {number} buoys".encode() if number != 4 else text.encode() for number in range(6)]
            self.assertEqual(held(self.folder / "b/built/maps.zip"), expected)
            self.assertEqual(held(game / "maps.zip"), expected)
        self.volvex("restore", game)
        self.assertEqual((game / "maps.zip").read_bytes(), original)

    def test_volumes_and_pieces_are_packed_whole_under_new_names(self) -> None:
        game = self.game()
        for index, first, count in (("peal/peal.kpi", "mod.kpi", 3), ("deeps/deeps.kwp.001", "mod.001", 3)):
            shutil.rmtree(self.folder / "tree", ignore_errors=True)
            self.volvex("unpack", game / index, "--to", "tree")
            file = next(path for path in sorted((self.folder / "tree").rglob("*")) if path.is_file())
            file.write_bytes(b"changed")
            before = digests(game)
            target = self.folder / "packed" / first
            self.assertIn(
                f"{count} files beside it", self.volvex("pack", "tree", "--like", game / index, "--to", target)
            )
            self.assertEqual({name: digest for name, digest in digests(game).items() if name in before}, before)
            self.volvex("unpack", target, "--to", "again")
            self.assertEqual(digests(self.folder / "again"), digests(self.folder / "tree"))
            shutil.rmtree(self.folder / "again")
            other = self.folder / "other" / Path(index).name
            other.parent.mkdir(exist_ok=True)
            taken = other.with_name(
                sorted(
                    path.name
                    for path in (game / index).parent.iterdir()
                    if path.name not in (other.name, first) and not path.name.startswith("mod")
                )[0]
            )
            taken.write_text("mine")
            self.assertIn(
                "already exists", self.complaint("pack", "tree", "--like", game / index, "--to", other, status=5)
            )
            self.assertEqual([path.name for path in other.parent.iterdir()], [taken.name])
            taken.unlink()
        self.assertIn(
            "named by number",
            self.complaint("pack", "tree", "--like", game / "deeps/deeps.kwp.001", "--to", "mod.bin", status=5),
        )


class Interrupted(unittest.TestCase):
    def test_while_modules_are_loaded(self) -> None:
        from volvex import __main__ as program

        with (
            patch("volvex.command.ui.main.make_context", side_effect=KeyboardInterrupt),
            patch("sys.stderr", io.StringIO()) as said,
        ):
            self.assertEqual(program.main(), 130)
        self.assertEqual(said.getvalue(), "volvex: interrupted\n")

    def test_a_mistake_of_ours_is_told_in_one_line(self) -> None:
        from volvex.command.ui import main

        said = io.StringIO()
        with patch.object(main, "_run", side_effect=TypeError("half")), patch("sys.stderr", said):
            self.assertEqual(main.main(["list"]), 70)
        self.assertIn("a fault in Volvex: TypeError: half", said.getvalue())
        with (
            patch.object(main, "_run", side_effect=TypeError("half")),
            patch("sys.stderr", said),
            self.assertRaises(TypeError),
        ):
            main.main(["list", "--debug"])


class Secrets(Case):
    def test_keys_are_found_while_others_are_noted(self) -> None:
        keys = KeyRing([Key(f"k{number}", b"x") for number in range(40)])
        missed: list[str] = []
        stop = threading.Event()

        def turn() -> None:
            while not stop.is_set():
                for number in range(40):
                    keys.was_right(f"k{number}")

        turning = threading.Thread(target=turn)
        turning.start()
        for number in range(8000):
            try:
                keys.named(f"k{number % 40}")
            except VolvexError as error:
                missed.append(error.message)
        stop.set()
        turning.join()
        self.assertEqual(missed, [])

    def test_silence_is_of_one_thread(self) -> None:
        asked: list[str] = []

        def ask(what: str) -> bytes:
            asked.append(what)
            return b"secret"

        keys = KeyRing([], ask)
        with keys.quiet():
            other = threading.Thread(target=lambda: keys.named("one"))
            other.start()
            other.join()
            with self.assertRaises(VolvexError):
                keys.named("two")
        self.assertEqual(asked, ["the key one"])

    @unittest.skipIf(os.name == "nt", "processes and modes as POSIX has them")
    def test_copies_of_the_key_file_go_after_a_kill_and_others_are_warned_of(self) -> None:
        self.run_program("keys", "add", "harbour", input="secret\n")
        for at in range(1, 9):
            self.run_program("keys", "add", "second", status=None, input="other\n", fault=f"stop:{at}")
        self.volvex("keys", "list")
        self.assertEqual([path.name for path in self.home.glob("keys.json*")], ["keys.json"])
        self.assertNotIn("can be read", self.run_program("keys", "list").stderr)
        (self.home / "keys.json").chmod(0o644)
        self.assertIn("can be read by other users", self.run_program("keys", "list").stderr)

    def test_a_key_file_with_anything_in_it(self) -> None:
        odd: tuple[object, ...] = (
            None,
            [],
            {"keys": "1"},
            {"keys": 1, "secrets": 5},
            {"keys": 1, "secrets": [{"name": 1, "hex": "00"}]},
            {"keys": 1, "secrets": [{"name": "a", "hex": "zz"}]},
        )
        for value in odd:
            (self.folder / key_file.NAME).write_text(json.dumps(value))
            with self.assertRaises(VolvexError):
                key_file.read_keys(self.folder)

    def test_a_file_of_a_running_process_is_left(self) -> None:
        with atomic(Disk(), self.folder / "x", private=True) as file:
            file.write(b"1")
        other = self.folder / f"x.{os.getppid()}.volvex-part"
        other.write_bytes(b"2")
        clear_stale(self.folder / "x")
        self.assertTrue(other.exists())


class Layouts(Case):
    def test_a_layout_that_was_moved_says_where_it_is_now(self) -> None:
        text = 'layout "one"  kind archive\nknown by "ONE" at 0\nblock head at 0\n    mark 3 bytes is "ONE"\n    n u8 count of all\nblock all after head repeats\n    name text u8 name\n    at u32 start of content\n    size u32 size of content\n'  # noqa: E501
        memory = self.folder / "memory"
        for name in ("first", "second"):
            folder = self.folder / name
            folder.mkdir()
            (folder / "one.layout").write_text(text)
            (layout,) = [layout for layout in Library([folder], memory=memory).every() if layout.title == "one"]
            self.assertEqual(layout.file, (folder / "one.layout").as_posix())
        self.assertEqual(len(list(memory.glob("*.json"))), len({path.name for path in memory.glob("*.json")}))
        self.assertEqual(len(cache.key(b"x")), 32)

    TEXT = 'layout "one"  kind archive\nlittle endian\nknown by "ONE" at 0\nblock head at 0\n    mark 3 bytes is "ONE"\n    n u8 count of all\nblock all after head repeats\n    name text u8 name\n    at u32 start of content\n    size u32 size of content\n'  # noqa: E501

    def test_absurd_words_in_a_layout_are_refused(self) -> None:
        with self.assertRaises(VolvexError) as caught:
            parse_layout(self.TEXT + f"    how u8 codec of content {{ 0 {'z' * 5000} }}\n", "one.layout")
        self.assertIn("there is no compress called zzz", caught.exception.message)
        with self.assertRaises(VolvexError):
            parse_layout(self.TEXT.replace("text u8 name", "text 2000000000 name"), "one.layout")
        layout = parse_layout(self.TEXT.replace("text u8 name", "text 16000000 name"), "one.layout")
        with self.assertRaises(VolvexError):
            read(layout, BytesSource(b"ONE\x03" + b"x" * 1000, "x"))

    def test_an_entry_without_a_name_stays_when_packing(self) -> None:
        (self.folder / "one.layout").write_text(self.TEXT)
        data = b"ONE\x02" + b"\x01a" + struct.pack("<II", 23, 2) + b"\x00" + struct.pack("<II", 25, 3) + b"hi" + b"end"
        (self.folder / "x.one").write_bytes(data)
        self.run_program("unpack", "x.one", "--to", "tree", "--layout", "one.layout", status=5)
        done = self.run_program("pack", "tree", "--like", "x.one", "--to", "y.one", "--layout", "one.layout")
        self.assertIn("cannot be taken out, so it stays", done.stderr)
        self.assertEqual((self.folder / "y.one").read_bytes(), data)

    def test_a_layout_known_at_the_end_of_a_large_mapped_file(self) -> None:
        import mmap

        text = 'layout "tailed"  kind table\nlittle endian\nknown by "TAIL" at end - 4\nblock head at 0\n    count u32 count of rows\nblock rows after head repeats\n    id u32 id\nblock foot at end - 4\n    mark 4 bytes is "TAIL"\n'  # noqa: E501
        folder = self.folder / "layouts"
        folder.mkdir()
        (folder / "t.layout").write_text(text)
        count = 30_000
        path = self.folder / "large.tbl"
        path.write_bytes(struct.pack("<I", count) + struct.pack(f"<{count}I", *range(count)) + b"TAIL")
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            document = open_data(data, Library([folder]), "large.tbl")  # type: ignore[arg-type]
            assert document is not None
            self.assertEqual(len(document.sheets[0]), count)


if __name__ == "__main__":
    unittest.main()
