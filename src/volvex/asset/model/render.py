"""Models as pictures: a z-buffer, light from above the viewer's left, textures, poses; no graphics card is needed.

Source of the edge functions: J. Pineda, A Parallel Algorithm for Polygon Rasterization, 1988. Everything is drawn twice
as large and scaled down, which smooths edges.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from volvex.asset.model.model import (
    BLEND,
    DRAWN,
    MASK,
    PATHS,
    ROTATION,
    TRANSLATION,
    Animation,
    Array,
    Mesh,
    Model,
    Skeleton,
    order_of,
)
from volvex.asset.model.space import matrix_of, world_of
from volvex.asset.model.topology import normals_of, used_rows
from volvex.asset.model.tracks import sampled
from volvex.codec.compiled import Compiled

YAW, PITCH = 35.0, 18.0  # degrees from which a model is seen: from its front, a little to the side and from above
SMOOTH = 2  # pixels that are drawn for one, each way
LARGEST = 4096  # pixels of a side
LIGHT = (-0.45, 0.75, 0.6)
GREY = (0.72, 0.74, 0.78)  # of what has no texture and no colour
BONE, JOINT = (255, 196, 64), (255, 120, 80)
SLACK = 0.9  # of the picture that the model fills
WHITE = np.full((1, 1, 4), 255, np.uint8)


@dataclass(frozen=True)
class View:
    """How a model is drawn: from where, which level of detail, with textures or without, with its joints or without."""

    yaw: float = YAW
    pitch: float = PITCH
    lod: int = 0
    use: str = DRAWN
    plain: bool = False
    skeleton: bool = False


@dataclass
class Scene:
    """A model with its textures by material (red, green, blue, alpha of 8 bits), and the pose that it is in."""

    model: Model
    textures: Mapping[int, Array] = field(default_factory=dict)
    pose: Array | None = None  # the joints' matrices, joints x 4 x 4; None for the pose in which it is bound

    def positions(self, mesh: Mesh) -> tuple[Array, Array]:
        """Positions and normals in the pose."""
        normals = mesh.normals if mesh.normals is not None else normals_of(mesh.positions, mesh.triangles)
        skeleton = self.model.skeleton
        if self.pose is None or skeleton is None or mesh.joints is None or mesh.weights is None:
            return mesh.positions, normals
        inverse = skeleton.inverse_bind
        moved = self.pose if inverse is None else self.pose @ inverse
        moved = moved.astype(np.float32)
        positions, turned = np.zeros_like(mesh.positions), np.zeros_like(normals)
        joints = np.minimum(mesh.joints, len(skeleton) - 1)
        for at in range(joints.shape[1]):
            weight = mesh.weights[:, at : at + 1]
            if not weight.any():
                continue
            own = moved[joints[:, at]]
            positions += weight * (np.einsum("nij,nj->ni", own[:, :3, :3], mesh.positions) + own[:, :3, 3])
            turned += weight * np.einsum("nij,nj->ni", own[:, :3, :3], normals)
        length = np.linalg.norm(turned, axis=1, keepdims=True)
        return positions, turned / np.where(length < 1e-12, 1, length)


def bind_pose(skeleton: Skeleton) -> Array:
    """The joints' matrices in the pose in which they stand."""
    local = matrix_of(skeleton.translations, skeleton.rotations, skeleton.scales)
    return world_of(skeleton.parents, local, order_of(skeleton.parents))


def posed(skeleton: Skeleton, animation: Animation, time: float) -> Array:
    """The joints' matrices at a time of an animation."""
    values: dict[str, Array] = {
        path: held.astype(np.float64).copy()
        for path, held in zip(PATHS, (skeleton.translations, skeleton.rotations, skeleton.scales), strict=True)
    }
    for track in animation.tracks:
        if 0 <= track.joint < len(skeleton) and len(track.times):
            values[track.path][track.joint] = sampled(track, np.array([time]))[0]
    local = matrix_of(values[TRANSLATION], values[ROTATION], values["scale"])
    return world_of(skeleton.parents, local, order_of(skeleton.parents))


