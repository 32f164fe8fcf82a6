"""The nodes of a glTF file: where each is, which are joints, how they move. Source: glTF 2.0 specification, sections
3.5 and 3.11."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from volvex.asset.model.gltf_file import GltfFile, whole
from volvex.asset.model.model import (
    MOST_NODES,
    PATHS,
    ROTATION,
    TRANSLATION,
    Animation,
    Array,
    Skeleton,
    Track,
    check_counts,
    check_skeleton,
)
from volvex.asset.model.space import matrix_of, parts_of, quaternion_of

CUBIC = 30.0  # keys in a second that are taken of curves
MOST_CURVE = 1 << 20
DEEPEST = 2000  # nodes below each other


class Nodes:
    """The nodes of a file."""

    def __init__(self, file: GltfFile) -> None:
        self.file, self.notes = file, list[str]()
        self.nodes = file.items("nodes")
        check_counts(file.name, {"nodes": (len(self.nodes), MOST_NODES)})
        self.parents = self._parents()
        self.world: dict[int, Array] = {}

    def _parents(self) -> list[int]:
        """The parent of each node, -1 for none; FormatError for nodes in a circle or of two parents."""
        found = [-1] * len(self.nodes)
        for number, node in enumerate(self.nodes):
            children = node.get("children", [])
            if not isinstance(children, list):
                raise self.file.error("children is no list", f"nodes[{number}]")
            for child in children:
                whole(self.file, child, f"nodes[{number}].children", max(0, len(self.nodes) - 1))
                if found[child] >= 0 or child == number:
                    raise self.file.error(f"node {child} has two parents", f"nodes[{number}].children")
                found[child] = number
        depths: dict[int, int] = {-1: 0}
        for number in range(len(found)):
            path, at = list[int](), number
            while at not in depths:
                path.append(at)
                at = found[at]
                if len(path) > DEEPEST:
                    what = "in a circle" if len(path) > len(set(path)) else f"more than {DEEPEST:,} deep"
                    raise self.file.error(f"nodes are {what}", f"nodes[{number}]")
            for steps, one in enumerate(reversed(path), 1):
                depths[one] = depths[at] + steps
            if path and depths[path[0]] > DEEPEST:
                raise self.file.error(f"nodes are more than {DEEPEST:,} deep", f"nodes[{number}]")
        return found

    def name_of(self, number: int) -> str:
        name = self.nodes[number].get("name")
        return name if isinstance(name, str) and name else f"node_{number}"

    def local_of(self, number: int) -> Array:
        node, where = self.nodes[number], f"nodes[{number}]"
        if "matrix" in node:
            flat = self.floats(node["matrix"], 16, where)
            return np.array(flat).reshape(4, 4).T
        move, turn, scale = (
            self.floats(node.get(what, none), len(none), where)
            for what, none in (
                ("translation", [0.0] * 3),
                ("rotation", [0.0, 0.0, 0.0, 1.0]),
                ("scale", [1.0] * 3),
            )
        )
        return matrix_of(move, turn, scale)

    def floats(self, values: Any, count: int, where: str) -> list[float]:
        if not isinstance(values, list) or len(values) != count:
            raise self.file.error(f"{count} numbers are expected", where)
        if not all(isinstance(value, int | float) and math.isfinite(value) and abs(value) < 1e18 for value in values):
            raise self.file.error("a number that is none", where)
        return [float(value) for value in values]

    def world_of(self, number: int) -> Array:
        """The matrix of a node in the scene; its ancestors' are kept."""
        path, at = [], number
        while at >= 0 and at not in self.world:
            path.append(at)
            at = self.parents[at]
        for one in reversed(path):
            parent = self.parents[one]
            above = self.world[parent] if parent >= 0 else np.eye(4)
            self.world[one] = above @ self.local_of(one)
        return self.world[number]

    def joints(self) -> list[int]:
        """The nodes that are joints: of all skins, or without one those that animations move, with their ancestors."""
        found: dict[int, None] = {}
        for number, skin in enumerate(self.file.items("skins")):
            joints = skin.get("joints")
            if not isinstance(joints, list) or not joints:
                raise self.file.error("a skin without joints", f"skins[{number}]")
            for joint in joints:
                found[whole(self.file, joint, f"skins[{number}].joints", max(0, len(self.nodes) - 1))] = None
        if not found:
            targets = set()
            for animation in self.file.items("animations"):
                for channel in animation.get("channels", []) if isinstance(animation.get("channels"), list) else []:
                    target = channel.get("target") if isinstance(channel, dict) else None
                    node = target.get("node") if isinstance(target, dict) else None
                    if isinstance(node, int) and 0 <= node < len(self.nodes):
                        targets.add(node)
            for node in sorted(targets):
                found[node] = None
        return list(found)

    def _above(self, node: int, joints: dict[int, int]) -> tuple[int, Array]:
        """The joint above a node (-1 for none), and the matrix of what lies between them."""
        between, at = np.eye(4), self.parents[node]
        while at >= 0 and at not in joints:
            between = self.local_of(at) @ between
            at = self.parents[at]
        return (joints[at] if at >= 0 else -1), between

    def skeleton(self, nodes: list[int]) -> Skeleton:
        where = {node: number for number, node in enumerate(nodes)}
        parents, local = [], []
        for node in nodes:
            parent, between = self._above(node, where)
            parents.append(parent)
            local.append(between @ self.local_of(node))
        moves, turns, scales = parts_of(np.array(local))
        inverse = np.linalg.pinv(np.array([self.world_of(node) for node in nodes]))
        for number, skin in enumerate(self.file.items("skins")):
            if "inverseBindMatrices" in skin:
                values = self.file.accessor(skin["inverseBindMatrices"], f"skins[{number}]", 16)
                own = skin["joints"]
                if len(values) < len(own):
                    raise self.file.error(f"{len(values)} matrices for {len(own)} joints", f"skins[{number}]")
                for at, joint in enumerate(own):
                    inverse[where[joint]] = values[at].reshape(4, 4).T
        names = self._unique([self.name_of(node) for node in nodes])
        made = Skeleton(
            names,
            np.array(parents),
            moves.astype(np.float32),
            turns.astype(np.float32),
            scales.astype(np.float32),
            inverse.astype(np.float32),
        )
        check_skeleton(self.file.name, made)
        return made

    def _unique(self, names: list[str]) -> list[str]:
        seen: dict[str, int] = {}
        made = []
        for name in names:
            seen[name] = seen.get(name, 0) + 1
            made.append(name if seen[name] == 1 else f"{name}~{seen[name]}")
        return made

    def animations(self, nodes: list[int]) -> list[Animation]:
        joints, made = {node: number for number, node in enumerate(nodes)}, []
        for number, own in enumerate(self.file.items("animations")):
            where, name = f"animations[{number}]", own.get("name")
            animation = Animation(name if isinstance(name, str) and name else f"animation_{number}")
            channels, samplers = own.get("channels", []), own.get("samplers", [])
            if not isinstance(channels, list) or not isinstance(samplers, list):
                raise self.file.error("an animation without channels", where)
            for channel in channels:
                target = channel.get("target") if isinstance(channel, dict) else None
                if not isinstance(target, dict):
                    raise self.file.error("a channel without a target", where)
                node, path = target.get("node"), target.get("path")
                if not isinstance(node, int) or node not in joints or path not in PATHS:
                    self.notes.append(
                        "animated morph targets are left out"
                        if path == "weights"
                        else "tracks of no joint are left out"
                    )
                    continue
                place = whole(self.file, channel.get("sampler"), where, max(0, len(samplers) - 1))
                if not samplers or not isinstance(samplers[place], dict):
                    raise self.file.error("a channel without a sampler", where)
                track = self._track(samplers[place], joints[node], str(path), where)
                animation.tracks.append(self._below(track, node, joints))
            made.append(animation)
        return made

    def _track(self, sampler: dict[str, Any], joint: int, path: str, where: str) -> Track:
        times = np.asarray(self.file.accessor(sampler.get("input"), where, 1), np.float64)[:, 0]
        values = np.asarray(self.file.accessor(sampler.get("output"), where, 4 if path == ROTATION else 3), np.float64)
        how = sampler.get("interpolation", "LINEAR")
        if len(values) != len(times) * (3 if how == "CUBICSPLINE" else 1):
            raise self.file.error(f"{len(values):,} values at {len(times):,} times", where)
        if not bool(np.isfinite(times).all() and np.isfinite(values).all()) or bool((np.diff(times) < 0).any()):
            raise self.file.error("times that do not rise, or a value that is no number", where)
        if how == "CUBICSPLINE" and len(times):
            times, values = _from_curve(times, values, path)
        return Track(joint, path, times.astype(np.float32), values.astype(np.float32), how == "STEP")

    def _below(self, track: Track, node: int, joints: dict[int, int]) -> Track:
        """A track in the space of the joint above, where nodes that are no joints lie between."""
        _, between = self._above(node, joints)
        if np.allclose(between, np.eye(4)):
            return track
        if track.path == TRANSLATION:
            track.values = (track.values @ between[:3, :3].T + between[:3, 3]).astype(np.float32)
        elif track.path == ROTATION:
            turn = quaternion_of(parts_and_turn(between)[None])[0]
            track.values = multiplied(turn, track.values).astype(np.float32)
        else:
            track.values = (track.values * parts_of(between)[2]).astype(np.float32)
        return track


