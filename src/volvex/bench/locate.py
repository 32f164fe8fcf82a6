"""What the paths that a user gives mean on a bench: as in the game, whatever folder they stand in."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from volvex.archive.access.merged import MARK
from volvex.archive.access.patterns import WILD
from volvex.archive.safe_names import shown
from volvex.errors import RefusedError

FILES = "files"  # the folder of a bench that mirrors the game's tree


@dataclass(frozen=True)
class Standing:
    """Where a user stands: on which bench of which game, in which folder."""

    bench: Path
    game: Path
    here: Path

    def in_game(self, path: str) -> str:
        """A path relative to the game, empty for all of it: given so, or from where they stand, or into the bench or
        the game.

        RefusedError for a path that leads elsewhere.
        """
        path = path.replace("\\", "/")
        found = self._below(path, (self.bench / FILES, self.game))
        if found is not None:
            return found
        if Path(path).is_absolute() or ".." in path.split("/"):
            raise RefusedError(f"{shown(path)} climbs out of the game", "a path as in the game, from its folder")
        return path.strip("/").removeprefix("./").strip("/")

    def in_tree(self, path: str) -> str | None:
        """What a path in the tree that the game sees is there; None for any other path, RefusedError for that of
        another game."""
        before, mark, inside = path.replace("\\", "/").partition(MARK)
        if not mark:
            return None
        if before and self.in_game(before):
            raise RefusedError(f"{shown(before)} is not the game's folder", f"`{MARK}{shown(inside)}`")
        return inside

    def _below(self, path: str, folders: tuple[Path, ...]) -> str | None:
        """A path that leads into one of some folders, made relative; None when it does not. The bench itself stands for
        all of the game."""
        full = flat(Path(path) if Path(path).is_absolute() else self.here / path)
        if full == self.bench.as_posix():
            return ""
        for base in folders:
            # only the text is made relative: the entries of an archive are no paths of the disk
            root = base.as_posix()
            if full == root:
                return ""
            if full.startswith(root + "/"):
                return full[len(root) + 1 :]
        return None

    def locate(self, path: str) -> tuple[Path, str]:
        """The folder from which a path counts, and the path from there: the game's, unless it leads to something else
        that is there, which counts from the current folder (an empty path). The game's own folder, named from where
        they stand, is what it is now."""
        found = "" if not path else self._below(path, (self.bench / FILES,))
        if found is None:
            first = next((part for part in path.split("/") if part not in ("", ".")), "")
            there = (self.here / path).exists() or (self.here / first).exists()
            elsewhere = Path(path).is_absolute() or ".." in path.split("/")
            if elsewhere or (there and not WILD.search(first) and not (self.game / first).exists()):
                return Path(), path
            found = self.in_game(path)
        return self.game, found


def flat(path: Path) -> str:
    """A path without `.` and `..`, made from its text alone, links resolved above what exists."""
    parts: list[str] = []
    for part in path.parts:
        if part == "..":
            parts.pop()
        elif part != ".":
            parts.append(part)
    flattened = Path(*parts)
    for here in (flattened, *flattened.parents):
        if here.exists():
            return (here.resolve() / flattened.relative_to(here)).as_posix()
    return flattened.as_posix()
