"""A model with all that belongs to it, and the files of its game; and what an edit of it changes in which of them."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from volvex.asset.kind import Around, Edited, Exported, Result
from volvex.asset.model.exchange import TakenOver, carries_pictures, exported, image_names, taken_over
from volvex.asset.model.gather import Files, Gathered, gather
from volvex.asset.model.model import GLTF, LARGEST, Animation, Model
from volvex.asset.model.open import OpenedModel, open_model
from volvex.asset.model.textures import scene_of, texture_of
from volvex.errors import RefusedError, UsageError
from volvex.layout import Library
from volvex.source import BytesSource, Source

if TYPE_CHECKING:
    from PIL import Image


@dataclass(frozen=True)
class WholeModel:
    """A model, what belongs to it (None where nobody knows the game), and the path of its file."""

    opened: OpenedModel
    path: str
    gathered: Gathered
    files: Files | None = None

    @property
    def own(self) -> Model:
        """The model of its own file alone."""
        return self.opened.model

    def home(self, number: int) -> str:
        """Where one of the game's files lies."""
        assert self.files is not None
        return self.files.home(number)

    @property
    def others(self) -> tuple[str, ...]:
        """Where the other files lie that it is made of."""
        return tuple(self.home(number) for number in self.gathered.parts)

    @property
    def textures(self) -> dict[str, str]:
        """Where the textures lie that its game has, by what the model calls them."""
        return {name: self.home(number) for name, number in self.gathered.textures.items() if number is not None}


def whole_model(source: Source, library: Library | None, around: Around | None = None) -> WholeModel | None:
    """The model in a file, with all that belongs to it where the game is known; None when it is none."""
    if source.size <= LARGEST and not isinstance(source, BytesSource):  # it may outlive its file
        held = BytesSource(source.read(0, source.size), source.name)
        held.beside, source = source.beside, held
    opened = open_model(source, library)
    if opened is None:
        return None
    if around is None or library is None:
        return WholeModel(opened, source.name, Gathered(opened.model))
    files, path, settings = around.around(source.name)
    return WholeModel(opened, source.name, gather(opened, path, files, library, settings), files)


def written_out(whole: WholeModel, extension: str, stem: str, links: Mapping[str, str] | None) -> Exported:
    """A model in an open format; its textures are where `links` say, or without them files beside it."""
    names, textures = links, dict[str, bytes]()
    if names is None:
        names = image_names(whole.gathered, inside=not carries_pictures(extension))
        textures = {file: _texture(whole, name) for name, file in names.items()}
    out = exported(whole.gathered, extension, names, stem)
    first = next(iter(out.files))
    files = {"" if own == first else f"{stem}.{own}": data for own, data in out.files.items()}
    return Exported({**files, **textures}, out.notes)


def _texture(whole: WholeModel, name: str) -> bytes:
    """A texture as PNG."""
    from volvex.asset.picture.exchange import exported as exported_picture
    from volvex.asset.picture.formats import form_of

    picture = texture_of(whole.gathered, whole.files, name)
    if picture is None:
        raise RefusedError("a texture is no picture any more", "the same command again")
    return form_of("png").write(exported_picture(picture, "png").picture)


def require_other_form(whole: WholeModel) -> None:
    """RefusedError for a model that 3D programs open as it is."""
    if whole.own.form == GLTF:
        said = f"{whole.path} is glTF already, which 3D programs open as it is"
        raise RefusedError(said, "the same without --as, and editing that file")


def merged(whole: WholeModel, edit: Edited) -> Result:
    """An edited file put into a model and what belongs to it."""
    if edit.source.size > LARGEST:
        raise RefusedError(f"{edit.name} has more than {LARGEST:,} bytes", "a smaller model")
    found = open_model(edit.source)
    if found is None:
        raise RefusedError(f"{edit.name} is no model", "saving it again as glTF (.glb)")
    return result_of(whole, taken_over(whole.gathered, found.model))


