"""Layouts of models: every way in which numbers are stored, read to glTF's space and written back to the same bits."""

from __future__ import annotations

import struct
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.asset.model.model import Animation, Material, Mesh, Model, Part, Skeleton, Track
from volvex.asset.model.own_layout import LayoutModel
from volvex.asset.model.proof import model_change_faults, model_hints
from volvex.asset.model.space import AXES, Space, matrix_of, parts_of, quaternion_of
from volvex.asset.model.topology import from_strip, nearest_rows, split_by_bones, tangents_of, to_strip
from volvex.errors import FormatError, ManyErrors, RefusedError, VolvexError
from volvex.layout.inspect.proof import prove
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

CORNERS = [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)]
FACES = [(0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)]


def form(text: str) -> LayoutModel:
    return LayoutModel(parse_layout(text, "t.layout"))


def opened(text: str, data: bytes, skeleton: Skeleton | None = None) -> tuple[LayoutModel, Model]:
    """A model read by a layout, proved to be written as it was."""
    own = form(text)
    model = own.read(BytesSource(data, "models/tower.bin"), skeleton)
    assert prove(model.extra["reading"]).difference is None
    model.extra["original"] = model
    assert own.write(model) == data
    return own, model


def again(own: LayoutModel, model: Model, **changes: Any) -> tuple[bytes, Model]:
    """A changed model written, and read again."""
    data = own.write(replace(model, **changes))
    return data, own.read(BytesSource(data, "models/tower.bin"))


