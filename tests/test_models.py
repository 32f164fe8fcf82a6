"""Models: read, written to glTF, edited by programs of others, and put back into the game's own files."""

from __future__ import annotations

import io
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from PIL import Image

from kelpwick import GameError, slip
from tests.model_material import (
    add_accessor,
    as_glb,
    edited_file,
    from_glb,
    game,
    gathered,
    loaded,
    numbers,
    posed,
    put_numbers,
    pygltf,
    saved,
    through_trimesh,
    validated,
    validator,
    with_images_inside,
    written,
)
from volvex.asset.model.compare import differences
from volvex.asset.model.exchange import TakenOver, exported, image_names, taken_over
from volvex.asset.model.gather import Gathered
from volvex.asset.model.model import Animation, Material, Track
from volvex.asset.model.textures import scene_of
from volvex.asset.model.tracks import sampled
from volvex.errors import RefusedError

MODELS = ("patience.kmm", "old_light.kml")


class Inside(unittest.TestCase):
    """Textures inside of a glTF file, as most programs save it."""

    def setUp(self) -> None:
        _, self.found = gathered("patience.kmm")
        gltf = pygltf(as_glb(self.found))
        self.held = [png((number * 40, 90, 200)) for number in range(len(gltf.images))]
        with_images_inside(gltf, self.held)
        for image in gltf.images:
            image.name = "sail"
        self.glb = saved(gltf)

    def test_they_are_read_and_stay_inside(self) -> None:
        model = from_glb(self.glb)
        names = ["sail", *(f"sail~{number}" for number in range(1, len(self.held)))]
        self.assertGreater(len(names), 1)
        self.assertEqual(dict(zip(names, self.held, strict=True)), model.pictures)
        alone = Gathered(model, textures=dict.fromkeys(names))
        self.assertEqual([], alone.missing)
        self.assertEqual((40, 90, 200), tuple(scene_of(alone, NoFiles()).textures[1][0, 0, :3].tolist()))
        data = exported(alone, "glb", {}).files["glb"]
        again = pygltf(data)
        views = [again.bufferViews[image.bufferView] for image in again.images]
        blob = again.binary_blob()
        self.assertEqual(self.held, [blob[view.byteOffset : view.byteOffset + view.byteLength] for view in views])
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "inside.glb"
            file.write_bytes(data)
            if validator() is not None:
                self.assertEqual({file.name: []}, validated([file]))
        self.assertIn("sail stays inside", str(exported(alone, "obj", {}).notes))
        self.assertEqual(names, list(image_names(alone)))

    def test_images_may_share_bytes(self) -> None:
        """A view that many images name is held once, and all names differ, whatever the file calls them."""
        import pygltflib

        gltf = pygltf(self.glb)
        view = gltf.images[0].bufferView
        gltf.images += [pygltflib.Image(name=name, bufferView=view, mimeType="image/png") for name in ["sail~9"] * 3]
        model = from_glb(saved(gltf))
        self.assertEqual(len(gltf.images), len(model.pictures))
        self.assertEqual(1, len({id(one) for one in model.pictures.values() if one == self.held[0]}))

    def test_roughness_goes_there_and_back(self) -> None:
        """And what is not read of a file is named."""
        import pygltflib

        gltf = pygltf(self.glb)
        gltf.materials[0].pbrMetallicRoughness.metallicRoughnessTexture = pygltflib.TextureInfo(index=1)
        gltf.extensionsUsed = ["KHR_mesh_quantization", "KHR_materials_ior"]
        model = from_glb(saved(gltf))
        self.assertEqual("sail~1", model.materials[0].textures["roughness"])
        self.assertIn("KHR_materials_ior of the file left out", model.notes)
        again = pygltf(exported(Gathered(model), "glb", {}).files["glb"])
        number = again.materials[0].pbrMetallicRoughness.metallicRoughnessTexture.index
        self.assertEqual("sail~1", again.images[again.textures[number].source].name)
        bare, other = replace(model, skeleton=None), replace(model, pictures={**model.pictures, "sail": b"other"})
        self.assertIn(f"{len(self.found.model.skeleton or [])} joints -> 0", list(differences(model, bare)))
        self.assertEqual(["texture sail inside of it differs"], list(differences(model, other)))

    def test_damaged_ones_are_left_out(self) -> None:
        gltf = pygltf(self.glb)
        gltf.images[1].uri = "data:image/png;base64,!!!"
        gltf.bufferViews[gltf.images[0].bufferView].byteLength = 2
        model = from_glb(saved(gltf))
        self.assertEqual(set(range(2, len(self.held))), {self.held.index(one) for one in model.pictures.values()})
        self.assertIn("neither PNG nor JPEG", str(model.notes))
        self.assertIn("base64", str(model.notes))

    def test_the_games_own_stay_and_that_is_said(self) -> None:
        gltf = pygltf(self.glb)
        for image, name in zip(gltf.images, image_names(self.found), strict=False):
            image.name = name
        notes = taken_over(self.found, from_glb(saved(gltf))).notes
        self.assertIn("edit the pictures that lie apart", str(notes))
        with self.assertRaisesRegex(RefusedError, "is glTF, which is changed whole"):
            taken_over(Gathered(from_glb(self.glb)), from_glb(self.glb))


