"""One bad thing does not hide the rest: locked and damaged archives, causes before consequences, texts in other
encodings, kinds."""

from __future__ import annotations

import json
import os
import random
import unittest
import zipfile
from collections.abc import Callable
from pathlib import Path

from tests.books import opened
from tests.support import LAMPS, MAIN, Case, made_game
from tests.test_addresses import packed
from volvex.archive.detect.carve import finds
from volvex.archive.detect.filetypes import detail as detail_of
from volvex.archive.detect.filetypes import kind_by_content
from volvex.archive.detect.types import by_name
from volvex.archive.detect.xor import telling_keys
from volvex.archive.envelope import xored
from volvex.data.encodings import guessed, named
from volvex.errors import UsageError
from volvex.layout import Library
from volvex.source import BytesSource

LOCKED = "post/winter.kpz"
FRAME = b"\xff\xfb\x90\x00" + bytes(413)  # of MPEG audio: 128 kbit/s at 44.1 kHz are 417 bytes


class Locked(Case):
    def test_the_rest_is_listed_and_the_lock_told_once(self) -> None:
        game = made_game()
        done = self.run_program("list", game, "--deep", "--json", status=7)
        paths = [load["path"] for load in json.loads(done.stdout)]
        self.assertIn(f"{game}/{LAMPS}", paths)
        self.assertIn("locked", {one["type"] for one in json.loads(done.stdout)})
        self.assertEqual(done.stderr.count("is locked"), 1)
        for words in (
            ("unpack", f"{game}/{LOCKED}", "--to", "out"),
            ("find", game, "--text", "no such words"),
            ("layout", "prove", f"{game}/{LOCKED}"),
        ):
            done = self.run_program(*words, status=7)
            self.assertEqual(done.stderr.count("is locked"), 1, words)
        done = self.run_program("find", game, "--text", "lamp")
        self.assertIn(f"; locked and not searched: {game}/{LOCKED}", done.stdout.splitlines()[-1])
        self.assertEqual(done.stderr, "")