class Storage(unittest.TestCase):
    """How positions, normals, UVs, colours and weights are stored."""

    def test_bytes_as_shares_of_a_box(self) -> None:
        """16 bits without a sign between the corners of the box in the head: the box follows the vertices."""
        text = """layout "t" kind mesh
known by "BOXM" at 0
block head at 0
    mark  4 bytes  is "BOXM"
    count u16  count of rows
    low   array of 3 f32  box low
    high  array of 3 f32  box high
block rows after head repeats
    place array of 3 u16  position
    tint  array of 4 u8   colour
    bump  array of 2 i16  octahedral normal
"""
        rows = b"".join(
            struct.pack("<3H4B2h", *(65535 * one for one in corner), 255, 128, 0, 64, *bump)
            for corner, bump in zip(CORNERS, ((0, 0), (32767, 0), (0, -32767), (-20000, -20000)), strict=True)
        )
        data = b"BOXM" + struct.pack("<H6f", 4, -1, -2, -3, 1, 2, 3) + rows[:66]
        own, model = opened(text, data)
        mesh = model.meshes[0]
        np.testing.assert_allclose(mesh.positions[1], (1, -2, -3), atol=1e-6)
        np.testing.assert_allclose(mesh.colours[0][0], (1, 128 / 255, 0, 64 / 255), atol=1e-6)
        assert mesh.normals is not None
        np.testing.assert_allclose(np.linalg.norm(mesh.normals, axis=1), 1, atol=1e-6)
        np.testing.assert_allclose(mesh.normals[:3], [(0, 0, 1), (1, 0, 0), (0, -1, 0)], atol=1e-4)
        moved = replace(mesh, positions=mesh.positions * 2)
        made, read = again(own, model, meshes=[moved])
        self.assertEqual((-2, -4, -6, 2, 4, 6), struct.unpack_from("<6f", made, 6))
        np.testing.assert_allclose(read.meshes[0].positions, moved.positions, atol=1e-3)
        self.assertEqual(rows[6:14], made[36:44])  # colours and normals keep their bits

    def test_padding_behind_a_vector_is_kept(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
block rows after head repeats
    place array of 4 f32  position
    up    array of 4 i8   normal
"""
        rows = [struct.pack("<4f4b", *corner, 7.5, 0, 127, 0, number) for number, corner in enumerate(CORNERS[:3])]
        own, model = opened(text, struct.pack("<H", 3) + b"".join(rows))
        moved = replace(model.meshes[0], positions=model.meshes[0].positions + np.float32(1))
        made, _ = again(own, model, meshes=[moved])
        self.assertEqual((1.0, 1.0, 1.0, 7.5, 0, 127, 0, 0), struct.unpack_from("<4f4b", made, 2))
        self.assertEqual(2, made[2 + 40 + 19])

    def test_two_streams_and_a_scale_of_uvs(self) -> None:
        """Positions and UVs in blocks of their own; UVs as whole numbers with a scale."""
        text = """layout "t" kind mesh
big endian
block head at 0
    count u16  count of places
    scale f32  uv scale
block places after head repeats
    x     f32  position x
    y     f32  position y
    z     f32  position z
block pictures after places repeats with places
    u     i16  uv u
    v     i16  uv v
    u2    f16  second uv u
    v2    f16  second uv v
content as model(v up)
"""
        places = b"".join(struct.pack(">3f", *corner) for corner in CORNERS[:3])
        pictures = b"".join(struct.pack(">2h2e", 512 * n, 1024, 0.25, 0.5) for n in range(3))
        own, model = opened(text, struct.pack(">Hf", 3, 1 / 1024) + places + pictures)
        mesh = model.meshes[0]
        np.testing.assert_allclose(mesh.uvs[0][1], (0.5, 0), atol=1e-6)
        np.testing.assert_allclose(mesh.uvs[1][1], (0.25, 0.5), atol=1e-6)
        other = replace(mesh, uvs=[mesh.uvs[0] + np.float32(2), mesh.uvs[1]])
        _, read = again(own, model, meshes=[other])
        np.testing.assert_allclose(read.meshes[0].uvs[0], other.uvs[0], atol=1e-3)
        with self.assertRaisesRegex(RefusedError, "too far away"):
            again(own, model, meshes=[replace(mesh, uvs=[mesh.uvs[0] * 100 + 50, mesh.uvs[1]])])

    def test_weights_of_which_the_last_is_left_out(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
block rows after head repeats
    place array of 3 f32  position
    a     u8   joints a
    b     u8   joints b
    w     u8   weights a
block bones after rows repeats until end
    name  text 8  joint name
    above i16  joint parent
"""
        rows = b"".join(struct.pack("<3f3B", *corner, 0, 1, 51 * n) for n, corner in enumerate(CORNERS[:3]))
        bones = struct.pack("<8sh8sh", b"foot", -1, b"top", 0)
        own, model = opened(text, struct.pack("<H", 3) + rows + bones)
        mesh = model.meshes[0]
        assert mesh.weights is not None and mesh.joints is not None
        np.testing.assert_allclose(mesh.weights[1, :2], (0.2, 0.8), atol=1e-6)
        weights, joints = mesh.weights.copy(), mesh.joints.copy()
        weights[2], joints[2] = (0.75, 0.25, 0, 0), (1, 0, 0, 0)
        made, read = again(own, model, meshes=[replace(mesh, weights=weights, joints=joints)])
        self.assertEqual((1, 0, 191), struct.unpack_from("<3B", made, 2 + 2 * 15 + 12))
        assert read.meshes[0].weights is not None
        np.testing.assert_allclose(read.meshes[0].weights[2, :2], (0.75, 0.25), atol=0.01)

    def test_what_no_number_can_hold_is_refused(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
block rows after head repeats
    place array of 3 f16  position
"""
        own, model = opened(text, struct.pack("<H9e", 3, *(n / 4 for n in range(9))))
        with self.assertRaisesRegex(RefusedError, "f16, which cannot hold"):
            again(own, model, meshes=[replace(model.meshes[0], positions=model.meshes[0].positions * 1e6)])

    def test_no_number_of_a_place_is_left_out(self) -> None:
        for fact, count in (("position", 1), ("position", 2), ("normal", 2), ("uv", 1)):
            lines = [] if fact == "position" else ["place array of 3 f32  position"]
            rows = "".join(f"    {line}\n" for line in [*lines, f"one array of {count} f32  {fact}"])
            with self.assertRaisesRegex(VolvexError, f"the {fact} has [23] numbers"):
                form(f'layout "t" kind mesh\nblock rows at 0 repeats until end\n{rows}')

    def test_positions_that_are_no_numbers(self) -> None:
        text = 'layout "t" kind mesh\nblock rows at 0 repeats until end\n    place array of 3 f32  position\n'
        with self.assertRaisesRegex(FormatError, "position of vertex 1 is no number"):
            form(text).read(BytesSource(struct.pack("<6f", 0, 0, 0, 0, float("nan"), 0), "t"))


class Triangles(unittest.TestCase):
    """Lists, strips, parts, bones of parts."""

    def test_strips_there_and_back(self) -> None:
        rng = np.random.default_rng(3)
        for _ in range(40):
            side = int(rng.integers(1, 6))
            at = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).reshape(-1)
            triangles = np.stack([at, at + 1, at + side + 1, at + 1, at + side + 2, at + side + 1], 1).reshape(-1, 3)
            triangles = triangles[rng.permutation(len(triangles))[: int(rng.integers(1, len(triangles) + 1))]]
            found = from_strip(to_strip(triangles), 65535)
            self.assertEqual(_rolled(triangles), _rolled(found))

    def test_a_strip_that_begins_again(self) -> None:
        found = from_strip(np.array([0, 1, 2, 3, 65535, 4, 5, 6]), 65535)
        self.assertEqual([[0, 1, 2], [2, 1, 3], [4, 5, 6]], found.tolist())

    def test_bones_are_shared_out(self) -> None:
        joints = np.array([[number % 6] for number in range(18)])
        triangles = np.arange(18).reshape(-1, 3)
        groups = split_by_bones(joints, np.ones((18, 1)), triangles, 3)
        self.assertEqual(6, sum(map(len, groups)))
        for group in groups:
            self.assertLessEqual(len(np.unique(joints[group])), 3)

    def test_indices_past_the_end(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
    many  u16  count of faces
block rows after head repeats
    place array of 3 f32  position
block faces after rows repeats
    index u16  index
"""
        data = struct.pack("<HH", 3, 3) + struct.pack("<9f", *range(9)) + struct.pack("<3H", 0, 1, 3)
        with self.assertRaisesRegex(FormatError, "an index 3, there are 3 vertices"):
            form(text).read(BytesSource(data, "t"))

    def test_shared_vertices_where_a_format_has_no_indices(self) -> None:
        """Each corner gets a vertex, and what the format keeps beside its vertices follows them, row by row."""
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
block rows after head repeats
    place array of 3 f32  position
block kept after rows repeats with rows
    note  u16  kept
"""
        corners = b"".join(struct.pack("<3f", *corner) for corner in CORNERS[:3])
        own, model = opened(text, struct.pack("<H", 3) + corners + struct.pack("<3H", 7, 8, 9))
        sheet = replace(
            model.meshes[0],
            positions=np.array(CORNERS, np.float32),
            triangles=np.array(FACES, np.uint32),
            parts=[replace(model.meshes[0].parts[0], count=4)],
        )
        made, read = again(own, replace(model, extra={**model.extra, "like": [0, 1, 2, -1]}), meshes=[sheet])
        self.assertEqual(12, struct.unpack_from("<H", made)[0])
        self.assertEqual((7, 9, 8, 7, 8, 7, 7, 7, 9, 8, 9, 7), struct.unpack_from("<12H", made, 2 + 12 * 12))
        np.testing.assert_array_equal(read.meshes[0].positions, sheet.positions[np.array(FACES).reshape(-1)])

    def test_more_vertices_than_numbers_reach(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    count u16  count of rows
    many  u16  count of faces
block rows after head repeats
    place array of 3 f32  position
block faces after rows repeats
    index u8   index
"""
        data = struct.pack("<HH", 3, 3) + struct.pack("<9f", *range(9)) + bytes((0, 1, 2))
        own, model = opened(text, data)
        count = 300
        mesh = Mesh("t", np.zeros((count, 3), np.float32), np.arange(count, dtype=np.uint32).reshape(-1, 3))
        mesh.positions[:, 0] = np.arange(count)
        mesh.parts = [Part(0, count // 3)]
        model.extra["like"] = np.full(count, -1)
        with self.assertRaisesRegex(RefusedError, "300 vertices: numbers of u8 reach 256"):
            again(own, model, meshes=[mesh])


class Spaces(unittest.TestCase):
    """Where up is, which hand, how large."""

    def test_every_space_there_and_back(self) -> None:
        rng = np.random.default_rng(5)
        points, turns = rng.normal(size=(20, 3)), rng.normal(size=(20, 4))
        turns /= np.linalg.norm(turns, axis=1, keepdims=True)
        for up, handed in AXES:
            space = Space(up, handed, 100)
            np.testing.assert_allclose(space.points(space.points(points), True), points)
            np.testing.assert_allclose(space.quaternions(space.quaternions(turns), True), turns)
            above = np.eye(3)["xyz".index(up)]
            np.testing.assert_allclose(space.directions(above[None])[0], (0, 1, 0))
            self.assertEqual(1 if handed == "right" else -1, round(float(np.linalg.det(space.axes))))

    def test_rotations_turn_points_the_same_way(self) -> None:
        """A point turned in the game's space is where it is when both are brought to glTF's."""
        rng = np.random.default_rng(6)
        point, turn = rng.normal(size=(1, 3)), rng.normal(size=(1, 4))
        turn /= np.linalg.norm(turn)
        for up, handed in AXES:
            space = Space(up, handed, 10)
            game = matrix_of(np.zeros((1, 3)), turn, np.ones((1, 3)))[0, :3, :3] @ point[0]
            made = matrix_of(np.zeros((1, 3)), space.quaternions(turn), np.ones((1, 3)))[0, :3, :3]
            np.testing.assert_allclose(made @ space.points(point)[0], space.points(game[None])[0], atol=1e-9)
            whole = matrix_of(point, turn, np.ones((1, 3)))
            np.testing.assert_allclose(space.matrices(space.matrices(whole), True), whole, atol=1e-9)

    def test_matrices_apart_and_together(self) -> None:
        rng = np.random.default_rng(7)
        turns = rng.normal(size=(50, 4))
        turns /= np.linalg.norm(turns, axis=1, keepdims=True)
        whole = matrix_of(rng.normal(size=(50, 3)), turns, rng.uniform(0.5, 2, (50, 3)))
        np.testing.assert_allclose(matrix_of(*parts_of(whole)), whole, atol=1e-9)
        same = quaternion_of(matrix_of(np.zeros((50, 3)), turns, np.ones((50, 3)))[:, :3, :3])
        np.testing.assert_allclose(np.abs((same * turns).sum(axis=1)), 1, atol=1e-9)


class Moving(unittest.TestCase):
    """Skeletons and animations."""

    SKELETON = """layout "t" kind skeleton
block joints at 0 repeats until end
    name   text 8  joint name
    parent u8      joint parent
    bind   array of 16 f32  bind matrix
content as model(up z, bind world)
"""

    def skeleton(self) -> tuple[LayoutModel, Model, bytes]:
        made = b""
        for name, parent, z in ((b"foot", 255, 0.0), (b"knee", 0, 2.0), (b"hip", 1, 5.0)):
            matrix = np.eye(4)
            matrix[:3, 3] = (0, 0, z)
            made += struct.pack("<8sB16f", name, parent, *matrix.T.reshape(-1))
        return (*opened(self.SKELETON, made), made)

    def test_matrices_of_the_bound_pose(self) -> None:
        own, model, before = self.skeleton()
        assert model.skeleton is not None and model.skeleton.inverse_bind is not None
        np.testing.assert_allclose(model.skeleton.translations, [(0, 0, 0), (0, 2, 0), (0, 3, 0)], atol=1e-6)
        np.testing.assert_allclose(model.skeleton.inverse_bind[2] @ (0, 5, 0, 1), (0, 0, 0, 1), atol=1e-6)
        moved = replace(
            model.skeleton, translations=model.skeleton.translations + _f([[0, 0, 0], [0, 1, 0], [0, 0, 0]])
        )
        made, read = again(own, model, skeleton=moved)
        assert read.skeleton is not None
        np.testing.assert_allclose(read.skeleton.translations, moved.translations, atol=1e-6)
        self.assertEqual(before[:73], made[:73])  # the first joint keeps its bits

    def test_joints_in_a_circle(self) -> None:
        data = b"".join(
            struct.pack("<8sB16f", name, parent, *np.eye(4).reshape(-1)) for name, parent in ((b"a", 1), (b"b", 0))
        )
        with self.assertRaisesRegex(FormatError, "its own ancestor"):
            form(self.SKELETON).read(BytesSource(data, "t"))

    def test_a_joint_that_flattens_everything(self) -> None:
        with self.assertRaisesRegex(FormatError, "flattens everything"):
            form(self.SKELETON).read(BytesSource(struct.pack("<8sB16f", b"a", 255, *[0.0] * 16), "t"))

    def test_a_pose_for_each_frame(self) -> None:
        """No tracks: translation and rotation of every joint, frame by frame."""
        text = """layout "t" kind animation
block head at 0
    rate   u8   frame rate { 1 hz15, 2 hz30 }
    frames u16  frames
block poses after head repeats until end
    place  array of 3 f32  translation key
    turn   array of 4 i16  rotation key
"""
        poses = b"".join(
            struct.pack("<3f4h", frame, joint, 0, 0, 0, 0, 32767) for frame in range(4) for joint in range(2)
        )
        data = struct.pack("<BH", 2, 4) + poses
        own, model = opened(text, data)
        animation = model.animations[0]
        self.assertEqual((4, 30.0), (len(animation.tracks), animation.rate))
        self.assertAlmostEqual(0.1, animation.duration, places=6)
        tracks = [
            replace(track, values=track.values * 2) if track.path == "translation" else track
            for track in animation.tracks
        ]
        made, read = again(own, model, animations=[replace(animation, tracks=tracks)])
        self.assertEqual((6.0, 2.0), struct.unpack_from("<2f", made, 3 + 7 * 20))
        longer = [
            Track(
                track.joint,
                track.path,
                np.append(track.times, [0.2]).astype(np.float32),
                np.concatenate([track.values, track.values[-1:]]),
            )
            for track in animation.tracks
        ]
        made, read = again(own, model, animations=[replace(animation, tracks=longer)])
        self.assertAlmostEqual(0.2, read.animations[0].duration, places=6)
        self.assertEqual(data[3:], made[3 : len(data)])

    def test_several_animations_in_a_file(self) -> None:
        text = """layout "t" kind animation
block head at 0
    many   u8   count of moves
    all    u8   count of tracks
    keys   u8   count of keys
block moves after head repeats
    name   text 8  animation name
    last   f32     duration
    tracks u8      track count
block tracks after moves repeats
    joint  text 8  track joint name
    way    u8      track of { 0 translation, 1 rotation, 2 scale }
    keys   u8      key count
block keys after tracks repeats
    time   f32     key time
    turn   array of 4 f32  rotation key
"""
        keys = b"".join(struct.pack("<5f", time, 0, 0, 0, 1) for time in (0, 1, 0, 0.5, 1.5))
        data = bytes((2, 2, 5)) + struct.pack("<8sfB8sfB", b"nod", 1, 1, b"turn", 1.5, 1)
        data += struct.pack("<8sBB8sBB", b"foot", 1, 2, b"knee", 1, 3) + keys
        _, held, _ = self.skeleton()
        own, model = opened(text, data, held.skeleton)
        self.assertEqual(["nod", "turn"], [one.name for one in model.animations])
        new = Animation("bow", [Track(2, "rotation", _f([0, 2]), _f([[0, 0, 0, 1], [0, 1, 0, 0]]))])
        made = own.write(replace(model, animations=[*model.animations, new]))
        read = own.read(BytesSource(made, "t"), held.skeleton)
        self.assertEqual(["nod", "turn", "bow"], [one.name for one in read.animations])
        self.assertEqual((2, 2.0), (read.animations[2].tracks[0].joint, read.animations[2].duration))
        self.assertEqual(keys, made[-len(keys) - 40 : -40])

    def test_keys_that_are_not_there(self) -> None:
        text = """layout "t" kind animation
block tracks at 0 repeats until hex ff
    way    u8      track of { 0 translation, 1 rotation }
    first  u8      first key
    keys   u32     key count
block stop after tracks
    mark   1 bytes is hex ff
block keys after stop repeats until end
    time   f32     key time
    turn   array of 4 f32  rotation key
"""
        data = struct.pack("<BBI", 1, 0, 4_000_000_000) + b"\xff" + struct.pack("<5f", 0, 0, 0, 0, 1)
        with self.assertRaisesRegex(FormatError, "keys 0 to 4,000,000,000 of rotation, there are 1"):
            form(text).read(BytesSource(data, "t"))


class Shapes(unittest.TestCase):
    TEXT = """layout "t" kind mesh
block head at 0
    count  u8   count of rows
    shapes u8   count of shapes
    shifts u8   count of shifts
block rows after head repeats
    place  array of 3 f32  position
block shapes after rows repeats
    name   text 8  morph name
    first  u8      first shift
    many   u8      shift count
block shifts after shapes repeats
    vertex u8      shifted vertex
    move   array of 3 f16  shift
"""

    def test_sparse_morph_targets(self) -> None:
        rows = b"".join(struct.pack("<3f", *corner) for corner in CORNERS[:3])
        shapes = struct.pack("<8sBB8sBB", b"smile", 0, 1, b"frown", 1, 2)
        shifts = struct.pack("<B3eB3eB3e", 2, 0, 0.5, 0, 0, 1, 0, 0, 1, 0, 0, 0.25)
        own, model = opened(self.TEXT, bytes((3, 2, 3)) + rows + shapes + shifts)
        mesh = model.meshes[0]
        self.assertEqual(["smile", "frown"], [one.name for one in mesh.morphs])
        np.testing.assert_allclose(mesh.morphs[0].positions, [(0, 0, 0), (0, 0, 0), (0, 0.5, 0)])
        wider = mesh.morphs[0].positions.copy()
        wider[0] = (0, 0, 2)
        made, read = again(
            own, model, meshes=[replace(mesh, morphs=[replace(mesh.morphs[0], positions=wider), mesh.morphs[1]])]
        )
        self.assertEqual(4, made[2])
        np.testing.assert_allclose(read.meshes[0].morphs[0].positions, wider)
        np.testing.assert_allclose(read.meshes[0].morphs[1].positions, mesh.morphs[1].positions)


class Materials(unittest.TestCase):
    def test_numbered_materials_in_the_mesh(self) -> None:
        text = """layout "t" kind mesh
block head at 0
    rows   u8   count of rows
    parts  u8   count of parts
    paints u8   count of paints
block rows after head repeats
    place  array of 3 f32  position
block parts after rows repeats
    first  u8   first index
    count  u8   index count
    paint  u8   part material
block paints after parts repeats
    name   text 8   material name
    skin   text u8  colour texture
    seen   u8       alpha mode { 0 opaque, 1 mask }
    cut    f32      alpha cutoff
"""
        rows = b"".join(struct.pack("<3f", *corner) for corner in (*CORNERS[:3], *CORNERS[1:]))
        data = (
            bytes((6, 2, 1)) + rows + bytes((0, 3, 0, 3, 3, 9)) + struct.pack("<8sB4sBf", b"tar", 4, b"soot", 1, 0.25)
        )
        own, model = opened(text, data)
        self.assertEqual("soot", model.materials[0].textures["colour"])
        self.assertEqual(-1, model.meshes[0].parts[1].material)
        mesh = replace(model.meshes[0], positions=model.meshes[0].positions + np.float32(1))
        made, read = again(own, model, meshes=[mesh])
        self.assertEqual(
            data[len(data) - 24 :], made[len(made) - 24 :]
        )  # the number of a material that is nowhere stays
        other = [Material("pitch", {"colour": "a/longer/name"}, alpha="mask", cutoff=0.25), *model.materials[1:]]
        made, read = again(own, model, materials=other)
        self.assertEqual(("pitch", "a/longer/name"), (read.materials[0].name, read.materials[0].textures["colour"]))


class Proof(unittest.TestCase):
    def test_a_wrong_hand_is_noticed(self) -> None:
        """`layout prove` says when triangles look the other way than their normals, or edges reach across the mesh."""
        from kelpwick import slip
        from tests.model_material import game, gathered

        opened_, _ = gathered("patience.kmm")
        assert opened_.own is not None
        self.assertEqual([], [hint.seen for hint in model_hints(opened_.model) if "triangles" in hint.seen])
        text = _layout_text("boats")
        wrong = form(text.replace("handed left", "handed right"))
        source = BytesSource(dict(slip.read(game()))["patience.kmm"], "patience.kmm")
        seen = [hint.seen for hint in model_hints(wrong.read(source))]
        self.assertTrue(any("look the other way" in one for one in seen), seen)
        wrong = form(text.replace("content as model(up z", "content as model(faces strip, up z"))
        seen = [hint.seen for hint in model_hints(wrong.read(source))]
        self.assertTrue(any("triangles look" in one or "across the whole mesh" in one for one in seen), seen)

    def test_changes_hold(self) -> None:
        from tests.model_material import gathered

        for name in ("patience.kmm", "old_light.kml", "patience_row.kma", "materials.kmt"):
            opened_, _ = gathered(name)
            assert opened_.own is not None
            trials = list(model_change_faults(opened_.own, opened_.model))  # type: ignore[arg-type]
            self.assertTrue(trials, name)
            self.assertEqual([], [fault for _, fault in trials if fault], name)


class Sound(unittest.TestCase):
    """What makes a layout of a model unsound is found, with its line."""

    def refused(self, text: str, *words: str) -> None:
        with self.assertRaises(VolvexError) as caught:
            parse_layout(f'layout "t" kind mesh\n{text}', "t.layout")
        errors = caught.exception.errors if isinstance(caught.exception, ManyErrors) else [caught.exception]
        said = "\n".join(line for error in errors for line in error.lines())
        for word in words:
            self.assertIn(word, said)

    def test_mistakes(self) -> None:
        rows = "block rows at 0 repeats until end\n"
        place = "    place array of 3 f32  position\n"
        self.refused(f"{rows}    up array of 3 f32  normal\n", "no field gives the position")
        self.refused(f"{rows}    x f32 position x\n    y f32 position y\n", "no field gives the position z")
        self.refused(f"{rows}{place}    j array of 10 u8 joints\n    w u8 weights a\n", "at most 8 numbers")
        self.refused(f"{rows}{place}    n array of 6 f32 normal\n", "at most 3 numbers")
        self.refused(f"{rows}{place}    n text 8 normal\n", "is a number")
        self.refused(f"block head at 0\n{place}", "is in a row of records")
        self.refused(f"{rows}{place}content as model(up w)\n", "up cannot be w")
        self.refused(f"{rows}{place}content as zlib\n", "is not a property of models")
        self.refused(f"{rows}{place}    a array of 2 f32 uv\n    u f32 uv u\n", "as a whole and by its numbers")
        self.refused(
            f"block parts at 0 repeats until hex 00\n    use u8 part use {{ 0 seen "
            f"}}\n{rows.replace('at 0', 'after parts')}{place}",
            "one of drawn, collision",
        )


class Tangents(unittest.TestCase):
    def test_a_flat_sheet(self) -> None:
        """On a sheet whose u grows along x tangents are x; mirrored parts have the other hand."""
        positions = _f([(0, 0, 0), (1, 0, 0), (0, 1, 0), (1, 1, 0)])
        mesh = Mesh("t", positions, np.array([(0, 1, 2), (1, 3, 2)]))
        mesh.normals = _f([(0, 0, 1)] * 4)
        mesh.uvs = [_f([(0, 1), (1, 1), (0, 0), (1, 0)])]
        np.testing.assert_allclose(tangents_of(mesh), [(1, 0, 0, 1)] * 4, atol=1e-6)
        mesh.uvs = [_f([(1, 1), (0, 1), (1, 0), (0, 0)])]
        np.testing.assert_allclose(tangents_of(mesh), [(-1, 0, 0, -1)] * 4, atol=1e-6)

    def test_nearest_rows(self) -> None:
        rng = np.random.default_rng(9)
        points, wanted = rng.normal(size=(200, 3)), rng.normal(size=(50, 3))
        expected = np.argmin(((points[None] - wanted[:, None]) ** 2).sum(axis=2), axis=1)
        np.testing.assert_array_equal(nearest_rows(points, wanted), expected)


def _f(rows: Any) -> Any:
    """Floats as models have them."""
    return np.array(rows, np.float32)


def _rolled(triangles: Any) -> list[tuple[int, ...]]:
    """Triangles with their smallest vertex first, in order."""
    return sorted(tuple(np.roll(row, -int(np.argmin(row))).tolist()) for row in np.asarray(triangles))


def _layout_text(name: str) -> str:
    from volvex.shipped import GAMES

    return (GAMES / "kelpwick" / f"{name}.layout").read_text(encoding="utf-8")


if __name__ == "__main__":
    unittest.main()