@dataclass(frozen=True)
class Fit:
    """The stretch of a view that a picture shows: its middle, and how far it reaches to the sides and up."""

    middle: Array
    reach: Array


def render(
    scene: Scene,
    width: int,
    height: int,
    view: View = View(),
    fit: Fit | None = None,
    back: tuple[int, int, int] | None = None,
) -> Array:
    """A model as red, green, blue and alpha of 8 bits; transparent where nothing is, or of the colour `back`.

    fit   what the picture shows, so that several have one scale; None for all that is drawn
    """
    with np.errstate(all="ignore"):  # what is no number is not drawn
        made = _rendered(scene, width, height, view, fit)
    if back is None:
        return made
    share = made[..., 3:].astype(np.float32) / 255
    made[..., :3] = (made[..., :3] * share + np.array(back) * (1 - share)).round()
    made[..., 3] = 255
    return made


def _rendered(scene: Scene, width: int, height: int, view: View, fit: Fit | None) -> Array:
    wide, high = min(LARGEST, width * SMOOTH), min(LARGEST, height * SMOOTH)
    frame = _Frame(wide, high, view, fit or fit_of(scene, view))
    drawn = [(mesh, *scene.positions(mesh)) for mesh in scene.model.meshes]
    for late in (False, True):  # what is seen through is drawn over all else
        for mesh, positions, normals in drawn:
            frame.mesh(scene, mesh, positions, normals, late)
    picture = frame.picture()
    if view.skeleton and scene.model.skeleton is not None:
        pose = scene.pose if scene.pose is not None else bind_pose(scene.model.skeleton)
        _draw_joints(picture, frame, pose, scene.model.skeleton)
    return _smaller(picture, SMOOTH)


def fit_of(scene: Scene, view: View) -> Fit:
    """What of a view all that is drawn takes: its triangles, or the joints of a model without any."""
    points, turn = [], turned_to(view)
    for mesh in scene.model.meshes:
        positions = scene.positions(mesh)[0]
        for part in mesh.parts:
            rows = mesh.triangles[part.start : part.start + part.count]
            if (part.lod, part.use) == (view.lod, view.use) and len(rows):
                points.append(positions[used_rows(rows, len(positions))])
        if not mesh.parts and len(positions):
            points.append(positions)
    skeleton = scene.model.skeleton
    if skeleton is not None and len(skeleton) and (view.skeleton or not points):
        pose = scene.pose if scene.pose is not None else bind_pose(skeleton)
        points.append(pose[:, :3, 3])
    if not points:
        return Fit(np.zeros(3), np.ones(3))
    seen = np.concatenate(points).astype(np.float64) @ turn.T
    low, high = seen.min(axis=0), seen.max(axis=0)
    return Fit((low + high) / 2, high - low)


def turned_to(view: View) -> Array:
    """The matrix that turns a model so that the viewer looks along its z axis."""
    yaw, pitch = math.radians(view.yaw), math.radians(view.pitch)
    turn = np.array([[math.cos(yaw), 0, -math.sin(yaw)], [0, 1, 0], [math.sin(yaw), 0, math.cos(yaw)]])
    tilt = np.array([[1, 0, 0], [0, math.cos(pitch), -math.sin(pitch)], [0, math.sin(pitch), math.cos(pitch)]])
    return np.asarray(tilt @ turn)


