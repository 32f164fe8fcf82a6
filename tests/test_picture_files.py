"""Pictures of games' own formats that are more than one file: levels beside them, palettes of others; and lists of
frames by layouts."""

from __future__ import annotations

import struct
import unittest
import zipfile
import zlib
from pathlib import Path

import numpy as np
from PIL import Image

from tests.support import Case
from tests.test_pictures import picture
from tests.test_sprites import Sprite, sheet
from volvex.asset.picture.exchange import replaced
from volvex.asset.picture.model import Picture
from volvex.asset.picture.own_layout import LayoutForm
from volvex.asset.picture.proof import change_fault, picture_hints
from volvex.asset.picture.put_back import put_back
from volvex.codec import COMPRESS
from volvex.codec.parameters import Spec
from volvex.codec.pixels.format import FORMATS
from volvex.errors import FormatError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource, Source

APART = """
layout "apart" kind texture
known by "APRT" at 0
block head at 0
    mark    4 bytes  is "APRT"
    width   u16      width
    height  u16      height
    levels  u8       levels
    here    u8       levels here
    form    u8       pixel format { 1 bc3, 2 rgba8(levels smallest), 3 pal8, 4 rgba8 }
    dye     u8       palette number
part dyes in file "../dyes.kwc" wrapped in zlib when head.form is 3
block palette in dyes at 0 repeats until end
    red     u8       red
    green   u8       green
    blue    u8       blue
block pixels after head repeats until end
    byte    u8       pixels
content in volumes "{name}.lens.{0}"
"""
PACKED = """
layout "packed" kind texture
known by "PACK" at 0
block head at 0
    mark    4 bytes  is "PACK"
    width   u16      width
    height  u16      height
    levels  u8       levels
    rows    u8       count of table
block table after head repeats
    start   u32      start of level
    size    u32      stored size of level
block pixels after table repeats until end
    byte    u8       pixels
content as rgba8 wrapped in run_length
"""
BARE = PACKED.replace('"PACK"', '"BARE"').replace(" wrapped in run_length", "")
FORMS = {1: "bc3", 2: "rgba8", 3: "pal8", 4: "rgba8"}


def apart(form: int, made: Picture, count: int, dye: int = 1) -> dict[str, bytes]:
    """The files of a picture of which `count` levels lie apart, by plain code."""
    levels = [bytes(one) for one in made.surfaces[0]]
    own, far = levels[count:], levels[:count]
    if form == 2:
        own, far = own[::-1], far[::-1]
    head = b"APRT" + struct.pack("<HHBBBB", made.width, made.height, len(levels), len(own), form, dye)
    return {"x.lens": head + b"".join(own)} | {f"x.lens.{at}": one for at, one in enumerate(far, 1)}


def packed(made: Picture, wrap: str = "run_length") -> bytes:
    codec = COMPRESS.make(Spec(wrap, ()))
    return _tabled(made, b"PACK", [b"".join(codec.encode_stream([bytes(one)])) for one in made.surfaces[0]])


def bare(made: Picture, padding: bytes = b"") -> bytes:
    return _tabled(made, b"BARE", [bytes(one) + padding for one in made.surfaces[0]])


def _tabled(made: Picture, mark: bytes, stored: list[bytes]) -> bytes:
    at, rows = 10 + 8 * len(stored), b""
    for one in stored:
        rows += struct.pack("<II", at, len(one))
        at += len(one)
    return mark + struct.pack("<HHBB", made.width, made.height, len(stored), len(stored)) + rows + b"".join(stored)


