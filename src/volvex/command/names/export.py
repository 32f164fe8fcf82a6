"""Write all known names as one list.

With paths, only the names of entries in these archives.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command.names._shared import add_paths, paths_of
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout, bench_of, open_walker
from volvex.command.ui.table import count
from volvex.errors import Status
from volvex.source.outputs import Outputs

PRIORITY = 64
WRITES = True
OUTPUTS = {"to": ".txt"}
EXAMPLES = ("volvex names export --to all-names.txt",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_paths(parser)
    parser.add_argument("--to", type=Path, metavar="FILE", help="write into this file")
    parser.add_argument("--overwrite", action="store_true", help="replace an existing file")
    add_layout(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.names import dictionary

    bench_of(options, context)
    if options.to is not None:
        Outputs(context.disk, options.overwrite).check(options.to)
    if options.path:
        lines = _used(options, context)
    else:
        lines = sorted({line for dictionary in context.dictionaries().dictionaries for line in dictionary.lines()})
    if options.to is None:
        for line in lines:
            context.print(line)
        return Status.OK
    dictionary.write(options.to, lines, context.disk, again=True)
    context.print(f"{count(len(lines), 'name')} in {options.to}")
    return Status.OK


def _used(options: argparse.Namespace, context: Context) -> list[str]:
    """The names of entries that have no other; where no rule makes the key of a path, with the key."""
    from volvex.archive.layout_archive import LayoutArchive
    from volvex.names.dictionary import line_of

    lines: set[str] = set()
    context.answers = False
    paths = paths_of(options, context)
    with open_walker(options, context) as walker:
        for path in paths:
            for group in walker.find(path, deep=True, nested=True).groups:
                archive = group.archive
                if not isinstance(archive, LayoutArchive):
                    continue
                ruled = archive.keying is not None and archive.keying.numbering is None
                for row in set(group.rows.tolist()) & set(archive.known):
                    key = archive.entries.names.raw(row).decode("ascii", "replace")
                    lines.add(archive.known[row] if ruled else line_of(archive.known[row], key))
    return sorted(lines)