class Damaged(Case):
    def setUp(self) -> None:
        super().setUp()
        self.whole = made_game() / MAIN

    def cut(self, name: str, data: bytes, size: int) -> str:
        (self.folder / name).write_bytes(data[:size])
        return name

    def test_a_player_is_asked_for_a_fresh_copy_and_an_author_about_the_layout(self) -> None:
        cut = self.cut("cut.kwp", self.whole.read_bytes(), 60000)
        said = self.complaint("list", cut, status=4)
        self.assertIn("try a fresh copy of the file", said)
        self.assertIn("`volvex unpack cut.kwp --salvage`", said)
        self.assertNotIn("sectors", said)
        self.assertIn("counted in sectors", self.complaint("layout", "prove", cut, status=4))
        self.assertIn("counted in sectors", self.complaint("layout", "explain", cut, status=4))

    def test_a_zip_without_its_directory_is_damaged_and_what_is_whole_comes_out(self) -> None:
        with zipfile.ZipFile(self.folder / "all.zip", "w", zipfile.ZIP_DEFLATED) as archive:
            for number in range(3):
                archive.writestr(f"tide{number}.txt", f"high water {number}\n" * 50)
            place = archive.infolist()[2].header_offset
        cut = self.cut("cut.zip", (self.folder / "all.zip").read_bytes(), place + 50)
        self.assertIn("without its directory", self.complaint("list", cut, status=4))
        done = self.run_program("unpack", cut, "--salvage", status=4)
        self.assertEqual(sorted(path.name for path in (self.folder / "cut").iterdir()), ["tide0.txt", "tide1.txt"])
        self.assertIn("refused: cut.zip/tide2.txt", done.stderr)
        self.assertEqual((self.folder / "cut/tide1.txt").read_text(), "high water 1\n" * 50)

    def test_of_sizes_behind_the_content_as_well(self) -> None:
        class Stream:
            def __init__(self) -> None:
                self.data = b""

            def write(self, data: bytes) -> int:
                self.data += data
                return len(data)

            def flush(self) -> None:
                pass

        out = Stream()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:  # type: ignore[call-overload]
            for number in range(3):
                archive.writestr(f"tide{number}.txt", f"low water {number}\n" * 50)
            place = archive.infolist()[2].header_offset
        cut = self.cut("cut.zip", out.data, place + 20)
        self.run_program("unpack", cut, "--salvage", status=4)
        self.assertEqual((self.folder / "cut/tide1.txt").read_text(), "low water 1\n" * 50)

    def test_tar_up_to_the_damage_layouts_up_to_the_end_and_streams_by_their_offsets(self) -> None:
        import tarfile

        with tarfile.open(self.folder / "all.tar.gz", "w:gz") as archive:
            for number in range(4):
                path = self.folder / f"{number}.bin"
                path.write_bytes(random.Random(number).randbytes(5000))
                archive.add(path, path.name)
        cut = self.cut("cut.tar.gz", (self.folder / "all.tar.gz").read_bytes(), 12000)
        self.run_program("unpack", cut, "--salvage", "--to", "tar", status=4)
        self.assertEqual((self.folder / "tar/0.bin").read_bytes(), random.Random(0).randbytes(5000))
        cut = self.cut("cut.kwp", self.whole.read_bytes(), 60000)
        self.run_program("unpack", cut, "--salvage", "--to", "pack", status=4)
        self.assertIn(
            '<lamp id="fresnel_3"', "".join(path.read_text() for path in (self.folder / "pack").glob("*.xml"))
        )
        (self.folder / "crew.layout").write_text(
            Path(__file__).with_name("test_addresses.py").read_text().split('PACK = """')[1].split('"""')[0]
        )
        cut = self.cut("crew.kwz", packed(("ONE", b"first"), ("TWO", b"second")), 2 + 24 + 7)
        self.run_program("unpack", cut, "--salvage", "--to", "crew", "--layout", "*.kwz=crew.layout", status=4)
        self.assertEqual([path.read_bytes() for path in (self.folder / "crew").iterdir()], [b"first"])


class Empty(Case):
    def test_archives_without_entries_are_listed_and_taken_out(self) -> None:
        zipfile.ZipFile(self.folder / "none.zip", "w").close()
        for words in ((), ("--tree",), ("--long", "--sort", "size"), ("--deep",)):
            self.assertIn("0 ", self.volvex("list", "none.zip", *words))
        self.assertEqual(self.records("list", "none.zip"), [])
        self.assertIn("0 files", self.volvex("unpack", "none.zip"))
        self.assertIn("an archive without entries", self.complaint("show", "none.zip", status=2))

    def test_a_pipe_among_files_is_passed_by(self) -> None:
        (self.folder / "in").mkdir()
        (self.folder / "in/a.txt").write_text("a")
        if hasattr(os, "mkfifo"):
            os.mkfifo(self.folder / "in/pipe")
            for words in (("list", "in"), ("find", "in", "--text", "a")):
                done = self.run_program(*words, status=0 if words[0] == "find" else 3)
                self.assertIn("is a device or a pipe, not a file", done.stderr)
                self.assertIn("in/a.txt", done.stdout)


