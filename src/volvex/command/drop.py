"""Leave entries out of archives, or files of the game.

A movie is left out where the game description lists it among those without which the game starts (`optional`);
  elsewhere
`volvex swap PATH --blank` puts a black frame in its place. `volvex undo` takes it in again. A file that is left out is
  not there while the change is installed; `volvex restore` brings it back.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.bench.refusals import require_droppable
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count
from volvex.command.ui.variants import add_variant
from volvex.errors import Status

PRIORITY = 34
WRITES = True
EXAMPLES = ("volvex drop data/main.kwp/letters/fr/02-oil.txt",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="an entry or a file of the game, or a pattern")
    parser.add_argument("--whole", action="store_true", help="the file of the game itself, where PATH is an archive")
    add_variant(parser)
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        wanted: list[tuple[str, int | None]] = [
            one for path in options.path for one in bench.select(bench.within_game(path, context.cwd))
        ]
        if options.whole:
            wanted = sorted({(bench.file_of(name), None) for name, _ in wanted})
        for note in filter(None, [require_droppable(bench, bench.place_of(*one)) for one in wanted]):
            context.note(f"note: {note}")
        places = bench.drop(wanted)
    for place in places:
        context.print(shown(place))
    context.print(context.paint(f"{count(len(places), 'path')} left out of what is built and installed", "dim"))
    return Status.OK
