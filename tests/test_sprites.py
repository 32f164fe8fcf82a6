"""Sprite sheets through the program: frames out and back by lists of every form, the sheet repacked, checks."""

from __future__ import annotations

import json
import plistlib
import re
import shutil
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple
from xml.etree import ElementTree

import numpy as np
import numpy.typing as npt
from PIL import Image

from tests.support import Case
from volvex.asset.picture.formats import form_of
from volvex.asset.sprite.model import Frame, ListField
from volvex.asset.sprite.packing import Edit, cut, put_in
from volvex.source import BytesSource

Sprite = npt.NDArray[np.uint8]
SIZE = (64, 64)


class Place(NamedTuple):
    """Where a frame lies: in the sheet, in its whole, how large the whole is."""

    x: int
    y: int
    width: int
    height: int
    turned: bool
    left: int
    top: int
    whole: tuple[int, int]


PLACES = {
    "gull": Place(2, 2, 20, 30, False, 3, 4, (32, 40)),
    "tern": Place(24, 2, 16, 28, True, 0, 6, (18, 34)),
    "oar": Place(2, 40, 12, 12, False, 0, 0, (12, 12)),
}


def noise(width: int, height: int, seed: int) -> Sprite:
    """A sprite of which no two pixels are alike, none of them transparent."""
    pixels = np.random.default_rng(seed).integers(0, 255, (height, width, 4), np.uint8)
    pixels[..., 3] = 255
    return pixels


def sprites() -> dict[str, Sprite]:
    """Each frame as it should come out: upright, in its whole size."""
    made = {}
    for seed, (name, place) in enumerate(PLACES.items()):
        whole = np.zeros((place.whole[1], place.whole[0], 4), np.uint8)
        part = noise(place.width, place.height, seed)
        whole[place.top : place.top + place.height, place.left : place.left + place.width] = part
        made[name] = whole
    return made


def sheet() -> Sprite:
    page = np.zeros((SIZE[1], SIZE[0], 4), np.uint8)
    for (_, place), whole in zip(PLACES.items(), sprites().values(), strict=True):
        part = whole[place.top : place.top + place.height, place.left : place.left + place.width]
        part = np.rot90(part, -1) if place.turned else part
        page[place.y : place.y + part.shape[0], place.x : place.x + part.shape[1]] = part
    return page


def listed(place: Place) -> dict[str, Any]:
    return {
        "frame": {"x": place.x, "y": place.y, "w": place.width, "h": place.height},
        "rotated": place.turned,
        "trimmed": (place.width, place.height) != place.whole,
        "spriteSourceSize": {"x": place.left, "y": place.top, "w": place.width, "h": place.height},
        "sourceSize": {"w": place.whole[0], "h": place.whole[1]},
        "pivot": {"x": 0.5, "y": 0.25},
    }


def as_json(places: Mapping[str, Place], size: tuple[int, int]) -> bytes:
    frames = {f"{name}.png": listed(place) for name, place in places.items()}
    return json.dumps(
        {"frames": frames, "meta": {"image": "birds.png", "size": dict(zip("wh", size, strict=True))}}, indent=1
    ).encode()


def as_json_list(places: Mapping[str, Place], size: tuple[int, int]) -> bytes:
    frames = [{"filename": f"{name}.png"} | listed(place) for name, place in places.items()]
    return json.dumps({"frames": frames, "meta": {"image": "birds.png"}}, indent=1).encode()


def as_xml(places: Mapping[str, Place], size: tuple[int, int]) -> bytes:
    lines = [
        f'  <Bird name="{name}" x="{one.x}" y="{one.y}" width="{(one.width, one.height)[one.turned]}"'
        f' height="{(one.height, one.width)[one.turned]}" frameX="{-one.left}" frameY="{-one.top}"'
        f' frameWidth="{one.whole[0]}" frameHeight="{one.whole[1]}" rotated="{str(one.turned).lower()}"/>'
        for name, one in places.items()
    ]
    head = f'<Birds imagePath="birds.png" width="{size[0]}" height="{size[1]}">'
    return "\n".join([head, *lines, "</Birds>", ""]).encode()