class Checks(Case):
    def setUp(self) -> None:
        super().setUp()
        self.work = self.bench(self.game())

    def test_the_cause_comes_first_and_what_follows_is_counted(self) -> None:
        self.volvex("take", LAMPS, cwd=self.work)
        file = self.work / "files" / LAMPS
        file.write_text(file.read_text().replace("<lamps>", "<lamps"))
        lines = self.volvex("check", cwd=self.work, status=1).splitlines()
        self.assertTrue(lines[0].startswith("error") and LAMPS in lines[0], lines)
        self.assertRegex(lines[1], r"\d+ references into this file cannot be followed")
        self.assertEqual(lines[-1], "1 error, 0 warnings")
        self.assertIn("no longer sound data", self.volvex("changes", cwd=self.work))

    def test_content_of_another_kind_is_an_error(self) -> None:
        picture = f"{MAIN}/pictures/lamps/fresnel_1.png"
        (self.folder / "horn.wav").write_bytes(b"RIFF\x24\0\0\0WAVEfmt " + bytes(28))
        self.volvex("swap", picture, "../horn.wav", "--as-is", cwd=self.work)
        self.assertIn("this is wav, the game's own is png", self.volvex("check", cwd=self.work, status=1))
        self.complaint("build", cwd=self.work, status=5)

    def test_what_never_was_sound_is_not_called_broken(self) -> None:
        (self.folder / "game/odd.json").write_text('{"a": }')
        self.volvex("take", "odd.json", cwd=self.work)
        (self.work / "files/odd.json").write_text('{"b": }')
        text = self.volvex("changes", cwd=self.work)
        self.assertIn("not read as data, before neither", text)
        self.assertNotIn("no longer sound", text)


class Statuses(Case):
    def setUp(self) -> None:
        super().setUp()
        self.work = self.bench(self.game())

    def test_install_without_a_build_and_merge_without_a_file(self) -> None:
        self.volvex("build", cwd=self.work)
        self.assertIn(
            "nothing was built: the bench has no changes\ntry `volvex set`",
            self.complaint("install", cwd=self.work, status=3),
        )
        self.assertIn("nothing was built", self.complaint("install", "--plan", cwd=self.work, status=3))
        self.assertIn("there is no file none.json", self.complaint("merge", "none.json", cwd=self.work, status=3))

    def test_values_that_do_not_fit_and_paths_that_mean_many(self) -> None:
        self.complaint(
            "set", "data/almanac.kwp/tables/lenses.kwb", "--row", "101", "reach=99999999", cwd=self.work, status=2
        )
        self.complaint("set", f"{MAIN}/rules/bells.json", "--row", "fog-01", "every=often", cwd=self.work, status=2)
        self.assertIn("give one path", self.complaint("show", "data", cwd=self.work, status=2))
        self.complaint("set", f"{LOCKED}/letters/ansa.txt", "line=x", cwd=self.work, status=7)

    def test_swap_says_new_and_take_finds_what_lies_in_an_archive(self) -> None:
        (self.folder / "mine").write_text("x")
        said = self.complaint("swap", f"{MAIN}/rules/lamp.xml", "../mine", cwd=self.work, status=3)
        self.assertEqual(said.splitlines()[1], "try --new, if it is to be a new file")
        said = self.complaint("swap", f"{MAIN}/rules/Lamps.xml", "../mine", cwd=self.work, status=3)
        self.assertIn(f"; or {LAMPS}", said)
        self.assertIn(f"try {LAMPS}", self.complaint("take", "rules/lamps.xml", cwd=self.work, status=3))

    def test_an_empty_or_foreign_folder_is_not_packed(self) -> None:
        game = made_game()
        (self.folder / "other").mkdir()
        words = ("pack", "other", "--like", game / MAIN, "--to", "new.kwp")
        self.assertIn("is empty", self.complaint(*words, status=5))
        (self.folder / "other/foreign.txt").write_text("x")
        self.assertIn("has none of the files", self.complaint(*words, status=5))
        self.assertFalse((self.folder / "new.kwp").exists())
        self.volvex(*words, "--anyway")

    def test_no_permission_says_what_to_do(self) -> None:
        words = ("unpack", made_game() / MAIN, "--to", "shut")
        self.assertIn("try another folder", self.complaint(*words, status=6, fault="deny:1"))

    def test_a_proof_that_tried_nothing_says_so(self) -> None:
        (self.folder / "crew.layout").write_text(
            Path(__file__).with_name("test_addresses.py").read_text().split('PACK = """')[1].split('"""')[0]
        )
        (self.folder / "none.kwz").write_bytes(packed())
        text = self.volvex("layout", "prove", "none.kwz", "--layout", "crew.layout", "--harder", status=1)
        self.assertIn("not tried: no entry has content that could be changed", text)
        self.assertNotIn("holds", text)