class _Frame:
    """The picture that is drawn: colours, depths, and how the model's space becomes pixels."""

    def __init__(self, width: int, height: int, view: View, fit: Fit) -> None:
        self.width, self.height, self.view = width, height, view
        self.colours = np.zeros((height, width, 4), np.float32)
        self.depths = np.full((height, width), np.inf, np.float32)
        self.turn, self.middle = turned_to(view), fit.middle
        reach = np.maximum(fit.reach, 1e-9)
        self.scale = SLACK * min(width / reach[0], height / reach[1])

    def points(self, positions: Array) -> Array:
        """Positions as pixels from the upper left corner, and how far away they are."""
        seen = np.asarray(positions, np.float64) @ self.turn.T - self.middle
        made = seen * self.scale
        return np.stack([self.width / 2 + made[:, 0], self.height / 2 - made[:, 1], -seen[:, 2]], axis=1)

    def mesh(self, scene: Scene, mesh: Mesh, positions: Array, normals: Array, late: bool) -> None:
        """Draw the parts of a mesh that are wanted: those that are seen through, or all others."""
        parts = [part for part in mesh.parts if (part.lod, part.use) == (self.view.lod, self.view.use) and part.count]
        points = None
        for part in parts:
            material = scene.model.materials[part.material] if 0 <= part.material < len(scene.model.materials) else None
            alpha = material.alpha if material is not None and not self.view.plain else ""
            if (alpha == BLEND) != late:
                continue
            if points is None:
                points = self.points(positions)
                light = _light(normals @ self.turn.T)
            textured = not self.view.plain and part.material in scene.textures and bool(mesh.uvs)
            texture = scene.textures[part.material] if textured else WHITE
            tint = (*GREY, 1.0) if self.view.plain or material is None else material.colour
            if not textured and material is not None and tint[:3] == (1.0, 1.0, 1.0):
                tint = (*GREY, tint[3])
            uvs = mesh.uvs[0] if textured else np.zeros((len(positions), 2), np.float32)
            colours = mesh.colours[0] if mesh.colours and not self.view.plain else np.ones((1, 4), np.float32)
            cutoff = material.cutoff if material is not None and alpha == MASK else 0.0
            _draw(
                self.colours,
                self.depths,
                points,
                mesh.triangles[part.start : part.start + part.count].astype(np.int64),
                light,
                np.ascontiguousarray(uvs, np.float32),
                np.ascontiguousarray(texture),
                np.array(tint, np.float32),
                np.ascontiguousarray(colours, np.float32),
                float(cutoff),
                1 if late else 0 if alpha == MASK else 2,
            )

    def picture(self) -> Array:
        return np.asarray(np.clip(self.colours * 255 + 0.5, 0, 255), np.uint8)


def _light(normals: Array) -> Array:
    """How bright each vertex is: light from above, some from the front and a little from everywhere."""
    light = np.array(LIGHT) / np.linalg.norm(LIGHT)
    facing = np.where(normals[:, 2:] < 0, -normals, normals)  # both sides of a sheet are lit
    key = facing @ light
    return np.asarray(0.5 + 0.2 * facing[:, 2] + 0.6 * np.maximum(key, 0), np.float32)


def _draw_loop(colours, depths, points, triangles, light, uvs, texture, tint, own, cutoff, way):  # type: ignore[no-untyped-def]
    """Draw triangles. way: 0 what is cut out by its alpha, 1 what is seen through, 2 what is not."""
    height, width = depths.shape
    th, tw = texture.shape[0], texture.shape[1]
    for row in range(len(triangles)):
        a, b, c = triangles[row, 0], triangles[row, 1], triangles[row, 2]
        x0, y0, z0 = points[a, 0], points[a, 1], points[a, 2]
        x1, y1, z1 = points[b, 0], points[b, 1], points[b, 2]
        x2, y2, z2 = points[c, 0], points[c, 1], points[c, 2]
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if not (abs(area) > 1e-12):
            continue
        left, right = max(0, int(min(x0, x1, x2))), min(width - 1, int(max(x0, x1, x2)) + 1)
        top, bottom = max(0, int(min(y0, y1, y2))), min(height - 1, int(max(y0, y1, y2)) + 1)
        for y in range(top, bottom + 1):
            py = y + 0.5
            for x in range(left, right + 1):
                px = x + 0.5
                wa = ((x1 - px) * (y2 - py) - (x2 - px) * (y1 - py)) / area
                wb = ((x2 - px) * (y0 - py) - (x0 - px) * (y2 - py)) / area
                wc = 1.0 - wa - wb
                if wa < 0 or wb < 0 or wc < 0:
                    continue
                depth = wa * z0 + wb * z1 + wc * z2
                if depth >= depths[y, x]:
                    continue
                u = wa * uvs[a, 0] + wb * uvs[b, 0] + wc * uvs[c, 0]
                v = wa * uvs[a, 1] + wb * uvs[b, 1] + wc * uvs[c, 1]
                u -= math.floor(u)
                v -= math.floor(v)
                tx, ty = min(tw - 1, int(u * tw)), min(th - 1, int(v * th))
                if len(own) > 1:
                    r = wa * own[a, 0] + wb * own[b, 0] + wc * own[c, 0]
                    g = wa * own[a, 1] + wb * own[b, 1] + wc * own[c, 1]
                    bl = wa * own[a, 2] + wb * own[b, 2] + wc * own[c, 2]
                else:
                    r = g = bl = 1.0
                alpha = tint[3] * texture[ty, tx, 3] / 255.0
                if way == 0 and alpha < cutoff:
                    continue
                shade = wa * light[a] + wb * light[b] + wc * light[c]
                r *= tint[0] * texture[ty, tx, 0] / 255.0
                g *= tint[1] * texture[ty, tx, 1] / 255.0
                bl *= tint[2] * texture[ty, tx, 2] / 255.0
                shine = 0.18 * shade * shade * max(0.0, 1.0 - max(r, g, bl))  # what is dark shines: its form is seen
                r, g, bl = shade * r + shine, shade * g + shine, shade * bl + shine
                if way == 1:
                    rest = colours[y, x, 3] * (1.0 - alpha)
                    whole = alpha + rest
                    if whole > 0:
                        colours[y, x, 0] = (r * alpha + colours[y, x, 0] * rest) / whole
                        colours[y, x, 1] = (g * alpha + colours[y, x, 1] * rest) / whole
                        colours[y, x, 2] = (bl * alpha + colours[y, x, 2] * rest) / whole
                        colours[y, x, 3] = whole
                    continue
                depths[y, x] = depth
                colours[y, x, 0], colours[y, x, 1], colours[y, x, 2], colours[y, x, 3] = r, g, bl, 1.0


