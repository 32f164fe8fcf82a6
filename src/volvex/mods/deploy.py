"""What was built, into the game's folder and into its folder of add-ons where that is elsewhere; and out of both again.

Each folder has a journal of its own (`.volvex`), and each is changed in one transaction: the add-ons first when
something is put there, the game first when it is taken out, so that the game never asks for an add-on that is not
there.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from dataclasses import replace as changed
from pathlib import Path

from volvex.bench.build import Built
from volvex.bench.game_description import GameDescription
from volvex.errors import RefusedError
from volvex.mods.actions import Action, Done
from volvex.mods.home import home_of
from volvex.mods.install import Content, install, plan_install
from volvex.mods.installed import FileState, installed, states
from volvex.mods.list_lines import ListLines
from volvex.mods.restore import plan_restore, restore
from volvex.mods.store import OnProgress
from volvex.mods.transaction import nothing
from volvex.source import Disk
from volvex.source.digest import digest_bytes


def outside_of(game: Path, description: GameDescription) -> dict[Path, list[str]]:
    """The folders outside of the game's in which add-ons may be, with the ways that put them there."""
    found: dict[Path, list[str]] = {}
    for way, one in (("folder", description.folder), ("list", description.list)):
        try:
            root = one.folder(game, description.places)[0] if one is not None else game
        except RefusedError:  # none on this system
            continue
        if root != game:
            found.setdefault(root, []).append(way)
    return found


@dataclass(frozen=True)
class Deployment:
    """What is to be installed: what was built in `folder`, and of which mods; `by` says by whom, `also` whose files may
    go without being asked."""

    game: Path
    description: GameDescription
    folder: Path
    built: Sequence[Built]
    by: str
    also: tuple[str, ...] = ()
    made_of: Mapping[str, tuple[str, ...]] | None = None

    def _parts(self) -> list[tuple[Path, list[Built], str, tuple[str, ...]]]:
        """The folders that change, with what goes into each, who says so, and whom it takes out."""
        parts = []
        mark = _mark(self.game)
        for root, ways in outside_of(self.game, self.description).items():
            own = [built for built in self.built if built.outside in ways]
            if own or root in _own_outside(self.game, self.description):
                parts.append((root, own, f"{self.by} {mark}", tuple(f"{text} {mark}" for text in self.also)))
        return [*parts, (self.game, [built for built in self.built if not built.outside], self.by, self.also)]

    def _contents(self, built: Iterable[Built]) -> dict[str, Content]:
        return {
            built.path: None if built.absent else ListLines(built.lines) if built.lines else self.folder / built.path
            for built in built
        }

    def plan(self, replace: bool = False) -> list[Action]:
        """What installing it would do; RefusedError where it could not be."""
        found = []
        for root, own, by, also in self._parts():
            bases = {built.path: built.base for built in own}
            planned = plan_install(root, self._contents(own), bases, by, replace, also)
            found += _placed(planned, root, self.game)
        return found

    def install(self, disk: Disk, on_progress: OnProgress = nothing, replace: bool = False) -> Done:
        """Install it; what an earlier install of the same put elsewhere goes."""
        done = Done()
        for root, own, by, also in self._parts():
            bases = {built.path: built.base for built in own}
            part = install(root, self._contents(own), bases, disk, on_progress, by, replace, self.made_of, also)
            done.actions += _placed(part.actions, root, self.game)
            done.skipped += _placed(part.skipped, root, self.game)
        return done


def _mark(game: Path) -> str:
    """What says in the journal of a folder of add-ons that they are a game's: several copies of it may share the
    folder."""
    return digest_bytes(str(game.resolve()).encode("utf-8", "surrogateescape"))[:16]


def _own_outside(game: Path, description: GameDescription) -> list[Path]:
    """The folders outside of a game's in which it has add-ons, and no other game."""
    mark = _mark(game)
    return [
        root
        for root in outside_of(game, description)
        if home_of(root).is_dir() and all(installed.by.endswith(mark) for installed in installed(root).values())
    ]


def withdraw(
    game: Path, description: GameDescription, disk: Disk, on_progress: OnProgress = nothing, force: Collection[str] = ()
) -> Done:
    """Put every original back, in the game and where its add-ons are."""
    done = restore(game, disk, on_progress, force)
    for root in _own_outside(game, description):
        part = restore(root, disk, on_progress)
        done.actions += _placed(part.actions, root, game)
        done.skipped += _placed(part.skipped, root, game)
    return done


def plan_withdraw(game: Path, description: GameDescription, force: Collection[str] = ()) -> Done:
    """What `withdraw` would do."""
    done = plan_restore(game, force)
    for root in _own_outside(game, description):
        part = plan_restore(root)
        done.actions += _placed(part.actions, root, game)
        done.skipped += _placed(part.skipped, root, game)
    return done


def all_states(game: Path, description: GameDescription) -> list[FileState]:
    """What has become of each file that was installed, in the game and where its add-ons are."""
    found = states(game)
    for root in _own_outside(game, description):
        found += [changed(state, path=(root / state.path).as_posix()) for state in states(root)]
    return found


def _placed(actions: Iterable[Action], root: Path, game: Path) -> list[Action]:
    """Actions in a folder that is not the game's say where."""
    return [action if root == game else changed(action, path=(root / action.path).as_posix()) for action in actions]
