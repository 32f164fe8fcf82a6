"""Plays the part of a 3D program in the demo: changes a glTF file by hand-written code.

python -m kelpwick.slip.edit FILE raise METRES        moves what stands above the foot upwards
python -m kelpwick.slip.edit FILE paint OLD NEW       parts of one material get another
python -m kelpwick.slip.edit FILE texture OLD NEW     materials get another texture
python -m kelpwick.slip.edit FILE wave JOINT NAME     adds an animation in which a joint swings
"""

from __future__ import annotations

import json
import math
import sys
from pathlib import Path
from typing import Any

import numpy as np

FOOT = 1.0  # metres
SWING = 0.5  # half of the angle


class Glb:
    """A binary glTF file: its JSON and its numbers."""

    def __init__(self, path: Path) -> None:
        data = path.read_bytes()
        size = int.from_bytes(data[12:16], "little")
        self.path, self.root, self.numbers = path, json.loads(data[20 : 20 + size]), bytearray(data[28 + size :])

    def save(self) -> None:
        """Write the file again."""
        self.root["buffers"][0]["byteLength"] = len(self.numbers)
        text = json.dumps(self.root).encode()
        text += b" " * (-len(text) % 4)
        body = bytes(self.numbers) + bytes(-len(self.numbers) % 4)
        chunks = [len(text).to_bytes(4, "little"), b"JSON", text, len(body).to_bytes(4, "little"), b"BIN\0", body]
        whole = b"".join(chunks)
        self.path.write_bytes(b"glTF" + (2).to_bytes(4, "little") + (12 + len(whole)).to_bytes(4, "little") + whole)

    def add(self, values: Any, kind: str, bounds: bool = False) -> int:
        """Add numbers; the number of their accessor."""
        raw = np.ascontiguousarray(values, "<f4").tobytes()
        view = {"buffer": 0, "byteOffset": len(self.numbers), "byteLength": len(raw)}
        self.numbers += raw
        self.root["bufferViews"].append(view)
        made = {
            "bufferView": len(self.root["bufferViews"]) - 1,
            "componentType": 5126,
            "count": len(values),
            "type": kind,
        }
        if bounds:
            made |= {"min": [float(min(values))], "max": [float(max(values))]}
        self.root["accessors"].append(made)
        return len(self.root["accessors"]) - 1


def lift(file: Glb, metres: float) -> None:
    """Move what stands above the foot upwards."""
    for at in {one["attributes"]["POSITION"] for mesh in file.root["meshes"] for one in mesh["primitives"]}:
        own = file.root["accessors"][at]
        start = file.root["bufferViews"][own["bufferView"]].get("byteOffset", 0)
        points = np.frombuffer(file.numbers, "<f4", own["count"] * 3, start).reshape(-1, 3)
        points[points[:, 1] > FOOT, 1] += metres
        own["max"] = points.max(axis=0).tolist()


def paint(file: Glb, old: str, new: str) -> None:
    """Give the parts of one material another."""
    for material in file.root["materials"]:
        if material["name"] == old:
            material["name"] = new


def texture(file: Glb, old: str, new: str) -> None:
    """Give materials another texture, by its name in the game."""
    for image in file.root["images"]:
        if image["name"] == old:
            image |= {"name": new, "uri": f"{new.rpartition('/')[2]}.png"}


def wave(file: Glb, joint: str, name: str) -> None:
    """Add an animation in which a joint swings there and back."""
    node = next(at for at, one in enumerate(file.root["nodes"]) if one.get("name") == joint)
    times = [0.0, 1.0, 2.0]
    turns = [(0, 0, 0, 1), (0, math.sin(SWING), 0, math.cos(SWING)), (0, 0, 0, 1)]
    sampler = {"input": file.add(times, "SCALAR", bounds=True), "output": file.add(turns, "VEC4")}
    channel = {"sampler": 0, "target": {"node": node, "path": "rotation"}}
    file.root["animations"].append({"name": name, "channels": [channel], "samplers": [sampler]})


def main(words: list[str]) -> None:
    """Do one edit."""
    file = Glb(Path(words[0]))
    if words[1] == "raise":
        lift(file, float(words[2]))
    else:
        {"paint": paint, "texture": texture, "wave": wave}[words[1]](file, words[2], words[3])
    file.save()


if __name__ == "__main__":
    main(sys.argv[1:])
