"""Damaged models, of open forms and by layouts, and hostile glTF: looked at, drawn, exported, taken over, written."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from kelpwick import slip
from tests.fuzz.attempt import Attempt, mutate
from tests.model_material import SETTINGS, FolderFiles, as_glb, game, gathered, library
from volvex.asset.model.compare import differences
from volvex.asset.model.describe import lines_of, short_text
from volvex.asset.model.exchange import exported, taken_over
from volvex.asset.model.formats import FORMS
from volvex.asset.model.gather import gather
from volvex.asset.model.gltf_write import packed
from volvex.asset.model.lods import with_levels
from volvex.asset.model.open import open_model
from volvex.asset.model.render import Scene, View, posed, render
from volvex.errors import VolvexError
from volvex.source import BytesSource

NUMBERS: tuple[Any, ...] = (
    0,
    1,
    -1,
    2,
    255,
    65535,
    1 << 31,
    1 << 40,
    1.5,
    1e300,
    None,
    True,
    "x",
    [],
    {},
    "../../up",
    "data:,",
)
OBJ = b"""mtllib a.mtl
o hull.lod1
v 0 0 0
v 1 0 0
v 0 1 0
v 0 0 1
vt 0 0
vn 0 0 1
usemtl tar
f 1/1/1 2/1/1 3/1/1
f -1//1 -2//1 -3//1 -4//1
"""


def corpus() -> dict[str, bytes]:
    """A model of each form, and the files of the slip."""
    found = {name: data for name, data in slip.read(game()).items() if not name.startswith("texture/")}
    _, whole = gathered("patience.kmm")
    for form in FORMS.all():
        if form.WRITES:
            files = form.write(whole.model, {"CANVAS/Patience_Sail": "sail.png"})
            found[f"patience.{form.EXTENSIONS[0]}"] = next(iter(files.values()))
    found["small.obj"] = OBJ
    found["hull.dae"] = DAE.encode()
    return found


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Files with some bytes changed, and glTF whose JSON says what is not so."""
    samples = [(name, data) for name, data in sorted(corpus().items()) if name.startswith(only)]
    glb = as_glb(gathered("patience.kmm")[1])
    while True:
        name, data = rng.choice(samples)
        if name.endswith(".glb") and rng.random() < 0.7:
            made = hostile(glb, rng)
        else:
            made = mutate(rng, data)
        seed = rng.random()
        yield Attempt(
            f"{name.rpartition('.')[2]}: {name}",
            made,
            lambda name=name, data=made, seed=seed: exercise(name, data, random.Random(seed)),  # type: ignore[misc]
        )


def hostile(glb: bytes, rng: random.Random) -> bytes:
    """A glTF file of which some values in its JSON are others."""
    size = int.from_bytes(glb[12:16], "little")
    root: Any = json.loads(glb[20 : 20 + size])
    for _ in range(rng.randint(1, 3)):
        here: Any = root
        while True:
            keys = list(here) if isinstance(here, dict) else list(range(len(here)))
            if not keys:
                break
            key = rng.choice(keys)
            if isinstance(here[key], dict | list) and here[key] and rng.random() < 0.85:
                here = here[key]
                continue
            here[key] = rng.choice(NUMBERS) if rng.random() < 0.8 else rng.randint(-5, 700)
            break
    try:
        return packed(root, glb[28 + size :])
    except ValueError:
        return glb


def exercise(name: str, data: bytes, rng: random.Random) -> str | None:
    """All that can be done with a model; what went wrong beyond our errors."""
    try:
        _model(name, data, rng)
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"
    return None


def _model(name: str, data: bytes, rng: random.Random) -> None:
    source = BytesSource(data, f"slip/{name}")
    opened = open_model(source, library())
    if opened is None:
        return
    short_text(opened.model)
    files = FolderFiles(game(), library())
    found = gather(opened, source.name, files, library(), SETTINGS)
    list(lines_of(found, files.paths))
    pose = None
    if found.model.skeleton is not None and found.model.animations and len(found.model.skeleton):
        pose = posed(found.model.skeleton, found.model.animations[0], rng.random())
    render(Scene(found.model, {}, pose), 24, 24, View(yaw=rng.random() * 360, skeleton=rng.random() < 0.5))
    glb = exported(found, "glb", {}).files["glb"]
    exported(found, "obj", {})
    again = open_model(BytesSource(glb, "again.glb"))
    assert again is not None, "what was written is no model"
    edited = again.model
    if edited.meshes and rng.random() < 0.7:
        mesh = edited.meshes[0]
        mesh.positions = mesh.positions * np.float32(rng.choice((1, 1.5, 0.1)))
    if rng.random() < 0.3:
        edited = with_levels(found.model, edited, rng.choice(("nearest", "simplified")))
    taken = taken_over(found, edited)
    if taken.mesh is not None:
        written = opened.written(taken.mesh)
        more = open_model(BytesSource(written, name), library())
        assert more is not None, "what was written is no model"
        list(differences(opened.model, more.model))
    for number, model in [*taken.animations, *taken.materials]:
        if number >= 0:
            found.parts[number].written(model)


DAE = """<?xml version="1.0"?>
<COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">
<asset><created>2026-01-01T00:00:00</created><modified>2026-01-01T00:00:00</modified><unit name="centimetre" meter="0.01"/><up_axis>Z_UP</up_axis></asset>
<library_effects><effect id="tar-effect"><profile_COMMON><technique sid="common"><lambert><diffuse><color>0.2 0.2 0.2 1</color></diffuse></lambert></technique></profile_COMMON></effect></library_effects>
<library_materials><material id="tar" name="tar"><instance_effect url="#tar-effect"/></material></library_materials>
<library_geometries><geometry id="hull" name="hull"><mesh>
<source id="p"><float_array id="pa" count="12">0 0 0 100 0 0 0 100 0 0 0 100</float_array><technique_common><accessor source="#pa" count="4" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<source id="n"><float_array id="na" count="3">0 0 1</float_array><technique_common><accessor source="#na" count="1" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices>
<triangles count="2" material="m"><input semantic="VERTEX" source="#v" offset="0"/><input semantic="NORMAL" source="#n" offset="1"/><p>0 0 1 0 2 0 0 0 2 0 3 0</p></triangles>
</mesh></geometry></library_geometries>
<library_visual_scenes><visual_scene id="s"><node id="h"><instance_geometry url="#hull"><bind_material><technique_common><instance_material symbol="m" target="#tar"/></technique_common></bind_material></instance_geometry></node></visual_scene></library_visual_scenes>
<scene><instance_visual_scene url="#s"/></scene>
</COLLADA>
"""  # noqa: E501