class NoFiles:
    """A game without files."""

    paths: ClassVar[list[str]] = []

    def open(self, number: int) -> Any:
        raise AssertionError(number)

    picture = home = open


def png(colour: tuple[int, int, int]) -> bytes:
    """A picture of one colour."""
    held = io.BytesIO()
    Image.new("RGB", (4, 4), colour).save(held, "PNG")
    return held.getvalue()


class Out(unittest.TestCase):
    """What is written to glTF is what the game has, as readers of others see it."""

    def test_every_file_passes_the_validator(self) -> None:
        if validator() is None:
            self.skipTest("node, or its package gltf-validator, is not here")
        with tempfile.TemporaryDirectory() as folder:
            files = []
            for name in (*MODELS, "buoy.obj", "patience.kms", "patience_row.kma"):
                opened, found = gathered(name)
                files.append(Path(folder) / f"{name}.glb")
                files[-1].write_bytes(exported(found, "glb", {}).files["glb"])
                if opened.own is not None and found.model.meshes:
                    edited = through_trimesh(as_glb(found))
                    taken = taken_over(found, from_glb(edited))
                    again = opened.own.read(_source(written(opened, taken), name))
                    found.model.meshes = again.meshes
                    files.append(Path(folder) / f"{name}-again.glb")
                    files[-1].write_bytes(exported(found, "glb", {}).files["glb"])
            self.assertEqual({file.name: [] for file in files}, validated(files))

    def test_positions_and_weights_are_the_games(self) -> None:
        for name in MODELS:
            with self.subTest(name):
                _, found = gathered(name)
                gltf, own = pygltf(as_glb(found)), loaded({})[name][0]
                attributes = gltf.meshes[0].primitives[0].attributes
                metres = own.positions[:, [0, 2, 1]] / 100
                np.testing.assert_allclose(numbers(gltf, attributes.POSITION), metres, atol=1e-5)
                weights, joints = numbers(gltf, attributes.WEIGHTS_0), numbers(gltf, attributes.JOINTS_0)
                for joint in range(int(own.joints.max()) + 1):
                    expected = np.where(own.joints == joint, own.weights, 0).sum(axis=1)
                    np.testing.assert_allclose(np.where(joints == joint, weights, 0).sum(axis=1), expected, atol=1e-6)

    def test_trimesh_reads_the_same_triangles(self) -> None:
        import io

        import trimesh

        for name in MODELS:
            _, found = gathered(name)
            scene: Any = trimesh.load(io.BytesIO(as_glb(found)), file_type="glb", process=False)
            own = loaded({})[name][0]
            self.assertEqual(
                sum(len(part.triangles) for part in own.parts), sum(len(mesh.faces) for mesh in scene.geometry.values())
            )

    def test_a_pose_is_where_the_game_has_it(self) -> None:
        """The joints in the middle of an animation: made from the glTF by its own rules, and by the game's code."""
        for name, animation in (("patience.kmm", "patience_row"), ("old_light.kml", "old_light_turn")):
            _, found = gathered(name)
            model = from_glb(as_glb(found))
            assert model.skeleton is not None
            moving = next(one for one in model.animations if one.name == animation)
            joints = loaded({})[name][1]
            rate = 12 if name == "patience.kmm" else 10
            expected = posed(dict(slip.read(game()))[f"{animation}.kma"], f"{animation}.kma", 6, joints)
            for joint, place in _placed(model.skeleton, moving, 6 / rate).items():
                np.testing.assert_allclose(place[[0, 2, 1]] * 100, expected[joint], atol=0.35)

    def test_winding_is_outwards(self) -> None:
        """Triangles are counter-clockwise seen from where their normals point."""
        for name in MODELS:
            _, found = gathered(name)
            mesh = found.model.meshes[0]
            assert mesh.normals is not None
            one, two, three = (mesh.positions[mesh.triangles[:, at]] for at in range(3))
            faces = np.cross(two - one, three - one)
            along = (faces * mesh.normals[mesh.triangles[:, 0]]).sum(axis=1)
            solid = np.linalg.norm(faces, axis=1) > 1e-4
            self.assertGreater(float((along[solid] > 0).mean()), 0.95, name)

    def test_textures_are_found_in_any_letters(self) -> None:
        _, found = gathered("patience.kmm")
        self.assertEqual({"canvas/patience_hull_n", "CANVAS/Patience_Sail"}, set(found.textures))
        self.assertEqual([], found.missing)
        _, light = gathered("old_light.kml")
        self.assertEqual(["pictures\\lamps\\old_light"], light.missing)
        self.assertIn("lamp_room_pane.png", image_names(light).values())
        notes = exported(light, "glb", image_names(light)).notes
        self.assertTrue(any("old_light" in note and "not in the game" in note for note in notes), notes)

    def test_obj_has_levels_and_materials(self) -> None:
        _, found = gathered("patience.kmm")
        files = exported(found, "obj", {"CANVAS/Patience_Sail": "sail.png"})
        text = files.files["obj"].decode()
        self.assertIn("o hull.lod1\n", text)
        self.assertIn("o guard.collision\n", text)
        self.assertIn("map_Kd sail.png", files.files["mtl"].decode())
        self.assertTrue(any("skeleton" in note for note in files.notes))


