"""Pictures through the program: shown, on sheets, found, converted in bulk, opened for editing, put back, checked,
compared."""

from __future__ import annotations

import io
import shutil
import unittest
import unittest.mock
import wave
import zipfile
from pathlib import Path

import numpy as np
from PIL import Image

from tests.support import Case
from tests.test_pictures import picture
from volvex.asset.bulk import Job, convert_all
from volvex.asset.picture.formats import form_of
from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import open_picture
from volvex.command.ui.picture import WAYS, graphics, half_blocks
from volvex.source import BytesSource


class Pictures(Case):
    def setUp(self) -> None:
        super().setUp()
        self.textures = self.folder / "art"
        self.textures.mkdir()
        self.sail = picture("bc3", 64, 32)
        (self.textures / "sail.dds").write_bytes(form_of("dds").write(self.sail))
        (self.textures / "hull_n.dds").write_bytes(form_of("dds").write(picture("bc5", 32, 32)))
        with zipfile.ZipFile(self.textures / "more.kpz", "w") as file:
            file.writestr("deep/fog.ktx2", form_of("ktx2").write(picture("rgba8", 16, 16)))
            file.writestr("deep/note.txt", "no picture")

    def opened(self, path: Path) -> Picture:
        return form_of(path.suffix).read(BytesSource(path.read_bytes(), path.as_posix()))


class Looking(Pictures):
    def test_show(self) -> None:
        out = self.volvex("show", "art/sail.dds")
        for word in ("64 x 32", "bc3, 7 levels, sRGB", "red, green, blue (colour), alpha"):
            self.assertIn(word, out)
        self.assertIn("(normal); a guess by the name", self.volvex("show", "art/hull_n.dds"))
        self.assertNotIn("\x1b", out)
        self.assertIn("there is no level 9", self.complaint("show", "art/sail.dds", "--level", 9, status=2))

    def test_half_blocks_and_graphics(self) -> None:
        image = Image.new("RGB", (2, 3), (1, 2, 3))
        lines = half_blocks(image).splitlines()
        self.assertEqual((len(lines), lines[0].count("▀")), (2, 2))
        self.assertIn("38;2;1;2;3;48;2;1;2;3", lines[0])
        self.assertIn("48;2;0;0;0", lines[1])  # below the last row there is nothing
        for environment, way in (
            ({"TERM": "xterm-kitty"}, "kitty"),
            ({"TERM_PROGRAM": "WezTerm"}, "iterm"),
            ({"TERM": "foot"}, "sixel"),
            ({"TERM": "xterm-256color"}, ""),
            ({"TERM": "xterm-kitty", "TMUX": "1"}, ""),
        ):
            self.assertEqual(graphics(environment), way)
        starts = {"kitty": "\x1b_Ga=T,f=100", "iterm": "\x1b]1337;File=inline=1", "sixel": "\x1bPq"}
        for way, start in starts.items():
            self.assertTrue(WAYS[way](image).startswith(start))

    def test_a_sheet_of_everything_at_any_depth(self) -> None:
        self.assertIn("3 pictures", self.volvex("picture", "art", "--to", "sheet.png"))
        with Image.open(self.folder / "sheet.png") as sheet:
            self.assertGreater(sheet.width, 400)
            self.assertGreater(len(sheet.getcolors(1 << 20) or ()), 100)
        self.assertIn("already exists", self.complaint("picture", "art", "--to", "sheet.png", status=5))
        with unittest.mock.patch("volvex.asset.sheet.COLUMNS", 1), unittest.mock.patch("volvex.asset.sheet.ROWS", 1):
            (self.folder / "pages-2.png").write_bytes(b"mine")
            self.assertIn("pages-2.png already exists", self.complaint("picture", "art", "--to", "pages.png", status=5))
            self.assertFalse((self.folder / "pages.png").exists())  # no page was written before all could be
        self.assertIn("no picture", self.complaint("picture", "art/more.kpz/deep/note.txt", "--to", "x.png", status=3))

    def test_list_long_has_sizes(self) -> None:
        self.assertRegex(self.volvex("list", "art", "--long"), r"64 x 32, DX10, format 78, 7 mip levels")

    def test_found_by_size_and_by_look(self) -> None:
        hull = open_picture(BytesSource((self.textures / "hull_n.dds").read_bytes(), "hull_n.dds"))
        assert hull is not None
        Image.fromarray(hull.picture.rgba()).convert("RGB").resize((50, 41)).save(self.folder / "like.jpg")
        for _ in range(2):  # looked at, and remembered
            out = self.volvex("find", "art", "--like", "like.jpg")
            self.assertIn("art/hull_n.dds", out)
            self.assertNotIn("sail", out)
        self.assertIn("1 picture", self.volvex("find", "art", "--larger", "33x32"))
        self.assertIn("fog.ktx2", self.volvex("find", "art", "--kind", "picture", "--name", "*.ktx2"))
        self.assertIn("no size", self.complaint("find", "art", "--larger", "big", status=2))