class Encodings(Case):
    GERMAN = "[wärter]\r\nname = Jörg Müller\r\nnote = Die Lampe brennt für die Schiffe, die über Nacht fahren\r\n"

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "game/conf").mkdir(parents=True)
        (self.folder / "game/conf/de.ini").write_bytes(self.GERMAN.encode("cp1252"))
        (self.folder / "game/conf/ru.txt").write_bytes(
            "Маяк горит всю ночь.\nСмотритель пишет письмо на берег.\n".encode("cp1251")
        )
        self.volvex("bench", "game", "bench")
        self.work = self.folder / "bench"

    def test_they_are_shown_searched_changed_told_and_built_in_their_own_encoding(self) -> None:
        self.assertIn("Jörg Müller", self.volvex("show", "conf/de.ini", cwd=self.work))
        self.assertIn("line 2", self.volvex("find", ".", "--text", "Смотритель", cwd=self.work))
        self.volvex("set", "conf/de.ini", "--row", "wärter", "name=Käthe Öl", cwd=self.work)
        self.assertIn("name Jörg Müller -> Käthe Öl", self.volvex("changes", cwd=self.work))
        self.assertIn("no errors", self.volvex("check", cwd=self.work))
        self.volvex("build", cwd=self.work)
        self.assertEqual(
            (self.work / "built/conf/de.ini").read_bytes(),
            self.GERMAN.replace("Jörg Müller", "Käthe Öl").encode("cp1252"),
        )
        self.assertIn(
            "cannot be written in cp1252",
            self.complaint("set", "conf/de.ini", "--row", "wärter", "name=灯", cwd=self.work, status=2),
        )

    def test_an_option_and_a_description_name_them(self) -> None:
        (self.folder / "game/dos.ini").write_bytes("[a]\nb = ä\n".encode("cp437"))
        self.assertIn("ä", self.volvex("show", "dos.ini", "--encoding", "cp437", cwd=self.work))
        self.volvex("set", "dos.ini", "--row", "a", "b=ö", "--encoding", "cp437", cwd=self.work)
        self.assertEqual((self.work / "files/dos.ini").read_bytes(), "[a]\nb = ö\n".encode("cp437"))
        self.assertEqual(json.loads((self.work / "bench.json").read_text())["encodings"], {"dos.ini": "cp437"})
        home = self.home / "play"
        home.mkdir(parents=True)
        (home / "game.toml").write_text('name = "Play"\nknown = ["dos.ini"]\n[encodings]\n"*.ini" = "cp437"\n')
        self.assertIn("ä", self.volvex("show", "game/dos.ini"))
        self.assertIn(
            "there is no encoding called", self.complaint("show", "game/dos.ini", "--encoding", "runes", status=2)
        )

    def test_another_encoding_than_the_games_is_an_error(self) -> None:
        self.volvex("take", "conf/de.ini", cwd=self.work)
        (self.work / "files/conf/de.ini").write_text(self.GERMAN.replace("Jörg", "Käthe"), newline="")
        self.assertIn("this is in utf-8, the game's own is in cp1252", self.volvex("check", cwd=self.work, status=1))

    def test_guesses(self) -> None:
        self.assertEqual(guessed("Der Wärter öffnet die Tür und grüßt die Fischer.".encode("cp1252")), "cp1252")
        self.assertEqual(named("Latin-1"), "iso8859-1")
        with self.assertRaises(UsageError):
            named("base64")


