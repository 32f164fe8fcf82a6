"""What the commands for names share: which dictionary folder they write to, which archives they ask, how finds are
shown."""

from __future__ import annotations

import argparse
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import bench_of
from volvex.command.ui.table import Column, count, print_table
from volvex.errors import Status, UsageError
from volvex.layout import Layout, Library
from volvex.layout.name_hash import Keying
from volvex.names.dictionary_set import FOLDER

if TYPE_CHECKING:
    from volvex.archive import Group
    from volvex.names.evidence import Find
    from volvex.names.unresolved import UnresolvedEntries

STYLES = {"path": "blue", "hash": "yellow", "layout": "dim"}
TOLD = 20  # finds that are shown


def add_paths(parser: argparse.ArgumentParser) -> None:
    """Archives and folders; on a bench its game, when nothing is said."""
    parser.add_argument(
        "path", nargs="*", metavar="PATH", help="a game, folder or archive (default: the game of the bench)"
    )
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )


def paths_of(options: argparse.Namespace, context: Context) -> list[str]:
    """The paths that are meant; on a bench all of its game, when none is given."""
    if not options.path and bench_of(options, context) is None:
        raise UsageError("no archive is given", "a PATH, or standing in a bench")
    return list(options.path) or [str(context.bench.resolve()) if context.bench is not None else "."]


def own_folder(options: argparse.Namespace, context: Context) -> Path:
    """Where names are put: the bench's dictionaries, or without one the user's."""
    return (bench_of(options, context) or context.home) / FOLDER


def keyed(library: Library, wanted: str = "") -> list[tuple[Layout, Keying]]:
    """The layouts that give the hash function of names; those whose title or file has `wanted` in it."""
    found = []
    for layout in library.layouts():
        keying = Keying.of(layout)
        if keying is not None and (wanted.lower() in layout.title.lower() or wanted in layout.file):
            found.append((layout, keying))
    if not found:
        raise UsageError(
            f"no layout {wanted or 'at all'} gives the hash function of its names",
            "a line `hashes by ...` in the layout, or --layout with another title",
        )
    return found


Row = dict[str, str]


def add_look_up(parser: argparse.ArgumentParser) -> None:
    """What both directions between hashes and paths are asked with."""
    parser.add_argument("--layout", metavar="TITLE", default="", help="only layouts with this text in their title")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def look_up(
    wanted: Sequence[str],
    rows: Callable[[str, Layout, Keying], Iterable[Row]],
    otherwise: str,
    options: argparse.Namespace,
    context: Context,
) -> int:
    """Ask each layout that gives the hash function of its names, and show what they answer; `otherwise` is said when
    none does."""
    bench_of(options, context)
    layouts = keyed(context.library(), options.layout)
    found = [
        {**row, "layout": layout.title}
        for text in wanted
        for layout, keying in layouts
        for row in rows(text, layout, keying)
    ]
    if options.json:
        context.json(found)
    elif not found:
        context.print(otherwise)
    else:
        print_table(
            context,
            [
                Column(title, [shown(record[title]) for record in found], style=STYLES.get(title, ""))
                for title in found[0]
            ],
        )
    return Status.OK if found else Status.DIFFERS


def print_finds(finds: Sequence[Find], options: argparse.Namespace, context: Context, most: int = TOLD) -> None:
    """Finds as a table: what speaks for each, and where it was learnt."""
    from volvex.names.evidence import chance

    some = finds[:most]
    learnt = {where: shown(where) or "-" for where in {find.where for find in some}}
    print_table(
        context,
        [
            Column("path", [shown(find.path) for find in some], style="blue"),
            Column("evidence", [find.how.words for find in some]),
            Column("content", [find.kind.words for find in some]),
            Column("doubt", [chance(find.doubt) for find in some], right=True),
            *(
                [Column("learnt from", [learnt[find.where] for find in some], style="dim")]
                if set(learnt) != {""}
                else []
            ),
        ],
        cut=True,
    )
    if len(finds) > most:
        context.print(context.paint(f"and {len(finds) - most:,} more; --all shows them", "dim"))


def record(find: Find) -> dict[str, object]:
    return {
        "path": find.path,
        "archive": find.archive,
        "hash": find.key,
        "evidence": find.how.words,
        "content": find.kind.words,
        "doubt": find.doubt,
        "learnt": find.where,
        "sure": find.beyond_doubt,
    }


def nothing_to_do(options: argparse.Namespace, context: Context) -> int:
    """What a hunt says when there is nothing to be found."""
    if options.json:
        context.json([])
    else:
        context.print("no entry there is without a name, or no layout gives their hash function")
    return Status.OK


def conclude(
    quarries: Sequence[UnresolvedEntries],
    groups: Sequence[Group],
    finds: Sequence[Find],
    options: argparse.Namespace,
    context: Context,
) -> None:
    """Keep what was found, show it, and say how much of it may be an accident."""
    from volvex.names.evidence import chance
    from volvex.names.finds import FOUND, keep
    from volvex.names.unresolved import out_of_reach

    folder = own_folder(options, context)
    sure, rest = keep(folder, finds, context.disk)
    if options.json:
        context.json(map(record, finds))
        return
    most = len(finds) if options.all else TOLD
    if sure:
        context.print(context.paint("named", "bold"))
        print_finds(sure, options, context, most)
    if rest:
        context.print(context.paint("in doubt", "bold"))
        print_finds(rest, options, context, most)
    beyond = out_of_reach(groups)
    before = sum(unresolved.before for unresolved in quarries) + beyond
    named = _named(quarries, sure)
    tried = sum(unresolved.tried.total() for unresolved in quarries)
    accidents = sum(unresolved.expected(how) for unresolved in quarries for how in unresolved.tried)
    context.print(
        f"nameless: {context.paint(f'{before:,}', 'yellow')} before, {context.paint(f'{before - named:,}', 'green')} "
        f"after"
        f"; of {count(sum(len(group.rows) for group in groups), 'entry', 'entries')}"
        + (f"; {beyond:,} of them go by numbers, or by hashes whose function no layout gives" if beyond else "")
    )
    by = Counter(find.how.words for find in sure)
    if by:
        context.print("learnt: " + ", ".join(f"{number:,} {what}" for what, number in by.items()))
    context.print(
        f"{tried:,} {'paths' if len(quarries) < 2 else 'hashes'} were tried; accidental hits to be expected: "
        f"{chance(accidents)}"
    )
    if sure:
        context.print(context.paint(f"{count(len(sure), 'new name')} in {_from_here(folder / FOUND, context)}", "dim"))
    if rest:
        context.print(f"{count(len(rest), 'find')} in doubt: `volvex names accept PATH` for those that are right")


def _from_here(path: Path, context: Context) -> str:
    """A path from where we stand, if it lies below."""
    full = context.cwd / path
    return shown((full.relative_to(context.cwd) if full.is_relative_to(context.cwd) else full).as_posix())


def _named(quarries: Sequence[UnresolvedEntries], sure: Sequence[Find]) -> int:
    """How many entries have a name now."""
    paths = {(find.archive, find.key) for find in sure}
    return sum(
        len(places)
        for unresolved in quarries
        for places in unresolved.places.values()
        if (places[0].path, places[0].archive.entries.names.raw(places[0].row).decode("ascii", "replace")) in paths
    )