def replaced(whole: WholeModel, user: WholeModel, lods: str, must: bool) -> Result | None:
    """A user's model in the place of the game's own; None when nothing has to be converted.

    lods   `nearest` or `simplified`: levels of detail made of the nearest that the file has
    must   a file of the same open form, too
    """
    same = user.opened.form is not None and user.opened.form is whole.opened.form
    if (same and not lods and not must) or (whole.opened.kind != "mesh" and not must):
        return None
    edited = user.own
    if lods:
        from volvex.asset.model.lods import with_levels

        edited = with_levels(whole.gathered.model, edited, lods)
    result = result_of(whole, taken_over(whole.gathered, edited))
    if must and "" not in result.files:
        raise UsageError(f"{user.path} has no mesh for {whole.own.name}", "a file with one")
    return result


def result_of(whole: WholeModel, taken: TakenOver) -> Result:
    """What an edit changes, as files: all of them are made before the first is written."""
    gathered, own = whole.gathered, dict[str, bytes]()
    if taken.mesh is not None:
        mesh = taken.mesh
        for number, model in taken.animations:
            mesh.animations = model.animations if number < 0 else mesh.animations
        own[""] = whole.opened.written(mesh)
    others, rest = dict[str, bytes](), list[str]()
    if taken.skeleton is not None and gathered.skeleton is not None:
        others[whole.home(gathered.skeleton)] = gathered.parts[gathered.skeleton].written(taken.skeleton)
        rest.append("its skeleton")
    for number, model in [*taken.animations, *taken.materials]:
        if number >= 0:
            others[whole.home(number)] = gathered.parts[number].written(model)
    for animation in taken.new_animations:
        path, data = _new_animation(whole, animation)
        others[path] = data
    rest += ["animations"] if taken.animations or taken.new_animations else []
    rest += ["materials"] if taken.materials else []
    what = f"{taken.vertices:,} {'vertex' if taken.vertices == 1 else 'vertices'} taken over"
    what = what if taken.vertices or not others else ""
    return Result(own, what, tuple(taken.notes), others, tuple(rest), whole.own.form)


def _new_animation(whole: WholeModel, animation: Animation) -> tuple[str, bytes]:
    """A new animation as a file like those that the model has; its path is made of the model's name and its own."""
    gathered = whole.gathered
    if not gathered.animations:
        raise RefusedError(
            f"{animation.name} is a new animation, and the game has none for this skeleton that it could be like",
            "an animation under the name of one that there is",
        )
    number, _ = gathered.animations[0]
    like, form = gathered.parts[number].model, gathered.parts[number]
    folder, name = posixpath.split(whole.home(number))
    _, dot, extension = name.rpartition(".")
    own = posixpath.splitext(posixpath.basename(whole.path))[0]
    plain = animation.name if animation.name.casefold().startswith(own.casefold()) else f"{own}_{animation.name}"
    new = replace(like.animations[0], tracks=animation.tracks)
    model = replace(like, animations=[new], extra={**like.extra, "original": like})
    return posixpath.join(folder, f"{plain}{dot}{extension}"), form.written(model)


def drawn_beside(before: WholeModel, after: WholeModel, title: str, edge: int) -> Image.Image | None:
    """Two states of a model with their textures, at one scale, as one picture; None when there is nothing to draw."""
    from volvex.asset.model.render import View, common_fits, render
    from volvex.asset.sheet import Cell, drawn

    if not (before.gathered.model.meshes or before.gathered.model.skeleton):
        return None
    scenes = [scene_of(whole.gathered, whole.files) for whole in (before, after)]
    views = [(scene, View(skeleton=not scene.model.meshes)) for scene in scenes]
    cells = [
        Cell(render(scene, edge, edge, view, fit), label, "")
        for (scene, view), fit, label in zip(views, common_fits(views, True), ("before", "after"), strict=True)
    ]
    return drawn(cells, title, edge, 2)
