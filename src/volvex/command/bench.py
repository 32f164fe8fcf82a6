"""Make a bench: a folder for changing one game.

The bench contains fingerprints of the game's archives and no copies. `volvex take` puts into it what you want to
change. The game's folder is not written to until `volvex install`.

With --game, the bench that you are on is connected to the game at another place (another drive or computer): the
fingerprints are compared, and what differs is told.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import quoted
from volvex.bench.bench_file import read_description
from volvex.bench.lock import lock_bench
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import bench_folder, open_game
from volvex.command.ui.context import Context
from volvex.command.ui.games import name_game
from volvex.command.ui.reader import add_layout, bench_library, remember_layouts, tie_patterns
from volvex.command.ui.table import count
from volvex.errors import RefusedError, Status, UsageError
from volvex.source.digest import Fingerprint

PRIORITY = 30
WRITES = True
EXAMPLES = (
    "volvex bench game",
    "volvex bench game my-mod",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("game", type=Path, nargs="?", metavar="GAME", help="the game's folder")
    parser.add_argument(
        "dir", type=Path, nargs="?", metavar="DIR", help="the bench's folder (default: GAME-bench, here)"
    )
    parser.add_argument(
        "--game", dest="moved", type=Path, metavar="DIR", help="connect this bench to the game in that folder"
    )
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="with --game: the bench (default: the current folder or one above it)"
    )
    add_layout(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.moved is not None:
        return _connect(options, context)
    if options.game is None:
        raise UsageError("no game is given", "GAME, the game's folder")
    game = open_game(options.game, context)
    folder = options.dir or Path(f"{game.folder.name}-bench")
    library = context.library()
    ties = bench_library(library, game.folder, {}, context)
    tie_patterns(options, ties, game.folder)
    with Workbench.create(folder, game, library, context.disk) as bench:
        remember_layouts(options, bench, ties, context)
        name_game(game.folder, context)
    context.print(
        f"{folder} is a bench for {game.folder} ({game.description.name}): {count(len(bench.fingerprints), 'archive')}"
    )
    context.print(
        context.paint(
            f"next: `cd {quoted(folder.as_posix())}`, then `volvex take PATH`, with paths as in the game", "dim"
        )
    )
    return Status.OK


def _connect(options: argparse.Namespace, context: Context) -> int:
    """Have a bench belong to a game's folder at another place; RefusedError when that is another game."""
    folder = bench_folder(options, context)
    known = read_description(folder).fingerprints
    game = open_game(options.moved, context)
    there = {name: game.original(name) for name in known}
    missing = [name for name, original in there.items() if original is None]
    changed = [
        name
        for name, original in there.items()
        if original is not None and not _same(known[name], Fingerprint.of(original))
    ]
    if known and len(missing) == len(known):
        raise RefusedError(
            f"{options.moved} has none of the archives of this bench's game", "the folder of the same game"
        )
    lock = lock_bench(folder, lambda: context.note("waiting: another volvex works on this bench"))
    with Workbench.open(folder, game, context.library(folder), context.disk, lock) as bench:
        for name in known:
            if name not in missing and name not in changed:
                bench.fingerprints[name] = Fingerprint.of(there[name])  # type: ignore[arg-type]  # its time is another here
        bench.save()
    name_game(game.folder, context)
    same = len(known) - len(missing) - len(changed)
    context.print(f"{folder} is connected to {game.folder}: {count(same, 'archive')} as they were")
    for word, names in (("different", changed), ("missing", missing)):
        if names:
            context.print(
                f"  {word}: {', '.join(names[:6])}" + (f" and {len(names) - 6:,} more" if len(names) > 6 else "")
            )
    context.tip("next: `volvex merge`, for the different files" if changed else "next: `volvex status`")
    return Status.OK


def _same(fingerprint: Fingerprint, other: Fingerprint) -> bool:
    """Whether two files are the same but for their time, which a copy may not keep."""
    return (fingerprint.size, fingerprint.sample) == (other.size, other.sample)
