"""Models through the program: shown, listed, drawn, converted, taken, put back, checked, proved; and types of
objects."""

from __future__ import annotations

import io
import json
import struct
import unittest
from typing import Any

import numpy as np
from PIL import Image

from kelpwick.slip import edit
from tests.model_material import numbers, put_numbers, pygltf, saved, through_trimesh
from tests.support import Case, KeptGame
from volvex.asset.model.formats import FORMS
from volvex.asset.model.model import Model
from volvex.asset.model.open import open_model
from volvex.source import BytesSource

PACKAGE = """layout "ropes" kind archive
known by "ROPE" at 0
record knot
    turns   u8   kept
record rope
    length  u16  kept
    knot    u16  refers to object
    next    u16  refers to object
block head at 0
    mark    4 bytes  is "ROPE"
    types   u8   count of types
    objects u8   count of objects
block types after head repeats
    name    text u8  type name
block objects after types repeats
    id      u16  id
    type    u8   type
    name    text u8  name
    start   u8   start of content
    size    u8   size of content
"""
CUBE = b"""v 0 0 0
v 1 0 0
v 0 1 0
v 0 0 1
f 1 3 2
f 1 2 4
f 1 4 3
f 2 3 4
"""


class Looking(KeptGame):
    def test_show(self) -> None:
        out = self.volvex("show", self.shared / "slip/patience.kmm")
        for word in (
            "Kelpwick boat, 23,108 bytes",
            "602, normals, tangents, 1 UV set, weights",
            "816, level 1: 152, collision: 12",
            "hull: 576 triangles, hull",
            "3.83 x 3.45 x 4 m",
            "of slip/patience.kms: hull, mast, sail, oar_left, oar_right",
            "patience_row: 2.00 s, 4 tracks of up to 7 keys, of slip/patience_row.kma",
            "sail, mask: colour canvas/patience_sail.kwi",
        ):
            self.assertIn(word, out)
        out = self.volvex("show", self.shared / "slip/patience_row.kma")
        self.assertIn("5, of slip/patience.kms", out)
        self.assertIn("24 triangles", self.volvex("show", self.shared / "slip/buoy.obj"))
        self.assertIn("4b4d4d31", self.volvex("show", self.shared / "slip/patience.kmm", "--hex").replace(" ", ""))

    def test_list_and_types(self) -> None:
        out = self.volvex("list", self.shared / "slip", "--long")
        self.assertIn("816 triangles, 2 levels, 4 materials", out)
        self.assertIn("2.00 s, 4 tracks", out)
        rows: Any = json.loads(
            self.volvex("list", self.shared / "slip", self.shared / "canvas", "--by", "type", "--json")
        )
        self.assertEqual(["picture", "model"], list(dict.fromkeys(row["kind"] for row in rows))[:2])
        self.assertEqual(
            {"mesh": 2, "skeleton": 2}, {r["type"]: r["entries"] for r in rows if r["type"] in ("mesh", "skeleton")}
        )

    def test_forms_without_signatures(self) -> None:
        """They are called by their form wherever types are listed; text with the extension of one stays text."""
        import zipfile

        for ending in ("obj", "gltf", "stl"):
            self.volvex("convert", self.shared / "slip/buoy.obj", f"forms/buoy.{ending}")
        (self.folder / "forms/letter.obj").write_text("Dear keeper,\n")
        with zipfile.ZipFile(self.folder / "forms.zip", "w") as packed:
            for file in sorted((self.folder / "forms").iterdir()):
                packed.write(file, file.name)
        for place in ("forms", "forms.zip"):
            out = self.volvex("list", place, "--by", "type")
            for form in ("obj", "gltf", "stl"):
                self.assertRegex(out, rf"model\s+{form}\s+1 ")
            self.assertRegex(out, r"text\s+text\s+2 ")  # buoy.mtl and the letter
            self.assertIn("24 triangles", self.volvex("list", place, "--long"))
        self.volvex("unpack", "forms.zip", "--to", "sorted", "--by", "type")
        self.assertTrue((self.folder / "sorted/stl/buoy.stl").is_file())
        out = self.volvex("identify", "forms/buoy.obj", "forms/letter.obj")
        self.assertIn("obj: by content", out)
        self.assertIn("text: by content", out)

    def test_files_beside_a_converted_one_are_not_overwritten(self) -> None:
        """A user's file that the materials of a model would replace."""
        (self.folder / "out").mkdir()
        (self.folder / "out/buoy.mtl").write_text("mine")
        words = ("convert", self.shared / "slip/buoy.obj", "--to", "out", "--as", "obj")
        done = self.run_program(*words, status=5)
        self.assertIn("buoy.mtl already exists", done.stderr)
        self.assertEqual("mine", (self.folder / "out/buoy.mtl").read_text())
        self.assertFalse((self.folder / "out/buoy.obj").exists())
        self.volvex(*words, "--overwrite")
        self.assertIn("newmtl tar", (self.folder / "out/buoy.mtl").read_text())

    def test_a_texture_in_a_folder_below(self) -> None:
        """An image has a name of its own and a file; in no game, it is found below the model's folder, wherever one
        stands."""
        self.volvex("convert", self.shared / "slip/buoy.obj", "art/buoy.gltf")
        gltf = self.folder / "art/buoy.gltf"
        root = json.loads(gltf.read_text())
        root |= {"images": [{"name": "Sea", "uri": "skins/grey%20sea.png"}], "textures": [{"source": 0}]}
        root["materials"][0]["pbrMetallicRoughness"]["baseColorTexture"] = {"index": 0}
        gltf.write_text(json.dumps(root))
        (self.folder / "art/skins").mkdir()
        Image.new("RGB", (4, 4), (90, 90, 99)).save(self.folder / "art/skins/grey sea.png")
        self.assertIn("colour art/skins/grey sea.png", self.volvex("show", "art/buoy.gltf"))
        self.assertIn("colour skins/grey sea.png", self.volvex("show", "buoy.gltf", cwd=self.folder / "art"))
        self.volvex("convert", "art/buoy.gltf", "out/buoy.obj")
        self.assertIn("map_Kd Sea.png", (self.folder / "out/buoy.mtl").read_text())
        self.assertTrue((self.folder / "out/Sea.png").is_file())
        here = self.bench(self.folder / "art")
        self.volvex("take", "buoy.gltf", "--with-references", cwd=here)
        self.assertTrue((here / "files/skins/grey sea.png").is_file())

    def test_a_package_by_type(self) -> None:
        out = self.volvex("list", self.shared / "isles/rigging.kwo", "--by", "type")
        self.assertRegex(out, r"other\s+sail\s+5\s+56")
        self.volvex("unpack", self.shared / "isles/rigging.kwo", "--to", "out", "--by", "type")
        self.assertTrue((self.folder / "out/sail/patience.sail").is_file())
        self.assertTrue((self.folder / "out/hull/patience.hull").is_file())
        self.assertEqual(10, sum(path.is_file() for path in (self.folder / "out").rglob("*")))

    def test_picture(self) -> None:
        self.volvex("picture", self.shared / "slip", "--to", "all.png")
        self.assertIn("3 models", self.volvex("picture", self.shared / "slip", "--to", "all.png", "--overwrite"))
        boat = str(self.shared / "slip/patience.kmm")
        self.volvex("picture", boat, "--to", "one.png")
        with Image.open(self.folder / "one.png") as one:
            pixels = np.asarray(one.convert("RGB")).astype(int)
        brown = (pixels[..., 0] > pixels[..., 2] + 30).mean()
        self.assertGreater(brown, 0.05)  # the hull, in its colour
        for words, views in ((("--turn", "5"), 5), (("--animation", "row", "--skeleton"), 8), (("--each-lod",), 2)):
            out = self.volvex("picture", boat, "--to", "some.png", "--overwrite", *words)
            self.assertIn(f"{views} views", out)
        self.assertIn(
            "one of patience_row", self.complaint("picture", boat, "--to", "x.png", "--animation", "swim", status=3)
        )
        self.assertIn(
            "draws one model",
            self.complaint("picture", str(self.shared / "slip"), "--to", "x.png", "--each-lod", status=2),
        )
        self.assertFalse((self.folder / "x.png").exists())

    def test_prove(self) -> None:
        out = self.volvex(
            "layout",
            "prove",
            *(
                self.shared / "slip" / name
                for name in ("patience.kmm", "old_light.kml", "patience_row.kma", "materials.kmt")
            ),
            "--harder",
        )
        self.assertEqual(4, out.count("identical"))
        self.assertIn("holds: a vertex moved", out)
        self.assertNotIn("fails", out)