class Back(unittest.TestCase):
    """Each kind of edit, made by a library of others, arrives in the game's own file; what was not edited keeps its
    bits."""

    originals: ClassVar[dict[str, bytes]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        cls.originals = dict(slip.read(game()))

    def test_nothing_edited_is_nothing_changed(self) -> None:
        for name in MODELS:
            opened, found = gathered(name)
            taken = taken_over(found, from_glb(saved(pygltf(as_glb(found)))))
            self.assertEqual(self.originals[name], written(opened, taken))
            self.assertEqual((None, [], [], [], 0), _others(taken))

    def test_trimesh_saves_it_and_nothing_changed(self) -> None:
        """It splits meshes by material, and drops joints, animations and tangents."""
        for name in MODELS:
            data, taken = edited_file(name, through_trimesh(as_glb(gathered(name)[1])))
            self.assertEqual(self.originals[name], data, name)
            self.assertEqual(0, taken.vertices)

    def test_moved_vertices(self) -> None:
        for name in MODELS:
            with self.subTest(name):
                gltf = pygltf(as_glb(gathered(name)[1]))
                accessor = gltf.meshes[0].primitives[0].attributes.POSITION
                values = numbers(gltf, accessor).copy()
                top = np.argsort(values[:, 1])[-4:]
                values[top, 1] += 2
                put_numbers(gltf, accessor, values)
                data, taken = edited_file(name, saved(gltf))
                model = loaded({name: data})[name][0]
                before = loaded({})[name][0]
                self.assertAlmostEqual(200, float(model.box()[1][2] - before.box()[1][2]), delta=0.6)
                self.assertEqual(4, taken.vertices)

    def test_moved_vertices_keep_all_other_bits(self) -> None:
        name = "patience.kmm"
        gltf = pygltf(as_glb(gathered(name)[1]))
        accessor = gltf.meshes[0].primitives[0].attributes.POSITION
        values = numbers(gltf, accessor).copy()
        values[5] += 0.01
        put_numbers(gltf, accessor, values)
        data, _ = edited_file(name, saved(gltf))
        start = len(data) - len(self.originals[name]) + _vertices_at(name)
        own, new = (one[_vertices_at(name) :] for one in (self.originals[name], data))
        self.assertEqual(start, _vertices_at(name))
        differing = {at // 28 for at, (a, b) in enumerate(zip(own, new, strict=True)) if a != b}
        self.assertLessEqual(len(differing), 12)  # the vertex, and the tangents of its neighbours
        self.assertIn(5, differing)
        self.assertEqual(own[602 * 28 :], new[602 * 28 :])  # indices and hard points

    def test_trimesh_moves_vertices(self) -> None:
        def edit(scene: Any) -> None:
            for mesh in scene.geometry.values():
                mesh.vertices = mesh.vertices * [1, 1.5, 1]

        for name in MODELS:
            data, _ = edited_file(name, through_trimesh(as_glb(gathered(name)[1]), edit))
            model, before = loaded({name: data})[name][0], loaded({})[name][0]
            size, was = (float(one.box()[1][2] - one.box()[0][2]) for one in (model, before))
            self.assertAlmostEqual(1.5, size / was, delta=0.01)
            self.assertEqual([len(p.triangles) for p in before.parts], [len(p.triangles) for p in model.parts])

    def test_new_vertices_and_faces(self) -> None:
        """A flag of two triangles on the mast: vertices of joints by name, in a primitive of their own."""
        name = "patience.kmm"
        data, taken = edited_file(name, _with_flag(as_glb(gathered(name)[1]), "rig"))
        model, before = loaded({name: data})[name][0], loaded({})[name][0]
        self.assertEqual(len(before.positions) + 4, len(model.positions))
        self.assertEqual(4, taken.vertices)
        added = model.positions[-4:]
        np.testing.assert_allclose(added[:, 2].max(), 400, atol=0.1)
        self.assertTrue(((model.joints[-4:] == 1) & (model.weights[-4:] == 1)).any(axis=1).all())

    def test_trimesh_subdivides(self) -> None:
        def edit(scene: Any) -> None:
            for key, mesh in list(scene.geometry.items()):
                if ".lod" not in key and "collision" not in key:
                    scene.geometry[key] = mesh.subdivide()

        for name in MODELS:
            data, _ = edited_file(name, through_trimesh(as_glb(gathered(name)[1]), edit))
            model, before = loaded({name: data})[name][0], loaded({})[name][0]
            counts = [
                [sum(len(p.triangles) for p in one.parts if p.level == level and not p.use) for level in (0, 1)]
                for one in (before, model)
            ]
            self.assertEqual(counts[0][0] * 4, counts[1][0])
            self.assertEqual(counts[0][1], counts[1][1])

    def test_other_uvs(self) -> None:
        name = "patience.kmm"
        gltf = pygltf(as_glb(gathered(name)[1]))
        accessor = gltf.meshes[0].primitives[0].attributes.TEXCOORD_0
        values = numbers(gltf, accessor).copy()
        values[:10] += 0.25
        put_numbers(gltf, accessor, values)
        data, _ = edited_file(name, saved(gltf))
        loaded({name: data})
        opened, _ = gathered(name)
        assert opened.own is not None
        again = opened.own.read(_source(data, name)).meshes[0]
        np.testing.assert_allclose(again.uvs[0], values, atol=1e-3)
        np.testing.assert_array_equal(again.positions, opened.model.meshes[0].positions)

    def test_other_weights(self) -> None:
        name = "patience.kmm"
        gltf = pygltf(as_glb(gathered(name)[1]))
        attributes = gltf.meshes[0].primitives[0].attributes
        weights, joints = numbers(gltf, attributes.WEIGHTS_0).copy(), numbers(gltf, attributes.JOINTS_0).copy()
        joints[:20, :2], weights[:20] = (0, 3), (0.6, 0.4, 0, 0)
        put_numbers(gltf, attributes.WEIGHTS_0, weights)
        put_numbers(gltf, attributes.JOINTS_0, joints)
        data, _ = edited_file(name, saved(gltf))
        model, before = loaded({name: data})[name][0], loaded({})[name][0]
        self.assertTrue((np.where(model.joints[:20] == 3, model.weights[:20], 0).sum(axis=1) * 255 == 102).all())
        np.testing.assert_array_equal(before.weights[20:], model.weights[20:])

    def test_joints_in_another_order(self) -> None:
        """A program sorts the joints of a skin by name: they are found by their names."""
        name = "patience.kmm"
        gltf = pygltf(as_glb(gathered(name)[1]))
        skin, attributes = gltf.skins[0], gltf.meshes[0].primitives[0].attributes
        order = sorted(range(len(skin.joints)), key=lambda at: gltf.nodes[skin.joints[at]].name)
        back = np.argsort(order)
        matrices = numbers(gltf, skin.inverseBindMatrices)[order].copy()
        weights, joints = numbers(gltf, attributes.WEIGHTS_0), numbers(gltf, attributes.JOINTS_0)
        put_numbers(gltf, attributes.JOINTS_0, np.where(weights > 0, back[joints], 0).astype("<u2"))
        put_numbers(gltf, skin.inverseBindMatrices, matrices)
        skin.joints = [skin.joints[at] for at in order]
        data, _ = edited_file(name, saved(gltf))
        self.assertEqual(self.originals[name], data)

    def test_renamed_materials(self) -> None:
        for name, old, new in (("patience.kmm", "rig", "tar"), ("old_light.kml", "beam", "sail")):
            gltf = pygltf(as_glb(gathered(name)[1]))
            next(one for one in gltf.materials if one.name == old).name = new
            data, _ = edited_file(name, saved(gltf))
            model = loaded({name: data})[name][0]
            materials = {part.material for part in model.parts}
            self.assertIn(new, materials)
            self.assertNotIn(old, materials)

    def test_a_material_gets_another_texture(self) -> None:
        opened, found = gathered("old_light.kml")
        gltf = pygltf(as_glb(found))
        image = next(one for one in gltf.images if one.name == "lens_glow")
        image.name, image.uri = "canvas/fog", "fog.png"
        taken = taken_over(found, from_glb(saved(gltf)))
        (file, model), *_ = taken.materials
        own = found.parts[file].own
        assert own is not None and opened.own is not None
        data = own.write(model)
        self.assertIn(b"canvas/fog", data)
        self.assertEqual(self.originals["materials.kmt"].replace(b"\x09lens_glow", b"\x0acanvas/fog"), data)

    def test_a_changed_animation(self) -> None:
        _, found = gathered("patience.kmm")
        gltf = pygltf(as_glb(found))
        channel = next(one for one in gltf.animations[0].channels if gltf.nodes[one.target.node].name == "oar_left")
        output = gltf.animations[0].samplers[channel.sampler].output
        values = numbers(gltf, output).copy()
        values[2] = (0, np.sin(0.4), 0, np.cos(0.4))
        put_numbers(gltf, output, values)
        taken = taken_over(found, from_glb(saved(gltf)))
        (file, model), *_ = taken.animations
        own = found.parts[file].own
        assert own is not None
        data = own.write(model)
        before = self.originals["patience_row.kma"]
        differing = [at for at, (a, b) in enumerate(zip(before, data, strict=True)) if a != b]
        self.assertLessEqual(len(differing), 4)  # one turn of 32 bits
        joints = loaded({})["patience.kmm"][1]
        posed(data, "patience_row.kma", 6, joints)

    def test_a_longer_animation_with_a_new_track(self) -> None:
        _, found = gathered("patience.kmm")
        edited = from_glb(as_glb(found))
        times = np.arange(0, 48, 6, dtype=np.float32) / 12
        turns = np.stack([np.zeros(8), np.sin(times / 9), np.zeros(8), np.cos(times / 9)], axis=1).astype(np.float32)
        edited.animations[0].tracks.append(Track(1, "rotation", times, turns))
        taken = taken_over(found, edited)
        (file, model), *_ = taken.animations
        own = found.parts[file].own
        assert own is not None
        data = own.write(model)
        joints = loaded({})["patience.kmm"][1]
        from kelpwick.slip.load import animation

        rate, frames, keys = animation(data, "row", joints)
        self.assertEqual((12, 43, 5), (rate, frames, len(keys)))
        self.assertEqual(42, keys[1, 1][-1][0])

    def test_a_new_animation_is_told_apart(self) -> None:
        _, found = gathered("patience.kmm")
        edited = from_glb(as_glb(found))
        new = Animation(
            "wave", [Track(3, "rotation", np.array([0, 1], np.float32), np.array([[0, 0, 0, 1]] * 2, np.float32))]
        )
        edited.animations.append(new)
        taken = taken_over(found, edited)
        self.assertEqual(["wave"], [one.name for one in taken.new_animations])
        self.assertEqual([], taken.animations)

    def test_a_pose_that_was_changed(self) -> None:
        opened, found = gathered("patience.kmm")
        gltf = pygltf(as_glb(found))
        node = next(one for one in gltf.nodes if one.name == "sail")
        node.translation = [0, 1.5, 0]
        taken = taken_over(found, from_glb(saved(gltf)))
        assert taken.skeleton is not None and found.skeleton is not None and opened.own is not None
        own = found.parts[found.skeleton].own
        assert own is not None
        data = own.write(taken.skeleton)
        joints = loaded({"patience.kms": data})["patience.kmm"][1]  # the game checks the inverse pose
        self.assertEqual([0, 0, 150], [round(float(one), 3) for one in joints[2].move])

    def test_unknown_joints_are_refused(self) -> None:
        gltf = pygltf(as_glb(gathered("patience.kmm")[1]))
        gltf.nodes[gltf.skins[0].joints[3]].name = "rudder"
        with self.assertRaisesRegex(RefusedError, "joints that the game's skeleton has not"):
            edited_file("patience.kmm", saved(gltf))

    def test_too_many_bones_are_split(self) -> None:
        """The lighthouse may have two bones a part: faces that need others go into a part of their own."""
        name = "old_light.kml"
        opened, found = gathered(name)
        edited = from_glb(as_glb(found))
        assert edited.skeleton is not None
        skeleton = found.model.skeleton
        assert skeleton is not None
        for mesh in edited.meshes:
            assert mesh.joints is not None
            mesh.joints[:40, 0] = 1
        data = written(opened, taken_over(found, edited))
        model = loaded({name: data})[name][0]
        self.assertEqual({0, 1}, set(model.joints[model.weights > 0].tolist()))

    def test_a_box_that_grows_gets_another_range(self) -> None:
        """Positions of 16 bits beyond the file's scale: scale and offset are made new, the game's loader agrees."""
        name = "patience.kmm"
        gltf = pygltf(as_glb(gathered(name)[1]))
        accessor = gltf.meshes[0].primitives[0].attributes.POSITION
        put_numbers(gltf, accessor, numbers(gltf, accessor) * np.float32(3))
        data, _ = edited_file(name, saved(gltf))
        model, before = loaded({name: data})[name][0], loaded({})[name][0]
        np.testing.assert_allclose(model.positions, before.positions * 3, atol=0.06)

    def test_the_game_refuses_what_is_wrong(self) -> None:
        """The stand-in game's loader is strict, or these tests would show little."""
        data = bytearray(self.originals["patience.kmm"])
        data[_vertices_at("patience.kmm")] ^= 1
        with self.assertRaisesRegex(GameError, "checksum"):
            loaded({"patience.kmm": bytes(data)})
        obj = self.originals["buoy.obj"].replace(b"usemtl tar", b"usemtl gold")
        with self.assertRaisesRegex(GameError, "no material gold"):
            loaded({"buoy.obj": obj})

    def test_text_keeps_its_numbers(self) -> None:
        """The buoy is OBJ: what was not moved is written with the text that it had."""
        opened, found = gathered("buoy.obj")
        edited = from_glb(as_glb(found))
        edited.meshes[0].positions[3, 1] += 1
        taken = taken_over(found, edited)
        assert taken.mesh is not None and opened.form is not None
        text = opened.form.write(taken.mesh, {})["obj"].decode()
        before = self.originals["buoy.obj"].decode()
        new = [line for line in text.splitlines() if line not in before.splitlines() and line[0] in "v"]
        self.assertEqual(1, len(new), new)
        loaded({"buoy.obj": text.encode()})


class Materials(unittest.TestCase):
    """Materials are compared by what glTF carries of them."""

    def test_what_gltf_does_not_carry_stays(self) -> None:
        _, found = gathered("patience.kmm")
        found.model.materials[0] = Material("hull", {"normal": "canvas/patience_hull_n", "gloss": "x"}, alpha="blend")
        edited = from_glb(as_glb(found))
        taken = taken_over(found, edited)
        self.assertEqual([], taken.materials)


def _others(taken: TakenOver) -> tuple[Any, ...]:
    return taken.skeleton, taken.animations, taken.new_animations, taken.materials, taken.vertices


def _source(data: bytes, name: str) -> Any:
    from volvex.source import BytesSource

    return BytesSource(data, name)


def _vertices_at(name: str) -> int:
    from kelpwick.slip.make import KMM, KMM_PART

    assert name == "patience.kmm"
    return KMM.size + 6 * KMM_PART.size


def _with_flag(data: bytes, material: str) -> bytes:
    """Two triangles of four new vertices on the mast, as a primitive of the first mesh."""
    import pygltflib

    gltf = pygltf(data)
    positions = np.array([[0, 3.6, 0.4], [0.8, 3.7, 0.4], [0, 4.0, 0.4], [0.8, 4.0, 0.4]], "<f4")
    normals, uvs = np.array([[0, 0, 1]] * 4, "<f4"), np.array([[0, 0], [1, 0], [0, 1], [1, 1]], "<f4")
    mast = next(n for n, joint in enumerate(gltf.skins[0].joints) if gltf.nodes[joint].name == "mast")
    joints, weights = np.array([[mast, 0, 0, 0]] * 4, "<u2"), np.array([[1, 0, 0, 0]] * 4, "<f4")
    tangents = np.array([[1, 0, 0, 1]] * 4, "<f4")
    made = {
        "POSITION": add_accessor(gltf, positions, "VEC3"),
        "NORMAL": add_accessor(gltf, normals, "VEC3"),
        "TANGENT": add_accessor(gltf, tangents, "VEC4"),
        "TEXCOORD_0": add_accessor(gltf, uvs, "VEC2"),
        "JOINTS_0": add_accessor(gltf, joints, "VEC4"),
        "WEIGHTS_0": add_accessor(gltf, weights, "VEC4"),
    }
    indices = add_accessor(gltf, np.array([[0], [1], [2], [1], [3], [2]], "<u2"), "SCALAR")
    number = next(n for n, one in enumerate(gltf.materials) if one.name == material)
    gltf.meshes[0].primitives.append(
        pygltflib.Primitive(attributes=pygltflib.Attributes(**made), indices=indices, material=number)
    )
    return saved(gltf)


def _placed(skeleton: Any, animation: Animation, time: float) -> dict[str, Any]:
    """Where joints are at a time of an animation, by the rules of glTF."""
    from volvex.asset.model.model import order_of
    from volvex.asset.model.space import matrix_of, world_of

    moves, turns, scales = skeleton.translations.copy(), skeleton.rotations.copy(), skeleton.scales.copy()
    for track in animation.tracks:
        into = {"translation": moves, "rotation": turns, "scale": scales}[track.path]
        into[track.joint] = sampled(track, np.array([time]))[0]
    world = world_of(skeleton.parents, matrix_of(moves, turns, scales), order_of(skeleton.parents))
    return {name: world[number, :3, 3] for number, name in enumerate(skeleton.names)}


if __name__ == "__main__":
    unittest.main()
