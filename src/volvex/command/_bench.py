"""Opening the bench that a command works on, and the game behind it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.command._context import Context
from volvex.errors import NotFoundError

if TYPE_CHECKING:
    from volvex.bench import Game, Workbench


def add_bench(parser: argparse.ArgumentParser) -> None:
    """The option that names the bench."""
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench; the folder you stand in, or one above it, otherwise"
    )


def open_game(folder: Path, context: Context) -> Game:
    """A game's folder as it was before installs; an interrupted install or restore is finished first."""
    from volvex.bench import Game
    from volvex.bench.profile import profile_for
    from volvex.mods import originals, recover

    if not folder.is_dir():
        raise NotFoundError(f"there is no folder {folder}", "the folder that holds the game")
    finished = recover(folder, context.disk)
    if finished:
        context.note(f"note: an interrupted {finished} in {folder} was finished")
    return Game(folder, profile_for(folder, [context.home]), originals(folder))


def bench_folder(options: argparse.Namespace, context: Context) -> Path:
    """The bench's folder; NotFoundError when there is none."""
    from volvex.bench.description import DESCRIPTION

    if options.bench is not None:
        return Path(options.bench)
    for folder in (context.cwd, *context.cwd.parents):
        if (folder / DESCRIPTION).is_file():
            return folder
    raise NotFoundError("this folder is not in a bench", "`volvex bench GAME` to make one, or --bench DIR")


def open_bench(options: argparse.Namespace, context: Context, fold: bool = False) -> Workbench:
    """The bench that the options name, or that surrounds the current folder.

    With `fold`, what was edited in its folder `open` is taken over first.
    """
    from volvex.archive.names import shown
    from volvex.archive.paths import Variants
    from volvex.bench import Workbench
    from volvex.bench.description import read_description
    from volvex.bench.following import follow

    folder = bench_folder(options, context)
    game = open_game(Path(read_description(folder)["game"]), context)
    bench = Workbench.open(folder, game, context.library(folder), context.disk)
    bench.variants = Variants(getattr(options, "variant", None) or "")
    for before, after in follow(bench):
        context.note(f"note: {shown(before)} has a name now: {shown(after)}")
    if fold and bench.opened:
        _fold(bench, context)
    return bench


def _fold(bench: Workbench, context: Context) -> None:
    from volvex.archive.names import shown
    from volvex.bench.opened import fold
    from volvex.command._tables import count

    for one in fold(bench):
        said = f"{count(one.changes, 'change')} taken over" if one.what == "taken over" else one.what
        context.note(f"note: {shown(one.file)}: {said}")
        for note in one.notes:
            context.note(f"note: {shown(one.file)}: {note}")
