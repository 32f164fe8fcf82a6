"""A whole model of the files that it is spread over: its skeleton, animations, materials and textures, wherever in the
game they lie.

Files go by their paths as the game sees them. What a model refers to is looked for beside it, below the roots that the
game description names, and everywhere by its bare name; with or without an extension, in any letters, with either
slash.
"""

from __future__ import annotations

import posixpath
import weakref
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Protocol

from volvex.archive.access.patterns import path_pattern
from volvex.asset.layout_of import own_layout
from volvex.asset.model.model import Animation, Material, Model, Skeleton
from volvex.asset.model.open import OpenedModel, open_model
from volvex.asset.picture.model import Picture
from volvex.errors import VolvexError
from volvex.layout import Library
from volvex.source import Source

MOST_LOOKED_AT = 4000  # files of a folder that are opened to see what they are
SKELETON, ANIMATION, MATERIAL = "skeleton", "animation", "material"


class Files(Protocol):
    """The files of a game: their paths as it sees them; by its number where one lies in the game's folder, and what
    opens it."""

    @property
    def paths(self) -> Sequence[str]: ...

    def home(self, number: int) -> str: ...

    def open(self, number: int) -> Source: ...

    def picture(self, number: int) -> Picture | None: ...


@dataclass(frozen=True)
class Settings:
    """Where a game has what models refer to: roots of textures, patterns of files; `{stem}` and `{material}` stand for
    names."""

    textures: tuple[str, ...] = ()
    skeletons: tuple[str, ...] = ()
    animations: tuple[str, ...] = ()
    materials: tuple[str, ...] = ()


@dataclass
class Gathered:
    """A model with all that belongs to it, and from which files that is (numbers of `Files`)."""

    model: Model
    skeleton: int | None = None
    animations: list[tuple[int, list[int]]] = field(default_factory=list)  # files, and which of the model's animations
    materials: list[tuple[int, dict[int, int]]] = field(
        default_factory=list
    )  # files; the model's to the file's numbers
    textures: dict[str, int | None] = field(default_factory=dict)  # by their names in materials; None: nowhere
    parts: dict[int, OpenedModel] = field(default_factory=dict)  # the other files as they were opened
    notes: list[str] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)  # materials that none of the game's files has

    @property
    def missing(self) -> list[str]:
        """The textures that are nowhere."""
        return [name for name, number in self.textures.items() if number is None and name not in self.model.pictures]


class Finder:
    """Finds files by what models call them."""

    def __init__(self, files: Files, settings: Settings) -> None:
        self.files: Files = weakref.proxy(files)
        self.settings = settings
        self._beside: dict[str, list[int]] = {}
        self._pictures: dict[int, bool] = {}
        self._matched: dict[str, list[int]] = {}
        self._materials: dict[int, dict[str, int]] = {}
        self._known: dict[tuple[int, str], OpenedModel | None] = {}
        self.skeletons: dict[int, str] = {}  # of animations that were opened, the skeleton that each names
        self._stems: dict[str, list[int]] = {}
        self._names: dict[str, list[int]] = {}
        for number, path in enumerate(files.paths):
            plain = path.casefold()
            self._stems.setdefault(plain, []).append(number)
            stem = posixpath.splitext(plain)[0]
            if stem != plain:
                self._stems.setdefault(stem, []).append(number)
            self._names.setdefault(posixpath.basename(stem), []).append(number)
            self._beside.setdefault(posixpath.dirname(path), []).append(number)

    def candidates(self, name: str, folder: str, roots: Iterable[str] = ()) -> Iterator[list[int]]:
        """The files that a name may mean, the likeliest first: those at one place together."""
        plain = posixpath.normpath(name.replace("\\", "/").strip().lstrip("/")).casefold()
        if plain in ("", "."):
            return
        stem = posixpath.splitext(plain)[0]
        for root in dict.fromkeys((folder.casefold(), *(root.casefold().strip("/") for root in roots), "")):
            for one in dict.fromkeys((plain, stem)):
                if found := self._stems.get(posixpath.join(root, one)):
                    yield found
        if found := self._names.get(posixpath.basename(stem)):
            yield found

    def texture(self, name: str, folder: str, library: Library) -> int | None:
        """The picture that a material's name for a texture means; None when it is nowhere."""
        for group in self.candidates(name, folder, self.settings.textures):
            for number in group:
                if number not in self._pictures:
                    self._pictures[number] = is_picture_at(self.files, number, library)
                if self._pictures[number]:
                    return number
        return None

    def opened(self, number: int, kind: str, library: Library, skeleton: Skeleton | None) -> OpenedModel | None:
        """A file, if it is of a kind; skeletons and materials are kept, since many models share them."""
        key = (number, kind)
        if key in self._known:
            return self._known[key]
        with self.files.open(number) as source:
            layout = own_layout(source, kind, library)
            found = None if layout is None else open_model(source, library, layout, skeleton)
        if found is None or kind != ANIMATION:
            self._known[key] = found
        return found

    def matching(self, patterns: Iterable[str], **names: str) -> list[int]:
        """The files that patterns mean, names put in their places."""
        found: dict[int, None] = {}
        for pattern in patterns:
            for key, name in names.items():
                pattern = pattern.replace(f"{{{key}}}", name)
            plain = pattern.casefold()
            if plain not in self._matched:
                match = path_pattern(plain).fullmatch
                wild = any(sign in plain for sign in "*?[")
                self._matched[plain] = (
                    [number for number, path in enumerate(self.files.paths) if match(path.casefold())]
                    if wild
                    else self._stems.get(plain, [])
                )
            found |= dict.fromkeys(self._matched[plain])
        return list(found)

    def materials(self, number: int, found: OpenedModel) -> dict[str, int]:
        """The materials of a file by their names in small letters."""
        if number not in self._materials:
            self._materials[number] = {one.name.casefold(): at for at, one in enumerate(found.model.materials)}
        return self._materials[number]

    def beside(self, folder: str) -> list[int]:
        """The files of a folder."""
        return self._beside.get(folder, [])