def as_plist(
    places: Mapping[str, Place], size: tuple[int, int], form: plistlib.PlistFormat = plistlib.FMT_XML
) -> bytes:
    frames = {
        f"{name}.png": {
            "frame": f"{{{{{one.x},{one.y}}},{{{one.width},{one.height}}}}}",
            "rotated": one.turned,
            "sourceColorRect": f"{{{{{one.left},{one.top}}},{{{one.width},{one.height}}}}}",
            "sourceSize": f"{{{one.whole[0]},{one.whole[1]}}}",
            "offset": f"{{{one.left + one.width / 2 - one.whole[0] / 2:g},{one.whole[1] / 2 - one.top - one.height / 2:g}}}",  # noqa: E501
        }
        for name, one in places.items()
    }
    meta = {"format": 2, "size": f"{{{size[0]},{size[1]}}}", "textureFileName": "birds.png"}
    return plistlib.dumps({"frames": frames, "metadata": meta}, fmt=form)


FORMS = {
    "json": as_json,
    "xml": as_xml,
    "plist": as_plist,
}


def read_list(extension: str, data: bytes) -> tuple[dict[str, Place], tuple[int, int]]:
    """The frames of a list, read by a reader of its own, which wants all that a frame says to agree."""
    if extension == "xml":
        root = ElementTree.fromstring(data)
        found = {}
        for one in root:
            turned = one.attrib["rotated"] == "true"
            wide, high = (int(one.attrib[name]) for name in ("width", "height"))
            whole = int(one.attrib["frameWidth"]), int(one.attrib["frameHeight"])
            size = (high, wide) if turned else (wide, high)
            left, top = -int(one.attrib["frameX"]), -int(one.attrib["frameY"])
            found[one.attrib["name"]] = Place(
                int(one.attrib["x"]), int(one.attrib["y"]), *size, turned, left, top, whole
            )
        return found, (int(root.attrib["width"]), int(root.attrib["height"]))
    if extension == "plist":
        tree = plistlib.loads(data)
        found = {}
        for name, one in tree["frames"].items():
            x, y, wide, high = map(int, re.findall(r"\d+", one["frame"]))
            left, top, *again = map(int, re.findall(r"\d+", one["sourceColorRect"]))
            whole_width, whole_height = map(int, re.findall(r"\d+", one["sourceSize"]))
            whole = whole_width, whole_height
            assert again == [wide, high]
            right, up = map(float, re.findall(r"-?[\d.]+", one["offset"]))
            assert (right, up) == (left + wide / 2 - whole[0] / 2, whole[1] / 2 - top - high / 2), one
            found[name.removesuffix(".png")] = Place(x, y, wide, high, one["rotated"], left, top, whole)
        wide, high = map(int, re.findall(r"\d+", tree["metadata"]["size"]))
        return found, (wide, high)
    tree = json.loads(data)
    found = {}
    for name, one in tree["frames"].items():
        (x, y, wide, high), trim = one["frame"].values(), one["spriteSourceSize"]
        assert (trim["w"], trim["h"]) == (wide, high)
        whole = one["sourceSize"]["w"], one["sourceSize"]["h"]
        assert one["trimmed"] == ((wide, high) != whole), one
        assert one["pivot"] == {"x": 0.5, "y": 0.25}
        found[name.removesuffix(".png")] = Place(x, y, wide, high, one["rotated"], trim["x"], trim["y"], whole)
    return found, (tree["meta"]["size"]["w"], tree["meta"]["size"]["h"])


