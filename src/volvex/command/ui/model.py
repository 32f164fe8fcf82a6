"""The files of a game as its models refer to them."""

from __future__ import annotations

import contextlib
import functools
import itertools
import os
import posixpath
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.access.merged import MARK
from volvex.archive.access.ties import Games
from volvex.command.ui.context import Context
from volvex.command.ui.reader import Content, content_at, file_at
from volvex.source import BytesSource, Source

if TYPE_CHECKING:
    from volvex.archive.archive import Archive
    from volvex.asset.model.gather import Gathered, Settings
    from volvex.asset.model.open import OpenedModel
    from volvex.asset.model.render import Scene
    from volvex.asset.picture.model import Picture

MOST_BESIDE, LEVELS = 4000, 4  # files beside a model that lies in no game, in folders so deep, among which its own are


class TreeFiles:
    """The files of a game as it sees them; on a bench as they stand there."""

    def __init__(self, walker: Walker, context: Context, game: Path, called: str) -> None:
        self.walker, self.context = walker, context
        tree, there, known = walker.tree(game, called)
        self.paths: Sequence[str] = tree.paths
        self._homes = [self._home(called, name, row, known) for name, row in zip(tree.files, tree.rows, strict=True)]
        self._where = {home: number for number, home in enumerate(self._homes)}
        self._files = [
            None if row is not None else game / name for name, row in zip(tree.files, tree.rows, strict=True)
        ]
        del there

    def _home(self, called: str, name: str, row: int | None, known: dict[str, Archive | None]) -> str:
        file, archive = posixpath.join(called, name), known.get(name)
        return f"{file}/{archive.names[row]}" if row is not None and archive is not None else file

    def home(self, number: int) -> str:
        """Where a file lies."""
        return self._homes[number]

    def number(self, path: str) -> int | None:
        """The number of a file by its path in the game's folder, or in its tree."""
        inside = path.rpartition(MARK)[2] if MARK in path else ""
        return next((n for n, one in enumerate(self.paths) if one == inside), None) if inside else self._where.get(path)

    def open(self, number: int) -> Source:
        """A file by its number."""
        home, file = self._homes[number], self._files[number]
        if file is not None:  # no archive: the tree was made of what opens as one
            return file_at(home, file, self.walker, self.context)
        return content_at(home, self.walker, self.context).source

    def picture(self, number: int) -> Picture | None:
        """The picture that a file is."""
        from volvex.asset.picture.open import open_picture, with_roles

        with self.open(number) as source:
            opened = open_picture(source, self.walker.library)
            if opened is None:
                return None
            return with_roles(opened.picture, self._homes[number], self.walker.library.pictured(self._homes[number]))


class FolderFiles:
    """The files of a folder that lies in no game, and of the folders in it: what models there may refer to."""

    def __init__(self, folder: str, walker: Walker, context: Context) -> None:
        self.walker, self.cwd = walker, context.cwd
        self.paths: Sequence[str] = list(itertools.islice(_files_below(self.cwd, folder), MOST_BESIDE))

    def home(self, number: int) -> str:
        """Where a file lies."""
        return self.paths[number]

    def open(self, number: int) -> Source:
        from volvex.source import FileSource

        return FileSource(self.cwd / self.paths[number], self.paths[number])

    def picture(self, number: int) -> Picture | None:
        from volvex.asset.picture.open import open_picture

        with self.open(number) as source:
            opened = open_picture(source, self.walker.library)
            return opened.picture if opened is not None else None


def _files_below(cwd: Path, folder: str) -> Iterator[str]:
    """The files of a folder, then those of the folders in it; what cannot be read is not there."""
    level = [folder]
    for _ in range(LEVELS):
        below = []
        for one in level:
            with contextlib.suppress(OSError):
                for entry in sorted(os.scandir(cwd / one), key=lambda entry: entry.name):
                    path = posixpath.join(one, entry.name)
                    if entry.is_dir(follow_symlinks=False):
                        below.append(path)
                    elif entry.is_file():
                        yield path
        level = below


class Surroundings:
    """The games around the models of one command: each is looked through once."""

    def __init__(self, walker: Walker, context: Context) -> None:
        self.walker, self.context = walker, context
        self._trees: dict[Path, TreeFiles] = {}
        self._homes: dict[str, tuple[Path | None, str]] = {}
        self._folders: dict[str, FolderFiles] = {}

    @functools.cached_property
    def _games(self) -> Games:
        return Games([self.context.home])

    def around(self, path: str) -> tuple[TreeFiles | FolderFiles, str, Settings]:
        """The files around a model, its path among them, and where its game has what models refer to."""
        from volvex.asset.model.gather import Settings

        folder = posixpath.dirname(path)
        if folder not in self._homes:
            self._homes[folder] = self._game_of(path)
        game, called = self._homes[folder]
        if game is None:
            if folder not in self._folders:
                self._folders[folder] = FolderFiles(folder, self.walker, self.context)
            return self._folders[folder], path, Settings()
        if game not in self._trees:
            self._trees[game] = TreeFiles(self.walker, self.context, game, called)
        files = self._trees[game]
        found = files.number(path)
        inside = files.paths[found] if found is not None else path.removeprefix(f"{called}/")
        return files, inside, Settings(**self._games.models(game))

    def _game_of(self, path: str) -> tuple[Path | None, str]:
        """The folder of the game in which a path lies, and what it is called in paths."""
        base, inner = self.walker.located(path.partition(MARK)[0] if MARK in path else path)
        if base != Path():  # on a bench all paths are of its game
            return base, ""
        if MARK in path:
            called = path.partition(MARK)[0]
            return self.context.cwd / called, called
        root = self._games.root_of(self.context.cwd / inner)
        if root is None:
            return None, ""
        parts = path.split("/")
        for size in range(1, len(parts)):
            called = "/".join(parts[:size])
            if (self.context.cwd / called).resolve() == root.resolve():
                return root, called
        return (root, "") if self.context.cwd.resolve() == root.resolve() else (None, "")

    def gathered(self, opened: OpenedModel, content: Content, textures: bool = True) -> Gathered:
        """A model with all that belongs to it."""
        from volvex.asset.model.gather import gather

        files, inside, settings = self.around(content.path)
        return gather(opened, inside, files, self.walker.library, settings, textures)

    def scene(self, found: Gathered, content: Content, plain: bool = False) -> Scene:
        """A model with its textures, to be drawn; those that cannot be read become notes."""

        from volvex.asset.model.textures import scene_of

        files, _, _ = self.around(content.path)
        return scene_of(found, files, plain)


def read_whole(content: Content) -> Source:
    """The bytes of a model in memory, with what finds files beside it: what is opened may outlive its file."""
    source = BytesSource(content.source.read(0, content.source.size), content.path)
    source.beside = content.source.beside
    return source