_FINDERS: weakref.WeakKeyDictionary[Files, Finder] = weakref.WeakKeyDictionary()


def finder_of(files: Files, settings: Settings) -> Finder:
    """The finder among some files: made once for all models of a game."""
    if files not in _FINDERS:
        _FINDERS[files] = Finder(files, settings)
    return _FINDERS[files]


def gather(
    opened: OpenedModel, path: str, files: Files, library: Library, settings: Settings, textures: bool = True
) -> Gathered:
    """The model at a path with all that belongs to it; of what cannot be read a note."""
    return _Gatherer(opened, path, files, library, settings).gathered(textures)


class _Gatherer:
    def __init__(self, opened: OpenedModel, path: str, files: Files, library: Library, settings: Settings) -> None:
        self.opened, self.path, self.files, self.library = opened, path, files, library
        self.folder, self.settings = posixpath.dirname(path), settings
        self.stem = posixpath.splitext(posixpath.basename(path))[0]
        self.finder = finder_of(files, settings)
        own = opened.model
        self.made = Gathered(
            replace(
                own,
                animations=list(own.animations),
                materials=list(own.materials),
                extra={**own.extra, "original": own},
            )
        )

    def gathered(self, textures: bool) -> Gathered:
        """All of it, in the order in which one needs the other."""
        made = self.made
        self._add_skeleton()
        if made.model.skeleton is not None and self.opened.kind in ("mesh", SKELETON):
            self._add_animations()
        self._add_materials()
        if textures:
            self._add_textures()
        return made

    def _opened(self, number: int, kind: str, skeleton: Skeleton | None = None) -> OpenedModel | None:
        """A file, if it is of a kind; what is wrong with it becomes a note."""
        try:
            return self.finder.opened(number, kind, self.library, skeleton)
        except VolvexError as error:
            self.made.notes.append(f"{self.files.paths[number]}: {error.message}")
            return None

    def _first(self, groups: Iterable[Sequence[int]], kind: str) -> tuple[int, OpenedModel] | None:
        for group in groups:
            for number in group:
                found = self._opened(number, kind)
                if found is not None:
                    return number, found
        return None

    # skeleton and animations

    def _add_skeleton(self) -> None:
        model = self.made.model
        if model.skeleton is not None:
            return
        moved = any(mesh.joints is not None for mesh in model.meshes) or self.opened.kind == ANIMATION
        if model.skeleton_file:
            found = self._first(self.finder.candidates(model.skeleton_file, self.folder), SKELETON)
        elif moved:
            patterns = self.finder.matching(self.settings.skeletons, stem=self.stem)
            beside = [n for n in self.finder.beside(self.folder) if self._stem(n) == self.stem.casefold()]
            found = self._first([patterns, beside], SKELETON)
        else:
            return
        if found is None:
            if moved:
                self.made.notes.append(f"the skeleton {model.skeleton_file or 'of this mesh'} is not in the game")
            return
        number, opened = found
        model.skeleton = opened.model.skeleton
        self.made.skeleton, self.made.parts[number] = number, opened
        if self.opened.kind == ANIMATION and self.opened.own is not None:
            self._read_again(model)

    def _read_again(self, model: Model) -> None:
        """An animation again, now that the joints of its skeleton are known by name."""
        assert self.opened.own is not None
        source = model.extra["reading"].source
        again = self.opened.own.read(source, model.skeleton)
        model.animations, model.extra = list(again.animations), {**again.extra, "original": again}

    def _stem(self, number: int) -> str:
        return posixpath.splitext(posixpath.basename(self.files.paths[number]))[0].casefold()

    def _add_animations(self) -> None:
        model, made = self.made.model, self.made
        wanted = self.finder.matching(self.settings.animations, stem=self.stem)
        near = wanted if self.settings.animations else self.finder.beside(self.folder)
        for number in near[:MOST_LOOKED_AT]:
            if number in self.finder.skeletons and not self._names_own(self.finder.skeletons[number], number):
                continue
            found = self._opened(number, ANIMATION, model.skeleton)
            if found is not None:
                self.finder.skeletons[number] = found.model.skeleton_file
            if found is None or not self._is_of(found.model, number):
                continue
            rows = []
            for animation in found.model.animations:
                rows.append(len(model.animations))
                model.animations.append(_renamed(animation, [animation.name for animation in model.animations]))
            made.animations.append((number, rows))
            made.parts[number] = found

    def _is_of(self, other: Model, number: int) -> bool:
        """Whether an animation is one of this skeleton: it names its file, or it moves its joints and is called like
        it."""
        model = self.made.model
        if other.skeleton_file:
            return self._names_own(other.skeleton_file, number)
        tracks = [track for animation in other.animations for track in animation.tracks]
        count = len(model.skeleton) if model.skeleton is not None else 0
        fits = bool(tracks) and all(0 <= track.joint < count for track in tracks)
        named = bool(self.settings.animations) or self._stem(number).startswith(self.stem.casefold())
        return fits and named

    def _names_own(self, name: str, number: int) -> bool:
        """Whether the skeleton that an animation names is this one; of one that names none it cannot be said."""
        if not name:
            return True
        own = self.made.skeleton
        found: list[int] = next(self.finder.candidates(name, posixpath.dirname(self.files.paths[number])), [])
        return own in found if own is not None else self.path in [self.files.paths[one] for one in found]

    # materials and textures

    def _add_materials(self) -> None:
        model = self.made.model
        bare = [n for n, one in enumerate(model.materials) if one == Material(one.name)]
        if not bare or self.opened.kind == MATERIAL:
            return
        left = {model.materials[n].name.casefold(): n for n in bare}
        named = [
            number
            for n in bare
            for number in self.finder.matching(self.settings.materials, material=model.materials[n].name)
        ]
        near = named if self.settings.materials else self.finder.beside(self.folder)
        for number in list(dict.fromkeys(near))[:MOST_LOOKED_AT]:
            if not left:
                break
            found = self._opened(number, MATERIAL)
            if found is None:
                continue
            rows, there = {}, self.finder.materials(number, found)
            for name in [name for name in left if name in there]:
                own, at = left.pop(name), there[name]
                material = found.model.materials[at]
                model.materials[own] = replace(material, textures=dict(material.textures))
                rows[own] = at
            if rows:
                self.made.materials.append((number, rows))
                self.made.parts[number] = found
        if self.settings.materials or self.made.materials:
            self.made.unknown = [model.materials[n].name for n in left.values()]

    def _add_textures(self) -> None:
        model = self.made.model
        for name in dict.fromkeys(name for material in model.materials for name in material.textures.values()):
            found = None
            if name not in model.pictures:
                if name in model.texture_files:
                    found = self.finder.texture(model.texture_files[name], self.folder, self.library)
                if found is None:
                    found = self.finder.texture(name, self.folder, self.library)
            self.made.textures[name] = found


def is_picture_at(files: Files, number: int, library: Library) -> bool:
    """Whether a file is a picture, by its head."""
    from volvex.asset.picture.open import form_in

    try:
        with files.open(number) as source:
            return form_in(source, library) is not None
    except VolvexError:
        return False


def _renamed(animation: Animation, names: list[str]) -> Animation:
    """An animation under a name that no other has."""
    name, at = animation.name, 2
    while name in names:
        name, at = f"{animation.name}~{at}", at + 1
    return replace(animation, name=name) if name != animation.name else animation