class Shapes(Case):
    def test_objects_of_one_shape_are_one_sheet(self) -> None:
        text = {
            "dawn": {"name": "First", "range": 9},
            "dusk": {"name": "Second", "range": 12},
            "night": {"name": "Third"},
        }
        document = opened(json.dumps(text).encode())
        self.assertEqual(
            [(sheet.name, sheet.ids) for sheet in document.sheets], [("records", ["dawn", "dusk", "night"])]
        )
        groups = opened(
            json.dumps({"lamps": {"a": {"range": 1}, "b": {"range": 2}}, "boats": {"x": {"load": 1}}}).encode()
        )
        self.assertEqual(
            {sheet.name: sheet.ids for sheet in groups.sheets if sheet.ids != [""]},
            {"lamps": ["a", "b"], "boats": ["x"]},
        )
        apart = opened(
            json.dumps({"lamp": {"name": "L", "range": 1}, "boat": {"name": "B", "load": 2, "home": "x"}}).encode()
        )
        self.assertEqual(sorted(sheet.name for sheet in apart.sheets), ["boat", "lamp"])

    def test_key_files_need_no_section(self) -> None:
        document = opened(b"# volume\nvolume = 5\nvolume = 6\nlanguage=en\n", "settings")
        self.assertEqual(
            (document.form, document.sheets[0].record(0)), ("ini", {"volume": "5", "volume[2]": "6", "language": "en"})
        )
        self.assertEqual(opened(b"The keeper = a man\nwho reads: much.\n", "note").form, "lines")

    def test_of_equal_keys_it_is_told_which_was_changed(self) -> None:
        (self.folder / "game").mkdir()
        (self.folder / "game/a.ini").write_text("volume = 5\nvolume = 6\nvolume = 7\n")
        self.volvex("bench", "game", "bench")
        done = self.run_program("set", "a.ini", "volume[2]=9", cwd=self.folder / "bench")
        self.assertIn("volume occurs 3 times: changed volume[2]", done.stderr)
        self.assertEqual((self.folder / "bench/files/a.ini").read_text(), "volume = 5\nvolume = 9\nvolume = 7\n")


class Kinds(unittest.TestCase):
    """Kinds of files by their heads; a sample each, with what else its head stores."""

    SAMPLES = {
        "midi": (b"MThd\0\0\0\6\0\1\0\1\1\xe0MTrk\0\0\0\4\0\xff\x2f\0", "type 1, 1 tracks, 480 ticks a quarter"),
        "mp3": (FRAME * 8, "MPEG 1 layer III, 44,100 Hz, stereo"),
        "bmp": (
            b"BM"
            + (58).to_bytes(4, "little")
            + bytes(4)
            + (54).to_bytes(4, "little")
            + (40).to_bytes(4, "little")
            + (1).to_bytes(4, "little") * 2
            + b"\1\0\x18\0"
            + bytes(24)
            + bytes(4),
            "version 3, 1 x 1, 24 bits",
        ),
        "tga": (b"\0\0\2" + bytes(9) + b"\2\0\2\0\x18\x20" + bytes(12), "2 x 2, 24 bits"),
        "dds": (
            b"DDS \x7c\0\0\0"
            + bytes(4)
            + (4).to_bytes(4, "little") * 2
            + bytes(8)
            + (1).to_bytes(4, "little")
            + bytes(44)
            + b"\x20\0\0\0\4\0\0\0DXT1"
            + bytes(40)
            + bytes(8),
            "4 x 4, DXT1, 1 mip levels",
        ),
        "ktx": (
            b"\xabKTX 11\xbb\r\n\x1a\n"
            + b"".join(
                one.to_bytes(4, "little")
                for one in (0x04030201, 0x1401, 1, 0x1908, 0x8058, 0x1908, 2, 2, 0, 0, 1, 1, 0, 16)
            )
            + bytes(16),
            "version 1.1, 2 x 2, internal format 0x8058, 1 mip levels",
        ),
        "ktx2": (
            b"\xabKTX 20\xbb\r\n\x1a\n"
            + b"".join(one.to_bytes(4, "little") for one in (37, 1, 2, 2, 0, 0, 1, 1, 0))
            + bytes(32)
            + b"".join(one.to_bytes(8, "little") for one in (104, 16, 16))
            + bytes(16),
            "version 2.0, 2 x 2, format 37, 1 mip levels",
        ),
        "mo": (
            b"\xde\x12\x04\x95"
            + b"".join(one.to_bytes(4, "little") for one in (0, 1, 28, 36, 0, 28, 2, 44, 3, 47))
            + b"Hi\0Hey\0",
            "revision 0.0, 1 texts, little endian",
        ),
        "ttf": (
            b"\0\1\0\0\0\4\0\0\0\0\0\0"
            + b"".join(
                tag + bytes(4) + (76).to_bytes(4, "big") + (4).to_bytes(4, "big")
                for tag in (b"cmap", b"glyf", b"head", b"maxp")
            )
            + bytes(4),
            "4 tables",
        ),
        "woff": (b"wOFF\0\1\0\0" + (44).to_bytes(4, "big") + bytes(32), ""),
    }

    def test_each_is_known_with_its_version(self) -> None:
        for kind, (data, detail) in self.SAMPLES.items():
            with self.subTest(kind):
                self.assertEqual(kind_by_content(data[:64]), kind)
                self.assertEqual(detail_of(kind, data), detail)

    def test_a_font_collection_lies_in_bytes_as_a_whole(self) -> None:
        font = self.SAMPLES["ttf"][0]
        data = b"ttcf\0\1\0\0" + (1).to_bytes(4, "big") + (16).to_bytes(4, "big") + font[:12]
        for place in range(12, 76, 16):
            data += font[place : place + 8] + (92).to_bytes(4, "big") + font[place + 12 : place + 16]
        data += bytes(4)
        self.assertEqual(kind_by_content(data[:64]), "ttc")
        measure = by_name()["ttc"].measure
        assert measure is not None
        self.assertEqual(measure(BytesSource(b"xy" + data, "x"), 2), (len(data), None))
        self.assertEqual(detail_of("ttc", data), "version 1.0, 1 fonts")

    def test_each_is_found_inside_other_bytes_with_its_size(self) -> None:
        noise = random.Random(6)
        data, wanted = b"", []
        for kind, (sample, _) in self.SAMPLES.items():
            data += bytes(noise.choices(range(1, 32), k=200))
            wanted.append((len(data), kind, len(sample)))
            data += sample
        found = [(find.offset, find.kind, find.size) for find in finds(BytesSource(data + b"\3" * 99, "x"))]
        self.assertEqual(found, wanted)


