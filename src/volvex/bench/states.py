"""The game of a bench in one of its states, as assets see it: what lies beside a file, and all files that one may refer
to."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from volvex.asset.kind import AssetKind, path_beside
from volvex.bench.changes import FileChange
from volvex.bench.content import Read, current_of, original_of, original_source
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, UsageError
from volvex.source import BytesSource, FileSource, Source

if TYPE_CHECKING:
    from volvex.asset.model.gather import Settings
    from volvex.asset.picture.model import Picture


class BenchState:
    """One state: as the game has it, or as it is on the bench.

    `read` gives the bytes at a path, NotFoundError where there is none. `own`: whether this is the game's own state.
    """

    def __init__(self, bench: Workbench, read: Read, own: bool = False) -> None:
        self.bench, self.read, self._own = bench, read, own

    def opened(self, kind: AssetKind[Any], path: str, thorough: bool = False) -> Any:
        """What is at a path, as one kind of asset; None when it is none."""
        with self._source(kind, path) as source:
            source.beside = functools.partial(self.beside, path)
            return kind.opened(source, self.bench.library, self, thorough)

    def around(self, path: str) -> tuple[BenchFiles, str, Settings]:
        """The files of the game, the path of one among them, and where the game has what models refer to."""
        from volvex.asset.model.gather import Settings  # only models ask

        files = BenchFiles(self)
        number = files.number(path)
        settings = Settings(**dict(self.bench.game.description.models))
        return files, files.paths[number] if number is not None else path, settings

    def _source(self, kind: AssetKind[Any], path: str) -> Source:
        if kind.STREAMED:
            file = self.bench.files / path
            if self._own:
                return original_source(self.bench, path)
            if file.is_file() and path not in self.bench.dropped:
                return FileSource(file, path)
        return BytesSource(self.read(path), path)

    def beside(self, path: str, name: str) -> Source | None:
        """The file of that name from the folder of another; None when there is none."""
        other = path_beside(path, name)
        try:
            return BytesSource(self.read(other), other)
        except (NotFoundError, UsageError):
            return None


class BenchFiles:
    """The files of a bench's game as the game sees them, in one state."""

    def __init__(self, state: BenchState) -> None:
        self.state = state
        self._tree = state.bench.tree

    @property
    def paths(self) -> Sequence[str]:
        return self._tree.paths

    def home(self, number: int) -> str:
        """Where on the bench a file goes."""
        return self.state.bench.place_of(self._tree.files[number], self._tree.rows[number])

    def number(self, path: str) -> int | None:
        """The number of what is at a path; None for what the game does not see as a file."""
        for number, name in enumerate(self._tree.files):
            row = self._tree.rows[number]
            inside = row is not None and path.startswith(f"{name}/")
            if (row is None and name == path) or (inside and self.home(number) == path):
                return number
        return None

    def open(self, number: int) -> Source:
        return BytesSource(self.state.read(self.home(number)), self.paths[number])

    def picture(self, number: int) -> Picture | None:
        from volvex.asset.kinds.picture import KIND

        found = self.state.opened(KIND, self.home(number))
        return found.picture if found is not None else None


def original_state(bench: Workbench) -> BenchState:
    """The game as it was before any edit."""
    return BenchState(bench, original_of(bench), own=True)


def current_state(bench: Workbench) -> BenchState:
    """The game with all that is on the bench."""
    return BenchState(bench, current_of(bench))


def changed_state(bench: Workbench, change: FileChange) -> BenchState:
    """The same, with the file of a change under the path that it goes to."""
    current = current_of(bench)
    return BenchState(
        bench, lambda path: (bench.files / change.source).read_bytes() if path == change.path else current(path)
    )