class Sheets(Case):
    def setUp(self) -> None:
        super().setUp()
        self.art = self.folder / "game" / "art"
        self.art.mkdir(parents=True)
        Image.fromarray(sheet()).save(self.art / "birds.png")

    def taken(self, name: str, *more: str) -> Path:
        """The folder with the frames of a sheet, on a bench in the folder `bench`."""
        if not (self.folder / "bench").is_dir():
            self.volvex("bench", "game", "bench")
        self.volvex("take", name, "--as", "sprites", *more, cwd=self.folder / "bench")
        return next((self.folder / "bench/open").rglob("*.sprites"))

    def changes(self) -> str:
        return self.run_program("changes", cwd=self.folder / "bench").stderr

    def sprite(self, path: Path) -> Sprite:
        return np.asarray(Image.open(path).convert("RGBA"))

    def require(self, extension: str, wanted: Mapping[str, Sprite]) -> None:
        """The bench's sheet shows these sprites and no others, by what its list says; nothing bleeds between them."""
        places, size = read_list(extension, (self.folder / f"bench/files/art/birds.{extension}").read_bytes())
        with Image.open(self.folder / "bench/files/art/birds.png") as image:
            page = np.asarray(image.convert("RGBA"))
        self.assertEqual((page.shape[1], page.shape[0]), size)
        self.assertEqual(set(places), set(wanted))
        for name, place in places.items():
            wide, high = (place.height, place.width) if place.turned else (place.width, place.height)
            part = page[place.y : place.y + high, place.x : place.x + wide]
            whole = np.zeros((place.whole[1], place.whole[0], 4), np.uint8)
            upright = np.rot90(part, 1) if place.turned else part
            whole[place.top : place.top + place.height, place.left : place.left + place.width] = upright
            np.testing.assert_array_equal(whole, wanted[name], name)

    def test_each_form_out_and_back(self) -> None:
        for extension, make in FORMS.items():
            with self.subTest(extension):
                path = self.art / f"birds.{extension}"
                path.write_bytes(make(PLACES, SIZE))
                folder = self.taken("art/birds.png")
                wanted = sprites()
                for name, whole in wanted.items():
                    np.testing.assert_array_equal(self.sprite(folder / f"{name}.png"), whole, name)
                # A sprite that fits goes to its place, and the list stays; turned ones too.
                wanted["tern"][8:12, 3:6] = [1, 2, 3, 255]
                Image.fromarray(wanted["tern"]).save(folder / "tern.png")
                self.assertIn("frames: 1 edited", printed := self.changes())
                self.assertNotIn("repacked", printed)
                self.assertEqual((self.folder / f"bench/files/art/birds.{extension}").read_bytes(), path.read_bytes())
                self.require(extension, wanted)
                self.assertEqual(self.changes(), "")
                # A larger one does not, and one that grows where it was trimmed; others are added, renamed, removed.
                wanted["gull"] = noise(70, 40, 7)
                wanted["gull"][:6] = 0
                Image.fromarray(wanted["gull"]).save(folder / "gull.png")
                self.assertIn("1 edited; sheet repacked to", self.changes())
                self.require(extension, wanted)
                wanted["skua"] = noise(9, 4, 8)
                Image.fromarray(wanted["skua"]).save(folder / "skua.png")
                (folder / "oar.png").rename(folder / "paddle.png")
                wanted["paddle"] = wanted.pop("oar")
                self.assertIn("frames: 1 added, 1 renamed; sheet", self.changes())
                self.require(extension, wanted)
                (folder / "skua.png").unlink()
                del wanted["skua"]
                self.assertIn("frames: 1 removed", self.changes())
                self.require(extension, wanted)
                self.volvex("take", "art/birds.png", "--as", "sprites", "--overwrite", cwd=self.folder / "bench")
                self.require(extension, sprites())
                path.unlink()
                shutil.rmtree(self.folder / "bench")

    def test_binary_lists_and_lists_without_records(self) -> None:
        (self.art / "birds.plist").write_bytes(as_plist(PLACES, SIZE, plistlib.FMT_BINARY))
        self.assertEqual(len(list(self.taken("art/birds.plist").iterdir())), 3)
        (self.art / "birds.plist").unlink()
        shutil.rmtree(self.folder / "bench")
        listed = as_json_list(PLACES, SIZE)
        (self.art / "birds.json").write_bytes(listed)
        folder = self.taken("art/birds.json")
        Image.fromarray(noise(30, 44, 5)).save(folder / "gull.png")
        Image.fromarray(noise(3, 3, 6)).save(folder / "new.png")
        self.assertIn("1 edited, 1 added; sheet repacked", self.changes())
        frames = json.loads((self.folder / "bench/files/art/birds.json").read_bytes())["frames"]
        self.assertEqual(frames[0]["sourceSize"], {"w": 30, "h": 44})
        self.assertEqual([one["filename"] for one in frames], ["gull.png", "new.png", "tern.png", "oar.png"])
        (folder / "new.png").unlink()
        self.assertIn("1 removed", self.changes())
        shutil.rmtree(self.folder / "bench")
        (self.art / "birds.json").write_bytes(re.sub(rb'"filename": "[^"]*", *', b"", listed))
        folder = self.taken("art/birds.json")
        Image.fromarray(noise(3, 3, 6)).save(folder / "new.png")
        said = self.complaint("changes", cwd=self.folder / "bench", status=5)
        self.assertIn("new cannot be added: this list has no record for each frame", said)

    def test_a_sprite_is_turned_where_the_list_can_store_it(self) -> None:
        page, wide = noise(16, 64, 1), noise(40, 6, 2)
        one = Frame("oar", 2, 2, 8, 6, whole_width=8, whole_height=6)
        able = replace(
            one, fields=(ListField("turned", ("turned",), "no", lambda frame: "yes" if frame.turned else "no"),)
        )
        for frame, size in ((able, (64, 16)), (one, (64, 64))):
            packed = put_in(page, [frame], Edit({"oar": wide}))
            ((_, after),) = packed.pairs
            assert after is not None
            self.assertEqual((packed.pixels.shape[:2], after.turned), (size, frame is able))
            np.testing.assert_array_equal(cut(packed.pixels, after), wide)

    def test_frames_that_share_a_place(self) -> None:
        shared = PLACES | {"ternlet": PLACES["tern"]}
        (self.art / "birds.json").write_bytes(as_json(shared, SIZE))
        folder = self.taken("art/birds.json")
        wanted = sprites()
        wanted["ternlet"] = wanted["tern"].copy()
        wanted["ternlet"][10, 10] = [9, 9, 9, 255]
        Image.fromarray(wanted["ternlet"]).save(folder / "ternlet.png")
        self.assertIn("repacked", self.changes())
        self.require("json", wanted)

    def test_a_grid(self) -> None:
        folder = self.taken("art/birds.png", "--grid", "20x30+2/2")
        self.assertEqual(sorted(path.name for path in folder.iterdir()), ["00-00.png", "00-01.png"])
        np.testing.assert_array_equal(self.sprite(folder / "00-00.png"), sheet()[2:32, 2:22])
        Image.fromarray(noise(20, 30, 3)).save(folder / "00-01.png")
        self.changes()
        with Image.open(self.folder / "bench/files/art/birds.png") as image:
            page = sheet()
            page[2:32, 24:44] = noise(20, 30, 3)
            np.testing.assert_array_equal(np.asarray(image), page)
        Image.fromarray(noise(21, 30, 3)).save(folder / "00-01.png")
        self.assertIn("cut by a grid", self.complaint("changes", cwd=self.folder / "bench", status=5))
        self.assertIn(
            "no grid",
            self.complaint(
                "take", "art/birds.png", "--as", "sprites", "--grid", "0x4", cwd=self.folder / "bench", status=2
            ),
        )

    def test_what_cannot_be(self) -> None:
        said = self.complaint("take", "art/birds.png", "--as", "sprites", cwd=self.bench_of(), status=3)
        self.assertIn("has no list of frames beside it", said)
        outside = PLACES | {"far": PLACES["oar"]._replace(x=60)}
        (self.art / "birds.json").write_bytes(as_json(outside, SIZE))
        said = self.complaint("take", "art/birds.json", "--as", "sprites", cwd=self.bench_of(), status=4)
        self.assertIn("far.png is 12 x 12 at 60, 40, outside of its sheet of 64 x 64", said)
        shutil.rmtree(self.folder / "bench")
        (self.art / "birds.json").write_bytes(as_json(PLACES, SIZE).replace(b"birds.png", b"beasts.png"))
        said = self.complaint("take", "art/birds.json", "--as", "sprites", cwd=self.bench_of(), status=3)
        self.assertIn("is of beasts.png, which is not beside it", said)

    def bench_of(self) -> Path:
        if not (self.folder / "bench").is_dir():
            self.volvex("bench", "game", "bench")
        return self.folder / "bench"

    def test_odd_lists(self) -> None:
        nothing = Place(5, 5, 0, 0, False, 0, 0, (0, 0))
        again = PLACES["oar"]
        (self.art / "birds.json").write_bytes(as_json({**PLACES, "none": nothing, "oar2": again}, SIZE))
        folder = self.taken("art/birds.json")
        self.assertEqual(len(list(folder.iterdir())), 4)
        # An editor gave what is transparent a colour: that is no reason to place anything again.
        wanted = sprites()
        sprite = wanted["gull"].copy()
        sprite[sprite[..., 3] == 0] = [255, 255, 255, 0]
        sprite[20, 10] = [1, 1, 1, 255]
        Image.fromarray(sprite).save(folder / "gull.png")
        self.assertNotIn("repacked", self.changes())
        Image.fromarray(noise(50, 40, 4)).save(folder / "gull.png")
        (folder / "oar.png").unlink()
        (folder / "oar2.png").unlink()
        self.assertIn("1 edited, 2 removed", self.changes())
        for field, new, said in (
            ('"w": 20', '"w": -20', "outside of its sheet"),
            ('"x": 2,', '"x": 1e999,', "is no number of pixels"),
            ('"w": 32', '"w": 99999', "lies at 3, 4 in 99999 x 40 pixels"),
            ('"x": 3', '"x": -3', "lies at -3, 4"),
        ):
            data = as_json(PLACES, SIZE).replace(field.encode(), new.encode())
            (self.art / "birds.json").write_bytes(data)
            shutil.rmtree(self.folder / "bench")
            with self.subTest(new):
                complaint = self.complaint("take", "art/birds.json", "--as", "sprites", cwd=self.bench_of(), status=4)
                self.assertIn(said, complaint)

    def test_both_edited(self) -> None:
        (self.art / "birds.json").write_bytes(as_json(PLACES, SIZE))
        folder = self.taken("art/birds.png")
        Image.fromarray(noise(32, 40, 5)).save(folder / "gull.png")
        page = sheet()
        page[63, 63] = 255
        Image.fromarray(page).save(self.folder / "bench/files/art/birds.png")
        self.assertIn("were both edited", self.complaint("changes", cwd=self.folder / "bench", status=5))
        np.testing.assert_array_equal(self.sprite(folder / "gull.png"), noise(32, 40, 5))

    def test_checked(self) -> None:
        (self.art / "birds.json").write_bytes(as_json(PLACES, SIZE))
        bench = self.bench_of()
        self.volvex("take", "art/birds.png", "art/birds.json", cwd=bench)
        Image.fromarray(sheet()[:40]).save(bench / "files/art/birds.png")
        said = self.volvex("check", cwd=bench, status=1)
        self.assertIn("the frame oar.png is 12 x 12 at 2, 40, outside of its sheet of 64 x 40", said)
        self.volvex("drop", "art/birds.json", cwd=bench)
        self.assertNotIn("frame", self.volvex("check", cwd=bench))
        self.volvex("undo", "art/birds.json", cwd=bench)
        path = bench / "files/art/birds.json"
        path.write_bytes(path.read_bytes().replace(b"birds.png", b"beasts.png"))
        self.assertIn("is of beasts.png, which is not beside it", self.volvex("check", cwd=bench, status=1))

    def test_a_sheet_in_the_game_s_own_format(self) -> None:
        from tests.test_pictures import picture

        own = picture("bc3", 64, 64)
        (self.art / "birds.dds").write_bytes(form_of("dds").write(own))
        (self.art / "birds.png").unlink()
        (self.art / "birds.json").write_bytes(as_json(PLACES, SIZE))  # says .png, as the artist had it
        folder = self.taken("art/birds.json")
        sprite = self.sprite(folder / "oar.png").copy()
        sprite[:4] = [255, 255, 255, 255]
        Image.fromarray(sprite).save(folder / "oar.png")
        self.changes()
        data = (self.folder / "bench/files/art/birds.dds").read_bytes()
        after = form_of("dds").read(BytesSource(data, "birds.dds"))
        self.assertEqual((after.format, after.levels), (own.format, own.levels))
        changed = (after.rgba() != own.rgba()).any(axis=2)
        self.assertTrue(changed[40:44, 2:14].any())
        self.assertEqual((changed[:40].any(), changed[44:].any(), changed[:, 16:].any()), (False, False, False))
