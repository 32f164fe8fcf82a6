"""Models of a bench in other programs: out to the folder `open` with all that belongs to them, back into the game's own files.

A model is spread over files: its mesh, its skeleton, animations, materials. All of them together are the base of what is opened; of an
edit each file gets what differs in it. Textures are opened as pictures of their own, so that they come back too.
"""

from __future__ import annotations

import os
import posixpath
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from volvex.asset.model.exchange import TakenOver, exported, taken_over
from volvex.asset.model.formats import form_of
from volvex.asset.model.gather import Gathered, Settings, gather
from volvex.asset.model.model import GLTF, LARGEST, Animation, Model
from volvex.asset.model.open import Opened as OpenModel
from volvex.asset.model.open import may_be_model, open_model
from volvex.asset.model.render import Scene
from volvex.asset.model.textures import scene_of
from volvex.asset.picture.model import Picture
from volvex.bench.changes import FileChange
from volvex.bench.content import Read, current_of, one_meant, original_kind, original_of
from volvex.bench.open_folder import (
    FOLDER,
    SyncResult,
    asset_of,
    counted,
    digest_of,
    is_own,
    settle_edited,
    sync_one,
    write_file,
)
from volvex.bench.opened import EDITED, MODEL, ORIGINAL, OpenedAsset
from volvex.bench.picture_files import picture_at
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, RefusedError, UsageError, VolvexError
from volvex.source import BytesSource, FileSource, Source
from volvex.source.digest import digest_bytes, digest_file

KINDS = {"gltf": "glb"}  # what is written in place of a form, so that it is one file


class BenchFiles:
    """The files of a bench's game as it sees them, in one of their states."""

    def __init__(self, bench: Workbench, read: Read) -> None:
        self.bench, self.read = bench, read
        self._tree = bench.tree

    @property
    def paths(self) -> Sequence[str]:
        return self._tree.paths

    def place(self, number: int) -> str:
        """Where on the bench a file goes."""
        return self.bench.place_of(self._tree.files[number], self._tree.rows[number])

    def number(self, place: str) -> int | None:
        """The number of what is at a place; None for what the game does not see as a file."""
        for number, name in enumerate(self._tree.files):
            row = self._tree.rows[number]
            inside = row is not None and place.startswith(f"{name}/")
            if (row is None and name == place) or (inside and self.place(number) == place):
                return number
        return None

    def open(self, number: int) -> Source:
        place = self.place(number)
        return BytesSource(self.read(place), self.paths[number])

    def picture(self, number: int) -> Picture | None:
        found = picture_at(self.bench, self.place(number), self.read)
        return found.picture if found is not None else None


@dataclass(frozen=True)
class Whole:
    """A model of the bench with all that belongs to it, and the places of that."""

    opened: OpenModel
    gathered: Gathered
    files: BenchFiles

    @property
    def beside(self) -> tuple[str, ...]:
        """The places of the other files that it is made of."""
        return tuple(self.files.place(number) for number in self.gathered.parts)


def settings_of(bench: Workbench) -> Settings:
    """Where the bench's game has what models refer to."""
    return Settings(**dict(bench.game.description.models))


def model_at(bench: Workbench, place: str, read: Read) -> OpenModel | None:
    """The model at a place in one of its states; None when it is none."""
    source = BytesSource(read(place), place)
    folder = posixpath.dirname(place)
    source.beside = lambda name: _beside(bench, posixpath.normpath(posixpath.join(folder, name)), read)
    return open_model(source, bench.library)


def _beside(bench: Workbench, place: str, read: Read) -> Source | None:
    try:
        return BytesSource(read(place), place)
    except (NotFoundError, UsageError):
        return None


def whole_model(bench: Workbench, place: str, read: Read) -> Whole | None:
    """The model at a place with all that belongs to it; None when it is none."""
    opened = model_at(bench, place, read)
    if opened is None:
        return None
    files = BenchFiles(bench, read)
    number = files.number(place)
    path = files.paths[number] if number is not None else place
    return Whole(opened, gather(opened, path, files, bench.library, settings_of(bench)), files)


def _required(bench: Workbench, place: str, read: Read) -> Whole:
    found = whole_model(bench, place, read)
    if found is None:
        raise UsageError(f"{place} is no model", "a format for pictures or data: png, csv, json")
    return found


# out


