"""Pictures: pixel formats, blocks, levels, open forms, edits that leave the rest bit for bit; and what others make of
what we write."""

from __future__ import annotations

import io
import random
import shutil
import struct
import subprocess
import tempfile
import unittest
import zlib
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import imageio.v3 as imageio
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from volvex.asset.picture.exchange import exported, replaced, taken_over
from volvex.asset.picture.formats import FORMS as FILES
from volvex.asset.picture.formats import by_extension, by_kind, form_of
from volvex.asset.picture.levels import chain_length, level_of
from volvex.asset.picture.likeness import ALIKE, likeness, thumbnail
from volvex.asset.picture.model import SRGB, Picture
from volvex.asset.picture.open import open_picture
from volvex.asset.picture.own_layout import LayoutForm
from volvex.asset.picture.proof import change_fault, picture_hints
from volvex.asset.picture.put_back import put_back
from volvex.asset.picture.roles import NORMAL, Roles, roles_of
from volvex.codec.pixels.blocks import WRITTEN
from volvex.codec.pixels.format import FORMATS, PixelFormat, Pixels
from volvex.codec.pixels.order import pixel_layout
from volvex.codec.pixels.surface import decode, encode
from volvex.errors import FormatError, RefusedError, UsageError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

RNG = np.random.default_rng(5)
PROGRAMS = {
    "png": ["pngtopnm"],
    "tif": ["tifftopnm", "-quiet"],
    "tga": ["tgatoppm", "-quiet"],
    "bmp": ["bmptopnm", "-quiet"],
    "pcx": ["pcxtoppm", "-quiet"],
    "ppm": ["pnmtopnm"],
}
WRITABLE = [form for form in FORMATS.values() if not form.is_block or form.name in WRITTEN]


def drawn(form: PixelFormat, width: int, height: int) -> Pixels:
    """Pixels that change slowly, with an alpha that is partly nothing."""
    y, x = np.mgrid[0:height, 0:width]
    most = form.most if form.kind != "float" else 1
    planes = {
        "r": x / max(1, width - 1),
        "g": y / max(1, height - 1),
        "b": (x + y) % 7 / 7,
        "l": x / width,
        "i": x / width,
    }
    planes["a"] = np.where((x + y) % 16 < 3, 0.0, 1.0)
    values = np.stack([planes[channel] * most for channel in form.channels], axis=2)
    if form.kind == "index":
        values = values * ((1 << form.bits) - 1) // 255
    return values.astype(form.sample_type)


def picture(name: str, width: int, height: int, levels: int = 0, space: str = SRGB) -> Picture:
    """A picture with levels made of each other."""
    form = FORMATS[name]
    palette = RNG.integers(0, 256, (1 << form.bits, 4), np.uint8) if form.kind == "index" else None
    if palette is not None:
        palette[:, 3] = 255
    made = Picture(width, height, form, [[b""]], colour_space=space, palette=palette)
    pixels, stored = drawn(form, width, height), list[bytes]()
    for level in range(levels or chain_length(width, height)):
        if level:
            pixels = level_of(made, pixels, (max(1, width >> level), max(1, height >> level)))
        stored.append(encode(form, pixels))
    return made.with_surfaces([stored])