class Converting(KeptGame):
    def test_one(self) -> None:
        boat = self.shared / "slip/patience.kmm"
        self.volvex("convert", boat, "boat.glb")
        self.assertTrue((self.folder / "Patience_Sail.png").is_file())
        gltf = pygltf((self.folder / "boat.glb").read_bytes())
        self.assertEqual({"patience_hull_n.png", "Patience_Sail.png"}, {image.uri for image in gltf.images})
        self.assertIn("already exists", self.complaint("convert", boat, "boat.glb", status=5))
        self.volvex("convert", boat, "sail boat.gltf", "--overwrite")
        self.assertTrue((self.folder / "sail boat.bin").is_file())
        self.assertIn("816", self.volvex("show", "sail boat.gltf"))
        self.volvex("convert", boat, "boat.obj", "--overwrite")
        self.assertIn("mtllib boat.mtl", (self.folder / "boat.obj").read_text())
        self.assertIn("816", self.volvex("show", "boat.obj"))
        self.volvex("convert", "boat.glb", "again.kmm", "--like", boat)
        self.assertEqual(boat.read_bytes(), (self.folder / "again.kmm").read_bytes())

    def test_in_bulk(self) -> None:
        out = self.volvex("convert", f"{self.shared}//slip/**", "--to", "out", "--as", "gltf", "--by", "kind")
        self.assertIn("3 models, 5 textures", out)
        names = {
            path.relative_to(self.folder / "out").as_posix()
            for path in (self.folder / "out").rglob("*")
            if path.is_file()
        }
        self.assertIn("Kelpwick boat/patience.glb", names)
        self.assertIn("textures/patience_sail.png", names)
        boat = pygltf((self.folder / "out/Kelpwick boat/patience.glb").read_bytes())
        for image in boat.images:
            self.assertTrue((self.folder / "out/Kelpwick boat" / image.uri).resolve().is_file(), image.uri)
        self.assertIn(
            "3 files left",
            self.volvex(
                "convert", f"{self.shared}//slip/**", "--to", "out", "--as", "gltf", "--by", "kind", "--skip-existing"
            ),
        )

    def test_a_damaged_one_does_not_stop_the_others(self) -> None:
        folder = self.folder / "models"
        folder.mkdir()
        (folder / "good.obj").write_bytes(CUBE)
        (folder / "bad.obj").write_bytes(CUBE + b"f 1 2 9\n")
        done = self.run_program("convert", "models", "--to", "out", "--as", "glb", status=4)
        self.assertIn("line 9 is damaged", done.stderr)
        self.assertTrue((self.folder / "out/models/good.glb").is_file())
        self.assertFalse((self.folder / "out/models/bad.glb").exists())