class Converting(Pictures):
    def test_one_there_and_back(self) -> None:
        self.volvex("convert", "art/sail.dds", "sail.png")
        with Image.open(self.folder / "sail.png") as image:
            np.testing.assert_array_equal(np.asarray(image), self.sail.pixels())
        self.volvex("convert", "sail.png", "again.dds", "--like", "art/sail.dds")
        self.assertEqual((self.folder / "again.dds").read_bytes(), (self.textures / "sail.dds").read_bytes())

    def test_all_of_them_a_bad_one_told(self) -> None:
        (self.textures / "bad.dds").write_bytes((self.textures / "sail.dds").read_bytes()[:300])
        done = self.run_program("convert", "art", "--to", "out", status=4)
        self.assertIn("3 pictures", done.stdout)
        self.assertIn("failed: art/bad.dds", done.stderr)
        there = sorted(
            path.relative_to(self.folder / "out").as_posix() for path in (self.folder / "out").rglob("*.png")
        )
        self.assertEqual(there, ["art/hull_n.png", "art/more.kpz/deep/fog.png", "art/sail.png"])
        self.run_program("convert", self.textures / "more.kpz", "../" + self.folder.name + "/art/s*", "--to", "far")
        far = sorted(path.relative_to(self.folder / "far").as_posix() for path in (self.folder / "far").rglob("*.png"))
        self.assertEqual(far, ["more.kpz/deep/fog.png", "sail.png"])
        done = self.run_program("convert", "art", "--to", "out", "--skip-existing", status=4)
        self.assertIn("3 files left as they were", done.stdout)
        self.run_program("convert", "art", "--to", "out", status=5)

    def test_sorted_into_folders(self) -> None:
        shutil.copy(self.textures / "sail.dds", self.folder / "art" / "hull_n.tga.dds")
        self.volvex("convert", "art", "--to", "kinds", "--by", "kind", "--as", "tga")
        self.volvex("convert", "art", "--to", "packages", "--by", "archive")
        self.assertTrue((self.folder / "kinds" / "ktx2" / "fog.tga").is_file())
        self.assertTrue((self.folder / "packages" / "more.kpz" / "deep" / "fog.png").is_file())
        self.assertEqual(len(list((self.folder / "kinds").rglob("*.tga"))), 4)

    def test_nothing_is_lost_when_processes_do_it(self) -> None:
        for number in range(12):
            shutil.copy(self.textures / "hull_n.dds", self.textures / f"hull_{number}.dds")
        self.assertIn("15 pictures", self.volvex("convert", "art", "--to", "many"))
        self.assertEqual(len(list((self.folder / "many").rglob("*.png"))), 15)

    def test_a_process_that_dies_costs_one_picture(self) -> None:
        from concurrent.futures import Future, ThreadPoolExecutor
        from concurrent.futures.process import BrokenProcessPool

        class Dying(ThreadPoolExecutor):
            """What a pool of processes does when one of them dies of a picture."""

            def submit(self, function, job, /):  # type: ignore[no-untyped-def,override]
                if "hull" not in job.name:
                    return super().submit(function, job)
                future: Future[object] = Future()
                future.set_exception(BrokenProcessPool())
                return future

        names = ("sail.dds", "hull_n.dds", "sail.dds")
        jobs = [
            Job(
                name,
                str(self.folder / f"{at}.png"),
                "png",
                (self.textures / name).stat().st_size,
                file=str(self.textures / name),
            )
            for at, name in enumerate(names)
        ]
        found = list(convert_all(jobs, lambda: Dying(1), 2))
        self.assertEqual(sorted(bool(one.fault) for one in found), [False, False, True])
        self.assertIn("its decoder stopped", next(one.fault for one in found if one.fault))

    def test_workers_of_a_scheduler(self) -> None:
        from distributed import LocalCluster

        with LocalCluster(
            n_workers=2,
            threads_per_worker=1,
            processes=True,
            dashboard_address=None,
            host="127.0.0.1",
            silence_logs=50,
        ) as cluster:
            self.assertIn(
                "3 pictures", self.volvex("convert", "art", "--to", "far", "--cluster", cluster.scheduler_address)
            )
        self.assertEqual(len(list((self.folder / "far").rglob("*.png"))), 3)