class PixelFormats(unittest.TestCase):
    def test_each_there_and_back(self) -> None:
        for form in (form for form in FORMATS.values() if not form.is_block):
            with self.subTest(form.name):
                data = RNG.integers(0, 256, form.size(13, 7), np.uint8).tobytes()
                if form.kind == "float":
                    data = RNG.random((7, 13, len(form.order or form.channels))).astype(form.sample_type).tobytes()
                pixels = decode(form, data, 13, 7)
                self.assertEqual(pixels.shape, (7, 13, len(form.channels)))
                again = encode(form, pixels)
                np.testing.assert_array_equal(decode(form, again, 13, 7), pixels)
                whole = "x" not in form.order and not any(name == "x" for name, _, _ in form.fields)
                if whole and form.bits >= 8:
                    self.assertEqual(again, data)

    def test_golden_bytes(self) -> None:
        for name, data, pixel in (
            ("bgr565", "1ff8", (255, 0, 255)),  # red in the highest bits
            ("rgb565", "1f00", (255, 0, 0)),
            ("bgra5551", "00fc", (255, 0, 0, 255)),
            ("bgra4444", "34f2", (34, 51, 68, 255)),
            ("argb8", "80010203", (1, 2, 3, 128)),
            ("rgb10a2", "ff0300c0", (65535, 0, 0, 65535)),
            ("la44", "f3", (51, 255)),
        ):
            with self.subTest(name):
                self.assertEqual(tuple(decode(FORMATS[name], bytes.fromhex(data), 1, 1)[0, 0].tolist()), pixel)

    def test_blocks_are_near_what_was_drawn(self) -> None:
        for name in WRITTEN:
            form = FORMATS[name]
            pixels = drawn(form, 61, 35)
            stored = encode(form, pixels)
            self.assertEqual(len(stored), form.size(61, 35))
            seen = np.ones((35, 61), bool) if "a" not in form.channels else pixels[..., 3] > 0
            off = np.abs(decode(form, stored, 61, 35).astype(int) - pixels.astype(int))[seen]
            with self.subTest(name):
                self.assertLess(off.mean(), 12 if form.bits / np.prod(form.block) >= 4 else 30)

    def test_transparent_pixels_of_bc1(self) -> None:
        pixels = drawn(FORMATS["rgba8"], 32, 32)
        found = decode(FORMATS["bc1"], encode(FORMATS["bc1"], pixels), 32, 32)
        np.testing.assert_array_equal(found[..., 3], pixels[..., 3])

    def test_others_decode_our_blocks(self) -> None:
        """Pillow reads the DDS files that we write, block for block."""
        for name in ("bc1", "bc2", "bc3", "bc4", "bc5", "bc7", "rgba8", "bgra8", "bgr565", "bgra4444"):
            made = picture(name, 64, 32, space="linear" if name == "bc7" else "")
            with Image.open(io.BytesIO(form_of("dds").write(made))) as image:
                theirs = np.asarray(image.convert("RGBA")).astype(int)
            ours = made.rgba().astype(int)
            if name == "bc5":
                ours[..., 2] = theirs[..., 2]
            with self.subTest(name):
                self.assertLessEqual(np.abs(theirs - ours).max(), 1)

    def test_orders_there_and_back(self) -> None:
        specs = (
            "rgba8(order morton)",
            "bc3(order tiles, tile_width 2, tile_height 2)",
            "rgb8(row_align 4)",
            "r8(origin bottom)",
        )
        for spec in specs:
            own = pixel_layout(spec)
            for width, height in ((64, 32), (13, 7), (1, 1), (4, 64)):
                plain = RNG.integers(0, 256, own.format.size(width, height), np.uint8).tobytes()
                stored = own.stored(plain, width, height, b"")
                with self.subTest(spec, size=(width, height)):
                    self.assertEqual(len(stored), own.stored_size(width, height))
                    self.assertEqual(own.plain(stored, width, height), plain)

    def test_golden_orders(self) -> None:
        rows = bytes(range(16))
        self.assertEqual(
            pixel_layout("r8(order morton)").stored(rows, 4, 4, b"").hex(), "000104050203060708090c0d0a0b0e0f"
        )
        tiles = pixel_layout("r8(order tiles, tile_width 2, tile_height 4)").stored(rows, 4, 4, b"")
        self.assertEqual(tiles.hex(), "0001040508090c0d020306070a0b0e0f")
        curved = pixel_layout("r8(order tiles, tile_width 4, tile_height 4, inside morton)")
        two = bytes(range(32))  # two tiles side by side: 8 across, 4 down
        stored = curved.stored(two, 8, 4, b"")
        self.assertEqual(stored.hex(), "0001080902030a0b1011181912131a1b04050c0d06070e0f14151c1d16171e1f")
        self.assertEqual(curved.plain(stored, 8, 4), two)
        with self.assertRaises(UsageError):
            pixel_layout("r8(inside morton)")
        with self.assertRaises(UsageError):
            pixel_layout("rgba9")
        with self.assertRaises(UsageError):
            pixel_layout("pal4(order morton)")


