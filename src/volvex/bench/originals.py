"""The game's originals as archives: which innermost one a path leads into, at any depth."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path

from volvex.archive.access.merged import MARK, Tree, merged
from volvex.archive.access.nested import open_entry
from volvex.archive.access.open import open_archive
from volvex.archive.archive import Archive
from volvex.archive.safe_names import Refusal, quoted, shown
from volvex.bench.game import Game
from volvex.errors import NotFoundError, UsageError, VolvexError
from volvex.layout import Library


def only(found: list[tuple[str, int | None]], path: str) -> tuple[str, int | None]:
    """The one thing that a path means; UsageError when it means several."""
    if len(found) != 1:
        raise UsageError(
            f"{shown(path)}: {len(found)} files match; give one path", f"`volvex list {quoted(path)}` to see them"
        )
    return found[0]


class Originals:
    """Archives of a game and those within them, opened when they are asked for and kept until closed.

    An archive within another is called by its path; paths are those that its entries have on disk.
    """

    def __init__(self, game: Game, library: Library) -> None:
        self.game, self.library = game, library
        self._archives: dict[str, Archive | None] = {}
        self._rows_of: dict[str, dict[str, int]] = {}

    def close(self) -> None:
        """Let go of all of them, those within others first."""
        for archive in reversed(self._archives.values()):
            if archive is not None:
                archive.close()
        self._archives.clear()

    def require_original(self, name: str) -> Path:
        """The original of a file of the game; NotFoundError when it has gone meanwhile."""
        original = self.game.original(name)
        if original is None:
            raise NotFoundError(f"no longer in the game: {shown(name)}", "having the game's launcher repair its files")
        return original

    def require_archive(self, name: str) -> Archive:
        """The original of an archive; NotFoundError when it has gone, or is none any more."""
        found = self.archive(name)
        if found is None:
            raise NotFoundError(f"{shown(name)} is not an archive of a known format")
        return found

    def archive(self, name: str) -> Archive | None:
        """The original of an archive of the game, or of one within another; None when that is no archive."""
        if name not in self._archives:
            original = self.game.original(name)
            if original is not None:
                found = open_archive(original, self.library, name, sibling=self._beside(name))
            else:
                found = self._inner(name)
            self._archives[name] = found
        return self._archives[name]

    def _beside(self, name: str) -> Callable[[str], Path | None]:
        """The originals of files in the same folder of the game."""
        folder = name.rpartition("/")[0]
        return lambda other: self.game.original(f"{folder}/{other}" if folder else other)

    def _inner(self, name: str) -> Archive | None:
        """An archive within an archive, by its path."""
        outer, inner = self.game.container(name) or ("", "")
        if not inner:
            raise NotFoundError(f"not in the game: {name}")
        while True:
            archive = self.archive(outer)
            if archive is None:
                return None
            step = self._step(outer, archive, inner)
            if step is None:
                return None
            row, rest = step
            if not rest:
                return open_entry(archive, row, self.library, name)
            outer, inner = name[: -len(rest) - 1], rest

    def _step(self, outer: str, archive: Archive, inner: str) -> tuple[int, str] | None:
        """The entry that a path within an archive leads to or through, and what is left of the path."""
        rows = self.rows_in(outer)
        parts = inner.split("/")
        for count in range(len(parts), 0, -1):
            row = rows.get("/".join(parts[:count]))
            if row is not None and row not in archive.folders:
                return row, "/".join(parts[count:])
        return None

    def seen(self, pattern: str) -> list[tuple[str, int | None]]:
        """What a path in the tree that the game sees means: file of the game, and row in it (None for a plain file).

        NotFoundError when it means nothing. Archives that do not open take no part.
        """
        found = [(name, row) for _, name, row in self.tree.matching(pattern)]
        if not found:
            raise NotFoundError(
                f"the game sees nothing at {MARK}{shown(pattern)}", f"`volvex list {MARK}` for all it sees"
            )
        return found

    @functools.cached_property
    def tree(self) -> Tree:
        """What the game sees. Archives that do not open take no part."""
        files = ((name, self._quietly(name)) for name, _ in self.game.files())
        return merged(files, self.game.description.order)

    def _quietly(self, name: str) -> Archive | None:
        try:
            with self.library.keys.quiet():
                return self.archive(name)
        except VolvexError:
            return None

    def split(self, path: str) -> tuple[str, str] | None:
        """A path in the game as the innermost archive that it leads into (or the file that it is), and the rest of it.

        None when no file of the game is on it.
        """
        found = self.game.container(path)
        if found is None:
            return None
        name, inner = found
        while inner:
            archive = self.archive(name)
            step = self._step(name, archive, inner) if archive is not None else None
            if step is None or not step[1] or self.archive(path[: -len(step[1]) - 1]) is None:
                return name, inner
            name, inner = path[: -len(step[1]) - 1], step[1]
        return name, inner

    def file_of(self, name: str) -> str:
        """The file of the game that an archive is, or lies in."""
        found = self.game.container(name)
        return found[0] if found is not None else name

    def outer_of(self, name: str) -> tuple[str, int]:
        """For an archive within an archive: the outer one, and the entry that it is."""
        outer, inner = self.game.container(name) or (name, "")
        archive = self.archive(outer)
        while archive is not None and (step := self._step(outer, archive, inner)) is not None:
            row, rest = step
            if not rest:
                return outer, row
            outer, inner = name[: -len(rest) - 1], rest
            archive = self.archive(outer)
        raise NotFoundError(f"not in the game: {shown(name)}")

    def places_in(self, name: str) -> list[str | Refusal]:
        """Where the entries of an archive go on disk."""
        return self.require_archive(name).disk_names

    def rows_in(self, name: str) -> dict[str, int]:
        """The entries of an archive by their places on disk."""
        if name not in self._rows_of:
            self._rows_of[name] = {
                place: row for row, place in enumerate(self.places_in(name)) if isinstance(place, str)
            }
        return self._rows_of[name]