def source(files: dict[str, bytes], name: str = "x.lens") -> Source:
    own = BytesSource(files[name], name)
    own.beside = lambda other: BytesSource(files[other], other) if other in files else None
    return own


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.form = LayoutForm(parse_layout(APART, "apart.layout"))

    def test_levels_in_other_files_there_and_back(self) -> None:
        for form, count in ((1, 2), (2, 3), (4, 6), (4, 0)):
            made = picture(FORMS[form], 32, 16)
            files = apart(form, made, count)
            found = self.form.read(source(files))
            with self.subTest(form=form, count=count):
                self.assertEqual(list(map(bytes, found.surfaces[0])), list(map(bytes, made.surfaces[0])))
                self.assertEqual(
                    self.form.files(found), {"" if name == "x.lens" else name: data for name, data in files.items()}
                )
                self.assertEqual((list(picture_hints(found)), change_fault(self.form, found)), ([], ""))

    def test_all_large_levels_in_one_file(self) -> None:
        made = picture("rgba8", 32, 16)
        levels = [bytes(one) for one in made.surfaces[0]]
        form = LayoutForm(parse_layout(APART.replace("{name}.lens.{0}", "{name}.far"), "apart.layout"))
        files = {"x.lens": apart(4, made, 3)["x.lens"], "x.far": b"".join(levels[:3])}
        found = form.read(source(files))
        self.assertEqual(list(map(bytes, found.surfaces[0])), levels)
        self.assertEqual(form.files(found), {"": files["x.lens"], "x.far": files["x.far"]})
        larger = form.files(replaced(found, picture("rgba8", 64, 64, 1), any_size=True).picture)
        again = form.read(source({"x.lens": larger[""], "x.far": larger["x.far"]}))
        self.assertEqual((again.width, again.levels, larger[""][9]), (64, 7, 4))
        with self.assertRaisesRegex(VolvexError, "3 levels lie in files of their own, and the picture has only 2"):
            form.files(replaced(found, picture("rgba8", 2, 2, 1), any_size=True).picture)

    def test_a_large_picture_beside_a_small_file(self) -> None:
        levels = [bytes(FORMATS["bc3"].size(*(max(1, 2048 >> level),) * 2)) for level in range(12)]
        files = apart(1, Picture(2048, 2048, FORMATS["bc3"], [levels]), 11)
        self.assertEqual(self.form.read(source(files)).levels, 12)
        bomb = {**files, "x.lens": files["x.lens"].replace(struct.pack("<HH", 2048, 2048), b"\xff" * 4)}
        with self.assertRaisesRegex(FormatError, "65,535 x 65,535 pixels, more than"):
            self.form.read(source({name: data[:40] for name, data in bomb.items()}))

    def test_only_files_in_which_something_changes_do(self) -> None:
        files = apart(4, picture("rgba8", 32, 16), 2)
        found = self.form.read(source(files))
        small = found.pixels(3).copy()
        small[0, 0] ^= 255
        after = self.form.files(put_back(found, {3: small}).picture)
        self.assertEqual([name for name in files if name != "x.lens" and after[name] != files[name]], [])
        self.assertNotEqual(after[""], files["x.lens"])

    def test_a_file_that_is_missing_or_too_short(self) -> None:
        files = apart(4, picture("rgba8", 32, 16), 2)
        for name, says in (("x.lens.2", "its content lies in x.lens.2"), ("x.lens.1", "its content lies in x.lens.1")):
            with self.assertRaisesRegex(FormatError, says):
                self.form.read(source({one: data for one, data in files.items() if one != name}))
        with self.assertRaisesRegex(FormatError, "level 0 ends 2,048 bytes into the pixels, which have 2,000"):
            self.form.read(source(files | {"x.lens.1": files["x.lens.1"][:2000]}))

    def test_a_palette_of_several_in_another_file(self) -> None:
        made = picture("pal8", 16, 16)
        colours = np.arange(3 * 256 * 3, dtype=np.int64).astype(np.uint8).reshape(3, 256, 3)
        dyes = {"../dyes.kwc": zlib.compress(colours.tobytes())}
        found = self.form.read(source(apart(3, made, 1, 2) | dyes))
        assert found.palette is not None
        np.testing.assert_array_equal(found.palette[:, :3], colours[2])
        self.assertTrue(found.palette_kept)
        self.assertEqual(set(self.form.files(found)), {"", "x.lens.1"})  # never written: others use it too
        with self.assertRaisesRegex(FormatError, "its palette is number 3, and there are 3"):
            self.form.read(source(apart(3, made, 1, 3) | dyes))
        with self.assertRaisesRegex(FormatError, "dyes cannot be opened"):
            self.form.read(source(apart(3, made, 1, 2) | {"../dyes.kwc": b"no zlib"}))

    def test_levels_that_are_packed_one_by_one(self) -> None:
        form = LayoutForm(parse_layout(PACKED, "packed.layout"))
        made = picture("rgba8", 32, 16)
        flat = made.with_surfaces([[bytes(len(one)) if at == 1 else one for at, one in enumerate(made.surfaces[0])]])
        data = packed(flat)
        found = form.read(BytesSource(data, "x"))
        self.assertEqual(form.write(found), data)
        self.assertEqual(change_fault(form, found), "")
        pixels = found.pixels(1).copy()
        pixels[:] = np.arange(pixels.size, dtype=np.uint8).reshape(pixels.shape)  # it grows: those behind it move
        after = form.write(put_back(found, {1: pixels}).picture)
        again = form.read(BytesSource(after, "x"))
        np.testing.assert_array_equal(again.pixels(1), pixels)
        np.testing.assert_array_equal(again.pixels(0), found.pixels(0))
        for at in range(0, len(data), 5):
            for damaged in (data[:at], data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]):
                try:
                    form.read(BytesSource(damaged, "x"))
                except VolvexError:
                    continue

    def test_levels_by_a_table_that_are_not_packed(self) -> None:
        form, made = LayoutForm(parse_layout(BARE, "bare.layout")), picture("rgba8", 16, 8)
        found = form.read(BytesSource(bare(made, b"wick"), "x"))  # each level has padding behind it
        self.assertEqual(list(map(bytes, found.surfaces[0])), list(map(bytes, made.surfaces[0])))
        self.assertEqual((form.write(found), change_fault(form, found)), (bare(made, b"wick"), ""))
        pixels = found.pixels(1) ^ 255
        edited = put_back(found, {1: pixels}).picture
        self.assertEqual(bytes(edited.surfaces[0][1]), pixels.tobytes())
        self.assertEqual(form.write(edited), bare(edited, b"wick"))
        second = bare(made, b"wick").replace(struct.pack("<I", 10 + 5 * 8 + 516), struct.pack("<I", 10 + 5 * 8 + 515))
        with self.assertRaisesRegex(FormatError, "level 1 of picture 0 lies over level 0"):
            form.read(BytesSource(second, "x"))
        with self.assertRaisesRegex(FormatError, "level 0 has 509 bytes, its pixels take 512"):
            form.read(BytesSource(bare(made).replace(struct.pack("<I", 512), struct.pack("<I", 509)), "x"))

    def test_layouts_that_are_wrong(self) -> None:
        for layout, old, new, says in (
            (APART, 'content in volumes "{name}.lens.{0}"', "", "nothing gives the files of the other levels"),
            (APART, '"{name}.lens.{0}"', '"../{name}.{0}"', "volumes lie in the same folder"),
            (APART, '"../dyes.kwc"', '"{dye}.kwc"', "in braces there is"),
            (APART, "u8       red", "u8       count of pixels", "cannot lie in a file beside this one"),
            (PACKED, "stored size of level", "kept", "nothing gives their stored sizes"),
            (PACKED, "block table after head repeats", "block table after head", "is in a row of records"),
        ):
            with self.subTest(says), self.assertRaisesRegex(VolvexError, says):
                parse_layout(layout.replace(old, new), "x.layout")


