"""A game's folder, seen as it was before anything was installed into it."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path

from volvex.archive.access.paths import HIDDEN
from volvex.bench.game_description import GameDescription
from volvex.errors import NotFoundError


class Game:
    """A game's folder. `originals` tells for files that an install replaced where their originals are now,
    or None for files that an install added."""

    def __init__(
        self, folder: Path, description: GameDescription, originals: Mapping[str, Path | None] | None = None
    ) -> None:
        if not folder.is_dir():
            raise NotFoundError(f"there is no folder {folder}", "the folder that holds the game")
        self.folder = folder.resolve()
        self.description = description
        self.originals = dict(originals or {})

    def original(self, path: str) -> Path | None:
        """Where the original of a file is; None when the game had no such file."""
        if path in self.originals:
            return self.originals[path]
        file = self.folder / path
        try:
            return file if file.is_file() else None
        except OSError:  # a path that is too long for the system
            return None

    def files(self) -> Iterator[tuple[str, Path]]:
        """All files of the game but its own logs and saves, sorted: relative path, and where the original is."""
        names = set(self.originals)
        for here, folders, files in os.walk(self.folder):
            folders[:] = sorted(name for name in folders if name != HIDDEN)
            base = Path(here).relative_to(self.folder).as_posix()
            names.update(name if base == "." else f"{base}/{name}" for name in files)
        for name in sorted(names):
            original = self.original(name)
            if original is not None and not self.description.is_own(name):
                yield name, original

    def container(self, path: str) -> tuple[str, str] | None:
        """A path split into the file of the game that it leads through and the rest; None when there is none."""
        parts = path.split("/")
        for count in range(1, len(parts) + 1):
            name = "/".join(parts[:count])
            if self.original(name) is not None:
                return name, "/".join(parts[count:])
        return None