class Working(KeptGame):
    def setUp(self) -> None:
        super().setUp()
        self.here = self.bench(self.shared)

    def edit(self, name: str, change: Any) -> None:
        path = self.here / "open/slip" / name
        gltf = pygltf(path.read_bytes())
        change(gltf)
        path.write_bytes(saved(gltf))

    def test_there_and_back(self) -> None:
        """Taken, edited, taken over by the next command, built: the game's own loader measures what changed."""
        out = self.volvex("take", "slip/old_light.kml", "--as", "gltf", cwd=self.here)
        self.assertIn("opened as open/slip/old_light.kml.glb", out)
        self.assertIn("open/canvas/lens_glow.kwi.png", out)
        glb = self.here / "open/slip/old_light.kml.glb"
        for image in pygltf(glb.read_bytes()).images:
            self.assertTrue((glb.parent / image.uri).resolve().is_file(), image.uri)
        self.assertIn("no changes", self.volvex("changes", cwd=self.here))
        edit.main([str(glb), "raise", "2"])
        edit.main([str(glb), "texture", "lens_glow", "canvas/fog"])
        out = self.volvex("changes", cwd=self.here)
        self.assertIn("7.6 x 10.3 x 3.2 m -> 7.6 x 12.3 x 3.2 m", out)
        self.assertIn("material beam differs", out)
        self.volvex("changes", "--to", "light.png", cwd=self.here)
        with Image.open(self.here / "light.png") as drawn:
            self.assertGreater(drawn.width, 1000)
        self.volvex("check", cwd=self.here)
        self.volvex("build", cwd=self.here)
        from kelpwick.slip.load import models

        files = {path.name: path.read_bytes() for path in (self.shared / "slip").iterdir()}
        files |= {path.name: path.read_bytes() for path in (self.here / "built/slip").iterdir()}
        heights = {model.name: float(model.box()[1][2]) for model, _ in models(files)}
        self.assertAlmostEqual(1230, heights["old_light.kml"], delta=0.6)

    def test_materials_beside_an_obj_are_not_overwritten(self) -> None:
        self.volvex("take", "slip/patience.kmm", "--as", "obj", cwd=self.here)
        (self.here / "open/slip/patience.kmm.mtl").write_text("mine")
        (self.here / "open/slip/patience.kmm.obj").unlink()
        done = self.run_program("take", "slip/patience.kmm", "--as", "obj", cwd=self.here)
        self.assertIn("patience.kmm.mtl stays as it is", done.stderr)
        self.assertEqual("mine", (self.here / "open/slip/patience.kmm.mtl").read_text())

    def test_textures_come_back_too(self) -> None:
        self.volvex("take", "slip/patience.kmm", "--as", "glb", cwd=self.here)
        sail = self.here / "open/canvas/patience_sail.kwi.png"
        with Image.open(sail) as image:
            painted = image.copy()
        painted.paste((200, 20, 20, 255), (0, 0, 8, 8))
        painted.save(sail)
        self.assertIn("canvas/patience_sail.kwi", self.volvex("changes", cwd=self.here))

    def test_a_new_animation_and_a_mistake(self) -> None:
        self.volvex("take", "slip/patience.kmm", "--as", "glb", cwd=self.here)
        glb = str(self.here / "open/slip/patience.kmm.glb")
        edit.main([glb, "wave", "oar_left", "wave"])
        self.assertIn("added  slip/patience_wave.kma", self.volvex("changes", cwd=self.here))
        edit.main([glb, "paint", "rig", "gold"])
        self.assertIn("not in the game: the material gold", self.volvex("check", status=1, cwd=self.here))
        edit.main([glb, "paint", "gold", "tar"])
        self.volvex("check", cwd=self.here)
        self.volvex("undo", "slip/patience.kmm", cwd=self.here)
        self.assertIn("slip/patience_wave.kma", self.volvex("changes", cwd=self.here))

    def test_swap(self) -> None:
        self.volvex("convert", "slip/patience.kmm", "mine.glb", cwd=self.here)
        mine = self.here / "mine.glb"

        def taller(scene: Any) -> None:
            for name, mesh in list(scene.geometry.items()):
                if "lod" in name or "collision" in name:
                    scene.delete_geometry(name)
                else:
                    mesh.vertices = mesh.vertices * [1, 1.25, 1]

        mine.write_bytes(through_trimesh(mine.read_bytes(), taller))
        done = self.run_program("swap", "slip/patience.kmm", "mine.glb", cwd=self.here)
        self.assertIn("was converted to Kelpwick boat", done.stdout)
        self.assertIn("level of detail 1 is not in the file, and stays as it was", done.stderr)
        self.volvex("undo", ".", cwd=self.here)
        self.volvex("swap", "slip/patience.kmm", "mine.glb", "--lods", "simplified", cwd=self.here)
        out = self.volvex("changes", cwd=self.here)
        self.assertIn("triangles of level 1", out)
        self.assertIn("4.31", out)
        self.assertIn(
            "converts a model",
            self.complaint("swap", "canvas/fog.dds", "mine.glb", "--lods", "nearest", status=2, cwd=self.here),
        )

    def test_edited_twice_is_refused(self) -> None:
        self.volvex("take", "slip/buoy.obj", "--as", "glb", cwd=self.here)
        glb = self.here / "open/slip/buoy.obj.glb"
        gltf = pygltf(glb.read_bytes())
        put_numbers(gltf, 0, numbers(gltf, 0) * np.float32(2))
        glb.write_bytes(saved(gltf))
        text = self.here / "files/slip/buoy.obj"
        text.write_text(text.read_text().replace("# the fairway", "# a fairway"))
        self.assertIn("were both edited", self.complaint("changes", status=5, cwd=self.here))

    def test_no_model_saved_over_it(self) -> None:
        self.volvex("take", "slip/patience.kmm", "--as", "glb", cwd=self.here)
        (self.here / "open/slip/patience.kmm.glb").write_bytes(b"glTF" + bytes(30))
        said = self.complaint("changes", status=4, cwd=self.here)
        self.assertIn("open/slip/patience.kmm.glb", said)
        self.assertIn("no binary glTF of version 2", said)

    def test_references(self) -> None:
        out = self.volvex("take", "slip/patience.kmm", "--with-references", cwd=self.here)
        taken = {line.removeprefix("took files/") for line in out.splitlines()}
        self.assertEqual(
            {
                "slip/patience.kmm",
                "slip/patience.kms",
                "slip/patience_row.kma",
                "slip/materials.kmt",
                "canvas/patience_hull_n.kwi",
                "canvas/patience_sail.kwi",
            },
            taken,
        )
        out = self.volvex("take", "data/almanac.kwp/tables/fittings.kwb", "--with-references", cwd=self.here)
        self.assertIn("files/data/main.kwp/rules/lamps.xml", out)
        self.assertIn("files/data/almanac.kwp/tables/lenses.kwb", out)