def open_model_as(bench: Workbench, place: str, ending: str, again: bool = False) -> tuple[list[str], tuple[str, ...]]:
    """Write a model of the bench as a file that other programs open; the files, below the bench, and what is to be said.

    Its textures are opened as PNG beside the pictures that they are of, unless they are open already.
    """
    ending = KINDS.get(ending, ending)
    form_of(ending)
    found, file = _required(bench, place, current_of(bench)), f"{FOLDER}/{place}.{ending}"
    if found.gathered.model.form == GLTF:
        raise RefusedError(
            f"{place} is glTF already, which 3D programs open as it is", "the same without --as, and editing that file"
        )
    settle_edited(bench, [file], again)
    images, made, notes = _textures(bench, found, file)
    stem = posixpath.basename(file).rpartition(".")[0]
    out = exported(found.gathered, ending, images, stem)
    for number, (extension, data) in enumerate(out.files.items()):
        beside = f"{file.rpartition('.')[0]}.{extension}"
        target = bench.folder / beside
        if number and target.is_file() and target.read_bytes() != data:
            notes.append(f"{beside} stays as it is: remove it, and it is written again")
            continue
        write_file(bench, target, data)
    places = (place, *found.beside)
    base = ORIGINAL if all(is_own(bench, one) for one in places) else EDITED
    if base == EDITED:
        for one in places:
            write_file(bench, _base_file(bench, one), current_of(bench)(one))
    digest = digest_bytes(next(iter(out.files.values())))
    bench.opened[file] = OpenedAsset(
        place, ending, digest, digest_of(bench, places), places[1:], asset=MODEL, base=base
    )
    bench.save()
    return [file, *made], (*out.notes, *notes)


def _textures(bench: Workbench, found: Whole, file: str) -> tuple[dict[str, str], list[str], list[str]]:
    """Open the textures of a model as pictures; by their names the paths from the model's file, the files, and notes."""
    from volvex.bench.pictures import Asked, open_picture_as

    images, made, notes = dict[str, str](), list[str](), list[str]()
    folder = posixpath.dirname(file)
    for name, number in found.gathered.textures.items():
        if number is None:
            continue
        place = found.files.place(number)
        target = f"{FOLDER}/{place}.png"
        try:
            if target not in bench.opened or not (bench.folder / target).is_file():
                if not (bench.files / place).is_file():
                    bench.take(list(bench.select(place)))
                open_picture_as(bench, place, "png", Asked())
                made.append(target)
        except VolvexError as error:
            notes.append(f"the texture {name} is left out: {error.message}")
            continue
        images[name] = os.path.relpath(target, folder).replace(os.sep, "/")
    return images, made, notes


def _base_file(bench: Workbench, place: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(place.encode())}.model"


# back