def _from_curve(times: Array, values: Array, path: str) -> tuple[Array, Array]:
    """Keys of a cubic curve: its own, and between them one every thirtieth of a second. Source: glTF 2.0, appendix
    C.5."""
    rows = values.reshape(len(times), 3, -1)
    ends = float(times[-1] - times[0])
    count = min(MOST_CURVE, int(ends * CUBIC) + 1)
    made = np.unique(np.concatenate([times, times[0] + np.arange(count) / CUBIC]))
    made = made[made <= times[-1]]
    if len(times) < 2:
        return times, rows[:, 1]
    after = np.clip(np.searchsorted(times, made, side="right"), 1, len(times) - 1)
    before = after - 1
    span = (times[after] - times[before])[:, None]
    t = ((made - times[before])[:, None]) / np.where(span == 0, 1, span)
    one, two = rows[before, 1], rows[after, 1]
    out, into = rows[before, 2] * span, rows[after, 0] * span
    curve = (
        (2 * t**3 - 3 * t**2 + 1) * one
        + (t**3 - 2 * t**2 + t) * out
        + (-2 * t**3 + 3 * t**2) * two
        + (t**3 - t**2) * into
    )
    if path == ROTATION:
        curve = curve / np.maximum(np.linalg.norm(curve, axis=1, keepdims=True), 1e-12)
    return made, curve


def parts_and_turn(matrix: Array) -> Array:
    """The rotation of a matrix, without its scale."""
    scale = np.linalg.norm(matrix[:3, :3], axis=0)
    return np.asarray(matrix[:3, :3] / np.where(scale == 0, 1, scale))


def multiplied(one: Array, others: Array) -> Array:
    """A quaternion times each of others: first they turn, then it does."""
    x1, y1, z1, w1 = one
    x2, y2, z2, w2 = (others[:, at].astype(np.float64) for at in range(4))
    return np.stack(
        [
            w1 * x2 + x1 * w2 + y1 * z2 - z1 * y2,
            w1 * y2 - x1 * z2 + y1 * w2 + z1 * x2,
            w1 * z2 + x1 * y2 - y1 * x2 + z1 * w2,
            w1 * w2 - x1 * x2 - y1 * y2 - z1 * z2,
        ],
        axis=1,
    )