class Objects(Case):
    def test_objects_that_refer_to_others(self) -> None:
        game = self.folder / "game"
        game.mkdir()
        contents = [struct.pack("<HHH", 9, 7, 0), struct.pack("<HHH", 4, 8, 5), b"\3", b"\4"]
        heads = [(5, 1, b"bow"), (6, 1, b"stern"), (7, 0, b"reef"), (8, 0, b"bend")]
        types, at = b"\4knot\4rope", 6 + 10 + sum(6 + len(name) for _, _, name in heads)
        rows = b""
        for (number, kind, name), data in zip(heads, contents, strict=True):
            rows += struct.pack("<HBB", number, kind, len(name)) + name + bytes((at, len(data)))
            at += len(data)
        (game / "all.rope").write_bytes(b"ROPE" + bytes((2, 4)) + types + rows + b"".join(contents))
        (self.home / "layouts").mkdir(parents=True)
        (self.home / "layouts/rope.layout").write_text(PACKAGE)
        self.volvex("bench", game, "mod")
        out = self.volvex("take", "all.rope/stern.rope", "--with-references", cwd=self.folder / "mod")
        self.assertEqual(4, out.count("took"), out)  # stern, its knot and the rope before it, and that one's knot
        self.assertRegex(self.volvex("list", game / "all.rope", "--by", "type"), r"rope\s+2\s+12")