def sync_models(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    """Take over the edited file of a model. RefusedError when it does not fit in, or two were edited."""
    return sync_one(
        bench,
        path,
        files,
        MODEL,
        lambda file: _take_over(bench, path, file),
        lambda file: open_model_as(bench, path, bench.opened[file].extension, again=True),
    )


def _take_over(bench: Workbench, path: str, file: str) -> SyncResult:
    known = asset_of(bench, file)
    read = original_of(bench) if known.base == ORIGINAL else _kept(bench)
    base = _required(bench, path, read)
    edited = _read_edited(bench, bench.folder / file, file)
    places = tuple(dict.fromkeys((*known.beside, *base.beside)))
    with taking_over(bench, [file], (path, *places)):
        try:
            taken = taken_over(base.gathered, edited)
            written = write_taken(bench, base, path, taken)
        except VolvexError as error:
            said = f"{file}: {error.message}".replace(f"{file}: {file}: ", f"{file}: ")
            raise RefusedError(said, error.hint) from error
        digest = digest_file(bench.folder / file)
        bench.opened[file] = replace(known, digest=digest, of=digest_of(bench, (path, *places)), beside=places)
        bench.save()
    others = [name for name in written if name != path]
    vertices = f"{counted(taken.vertices, 'vertex', 'vertices')} taken over"
    into = f"changes applied to {', '.join(others)}"
    said = ", ".join(([vertices] if taken.vertices or not others else []) + ([into] if others else []))
    return SyncResult(path, file, said, tuple(taken.notes))


def _read_edited(bench: Workbench, source: Path, name: str) -> Model:
    """The model in a user's file; RefusedError when it is none."""
    if source.stat().st_size > LARGEST:
        raise RefusedError(f"{name} has more than {LARGEST:,} bytes", "a smaller model")
    with FileSource(source, name) as opened:
        opened.beside = lambda other: _file_beside(source.parent / other, other)
        found = open_model(opened)
    if found is None:
        raise RefusedError(f"{name} is no model", "saving it again as glTF (.glb)")
    return found.model


def _file_beside(path: Path, name: str) -> Source | None:
    return FileSource(path, name) if path.is_file() else None


def _kept(bench: Workbench) -> Read:
    """What reads the base of a model that was edited before it was opened; of other files what the bench has."""

    def read(place: str) -> bytes:
        kept = _base_file(bench, place)
        return kept.read_bytes() if kept.is_file() else current_of(bench)(place)

    return read


def write_taken(bench: Workbench, base: Whole, place: str, taken: TakenOver) -> list[str]:
    """Write what an edit changed into the files of a model, on the bench: all of them are made before the first is written."""
    made: dict[str, bytes] = {}
    gathered = base.gathered
    if taken.mesh is not None:
        mesh = taken.mesh
        for number, model in taken.animations:
            mesh.animations = model.animations if number < 0 else mesh.animations
        made[place] = base.opened.written(mesh)
    if taken.skeleton is not None and gathered.skeleton is not None:
        made[base.files.place(gathered.skeleton)] = gathered.parts[gathered.skeleton].written(taken.skeleton)
    for number, model in [*taken.animations, *taken.materials]:
        if number >= 0:
            made[base.files.place(number)] = gathered.parts[number].written(model)
    new = {path: data for one in taken.new_animations for path, data in [_new_animation(base, place, one)]}
    current, written = current_of(bench), []
    for one, data in made.items():
        if data != current(one):
            own, target = bench.open_for_edit(one)
            write_file(bench, target, data)
            written.append(own)
    return [*written, *(_put_new(bench, path, data) for path, data in new.items())]


def _put_new(bench: Workbench, path: str, data: bytes) -> str:
    target = bench.files / path
    if target.is_file():  # made by an earlier edit
        write_file(bench, target, data)
        return path
    return bench.put_content(path, data)


def _new_animation(base: Whole, place: str, animation: Animation) -> tuple[str, bytes]:
    """A new animation as a file like those that the model has; its path is made of the model's name and its own."""
    gathered = base.gathered
    if not gathered.animations:
        raise RefusedError(
            f"{animation.name} is a new animation, and the game has none for this skeleton that it could be like",
            "an animation under the name of one that there is",
        )
    number, _ = gathered.animations[0]
    like, form = gathered.parts[number].model, gathered.parts[number]
    path = base.files.place(number)
    folder, name = posixpath.split(path)
    _, dot, extension = name.rpartition(".")
    own = posixpath.splitext(posixpath.basename(place))[0]
    plain = animation.name if animation.name.casefold().startswith(own.casefold()) else f"{own}_{animation.name}"
    new = replace(like.animations[0], tracks=animation.tracks)
    model = replace(like, animations=[new], extra={**like.extra, "original": like})
    return posixpath.join(folder, f"{plain}{dot}{extension}"), form.written(model)


# in a game's place


@dataclass(frozen=True)
class Converted:
    """A user's model in the form of the game's own: what it changes in which files."""

    taken: TakenOver
    whole: Whole
    form: str


def converted_for(bench: Workbench, path: str, source: Path, lods: str = "") -> Converted | None:
    """A user's file in the form of the model that it is to replace; None when one of them is no model.

    lods   `nearest` or `simplified`: levels of detail made of the nearest that the file has
    """
    if not source.is_file() or source.stat().st_size > LARGEST:
        return None
    place = one_meant(bench, path)
    if place is None:
        return None  # reported where it is put there
    own = original_kind(bench, place)
    if not may_be_model(own) or (bench.original_size(place) or 0) > LARGEST:
        return None
    with FileSource(source, source.as_posix()) as opened:
        opened.beside = lambda other: _file_beside(source.parent / other, other)
        user = open_model(opened)
        if user is None:
            return None
        same = user.form is not None and user.form is getattr(model_at(bench, place, original_of(bench)), "form", None)
    if same and not lods:
        return None  # of the same open form: it goes in as it is
    found = whole_model(bench, place, original_of(bench))
    if found is None or found.opened.kind != "mesh":
        return None
    edited = user.model
    if lods:
        from volvex.asset.model.lods import with_levels

        edited = with_levels(found.gathered.model, edited, lods)
    return Converted(taken_over(found.gathered, edited), found, found.opened.model.form)


def put_model(bench: Workbench, path: str, converted: Converted) -> list[str]:
    """Put a converted model in the place of the game's own; where it and what belongs to it went in the bench."""
    place, _ = bench.open_for_edit(path)
    for other in (place, *converted.whole.beside):
        bench.keep_edited(other)
    return write_taken(bench, converted.whole, place, converted.taken)


# both states


def model_pair(bench: Workbench, change: FileChange) -> tuple[Model, Model] | None:
    """Both states of a changed model; None when one is no model, or damaged."""
    try:
        before = model_at(bench, change.path, original_of(bench))
        after = model_at(bench, change.path, _with(bench, change))
    except VolvexError:
        return None
    return (before.model, after.model) if before is not None and after is not None else None


def _with(bench: Workbench, change: FileChange) -> Read:
    current = current_of(bench)
    return lambda path: (bench.files / change.source).read_bytes() if path == change.path else current(path)


def scenes_of(bench: Workbench, change: FileChange) -> tuple[Scene, Scene] | None:
    """Both states of a changed model with their textures, to be drawn; None when one is no model, or damaged."""
    try:
        found = [whole_model(bench, change.path, read) for read in (original_of(bench), _with(bench, change))]
    except VolvexError:
        return None
    first, second = found
    if first is None or second is None or not (first.gathered.model.meshes or first.gathered.model.skeleton):
        return None
    return scene_of(first.gathered, first.files), scene_of(second.gathered, second.files)