class Levels(unittest.TestCase):
    def test_light_is_averaged_not_its_numbers(self) -> None:
        pixels = np.zeros((2, 2, 3), np.uint8)
        pixels[:, 0] = 255
        for space, wanted in ((SRGB, 188), ("linear", 128)):
            of = Picture(2, 2, FORMATS["rgb8"], [[b""]], colour_space=space)
            self.assertEqual(int(level_of(of, pixels, (1, 1))[0, 0, 0]), wanted)

    def test_normals_keep_their_length(self) -> None:
        pixels = np.full((2, 2, 3), 128, np.uint8)
        pixels[:, 0] = (255, 128, 128)
        pixels[:, 1] = (128, 128, 255)
        of = Picture(2, 2, FORMATS["rgb8"], [[b""]], roles=Roles(NORMAL))
        vector = level_of(of, pixels, (1, 1))[0, 0].astype(float) / 127.5 - 1
        self.assertAlmostEqual(float(np.linalg.norm(vector)), 1, delta=0.02)

    def test_a_cut_out_keeps_its_area(self) -> None:
        pixels = np.zeros((64, 64, 4), np.uint8)
        pixels[:, ::4] = 255  # a quarter of it: averaged, nothing would be left
        of = Picture(64, 64, FORMATS["rgba8"], [[b""]])
        self.assertGreater(float((level_of(of, pixels, (16, 16))[..., 3] > 127).mean()), 0.2)

    def test_what_is_not_seen_does_not_bleed(self) -> None:
        pixels = np.zeros((2, 2, 4), np.uint8)
        pixels[:, 0] = (200, 100, 50, 255)
        pixels[:, 1] = (0, 255, 0, 0)
        of = Picture(2, 2, FORMATS["rgba8"], [[b""]], colour_space="linear")
        self.assertEqual(level_of(of, pixels, (1, 1))[0, 0, :3].tolist(), [200, 100, 50])

    def test_numbers_of_a_palette_are_not_mixed(self) -> None:
        of = picture("pal8", 16, 16, 1)
        self.assertLessEqual(set(np.unique(level_of(of, of.pixels(), (5, 5)))), set(np.unique(of.pixels())))