class OnBench(Case):
    """A bench in which commands run."""

    def bench_with(self, name: str, layout: str) -> None:
        """Make the bench of the game, with a layout of its own."""
        self.volvex("bench", "game", "b")
        self.work = self.folder / "b"
        (self.work / "layouts").mkdir()
        (self.work / "layouts" / f"{name}.layout").write_text(layout)

    def run_in(self, *words: object, status: int = 0) -> str:
        done = self.run_program(*words, status=status, cwd=self.work)
        return done.stdout + done.stderr


class Benches(OnBench):
    """A game with pictures of several files, loose and in an archive, and a bench that has their layout."""

    def setUp(self) -> None:
        super().setUp()
        self.made = picture("bc3", 32, 16)
        files = apart(1, self.made, 2)
        (self.folder / "game/art").mkdir(parents=True)
        with zipfile.ZipFile(self.folder / "game/more.zip", "w") as file:
            for name, data in files.items():
                (self.folder / "game/art" / name).write_bytes(data)
                file.writestr(f"far/{name}", data)
        self.bench_with("apart", APART)

    def paint(self, place: str) -> None:
        self.run_in("take", place, "--as", "png")
        file = self.work / "open" / f"{place}.png"
        with Image.open(file) as image:
            edited = image.copy()
        edited.paste((255, 0, 0, 255), (0, 0, 8, 8))
        edited.save(file)

    def test_edited_undone_and_built(self) -> None:
        shown = self.run_in("show", "art/x.lens")
        self.assertIn("level 0 in x.lens.1, level 1 in x.lens.2", shown)
        for place in ("art/x.lens", "more.zip/far/x.lens"):
            self.paint(place)
        said = self.run_in("changes")
        self.assertEqual(said.count("64 of 512 pixels differ"), 2)
        for place in ("art/x.lens.1", "art/x.lens.2", "more.zip/far/x.lens.1", "more.zip/far/x.lens.2"):
            self.assertIn(f"changed  {place}  ", said)
        self.run_in("build")
        with zipfile.ZipFile(self.work / "built/more.zip") as file:
            for number in (1, 2):
                own = (self.work / f"built/art/x.lens.{number}").read_bytes()
                self.assertEqual(file.read(f"far/x.lens.{number}"), own)
                self.assertNotEqual(own, bytes(self.made.surfaces[0][number - 1]))
        self.assertIn("3 changes undone", self.run_in("undo", "art/x.lens"))
        self.run_in("take", "more.zip/far/x.lens", "--as", "png", "--overwrite")
        self.assertIn("no changes", self.run_in("changes"))

    def test_a_level_that_is_left_out_or_edited_by_hand(self) -> None:
        self.paint("art/x.lens")
        self.run_in("changes")
        (self.work / "files/art/x.lens.1").write_bytes(b"short")
        self.assertIn("level 0 ends 512 bytes into the pixels, which have 5", self.run_in("check", status=1))
        self.run_in("drop", "art/x.lens.1")
        self.assertIn("its content lies in x.lens.1", self.run_in("check", status=1))

    def test_another_picture_in_its_place(self) -> None:
        Image.new("RGBA", (32, 16), (9, 8, 7, 255)).save(self.folder / "new.png")
        self.run_in("swap", "art/x.lens", self.folder / "new.png")
        said = self.run_in("changes")
        self.assertIn("changed  art/x.lens.1", said)
        self.assertIn("changed  art/x.lens.2", said)
        self.assertIn("2 pictures", self.run_in("convert", ".", "--to", self.folder / "out", "--as", "png"))
        self.volvex("convert", "new.png", "own.lens", "--like", "game/art/x.lens", "--layout", "b/layouts/apart.layout")
        for name in ("", ".1", ".2"):
            own = (self.folder / f"own.lens{name}").read_bytes()
            self.assertEqual(own, (self.work / f"files/art/x.lens{name}").read_bytes())
        with Image.open(next((self.folder / "out").rglob("x.png"))) as image:
            self.assertNotEqual(image.convert("RGBA").getpixel((0, 0)), (9, 8, 7, 255))  # of the game, not of the bench


