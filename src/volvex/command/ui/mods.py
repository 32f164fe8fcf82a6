"""What the commands about mods share: which game is meant, its library of mods, conflicts as they are printed."""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterator, Sequence
from pathlib import Path

from volvex.archive.access.paths import HIDDEN
from volvex.archive.safe_names import quoted, shown
from volvex.bench.game import Game
from volvex.bench.game_description import UNKNOWN
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import open_game
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.reader import bench_library, bench_of
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, UsageError
from volvex.mods.assemble import staging
from volvex.mods.combine.conflict import GAME, Conflict, Decisions
from volvex.mods.library import WORK, ModLibrary
from volvex.mods.mod.content import Mod
from volvex.mods.mod.folder import DESCRIPTOR, read_mod
from volvex.mods.mod.package import opened_mod

MOST_LINES = 6  # of a side that is printed


def add_game(parser: argparse.ArgumentParser) -> None:
    """The option that says for which game mods are meant."""
    parser.add_argument(
        "--game", type=Path, metavar="DIR", help="the game's folder (default: that of the bench, or the current folder)"
    )


def add_game_folder(parser: argparse.ArgumentParser) -> None:
    """The argument that names the game, of commands that are about one game."""
    parser.add_argument(
        "game",
        nargs="?",
        type=Path,
        metavar="GAME",
        help="the game's folder (default: that of the bench, or the current folder)",
    )


def game_folder(options: argparse.Namespace, context: Context) -> Path:
    """The game that is meant: named, that of the bench, or one whose folder is the current one or above it."""
    if options.game is not None:
        if not options.game.is_dir():
            raise NotFoundError(f"there is no folder {options.game}", "the folder that holds the game")
        return Path(options.game)
    bench = bench_of(options, context)
    if bench is not None:
        from volvex.bench.bench_file import read_description

        return Path(read_description(bench).game)
    for folder in (context.cwd, *context.cwd.parents):
        if (folder / HIDDEN).is_dir() or game_description(folder, context) is not UNKNOWN:
            return folder
    raise UsageError("no game is given, and the current folder is not in one", "--game DIR, with the game's folder")


def names_of(game: Game) -> list[str]:
    """The names by which mods may call a game: that of its description, and of its folder."""
    known = [] if game.description is UNKNOWN else [game.description.name]
    return [*known, game.folder.name]


@contextlib.contextmanager
def open_library(options: argparse.Namespace, context: Context) -> Iterator[ModLibrary]:
    """The mods for the game that is meant; nobody else changes them meanwhile."""
    with library_of(game_folder(options, context), context) as library:
        yield library


@contextlib.contextmanager
def library_of(folder: Path, context: Context) -> Iterator[ModLibrary]:
    """The mods for the game in a folder, read while nobody else can change them."""
    with ModLibrary.of(context.home, folder, context.disk).locked():
        yield ModLibrary.of(context.home, folder, context.disk)


def open_staging(library: ModLibrary, context: Context, work: str = WORK) -> Workbench:
    """The bench in which the mods of a library are combined."""
    game = open_game(library.game, context)
    layouts = context.library()
    bench_library(layouts, game.folder, {}, context)
    return staging(library, game, layouts, context.disk.real, work)


def decisions_of(library: ModLibrary, preferred: Sequence[str] = ()) -> Decisions:
    """What was settled, and which mods win where nothing was."""
    return Decisions(library.settled, tuple(preferred))


@contextlib.contextmanager
def mod_named(name: str, options: argparse.Namespace, context: Context) -> Iterator[Mod]:
    """A mod by its folder, its ZIP, or its id in the library."""
    path = Path(name)
    if path.is_file() or (path / DESCRIPTOR).is_file():
        work = context.cache / "mods"
        work.mkdir(parents=True, exist_ok=True)
        with opened_mod(path, work, context.disk.real) as folder:
            yield read_mod(folder)
        return
    library = ModLibrary.of(context.home, game_folder(options, context), context.disk)
    yield read_mod(library.path(library.entry(name).id))


def print_conflicts(conflicts: Sequence[Conflict], context: Context) -> None:
    """What mods cannot agree on, each with the value of every side."""
    for conflict in conflicts:
        context.print(f"{context.paint('conflict', 'red')}  {context.paint(shown(conflict.key), 'bold')}")
        sides = [
            ("the game has", conflict.base),
            *((shown(side.mod), side.value) for side in conflict.sides if side.mod != GAME),
        ]
        width = max(len(name) for name, _ in sides)
        for name, value in sides:
            _print_side(name.ljust(width), value, context)
    first = conflicts[0]
    best = next(side.mod for side in reversed(first.sides) if side.mod != GAME)
    context.tip(
        f"{count(len(conflicts), 'conflict')}; settle it with the command below, or prefer one mod: `volvex install "
        f"--prefer {best}`"
    )
    context.tip(f"`volvex mod settle {quoted(first.key)} --winner {best}`")


def _print_side(name: str, value: str, context: Context) -> None:
    lines = value.split("\n")
    for number, line in enumerate(lines[:MOST_LINES]):
        head = context.paint(name, "cyan") if not number else " " * len(name)
        context.print(f"  {head}  {shown(line)}")
    if len(lines) > MOST_LINES:
        context.print(f"  {' ' * len(name)}  and {count(len(lines) - MOST_LINES, 'more line')}")


def conflict_record(conflict: Conflict) -> dict[str, object]:
    """A conflict for JSON."""
    return {
        "conflict": conflict.key,
        "path": conflict.path,
        "kind": conflict.kind,
        "sheet": conflict.sheet,
        "id": conflict.id,
        "field": conflict.field,
        "line": conflict.line or None,
        "game": conflict.base,
        "sides": {side.mod: side.value for side in conflict.sides},
    }


def part_counts(mod: Mod) -> str:
    """How much of each kind a mod has, in few words."""
    words = {"fields": "field", "records": "record", "lines": "line change", "files": "file", "removals": "removal"}
    return ", ".join(count(number, words[name]) for name, number in mod.counts().items() if number) or "nothing"


def turn(options: argparse.Namespace, context: Context, on: bool) -> None:
    """Turn the mods that are named on or off."""
    with open_library(options, context) as library:
        changed = library.turn(options.mod, on)
    for name in options.mod:
        context.print(f"{name}: {'on' if on else 'off'}" + ("" if name in changed else " already"))
    context.tip("next: `volvex install`")