class Benches(Pictures):
    def setUp(self) -> None:
        super().setUp()
        self.volvex("bench", "art", "b")
        self.work = self.folder / "b"

    def run_in(self, *words: object, status: int = 0) -> str:
        done = self.run_program(*words, status=status, cwd=self.work)
        return done.stdout + done.stderr

    def test_out_edited_and_back(self) -> None:
        for level in (-1, 7):
            said = self.run_in("take", "sail.dds", "--as", "png", "--level", level, status=2)
            self.assertIn(f"sail.dds has no level {level}: it has 7", said)
        self.run_in("take", "sail.dds", "--as", "png")
        file = self.work / "open" / "sail.dds.png"
        with Image.open(file) as image:
            own = image.copy()
        edited = own.copy()
        edited.paste((255, 0, 0, 255), (0, 0, 8, 8))
        edited.save(file)
        said = self.run_in("changes")
        self.assertIn("64 pixels taken over", said)
        self.assertIn("64 of 2,048 pixels differ", said)
        after = self.opened(self.work / "files" / "sail.dds")
        np.testing.assert_array_equal(after.pixels()[8:], self.sail.pixels()[8:])
        own.save(file)  # the painter changes their mind: the game's own bytes are back
        self.run_in("changes")
        self.assertEqual((self.work / "files" / "sail.dds").read_bytes(), (self.textures / "sail.dds").read_bytes())

    def test_channels_apart_and_a_level(self) -> None:
        self.run_in("take", "sail.dds", "--as", "png", "--channels", "apart")
        for part, colour in (("rgb", (1, 2, 3)), ("a", 77)):
            file = self.work / "open" / f"sail.dds.{part}.png"
            with Image.open(file) as image:
                edited = image.copy()
            edited.paste(colour, (32, 16, 40, 24))
            edited.save(file)
        self.run_in("changes")
        after = self.opened(self.work / "files" / "sail.dds").pixels()[17:23, 33:39].reshape(-1, 4).astype(int)
        self.assertLess(np.abs(after - (1, 2, 3, 77)).max(), 12)
        self.run_in("take", "hull_n.dds", "--as", "png", "--level", 2)
        file = self.work / "open" / "hull_n.dds.level2.png"
        with Image.open(file) as image:
            self.assertEqual(image.size, (8, 8))

    def test_what_does_not_fit_is_refused_and_told(self) -> None:
        self.run_in("take", "sail.dds", "--as", "png")
        Image.new("RGBA", (10, 10)).save(self.work / "open" / "sail.dds.png")
        said = self.run_in("changes", status=5)
        self.assertIn("10 x 10 pixels, the game's own has 64 x 32", said)
        (self.work / "open" / "sail.dds.png").write_text("not a picture")
        self.assertIn("this is no picture, but text", self.run_in("changes", status=4))

    def test_a_png_becomes_what_the_game_wants(self) -> None:
        Image.new("RGBA", (64, 32), (9, 200, 30, 255)).save(self.folder / "green.png")
        Image.new("RGBA", (100, 100), (9, 200, 30, 255)).save(self.folder / "large.png")
        self.assertIn("converted to dds bc3, 7 levels", self.run_in("swap", "sail.dds", "../green.png"))
        self.assertEqual(self.opened(self.work / "files" / "sail.dds").levels, 7)
        self.assertIn("--resize", self.run_in("swap", "sail.dds", "../large.png", status=5))
        (self.folder / "note.txt").write_text("no picture")
        for words in (("../note.txt", "--resize"), ("../large.png", "--resize", "--as-is")):
            self.assertIn("converts a picture", self.run_in("swap", "sail.dds", *words, status=2))
        self.run_in("swap", "sail.dds", "../large.png", "--anyway")
        said = self.run_in("check", status=1)
        self.assertIn("no powers of two", said)
        self.run_in("swap", "sail.dds", "../large.png", "--as-is")
        self.assertIn("this is png, the game's own is dds", self.run_in("check", status=1))
        self.assertIn("more.kpz", self.run_in("swap", "more.kpz/deep/fog.ktx2", "../green.png", "--resize"))
        self.run_in("undo", "sail.dds")
        self.assertIn("more.kpz", self.run_in("build"))
        with zipfile.ZipFile(self.work / "built" / "more.kpz") as file:
            found = form_of("ktx2").read(BytesSource(file.read("deep/fog.ktx2"), "x"))
        self.assertEqual((found.width, found.height, found.levels), (16, 16, 5))

    def test_before_and_after_on_a_sheet(self) -> None:
        Image.new("RGBA", (64, 32), (9, 200, 30, 255)).save(self.folder / "green.png")
        self.run_in("swap", "sail.dds", "../green.png")
        self.assertIn("1 picture", self.run_in("changes", "--to", "both.png"))
        with Image.open(self.work / "both.png") as image:
            self.assertGreater(image.width, 1000)

    def test_files_in_open_follow_what_was_done_otherwise(self) -> None:
        self.run_in("take", "sail.dds", "--as", "png")
        Image.new("RGBA", (64, 32), (9, 200, 30, 255)).save(self.folder / "green.png")
        self.run_in("swap", "sail.dds", "../green.png")
        self.assertIn("rewritten", self.run_in("changes"))
        with Image.open(self.work / "open" / "sail.dds.png") as image:
            self.assertLess(abs(image.getpixel((5, 5))[1] - 200), 9)  # type: ignore[index]

    def test_a_sound_in_a_pictures_place(self) -> None:
        out = io.BytesIO()
        with wave.open(out, "wb") as file:
            file.setparams((1, 2, 8000, 0, "NONE", ""))
            file.writeframes(bytes(100))
        (self.folder / "bell.wav").write_bytes(out.getvalue())
        self.run_in("swap", "sail.dds", "../bell.wav", status=5)
        self.run_in("swap", "sail.dds", "../bell.wav", "--as-is")
        self.assertIn("this is wav, the game's own is dds", self.run_in("check", status=1))


if __name__ == "__main__":
    unittest.main()