class XorKeys(unittest.TestCase):
    """A key is told where something plain lies behind it, and not where bytes merely repeat."""

    def test_none_in_ordinary_files(self) -> None:
        library, noise = Library(), random.Random(8)
        tried = 0
        for number in range(520):
            kinds: tuple[Callable[[], bytes], ...] = (
                lambda: noise.randbytes(3000),  # packed
                lambda: b"".join(
                    bytes([a, a, b, 0]) for a, b in zip(noise.randbytes(800), noise.randbytes(800), strict=True)
                ),  # pixels
                lambda first=number: b"".join(  # type: ignore[misc]
                    (value * 3).to_bytes(4, "little") for value in range(first, first + 700)
                ),  # a table
                lambda: b"".join(
                    noise.choice((b"\0\0\x80\x3f", b"\0\0\0\0", b"\xcd\xcc\x4c\x3e")) for _ in range(700)
                ),  # a model
                lambda: FRAME[:4].join(noise.randbytes(413) for _ in range(8)),
            )
            data = b"\x7f" + kinds[number % 5]()
            tried += kind_by_content(data[:64]) == "binary"
            self.assertEqual(telling_keys(BytesSource(data, "x"), library), [], number)
        self.assertGreater(tried, 500)

    def test_right_ones_are_found(self) -> None:
        library = Library()
        texts = [path.read_bytes() for path in sorted(Path(__file__).parent.glob("test_*.py"))[:6]]
        picture = (made_game() / "data/main.kwp").read_bytes()
        for number, plain in enumerate([*texts, picture]):
            key = random.Random(number).randbytes((1, 2, 4, 5, 8, 16)[number % 6]).replace(b"\0", b"\1")
            keys = telling_keys(BytesSource(xored(plain, key, 0), "x"), library)
            self.assertIn(key, [data * (len(key) // len(data)) for data in keys], number)


if __name__ == "__main__":
    unittest.main()
