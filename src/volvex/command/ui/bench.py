"""Opening the bench that a command works on, and the game behind it."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.recovery import note_recovered
from volvex.errors import NotFoundError

MOST_TOLD = 6  # files of which it is said where else the same content lies

if TYPE_CHECKING:
    from volvex.bench.game import Game
    from volvex.bench.workbench import Workbench


def add_bench(parser: argparse.ArgumentParser, game: bool = True) -> None:
    """The options that name the bench, and its game where it is not where it was when the bench was made."""
    if game:
        parser.add_argument("--game", type=Path, metavar="DIR", help="the game's folder, if it moved")
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )


def open_game(folder: Path, context: Context) -> Game:
    """A game's folder as it was before installs; an interrupted install or restore is finished first."""
    from volvex.bench.game import Game
    from volvex.mods import originals, recover

    if not folder.is_dir():
        raise NotFoundError(f"there is no folder {folder}", "the folder that holds the game")
    note_recovered(folder, recover(folder, context.disk.real), context)
    return Game(folder, game_description(folder, context), originals(folder))


def bench_folder(options: argparse.Namespace, context: Context) -> Path:
    """The bench's folder; NotFoundError when there is none."""
    from volvex.archive.access.paths import DESCRIPTION

    if options.bench is not None:
        return Path(options.bench)
    for folder in (context.cwd, *context.cwd.parents):
        if (folder / DESCRIPTION).is_file():
            return folder
    raise NotFoundError("this folder is not in a bench", "`volvex bench GAME` to make one, or --bench DIR")


def open_bench(options: argparse.Namespace, context: Context, sync_exports: bool = False) -> Workbench:
    """The bench that the options name, or that surrounds the current folder.

    With `sync_exports`, what was edited in its folder `open` is taken over first.
    """
    from volvex.archive.safe_names import shown
    from volvex.bench.bench_file import read_description
    from volvex.bench.lock import clear_leftovers, lock_bench
    from volvex.bench.workbench import Workbench
    from volvex.command.ui.reader import bench_library, remember_layouts

    folder = bench_folder(options, context)
    read_description(folder)  # a folder that is no bench gets no lock
    lock = lock_bench(folder, lambda: context.note("waiting: another volvex works on this bench"))
    try:
        if lock is not None:
            clear_leftovers(folder, context.disk)
        game = open_game(_game_folder(folder, options), context)
        library = context.library(folder)
        bench = Workbench.open(folder, game, library, context.disk.real, lock)
        bench.on_kept = lambda place, kept: context.note(
            f"note: {shown(place)} was edited; your file is kept in {shown(kept)}"
        )
    except BaseException:
        if lock is not None:
            lock.release()
        raise
    try:
        ties = bench_library(library, game.folder, bench.layouts, context, bench.encodings)
        if str(game.folder) != read_description(folder).game:
            bench.save()  # it stays with the game that was named
        library.encoded = lambda path: told if (told := ties.encoding(path))[0] else bench.encoded(path)
        remember_layouts(options, bench, ties, context)
        _prepare(bench, options, context, sync_exports)
        bench.disk = context.disk  # what comes before is done in a plan, too
    except BaseException:
        bench.close()
        raise
    return bench


def _game_folder(folder: Path, options: argparse.Namespace) -> Path:
    """The folder of a bench's game: the one that it was made for, or where that is gone the one that the options
    name."""
    from volvex.bench.bench_file import read_description

    path = Path(read_description(folder).game)
    named: Path | None = getattr(options, "game", None)
    if path.is_dir():
        return path
    if named is None:
        raise NotFoundError(f"the game of this bench is not at {path}", "--game DIR with the folder where it is now")
    return named


def _prepare(bench: Workbench, options: argparse.Namespace, context: Context, sync_exports: bool) -> None:
    from volvex.archive.access.match import Variants
    from volvex.archive.safe_names import shown
    from volvex.bench.rename import follow
    from volvex.bench.takeover import put_back

    put_back(bench)
    bench.variants = Variants(getattr(options, "variant", None) or "")
    for before, after in follow(bench):
        context.note(f"note: {shown(before)} has a name now: {shown(after)}")
    if sync_exports and bench.opened:
        take_over(bench, context)


def note_same_content(bench: Workbench, context: Context) -> None:
    """Say of what this command took where else in the game the same content lies."""
    from volvex.archive.safe_names import shown
    from volvex.bench.copies import same_content

    for place in bench.newly_taken[:MOST_TOLD]:
        others = same_content(bench, place)
        if others:
            more = f" and {len(others) - 1} more" if len(others) > 1 else ""
            context.note(
                f"note: {shown(place)} has the same content as {shown(others[0])}{more}; `volvex build --everywhere` "
                f"changes all"
            )


def require_checked(bench: Workbench, anyway: bool, context: Context) -> None:
    """Print the warnings about a bench's changes; RefusedError for what would stop the game, unless `anyway`."""
    from volvex.archive.safe_names import shown
    from volvex.bench.check import check, refuse_errors

    found = check(bench)
    if not anyway:
        refuse_errors(found)
    for problem in found:
        context.complain(f"{problem.level}: {shown(problem.told)}")


def take_over(bench: Workbench, context: Context) -> None:
    """Take over what was edited in the bench's folder `open`."""
    from volvex.archive.safe_names import shown
    from volvex.bench.exports import sync_exports

    for result in sync_exports(bench):
        context.note(f"note: {shown(result.file)}: {result.what}")
        for note in result.notes:
            context.note(f"note: {shown(result.file)}: {note}")