class Forms(unittest.TestCase):
    """Every open form: a model written by it is read again; what is no model of it is refused in words."""

    def model(self) -> Model:
        found = open_model(BytesSource(CUBE, "cube.obj"))
        assert found is not None
        return found.model

    def test_there_and_back(self) -> None:
        for form in FORMS.all():
            if not form.WRITES:
                continue
            with self.subTest(form.EXTENSIONS[0]):
                files = form.write(self.model(), {})
                data, name = next(iter(files.values())), f"cube.{form.EXTENSIONS[0]}"
                source = BytesSource(data, name)
                source.beside = lambda other, files=files: BytesSource(files[other.rpartition(".")[2]], other)
                found = open_model(source)
                assert found is not None
                self.assertIs(form, found.form)
                self.assertEqual(4, found.model.triangles())
                box = found.model.box()
                assert box is not None
                np.testing.assert_allclose(box, ((0, 0, 0), (1, 1, 1)), atol=1e-6)

    def test_collada(self) -> None:
        from tests.fuzz.models import DAE

        found = open_model(BytesSource(DAE.encode(), "hull.dae"))
        assert found is not None
        box = found.model.box()
        assert box is not None
        np.testing.assert_allclose(box[1] - box[0], (1, 1, 1), atol=1e-6)  # centimetres, z up
        self.assertEqual(("tar", 2), (found.model.materials[0].name, found.model.triangles()))

    def test_every_cut_is_an_error_or_a_model(self) -> None:
        from volvex.errors import VolvexError

        for form in FORMS.all():
            if not form.WRITES or form.EXTENSIONS[0] in ("stl", "ply"):  # trimesh's, which the fuzzer tries
                continue
            data = next(iter(form.write(self.model(), {}).values()))
            for size in range(0, len(data), 7):
                try:
                    open_model(BytesSource(data[:size], f"cube.{form.EXTENSIONS[0]}"))
                except VolvexError as error:
                    self.assertTrue(error.lines()[0])

    def test_hostile_gltf(self) -> None:
        """Accessors that lie, files that lie elsewhere, nodes in a circle, more of everything than there is."""
        from tests.model_material import as_glb, gathered
        from volvex.asset.model.gltf_file import safe_uri
        from volvex.asset.model.gltf_write import packed
        from volvex.errors import VolvexError

        data = as_glb(gathered("patience.kmm")[1])
        size = int.from_bytes(data[12:16], "little")
        changes: list[tuple[Any, str]] = [
            (lambda g: g["accessors"][0].update(count=1 << 26), "elements of 64 bytes"),
            (lambda g: g["accessors"][0].update(componentType=[1]), "numbers of type"),
            (lambda g: g["bufferViews"][0].update(byteOffset=1 << 30), "of a buffer of"),
            (lambda g: g["bufferViews"][0].update(buffer=3), "there is no buffers 3"),
            (lambda g: g["nodes"][1].update(children=[0]), "in a circle|two parents"),
            (lambda g: g["nodes"][2].update(children=[0]), "in a circle|two parents"),
            (lambda g: g["meshes"][0]["primitives"][0].update(indices=999), "there is no accessors 999"),
            (lambda g: g["skins"][0].update(joints=[900]), "a number from 0 to"),
            (lambda g: g["asset"].update(version="1.0"), "expected 2.0"),
            (lambda g: g.update(extensionsRequired=["HARBOUR_x"]), "needs the extension HARBOUR_x"),
            (lambda g: g["animations"][0]["channels"][0].update(sampler=77), "a number from 0 to"),
            (lambda g: g["nodes"][0].update(translation=[0, 1e300, 0]), "a number that is none"),
        ]
        for change, said in changes:
            root = json.loads(data[20 : 20 + size])
            change(root)
            with self.subTest(said), self.assertRaisesRegex(VolvexError, said):
                open_model(BytesSource(packed(root, data[28 + size :]), "hostile.glb"))
        self.assertGreater(len(self.wrong_types(json.loads(data[20 : 20 + size]), data[28 + size :])), 300)
        for uri in (
            "../../etc/passwd",
            "/etc/passwd",
            "file:///etc/passwd",
            "https://a/b",
            "a/../../b",
            "C:\\x",
            "%2e%2e/x",
            "",
        ):
            self.assertIsNone(safe_uri(uri), uri)
        self.assertEqual("a b/c.bin", safe_uri("a%20b/./c.bin"))
        with self.assertRaisesRegex(VolvexError, "is not beside it"):
            open_model(
                BytesSource(
                    b'{"asset":{"version":"2.0"},"buffers":[{"byteLength":4,"uri":"../x.bin"}],"bufferViews":[{"buffer":0,"byteLength":4}],"accessors":[{"bufferView":0,"componentType":5126,"count":1,"type":"VEC3"}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"nodes":[{"mesh":0}]}',
                    "x.gltf",
                )
            )

    def wrong_types(self, root: Any, numbers: bytes) -> list[str]:
        """Each sort of value in a glTF file in turn of every other type: read, or refused in words."""
        from volvex.asset.model.gltf_write import packed
        from volvex.errors import VolvexError

        tried: dict[str, tuple[Any, Any]] = {}

        def walk(held: Any, where: str) -> None:
            for key, value in list(held.items() if isinstance(held, dict) else enumerate(held)):
                place = f"{where}.{key if isinstance(held, dict) else '*'}"
                tried.setdefault(place, (held, key))
                if isinstance(value, dict | list):
                    walk(value, place)

        walk(root, "")
        said, others = list[str](), list[Any]([{}, [], "x", -1, True, None, 1e308])
        for place, (held, key) in tried.items():
            kept = held[key]
            for wrong in others:
                held[key] = wrong
                try:
                    open_model(BytesSource(packed(root, numbers), "hostile.glb"))
                    said.append(f"{place} {wrong!r}")
                except VolvexError as error:
                    said.append(error.message)
            held[key] = kept
        return said

    def test_a_texture_in_the_picture(self) -> None:
        """A red texture on a triangle is red in its picture, where its UVs say."""
        from volvex.asset.model.render import Scene, View, render

        model = self.model()
        mesh = model.meshes[0]
        mesh.uvs = [np.array([(0.25, 0.5)] * 4, np.float32)]
        from volvex.asset.model.model import Material

        model.materials = [Material("red", {"colour": "red"})]
        mesh.parts[0].material = 0
        texture = np.zeros((2, 2, 4), np.uint8)
        texture[:, 0], texture[:, 1] = (255, 0, 0, 255), (0, 0, 255, 255)
        seen = render(Scene(model, {0: texture}), 64, 64)
        solid = seen[seen[..., 3] == 255]
        self.assertGreater(len(solid), 300)
        self.assertTrue((solid[:, 2] < 10).all())
        self.assertGreater(int(solid[:, 0].max()), 150)
        black = render(Scene(model, {0: texture * np.array([0, 0, 0, 1], np.uint8)}), 64, 64)
        self.assertGreater(int(np.ptp(black[black[..., 3] == 255][:, 0].astype(int))), 10)  # its form is seen
        plain = render(Scene(model, {0: texture}), 64, 64, View(plain=True))
        self.assertTrue((np.ptp(plain[plain[..., 3] == 255][:, :3].astype(int), axis=1) < 30).all())
        out = io.BytesIO()
        Image.fromarray(seen).save(out, "PNG")
        self.assertTrue(out.getvalue())


class Paths(unittest.TestCase):
    def test_names_of_nodes(self) -> None:
        from volvex.asset.model.gltf_read import marks_of

        self.assertEqual(("boat", 1, "drawn"), marks_of("boat.lod1"))
        self.assertEqual(("boat", 2, "drawn"), marks_of("boat.lod2_a6f748"))
        self.assertEqual(("boat", 0, "collision"), marks_of("boat.collision.001"))
        self.assertEqual(("boat.lodge", 0, "drawn"), marks_of("boat.lodge"))


if __name__ == "__main__":
    unittest.main()
