"""One model converted: out with its textures beside it, or an edited file into the form of the game's own."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.model import Surroundings, read_whole
from volvex.command.ui.reader import Content
from volvex.command.ui.table import count, number
from volvex.errors import RefusedError, Status, UsageError
from volvex.source.outputs import Outputs

if TYPE_CHECKING:
    from volvex.asset.model.gather import Files, Gathered


def convert_model(content: Content, walker: Walker, options: argparse.Namespace, context: Context) -> int:
    """Convert a model; of one that becomes the game's own what lies in other files is named and not written."""
    from volvex.asset.model.open import require_model

    opened = require_model(read_whole(content), walker.library)
    around = Surroundings(walker, context)
    found = around.gathered(opened, content)
    if options.like:
        return _back(opened, found, options, context)
    from volvex.asset.model.exchange import carries_pictures, exported, image_names

    images = image_names(found, inside=not carries_pictures(options.target.suffix))
    out = exported(found, options.target.suffix, images, options.target.stem)
    files, _, _ = around.around(content)
    target: Path = options.target
    written = {target.with_suffix(f".{extension}"): data for extension, data in out.files.items()}
    first = next(iter(written))
    written = {target if place == first else place: data for place, data in written.items()}
    textures = {target.with_name(file): _texture(files, found, name) for name, file in images.items()}
    with Outputs(context.disk, options.overwrite) as outputs:
        for place in (*written, *textures):
            outputs.check(place)
        for place, data in {**written, **textures}.items():
            with outputs.file(place) as file:
                context.disk.write(file, data)
    for note in out.notes:
        context.note(f"note: {shown(note)}")
    beside = f"; {count(len(textures), 'texture')} beside it" if textures else ""
    context.print(f"{shown(str(target))}: {number(len(written[target]))} bytes{beside}")
    return Status.OK


def _texture(files: Files, found: Gathered, name: str) -> bytes:
    """A texture of a model as PNG."""
    from volvex.asset.model.textures import texture_of
    from volvex.asset.picture.exchange import exported as exported_picture
    from volvex.asset.picture.formats import form_of

    picture = texture_of(found, files, name)
    if picture is None:
        raise RefusedError("a texture is no picture any more", "the same command again")
    return form_of("png").write(exported_picture(picture, "png").picture)


def _back(opened: object, found: object, options: argparse.Namespace, context: Context) -> int:
    from volvex.asset.model.exchange import taken_over
    from volvex.asset.model.gather import Gathered
    from volvex.asset.model.open import Opened, require_model
    from volvex.source import FileSource

    assert isinstance(opened, Opened) and isinstance(found, Gathered)
    with FileSource(Path(options.path)) as source:
        edited = require_model(source).model
    taken = taken_over(found, edited)
    if taken.mesh is None:
        raise UsageError(f"{shown(options.path)} has no mesh for {found.model.name}", "a file with one")
    data = opened.written(taken.mesh)
    with Outputs(context.disk, options.overwrite) as outputs, outputs.file(options.target) as file:
        context.disk.write(file, data)
    rest = [
        *(["its skeleton"] if taken.skeleton is not None else []),
        *(["animations"] if taken.animations or taken.new_animations else []),
        *(["materials"] if taken.materials else []),
    ]
    for note in taken.notes:
        context.note(f"note: {shown(note)}")
    if rest:
        context.note(f"note: what differs in {', '.join(rest)} lies in other files: `volvex take --as glb` in a bench")
    context.print(
        f"{shown(str(options.target))}: {count(taken.vertices, 'vertex', 'vertices')} differ, {number(len(data))} bytes"
    )
    return Status.OK