FLAGS = """
layout "flags" kind sheet
known by "FLAG" at 0
block head at 0
    mark    4 bytes  is "FLAG"
    count   u16      count of flags
block flags after head repeats
    name    text u8  name
    left    f32      left
    top     f32      top
    right   f32      right
    bottom  f32      bottom
    from    i16      trimmed left
    down    i16      trimmed top
    wide    u16      whole width
    high    u16      whole height
    page    u8       page
    speed   u8       kept
"""
SIZE = (64, 64)
PLACES = {"gull": (0, 2, 2, 10, 8), "oar": (0, 14, 2, 6, 12), "net": (1, 2, 20, 9, 9)}


def listed(places: dict[str, tuple[int, int, int, int, int]]) -> bytes:
    out = b"FLAG" + struct.pack("<H", len(places))
    for name, (page, x, y, wide, high) in places.items():
        corners = [x / SIZE[0], y / SIZE[1], (x + wide) / SIZE[0], (y + high) / SIZE[1]]
        out += (
            bytes([len(name)]) + name.encode() + struct.pack("<4fhhHHBB", *corners, 1, 2, wide + 3, high + 4, page, 7)
        )
    return out


def unlisted(data: bytes) -> dict[str, tuple[float, ...]]:
    found, at = {}, 6
    while at < len(data):
        name = data[at + 1 : at + 1 + data[at]].decode()
        at += 1 + data[at]
        found[name] = struct.unpack_from("<4fhhHHBB", data, at)
        at += 26
    assert len(found) == struct.unpack_from("<H", data, 4)[0]
    return found