_draw = Compiled(_draw_loop)


def _draw_joints(picture: Array, frame: _Frame, pose: Array, skeleton: Skeleton) -> None:
    """The joints over a picture, each with a line to its parent."""
    from PIL import Image, ImageDraw

    image = Image.fromarray(picture)
    pen = ImageDraw.Draw(image)
    points = frame.points(pose[:, :3, 3])
    size = max(2, min(frame.width, frame.height) // 160)
    for joint, parent in enumerate(skeleton.parents.tolist()):
        if parent >= 0:
            ends = [(float(points[one, 0]), float(points[one, 1])) for one in (parent, joint)]
            pen.line(ends, fill=(*BONE, 255), width=max(1, size // 2))
    for x, y, _ in points.tolist():
        pen.ellipse((x - size, y - size, x + size, y + size), fill=(*JOINT, 255))
    picture[:] = np.asarray(image)


def _smaller(picture: Array, by: int) -> Array:
    """A picture scaled down: colours count as much as they are opaque."""
    height, width = picture.shape[0] // by, picture.shape[1] // by
    made = np.zeros((height, width, 4), np.float32)
    for row in range(by):  # of each cell, one pixel after the other: sums over short axes are slow
        for column in range(by):
            one = picture[row : height * by : by, column : width * by : by].astype(np.float32)
            one[..., :3] *= one[..., 3:]
            made += one
    made[..., :3] /= np.where(made[..., 3:] == 0, 1, made[..., 3:])
    made[..., 3] /= by * by
    return np.asarray(made.round().astype(np.uint8))


# several views beside each other


def times_of(animation: Animation, count: int) -> list[float]:
    """Times spread over an animation, the first and the last among them."""
    return [animation.duration * at / max(1, count - 1) for at in range(count)]


def common_fits(scenes: Sequence[tuple[Scene, View]], together: bool) -> list[Fit]:
    """What each of several pictures shows, all at one scale; `together`: at one place too, as poses of one animation
    are."""
    found = [fit_of(scene, view) for scene, view in scenes]
    if not together:
        reach = np.max([one.reach for one in found], axis=0)
        return [Fit(one.middle, reach) for one in found]
    low = np.min([one.middle - one.reach / 2 for one in found], axis=0)
    high = np.max([one.middle + one.reach / 2 for one in found], axis=0)
    return [Fit((low + high) / 2, high - low)] * len(found)
