"""List entries that have only a hash, largest first.

Where several paths have the hash of an entry, they are listed too.
"""

from __future__ import annotations

import argparse
from collections import Counter

from volvex.archive import Group
from volvex.archive.safe_names import shown
from volvex.command.names._shared import add_paths, own_folder, paths_of
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout, open_walker
from volvex.command.ui.table import Column, count, number, numbers, print_table
from volvex.errors import Status

PRIORITY = 63
EXAMPLES = ("volvex names missing loft",)
TOLD = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_paths(parser)
    parser.add_argument("--all", action="store_true", help=f"show all, not only the largest {TOLD}")
    add_layout(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.names.finds import waiting

    context.answers = False
    paths = paths_of(options, context)
    waits: dict[tuple[str, str], list[str]] = {}
    for find in waiting(own_folder(options, context)):
        waits.setdefault((find.archive, find.key), []).append(find.path)
    found: list[dict[str, object]] = []
    entries = 0
    with open_walker(options, context) as walker:
        for path in paths:
            for group in walker.find(path, deep=True, nested=True).groups:
                entries += len(group.rows)
                found += _missing(group, waits)
    found.sort(key=lambda one: (-int(str(one["size"])), str(one["path"])))
    if options.json:
        context.json(found)
        return Status.OK
    _print(found, entries, options, context)
    return Status.OK


def _missing(group: Group, waits: dict[tuple[str, str], list[str]]) -> list[dict[str, object]]:
    archive, out = group.archive, []
    candidates = getattr(archive, "candidates", {})
    for row in group.rows.tolist():
        if not archive.is_unnamed(row):
            continue
        key = archive.entries.names.raw(row).decode("ascii", "replace")
        may = [*candidates.get(row, ()), *waits.get((group.archive_path, key), ())]
        out.append(
            {
                "path": f"{group.path}/{archive.names[row]}",
                "size": int(archive.entries.size[row]),
                "type": archive.kind(row),
                "may": list(dict.fromkeys(may)),
            }
        )
    return out


def _print(found: list[dict[str, object]], entries: int, options: argparse.Namespace, context: Context) -> None:
    if not found:
        context.print(f"all of {count(entries, 'entry', 'entries')} have names")
        return
    records = found if options.all else found[:TOLD]
    columns = [
        Column("size", numbers(int(str(record["size"])) for record in records), right=True),
        Column("type", [str(record["type"]) for record in records]),
        Column("path", [shown(str(record["path"])) for record in records], style="blue"),
    ]
    lines = [" or ".join(map(shown, record["may"])) if isinstance(record["may"], list) else "" for record in records]
    if any(lines):
        columns.append(Column("may be", lines, style="yellow"))
    print_table(context, columns)
    if len(found) > len(records):
        context.print(context.paint(f"and {len(found) - len(records):,} smaller ones; --all shows them", "dim"))
    kinds, sizes = Counter(str(record["type"]) for record in found), Counter[str]()
    for record in found:
        sizes[str(record["type"])] += int(str(record["size"]))
    said = ", ".join(f"{times:,} {kind} ({number(sizes[kind])} bytes)" for kind, times in kinds.most_common())
    context.print(f"{len(found):,} of {count(entries, 'entry', 'entries')} have no name: {said}")
    if any(lines):
        context.print(
            "in doubt: `volvex names accept PATH` for what a search found; of two paths in dictionaries the line "
            "`PATH = HASH` decides"
        )