class Lists(OnBench):
    """Sheets of two pages with a list in a format of the game's own, in shares of the page."""

    def setUp(self) -> None:
        super().setUp()
        art = self.folder / "game/art"
        art.mkdir(parents=True)
        self.page = sheet()[: SIZE[1], : SIZE[0]].copy()
        self.page[..., 3] = 255
        for page in (0, 1):
            Image.fromarray(self.page).save(art / f"flags_{page}.png")
        (art / "flags.kwa").write_bytes(listed(PLACES))
        self.bench_with("flags", FLAGS)

    def sprite(self, path: Path) -> Sprite:
        with Image.open(path) as image:
            return np.asarray(image.convert("RGBA")).copy()

    def test_a_page_out_and_back(self) -> None:
        self.assertIn("is of 2 pictures", self.run_in("take", "art/flags.kwa", "--as", "sprites", status=2))
        self.assertIn("2 frames", self.run_in("take", "art/flags_0.png", "--as", "sprites"))
        folder = self.work / "open/art/flags_0.png.sprites"
        gull = self.sprite(folder / "gull.png")
        self.assertEqual(gull.shape, (12, 13, 4))
        np.testing.assert_array_equal(gull[2:10, 1:11], self.page[2:10, 2:12])
        large = np.full((20, 24, 4), 200, np.uint8)
        Image.fromarray(large).save(folder / "gull.png")
        self.assertIn("1 edited; sheet repacked", self.run_in("changes"))
        after = unlisted((self.work / "files/art/flags.kwa").read_bytes())
        before = unlisted(listed(PLACES))
        self.assertEqual(after["net"], before["net"])  # of the other page
        with Image.open(self.work / "files/art/flags_0.png") as image:
            page = np.asarray(image.convert("RGBA"))
        for name, whole in (("gull", large), ("oar", self.sprite(folder / "oar.png"))):
            left, top, right, bottom, x, y, wide, high, number, kept = after[name]
            box = [round(one * page.shape[at]) for one, at in ((left, 1), (top, 0), (right, 1), (bottom, 0))]
            part = page[box[1] : box[3], box[0] : box[2]]
            self.assertEqual((whole.shape, number, kept), ((high, wide, 4), 0, 7))
            np.testing.assert_array_equal(part, whole[int(y) : int(y) + len(part), int(x) : int(x) + part.shape[1]])

    def test_check_finds_a_frame_outside(self) -> None:
        self.run_in("take", "art/flags.kwa")
        outside = dict(PLACES, oar=(0, 60, 2, 6, 12))
        (self.work / "files/art/flags.kwa").write_bytes(listed(outside))
        self.assertIn("outside of its sheet", self.run_in("check", status=1))


if __name__ == "__main__":
    unittest.main()
