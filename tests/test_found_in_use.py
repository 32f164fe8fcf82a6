"""What use on real data found: layouts at their limits, paths, one bad file among many, evidence, links, imports,
take-overs."""

from __future__ import annotations

import os
import random
import shutil
import struct
import tarfile
import unittest
import zipfile
import zlib
from pathlib import Path
from unittest import mock

from tests.support import MAIN, Case, archive_of, made_game
from volvex.archive.detect.evidence import ENOUGH, evidence
from volvex.errors import FormatError, ManyErrors, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.source import BytesSource

LENSES = "data/almanac.kwp/tables/lenses.kwb"
ROWS = """layout "rows" kind archive
little endian
block head at 0
    count   {count}   count of table
block table after head repeats
    name    text 4   name
    place   u{bits}   described
    start   place bits 0 to {last}   start of content
    flag    place bits {flag}        kept
    size    u8       size of content
content
"""
UNSIGNED = """layout "unsigned" kind archive
little endian
block head at 0
    count  u32   count of rows
block rows after head repeats
    name   text 8 filled 00  name
    start  u32   start of content
    size   u32   size of content
content
"""


class Layouts(unittest.TestCase):
    def test_bits_of_numbers_of_every_width(self) -> None:
        for bits in (16, 24, 32, 40, 48, 56, 64):
            with self.subTest(bits=bits):
                text = ROWS.format(count="u8", bits=bits, last=min(bits, 63) - 2, flag=min(bits, 63) - 1)
                place = (1 << min(bits, 63) - 1 | 6 + bits // 8).to_bytes(bits // 8, "little")
                archive = archive_of(text, b"\x01lamp" + place + b"\x02ab")
                self.assertEqual(archive.content(0), b"ab")

    def test_every_number_has_bounds_that_check_knows(self) -> None:
        cases = {
            "junk 4000000000 bytes kept": "4,000,000,000 bytes",
            "junk 0 bytes kept": "0 bytes",
            "junk text 0 kept": "0 bytes",
            "junk array of 99999999 u8 kept": "99,999,999 bytes",
            "junk text u8 x 9999999 kept": "counted in",
            "junk u32 x 99999999999999999999999 kept": "more than 64 bits",
        }
        for line, said in cases.items():
            with self.subTest(line), self.assertRaises((FormatError, ManyErrors, VolvexError)) as caught:
                parse_layout(
                    f'layout "x" kind table\nblock head at 0\n    {line}\nblock rows repeats\n    a u8 value\n', "x"
                )
            self.assertIn(said, str(caught.exception))
        for align in ("0", "18446744073709551615", "2147483648"):
            with self.subTest(align=align), self.assertRaises(VolvexError) as caught:
                parse_layout(f'layout "x" kind table\nblock rows at 0 repeats align {align}\n    a u8 value\n', "x")
            self.assertIn("an alignment is", str(caught.exception))

    def test_checking_takes_as_long_as_the_layout(self) -> None:
        """Not by the clock: by the comparisons of one field with others, which grew with the square."""
        from volvex.layout.language import parsed

        fields = [mock.Mock(type=None, meaning=("phrase", (), "kept", ())) for _ in range(500)]
        with mock.patch.object(parsed, "points", return_value=False) as asked:
            parsed.texts_by_length(fields)
        self.assertLessEqual(asked.call_count, 2 * len(fields))

    def test_content_that_packing_makes_larger_is_stored_bare(self) -> None:
        text = """layout "zd" kind archive
known by "ZD" at 0
block head at 0
    mark    2 bytes     is "ZD"
    count   u16         count of table
block table after head repeats
    name    text u8     name
    size    u32         size of content
    stored  u32         stored size of content
content after table in order as zlib when sizes differ
"""
        packed = zlib.compress(bytes(2000))
        data = b"ZD" + struct.pack("<H", 1) + b"\x01a" + struct.pack("<II", 2000, len(packed)) + packed
        archive = archive_of(text, data)
        from volvex.source import Spool

        noise = random.Random(1).randbytes(500)
        with Spool(Path("/tmp") if os.name != "nt" else Path.cwd()) as spool:
            made = archive.encode(spool, [noise], 0)
            self.assertEqual((made.stored, made.size, made.codec), (500, 500, "none"))


class Evidence(unittest.TestCase):
    def bits(self, data: bytes) -> float | None:
        try:
            reading = read(parse_layout(UNSIGNED, "u"), BytesSource(data, "u"))
        except VolvexError:
            return None
        from volvex.archive import LayoutArchive

        return evidence(LayoutArchive(reading))

    def test_zeros_and_noise_say_nothing_and_a_real_directory_much(self) -> None:
        random_ = random.Random(7)
        for count in (1, 2, 3, 9):
            self.assertLess(self.bits(struct.pack("<I", count) + bytes(16 * count + 200)) or 0, ENOUGH)
            noise = struct.pack("<I", count) + random_.randbytes(16 * count + 200)
            self.assertLess(self.bits(noise) or 0, ENOUGH)
        rows, body = b"", b""
        for number in range(4):
            content = b"wick %d" % number * 5
            rows += b"lamp%d.kl" % number + struct.pack("<II", 4 + 64 + len(body), len(content))
            body += content
        self.assertGreater(self.bits(struct.pack("<I", 4) + rows + body) or 0, ENOUGH)


class Files(Case):
    def test_a_named_layout_reads_tables_above_the_current_folder(self) -> None:
        (self.folder / "t.layout").write_text(
            'layout "plain rows" kind table\nlittle endian\nblock rows at 0 repeats until end\n    id u8 id\n    oil u16 value\n'  # noqa: E501
        )
        (self.folder / "rows.dat").write_bytes(b"\x01\x05\x00\x02\x06\x00")
        (self.folder / "game" / "in").mkdir(parents=True)
        (self.folder / "game" / "rows.dat").write_bytes((self.folder / "rows.dat").read_bytes())
        for here, path in (("game", "../rows.dat"), ("game/in", "../rows.dat"), ("game/in", "../../rows.dat")):
            with self.subTest(here=here, path=path):
                layout = os.path.relpath(self.folder / "t.layout", self.folder / here)
                said = self.volvex("show", path, "--layout", layout, cwd=self.folder / here)
                self.assertRegex(said, r"oil\n +1 +5\n")

    @unittest.skipIf(os.name == "nt", "paths have another limit there")
    def test_paths_that_are_too_long_and_what_vanishes_are_lines_at_the_end(self) -> None:
        game = self.folder / "game"
        game.mkdir()
        (game / "a.txt").write_text("hello")
        before = Path.cwd()
        try:
            os.chdir(game)
            for _ in range(24):
                Path("d" * 200).mkdir()
                os.chdir("d" * 200)
            Path("deep.txt").write_text("hello")
        finally:
            os.chdir(before)
        for words in (["survey", game], ["find", game, "--text", "hello"], ["list", game, "--deep"]):
            with self.subTest(words[0]):
                done = self.run_program(*words, status=None)
                self.assertIn("a.txt", done.stdout)
                self.assertIn("cannot be read: file name too long", done.stderr)
                self.assertIn(done.returncode, (0,) if words[0] == "find" else (3, 4, 6))
        shutil.rmtree(game / ("d" * 200), ignore_errors=True)

    def test_an_unreadable_folder_is_a_line(self) -> None:
        game = self.folder / "game"
        (game / "in").mkdir(parents=True)
        (game / "a.txt").write_text("x")
        real = os.scandir

        def scan(path: str) -> object:
            if str(path).endswith("in"):
                raise PermissionError(13, "Permission denied", str(path))
            return real(path)

        with mock.patch("volvex.archive.detect.survey.os.scandir", scan):
            done = self.run_program("survey", game, status=4)
        self.assertIn("a.txt", done.stdout)
        self.assertIn("in: cannot be read: permission denied", done.stderr)

    @unittest.skipUnless(hasattr(os, "mkfifo"), "no pipes here")
    def test_a_pipe_is_not_called_a_link(self) -> None:
        os.mkfifo(self.folder / "pipe")
        self.assertRegex(self.volvex("survey", self.folder), r"pipe +\S*pipe")

    def test_one_damaged_archive_never_stops_the_others(self) -> None:
        game = self.folder / "game"
        game.mkdir()
        shutil.copy(made_game() / "isles/tides.kwv", game)
        shutil.copy(made_game() / "isles/shores.kwt", game)
        from volvex.archive.access.open import open_archive as real

        module = "volvex.archive.detect.survey"

        def broken(path: Path, *rest: object) -> object:
            if path.name == "tides.kwv":
                raise IndexError("a fault of ours")
            return real(path, *rest)  # type: ignore[arg-type]

        with mock.patch(f"{module}.open_archive", broken):
            done = self.run_program("survey", game, status=4)
        self.assertIn("shores", done.stdout)
        self.assertIn("tides.kwv: a fault in Volvex: IndexError", done.stderr)
        with mock.patch("volvex.archive.access.paths.open_archive", broken):
            for words in (["list", game, "--deep"], ["find", game, "--name", "*"]):
                done = self.run_program(*words, status=None)
                self.assertIn("tides.kwv: a fault in Volvex", done.stderr)
                self.assertEqual(done.returncode, 0 if words[0] == "find" else 4)

    def test_mutants_that_stopped_whole_folders_are_format_errors(self) -> None:
        tree = """layout "tree" kind archive
block head at 0
    folders  u16  count of folders
    files    u16  count of files
block folders after head repeats
    name     text u8   folder name
    first    u16      first folder
    number   u16      folders in it
    file     u16      first file
    count    u16      files in it
block files after folders repeats
    name     text u8   name
    size     u32      size of content
content after files in order
"""
        with self.assertRaises(VolvexError):
            archive_of(tree, struct.pack("<HH", 0, 1) + b"\x01a" + struct.pack("<I", 0))

    def test_identify_list_and_survey_agree_on_and_off_a_bench(self) -> None:
        game = self.game()
        bench = self.bench(game)
        off = {
            Path(str(one["path"])).relative_to(game).as_posix(): (one["type"], one["layout"])
            for one in self.records("survey", game, "--all")
        }
        on = {str(one["path"]): (one["type"], one["layout"]) for one in self.records("survey", "--all", cwd=bench)}
        self.assertEqual(on, off)
        self.assertEqual(on["shallows/firth.kwz"], ("archive", "chart pack"))
        shutil.copy(game / "shallows/firth.kwz", self.folder / "x.kwz")
        self.assertIn("unknown format", self.volvex("identify", "x.kwz", status=1))


class Building(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "game"
        self.source.mkdir()

    def test_links_in_a_tar_are_not_taken_and_build_says_all_refusals_first(self) -> None:
        with tarfile.open(self.source / "lamps.tar", "w") as archive:
            (self.folder / "a.txt").write_text("oil")
            archive.add(self.folder / "a.txt", "a.txt")
            for name, kind in (("hard.txt", tarfile.LNKTYPE), ("soft.txt", tarfile.SYMTYPE)):
                info = tarfile.TarInfo(name)
                info.type, info.linkname = kind, "a.txt"
                archive.addfile(info)
        (self.source / "b.txt").write_text("b")
        work = self.bench(self.source)
        done = self.run_program("take", "lamps.tar", "b.txt", cwd=work, status=5)
        self.assertIn("took files/lamps.tar/a.txt", done.stdout)
        self.assertIn("not taken: lamps.tar/hard.txt: it is a link to a.txt", done.stderr)
        self.assertFalse((work / "files/lamps.tar/soft.txt").exists())
        self.complaint("swap", "lamps.tar/soft.txt", self.folder / "a.txt", cwd=work, status=5)
        for name in ("b.txt", "lamps.tar/hard.txt", "lamps.tar/soft.txt"):
            (work / "files" / name).write_text("changed")
        done = self.run_program("build", "--anyway", cwd=work, status=5)
        self.assertIn("hard.txt: it is a link", done.stderr)
        self.assertIn("soft.txt: it is a link", done.stderr)
        self.assertFalse((work / "built").exists())

    def test_nothing_is_written_into_a_game_but_by_what_installs(self) -> None:
        game = self.game("kelpwick")
        shutil.copy(game / MAIN, self.folder / "main.kwp")
        (self.folder / "letter.txt").write_text("x")
        before = sorted(path for path in game.rglob("*") if "logs" not in path.parts)
        for words in (
            ["unpack", "data/main.kwp"],
            ["unpack", "data/main.kwp", "--to", "out"],
            ["convert", "canvas/fog.dds", "fog.png"],
            ["convert", ".", "--to", "all", "--as", "png"],
            ["picture", ".", "--to", "sheet.png"],
            ["mod", "import", self.folder / "main.kwp", "--accept"],
            ["games", "new", ".", "pack"],
            ["layout", "new", "saves/night-01.sav", "--to", "x.layout"],
            ["pack", self.folder, "--to", "x.zip"],
            ["names", "export", "--to", "names.txt"],
        ):
            with self.subTest(words=words):
                self.assertIn("is in the folder of a game", self.complaint(*words, cwd=game, status=5))
        self.assertEqual(sorted(path for path in game.rglob("*") if "logs" not in path.parts), before)

    def test_new_files_of_a_whole_archive_need_accept(self) -> None:
        with zipfile.ZipFile(self.source / "rules.zip", "w") as archive:
            archive.writestr("lamps.txt", "old")
        other = self.folder / "other"
        other.mkdir()
        with zipfile.ZipFile(other / "rules.zip", "w") as archive:
            archive.writestr("lamps.txt", "new")
            archive.writestr("extra.txt", "extra")
        done = self.run_program(
            "mod", "import", other / "rules.zip", self.folder / "m", "--game", self.source, status=1
        )
        self.assertIn("not taken over: rules.zip/extra.txt: not in the game; --accept takes it", done.stderr)
        self.assertIn("1 line change", done.stdout)
        done = self.run_program(
            "mod", "import", other / "rules.zip", self.folder / "m2", "--game", self.source, "--accept"
        )
        self.assertTrue((self.folder / "m2/files/rules.zip/extra.txt").is_file())


class TakeOver(Case):
    """A kill while an edit of the folder `open` is taken over leaves an edit that the next command takes over."""

    def test_at_every_step(self) -> None:
        game = self.game()
        for path, ending in ((LENSES, "csv"), ("belfry/fog_bell.kbl", "wav")):
            work = self.folder / f"bench-{ending}"
            self.volvex("bench", game, work)
            self.volvex("take", path, "--as", ending, cwd=work)
            opened = work / "open" / f"{path}.{ending}"
            data = opened.read_bytes()
            changed = data.replace(b"Half drum", b"Half dram", 1)
            opened.write_bytes(changed if changed != data else data[:200] + bytes(len(data) - 200))
            saved = self.folder / f"saved-{ending}"
            shutil.copytree(work, saved)
            self.volvex("changes", cwd=work)
            wanted = (work / "files" / path).read_bytes()
            self.assertNotEqual(wanted, (saved / "files" / path).read_bytes())
            reached = 0
            for step in range(1, 60):
                shutil.rmtree(work)
                shutil.copytree(saved, work)
                done = self.run_program("changes", cwd=work, status=None, fault=f"stop:{step}")
                reached += done.returncode != 0
                self.volvex("changes", cwd=work)
                self.assertEqual((work / "files" / path).read_bytes(), wanted, f"step {step} of {path}")
                if done.returncode == 0:
                    break
            self.assertGreater(reached, 8)


if __name__ == "__main__":
    unittest.main()