class PutBack(unittest.TestCase):
    def test_blocks_that_were_not_touched_keep_their_bytes(self) -> None:
        for name in ("bc1", "bc3", "bc5", "bc7", "astc6x5", "rgba8", "bgr565", "bgrx8"):
            before = picture(name, 64, 64)
            pixels = before.pixels().copy()
            pixels[8:12, 16:28] = 0
            after = put_back(before, {0: pixels}).picture
            form, size = before.format, before.format.bits // 8
            for level in range(before.levels):
                wide, high = (max(1, 64 >> level),) * 2
                old, new = (
                    np.frombuffer(bytes(one.surfaces[0][level]), np.uint8).reshape(-1, size) for one in (before, after)
                )
                across = form.blocks(wide, high)[0]
                changed = {(at // across, at % across) for at in np.flatnonzero((old != new).any(axis=1)).tolist()}
                near = {
                    (y // form.block[1], x // form.block[0])
                    for y in range(8 >> level, (12 >> level) + 1)
                    for x in range(16 >> level, (28 >> level) + 1)
                }
                with self.subTest(name, level=level):
                    self.assertLessEqual(changed, near)
            np.testing.assert_array_equal(after.pixels()[30:], before.pixels()[30:])

    def test_halves_of_blocks_stay(self) -> None:
        before = picture("bc3", 32, 32, 1)
        pixels = before.pixels().copy()
        pixels[:8, :8, 3] = 99
        old, new = (
            np.frombuffer(bytes(one.surfaces[0][0]), np.uint8).reshape(-1, 2, 8)
            for one in (before, put_back(before, {0: pixels}).picture)
        )
        np.testing.assert_array_equal(old[:, 1], new[:, 1])
        self.assertTrue((old[:, 0] != new[:, 0]).any())

    def test_levels_one_by_one(self) -> None:
        before = picture("rgba8", 16, 16)
        second = np.full((4, 4, 4), 7, np.uint8)
        after = put_back(before, {2: second}).picture
        self.assertEqual(after.surfaces[0][:2], before.surfaces[0][:2])
        np.testing.assert_array_equal(after.pixels(2), second)
        self.assertTrue((after.pixels(3) == 7).all())  # made of the one above

    def test_sizes_and_formats_that_cannot_be(self) -> None:
        with self.assertRaises(RefusedError):
            put_back(picture("rgba8", 16, 16), {0: np.zeros((8, 8, 4), np.uint8)})
        hdr = Picture(8, 8, FORMATS["bc6h"], [[bytes(64)]])
        with self.assertRaises(RefusedError):
            put_back(hdr, {0: np.ones((8, 8, 3), np.float16)})


class Forms(unittest.TestCase):
    def test_a_gif_has_one_clear_colour(self) -> None:
        palette = np.array([[9, 9, 9, 0], [200, 0, 0, 255], [0, 200, 0, 127], [0, 0, 200, 200]], np.uint8)
        picture = Picture(4, 1, FORMATS["pal8"], [[bytes(range(4))]], palette=palette)
        read = Image.open(io.BytesIO(form_of("gif").write(picture))).convert("RGBA")
        alphas = np.asarray(read)[0, :, 3].tolist()
        self.assertEqual(alphas, [0, 255, 0, 255])
        whole = form_of("gif").write(replace(picture, palette=palette | np.array([0, 0, 0, 255], np.uint8)))
        self.assertNotIn("transparency", Image.open(io.BytesIO(whole)).info)

    def test_each_form_gives_back_what_it_holds(self) -> None:
        for module in FILES.all():
            for name in module.FORMATS:
                form = FORMATS[name]
                if form.is_block and name not in WRITTEN:
                    continue
                made = picture(name, 16, 16, 1 if module.LIMITS else 0, space="linear")
                found = module.read(BytesSource(module.write(made), "x"))
                with self.subTest(module.EXTENSIONS[0], format=name):
                    if module.EXTENSIONS[0] == "jpg":
                        self.assertEqual(found.format, form)
                    elif form.kind == "index":
                        np.testing.assert_array_equal(found.rgba(), made.rgba())
                    else:
                        self.assertEqual(found.format, form)
                        self.assertEqual(
                            [list(map(bytes, one)) for one in found.surfaces], [list(one) for one in made.surfaces]
                        )

    def test_containers_with_faces_layers_and_depth(self) -> None:
        data = bytes(range(256)) * 64
        for extension in ("dds", "ktx", "ktx2"):
            module = form_of(extension)
            for faces, layers, depth in ((6, 1, 1), (1, 3, 1), (1, 1, 4), (6, 2, 1)):
                form, images = FORMATS["bc7"], list[list[bytes]]()
                for image in range(faces * layers):
                    sizes = [form.size(16 >> level, 16 >> level) * max(1, depth >> level) for level in range(3)]
                    images.append(
                        [data[image * 7 + level : image * 7 + level + size] for level, size in enumerate(sizes)]
                    )
                made = Picture(16, 16, form, images, depth, layers, faces, SRGB)
                written = module.write(made)
                found = module.read(BytesSource(written, "x"))
                with self.subTest(extension, faces=faces, layers=layers, depth=depth):
                    self.assertEqual(found.surfaces, images)
                    self.assertEqual(
                        (found.faces, found.layers, found.depth, found.colour_space), (faces, layers, depth, SRGB)
                    )
                    self.assertEqual(module.write(found), written)

    def test_compressed_ktx2(self) -> None:
        made = picture("rgba8", 32, 32)
        for scheme in (2, 3):
            squeezed = replace(made, form="ktx2", extra={"number": 37, "scheme": scheme})
            data = form_of("ktx2").write(squeezed)
            self.assertLess(len(data), len(form_of("ktx2").write(made)))
            found = form_of("ktx2").read(BytesSource(data, "x"))
            self.assertEqual(found.surfaces, [list(made.surfaces[0])])
            self.assertEqual(form_of("ktx2").write(found), data)

    def test_a_dds_by_its_bytes(self) -> None:
        """An old header, field by field, and one block of BC1: white where the index is 0."""
        head = b"DDS " + struct.pack("<7I44x", 124, 0x1007, 4, 4, 8, 0, 0)
        head += struct.pack("<2I4s5I", 32, 4, b"DXT1", 0, 0, 0, 0, 0) + struct.pack("<5I", 0x1000, 0, 0, 0, 0)
        data = head + bytes.fromhex("ffff 0000 00000000")
        found = form_of("dds").read(BytesSource(data, "x"))
        self.assertEqual((found.width, found.height, found.format.name, found.levels), (4, 4, "bc1", 1))
        self.assertTrue((found.rgba() == 255).all())
        self.assertEqual(form_of("dds").write(found), data)

    def test_others_read_what_we_write(self) -> None:
        made = picture("rgba8", 40, 24, 1)
        for extension in ("png", "tiff", "tga", "webp"):
            data = form_of(extension).write(made)
            with self.subTest(extension):
                np.testing.assert_array_equal(imageio.imread(data, extension=f".{extension}"), made.pixels())
        deep = picture("rgb16", 20, 10, 1)
        for extension in ("png", "tiff"):
            flags = cv2.IMREAD_UNCHANGED
            found = cv2.imdecode(np.frombuffer(form_of(extension).write(deep), np.uint8), flags)
            assert found is not None
            np.testing.assert_array_equal(found[..., ::-1], deep.pixels())

    def test_programs_of_others_read_what_we_write(self) -> None:
        """netpbm, libtiff and optipng, where they are installed."""
        pixels = drawn(FORMATS["rgb8"], 37, 21)
        made = replace(picture("rgb8", 37, 21, 1), surfaces=[[pixels.tobytes()]])
        with tempfile.TemporaryDirectory() as folder:
            for extension, words in PROGRAMS.items():
                if shutil.which(words[0]) is None:
                    continue
                file = Path(folder) / f"x.{extension}"
                file.write_bytes(form_of(extension).write(made))
                out = subprocess.run([*words, str(file)], capture_output=True, check=True).stdout
                with self.subTest(extension):
                    found = form_of("ppm").read(BytesSource(out, "x.ppm"))
                    np.testing.assert_array_equal(found.pixels(), pixels)
            for words, name in ((["tiffinfo", "-D"], "x.tif"), (["optipng", "-quiet", "-simulate"], "x.png")):
                if shutil.which(words[0]) is not None and (Path(folder) / name).is_file():
                    done = subprocess.run([*words, str(Path(folder) / name)], capture_output=True)
                    self.assertEqual((done.returncode, done.stderr), (0, b""))

    def test_we_read_what_others_write(self) -> None:
        image = Image.fromarray(drawn(FORMATS["rgb8"], 33, 17))
        writers: dict[str, Callable[[io.BytesIO], None]] = {
            "tga": lambda out: image.save(out, "TGA", rle=True, orientation=1),
            "dds": lambda out: image.convert("RGBA").save(out, "DDS"),
            "pcx": lambda out: image.save(out, "PCX"),
            "png": lambda out: image.save(out, "PNG"),
            "ppm": lambda out: image.save(out, "PPM"),
        }
        for extension, write in writers.items():
            out = io.BytesIO()
            write(out)
            found = open_picture(BytesSource(out.getvalue(), f"x.{extension}"))
            assert found is not None
            with self.subTest(extension):
                np.testing.assert_array_equal(found.picture.rgba()[..., :3], np.asarray(image))
            once = found.form.write(found.picture)
            self.assertEqual(found.form.read(BytesSource(once, "x")).surfaces, found.picture.surfaces)

    def test_icons(self) -> None:
        out = io.BytesIO()
        Image.new("RGBA", (48, 48), (9, 8, 7, 255)).save(out, "ICO", sizes=[(16, 16), (48, 48)])
        found = open_picture(BytesSource(out.getvalue(), "x.ico"))
        assert found is not None
        self.assertEqual((found.picture.width, found.picture.notes), (48, ("2 sizes, of which this is the largest",)))


class Exchanges(unittest.TestCase):
    def test_nothing_changes_where_nothing_was_edited(self) -> None:
        for form in WRITABLE:
            made = picture(form.name, 32, 16, 2)
            for extension in ("png", "tiff", "tga"):
                try:
                    out = exported(made, extension).picture
                except RefusedError:
                    continue
                back = form_of(extension).read(BytesSource(form_of(extension).write(out), "x"))
                result = taken_over(made, back, extension)
                with self.subTest(form.name, extension=extension):
                    self.assertEqual((result.pixels, result.blocks), (0, 0))
                    self.assertEqual(
                        [list(one) for one in result.picture.surfaces], [list(one) for one in made.surfaces]
                    )

    def test_only_edited_pixels_are_taken_over(self) -> None:
        for name in ("rgba16f", "bgr565", "rg8s", "bc5", "l8", "rgba16", "bgra4444"):
            made = picture(name, 32, 32, 1)
            out = exported(made, "png").picture
            pixels = out.pixels().copy()
            pixels[4:6, 4:8] = pixels.max()
            edited = out.with_surfaces([[encode(out.format, pixels)]])
            result = taken_over(made, edited, "png")
            with self.subTest(name):
                self.assertGreater(result.pixels, 0)
                np.testing.assert_array_equal(result.picture.pixels()[12:], made.pixels()[12:])
                count = min(3, len(made.format.channels))
                again = exported(result.picture, "png").picture.pixels()[4:6, 4:8, :count].astype(int)
                self.assertLess(
                    np.abs(again - pixels[4:6, 4:8, :count]).max(), 40 if made.format.sample == "u1" else 700
                )

    def test_alpha_that_an_editor_drops_is_kept(self) -> None:
        made = picture("bc3", 32, 32, 1)
        rgb = np.ascontiguousarray(exported(made, "png").picture.pixels()[..., :3]).copy()
        rgb[:4, :4] = 250
        result = taken_over(made, Picture(32, 32, FORMATS["rgb8"], [[encode(FORMATS["rgb8"], rgb)]]), "png")
        np.testing.assert_array_equal(result.picture.pixels()[..., 3], made.pixels()[..., 3])
        self.assertIn("no alpha channel", result.notes[0])

    def test_channels_apart(self) -> None:
        made = picture("bc3", 32, 32, 1)
        for part, channels in (("rgb", "rgb"), ("a", "l")):
            out = exported(made, "png", part).picture
            self.assertEqual(out.format.channels, channels)
            pixels = out.pixels().copy()
            pixels[:4, :4] = 33
            result = taken_over(made, out.with_surfaces([[encode(out.format, pixels)]]), "png", part)
            same = slice(3, 4) if part == "rgb" else slice(0, 3)
            np.testing.assert_array_equal(result.picture.pixels()[..., same], made.pixels()[..., same])
        with self.assertRaises(RefusedError):
            exported(picture("rgb8", 4, 4, 1), "png", "a")

    def test_a_palette_is_kept(self) -> None:
        made = picture("pal8", 16, 16, 1)
        assert made.palette is not None
        rgba = made.rgba().copy()
        rgba[0, 0] = (1, 2, 3, 255)  # a free entry takes it
        result = taken_over(made, Picture(16, 16, FORMATS["rgba8"], [[encode(FORMATS["rgba8"], rgba)]]), "png")
        np.testing.assert_array_equal(result.picture.rgba(), rgba)
        assert result.picture.palette is not None
        self.assertEqual(int(np.count_nonzero(np.any(result.picture.palette != made.palette, axis=1))), 1)
        full = picture("pal1", 16, 16, 1)
        pixels = np.zeros((16, 16, 1), np.uint8)
        pixels[::2] = 1
        full = full.with_surfaces([[encode(FORMATS["pal1"], pixels)]])
        rgba = full.rgba().copy()
        rgba[3, 3] = (1, 2, 3, 255)
        result = taken_over(full, Picture(16, 16, FORMATS["rgba8"], [[encode(FORMATS["rgba8"], rgba)]]), "png")
        self.assertIn("no room in the palette: #010203 became", result.notes[0])

    def test_a_palette_made_new(self) -> None:
        own = picture("pal4", 16, 16)
        rgba = np.zeros((16, 16, 4), np.uint8)
        rgba[..., 0], rgba[..., 3] = np.arange(16)[:, None] // 2 * 30, 255
        user = replace(picture("rgba8", 16, 16, 1), surfaces=[[rgba.tobytes()]])
        made = replaced(own, user, recolour=True).picture
        self.assertEqual((made.format, made.levels), (own.format, own.levels))
        np.testing.assert_array_equal(made.rgba(), rgba)
        self.assertTrue(
            set(map(tuple, made.rgba(2).reshape(-1, 4).tolist())) <= set(map(tuple, rgba.reshape(-1, 4).tolist()))
        )
        rgba[..., 1] = np.arange(16) * 16
        many = replaced(own, replace(user, surfaces=[[rgba.tobytes()]]), recolour=True)
        self.assertIn("128 colours became the 16 of a new palette", many.notes)
        self.assertLess(float(np.abs(many.picture.rgba().astype(int) - rgba).mean()), 20)
        for other, says in (
            (picture("rgba8", 16, 16), "has no palette"),
            (replace(own, palette_kept=True), "shares its"),
            (replace(own, layers=2, surfaces=[*own.surfaces, *own.surfaces]), "layers or depth, all in one palette"),
        ):
            with self.assertRaisesRegex(RefusedError, says):
                replaced(other, user, recolour=True)

    def test_normals_of_two_channels(self) -> None:
        made = replace(picture("bc5", 16, 16, 1), roles=Roles(NORMAL))
        out = exported(made, "png").picture.pixels()
        x, y, z = (out[5, 5].astype(float) / 127.5 - 1).tolist()
        self.assertAlmostEqual(z, max(0.0, 1 - x * x - y * y) ** 0.5, delta=0.02)
        pixels = out.copy()
        pixels[..., 2] = 0  # the third channel is made of the others: it does not go back
        again = taken_over(made, Picture(16, 16, FORMATS["rgb8"], [[encode(FORMATS["rgb8"], pixels)]]), "png")
        self.assertLess(np.abs(again.picture.pixels().astype(int) - made.pixels().astype(int)).max(), 12)

    def test_a_picture_of_the_users_in_a_games_place(self) -> None:
        own = picture("bc3", 32, 32)
        user = picture("rgba8", 64, 64, 1)
        with self.assertRaisesRegex(RefusedError, "64 x 64 pixels, the game's own has 32 x 32"):
            replaced(own, user)
        small = replaced(own, user, resize=True).picture
        self.assertEqual((small.width, small.format.name, small.levels), (32, "bc3", own.levels))
        large = replaced(own, user, any_size=True).picture
        self.assertEqual((large.width, large.format.name, large.levels), (64, "bc3", 7))

    @settings(max_examples=25, deadline=None)
    @given(
        st.sampled_from([form.name for form in WRITABLE if form.kind != "float"]),
        st.integers(1, 40),
        st.integers(1, 40),
        st.randoms(),
    )
    def test_any_edit_of_any_format(self, name: str, width: int, height: int, rng: random.Random) -> None:
        made = picture(name, width, height)
        out = exported(made, "png").picture
        pixels = out.pixels().copy()
        top, left = rng.randrange(height), rng.randrange(width)
        pixels[top : top + rng.randrange(1, 9), left : left + rng.randrange(1, 9)] = rng.randrange(
            2 if out.palette is not None else 256
        )
        result = taken_over(made, out.with_surfaces([[encode(out.format, pixels)]]), "png")
        self.assertEqual([len(one) for one in result.picture.surfaces[0]], [len(one) for one in made.surfaces[0]])
        far = np.ones((height, width), bool)
        wide, high = made.format.block
        far[max(0, top - high) : top + 8 + high, max(0, left - wide) : left + 8 + wide] = False
        np.testing.assert_array_equal(result.picture.pixels()[far], made.pixels()[far])


TEXTURE = """
layout "lens" kind texture
little endian
known by "LENS" at 0
block head at 0
    mark    4 bytes  is "LENS"
    width   u16      width
    height  u16      height
    levels  u8       levels
    faces   u8       faces
    form    u8       pixel format { 1 bc3, 2 bgra8(origin bottom), 3 rgba8(order tiles, tile_width 8, tile_height 4), 4 rgb8(row_align 4), 5 bgra8(order morton), 6 pal8, 7 bc7(levels smallest, level_align 32), 8 r8(images inner) }
    sum     u32      crc32 of pixels
    colours u16      count of palette
block palette after head repeats
    blue    u8       blue
    green   u8       green
    red     u8       red
part data after palette until end wrapped in zlib
block pixels in data at 0 repeats until end
    byte    u8       pixels
"""  # noqa: E501
SPECS = {
    1: "bc3",
    2: "bgra8(origin bottom)",
    3: "rgba8(order tiles, tile_width 8, tile_height 4)",
    4: "rgb8(row_align 4)",
    5: "bgra8(order morton)",
}
SPECS |= {6: "pal8", 7: "bc7(levels smallest, level_align 32)", 8: "r8(images inner)"}


def texture(number: int, width: int, height: int) -> tuple[bytes, Picture]:
    """A file of that layout, written by plain code; and the picture in it."""
    own = pixel_layout(SPECS[number])
    faces = 6 if number == 8 else 1
    made = picture(own.format.name, width, height)
    order = range(made.levels) if own.levels == "largest" else range(made.levels - 1, -1, -1)
    pixels = b""
    for level in order:
        size = max(1, width >> level), max(1, height >> level)
        pixels += own.stored(made.surfaces[0][level], *size, b"") * faces
        pixels += bytes(-len(pixels) % own.level_align)
    colours = made.palette[:, [2, 1, 0]].tobytes() if made.palette is not None else b""
    head = b"LENS" + struct.pack(
        "<HHBBBIH", width, height, made.levels, faces, number, zlib.crc32(pixels), len(colours) // 3
    )
    return head + colours + zlib.compress(pixels), made


class Textures(unittest.TestCase):
    def setUp(self) -> None:
        self.form = LayoutForm(parse_layout(TEXTURE, "lens.layout"))

    def test_each_order_is_read_proved_and_edited(self) -> None:
        for number in SPECS:
            data, made = texture(number, 64, 32) if number != 4 else texture(number, 61, 30)
            found = self.form.read(BytesSource(data, "x.lens"))
            with self.subTest(SPECS[number]):
                self.assertEqual(
                    [list(one) for one in found.surfaces], [list(one) for one in made.surfaces] * found.faces
                )
                again = self.form.read(BytesSource(self.form.write(found), "x"))
                self.assertEqual(again.surfaces, found.surfaces)
                self.assertEqual(list(picture_hints(found)), [])
                self.assertEqual(change_fault(self.form, found), "")

    def test_a_size_that_grows_is_measured_again(self) -> None:
        found = self.form.read(BytesSource(texture(1, 32, 32)[0], "x"))
        larger = replaced(found, picture("rgba8", 128, 64, 1), any_size=True).picture
        again = self.form.read(BytesSource(self.form.write(larger), "x"))
        self.assertEqual((again.width, again.height, again.levels), (128, 64, 8))
        self.assertEqual(
            [list(map(bytes, one)) for one in again.surfaces], [list(map(bytes, one)) for one in larger.surfaces]
        )

    def test_a_wrong_layout_leaves_bytes_over(self) -> None:
        wrong = LayoutForm(parse_layout(TEXTURE.replace("u8       levels", "u8       kept"), "lens.layout"))
        hints = list(picture_hints(wrong.read(BytesSource(texture(2, 64, 32)[0], "x"))))
        self.assertIn("bytes of the pixels are in no level", hints[0].seen)

    def test_mistakes_of_layouts(self) -> None:
        for old, new, says in (
            ("u16      width", "u16      kept", "no field gives the width"),
            ("6 pal8", "6 pal9", "there is no pixel format pal9"),
            ("    byte    u8       pixels", "    byte    u16      pixels", "a repeating block with one field of u8"),
            ("    red     u8       red\n    ", "    ", "needs a palette"),
            ("order morton", "order spiral", "spiral"),
        ):
            text = (
                TEXTURE.replace(old, new)
                if says != "needs a palette"
                else TEXTURE.replace("       blue", "       kept")
                .replace("       green", "       kept")
                .replace("       red\n", "       kept\n")
            )
            with self.subTest(says), self.assertRaisesRegex(VolvexError, says):
                parse_layout(text, "lens.layout")

    def test_damage_is_an_error(self) -> None:
        data, _ = texture(3, 64, 32)
        for at in range(0, len(data), 7):
            for made in (data[:at], data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]):
                try:
                    self.form.read(BytesSource(made, "x.lens"))
                except VolvexError:
                    continue


class Hostile(unittest.TestCase):
    def test_sizes_that_lie(self) -> None:
        out = io.BytesIO()
        Image.new("RGB", (4, 4)).save(out, "PNG")
        png = bytearray(out.getvalue())
        png[16:24] = struct.pack(">II", 100_000, 100_000)
        png[29:33] = struct.pack(">I", zlib.crc32(bytes(png[12:29])))
        dds = bytearray(form_of("dds").write(picture("bc1", 16, 16)))
        dds[12:20] = struct.pack("<II", 1 << 20, 1 << 20)
        ktx = bytearray(form_of("ktx2").write(picture("bc1", 16, 16)))
        ktx[20:28] = struct.pack("<II", 100_000, 100_000)
        for name, data in (("png", png), ("dds", dds), ("ktx2", ktx)):
            with self.subTest(name), self.assertRaisesRegex(FormatError, "more than"):
                open_picture(BytesSource(bytes(data), f"x.{name}"))

    def test_every_form_cut_and_flipped(self) -> None:
        rng = random.Random(3)
        for module in FILES.all():
            name = next(name for name in ("rgba8", "rgb8", "pal8", "l8") if name in module.FORMATS)
            data = module.write(picture(name, 8, 8, 1))
            for _ in range(60):
                at = rng.randrange(len(data))
                for made in (data[:at], data[:at] + bytes([data[at] ^ 1 << rng.randrange(8)]) + data[at + 1 :]):
                    try:
                        module.read(BytesSource(made, "x")).rgba()
                    except VolvexError:
                        continue

    def test_what_is_no_picture(self) -> None:
        self.assertIsNone(open_picture(BytesSource(b"\0\1\2\3" * 40, "x.bin")))
        self.assertEqual(by_extension()["jpeg"], by_kind()["jpeg"])
        with self.assertRaises(UsageError):
            form_of("xyz")


class Looks(unittest.TestCase):
    def test_pictures_that_look_alike(self) -> None:
        made = picture("rgba8", 128, 64, 1)
        image = Image.fromarray(made.rgba()).convert("RGB").resize((70, 50))
        out = io.BytesIO()
        image.save(out, "JPEG", quality=60)
        same = open_picture(BytesSource(out.getvalue(), "x.jpg"))
        flat = Picture(8, 8, FORMATS["rgb8"], [[bytes(192)]])
        assert same is not None
        scores = likeness(thumbnail(made), [thumbnail(same.picture), thumbnail(flat)])
        self.assertLess(scores[1], ALIKE)
        self.assertGreater(scores[0], scores[1] + 0.2)

    def test_a_channel_that_is_not_opacity_hides_nothing(self) -> None:
        made = picture("rgba8", 32, 32, 1)
        self.assertTrue((made.seen()[..., 3] == 0).any())
        gloss = replace(made, roles=Roles("colour", "gloss", False))
        self.assertTrue((gloss.seen()[..., 3] == 255).all())
        np.testing.assert_array_equal(gloss.rgba(), made.rgba())

    def test_what_channels_mean(self) -> None:
        self.assertEqual(roles_of("a/hull_n.dds"), Roles(NORMAL, "data", True))
        self.assertEqual(roles_of("a/sail.dds", "colour and gloss"), Roles("colour", "gloss", False))
        with self.assertRaises(UsageError):
            roles_of("a", "colours")


if __name__ == "__main__":
    unittest.main()
