"""The key of a path, by every layout that says how keys are made: the other direction of `names of`."""

from __future__ import annotations

import argparse

from volvex.archive.names import shown
from volvex.command._context import Context
from volvex.command._tables import Column, print_table
from volvex.command.names._shared import bench_of, keyed
from volvex.errors import RefusedError, Status
from volvex.layout import Layout
from volvex.layout.keying import Keying

PLACE = 65


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a path within an archive")
    parser.add_argument("--layout", metavar="TITLE", default="", help="only by layouts with this in their title")
    parser.add_argument("--json", action="store_true", help="one list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    bench_of(options, context)
    library = context.library()
    found = []
    for path in options.path:
        for layout, keying in keyed(library, options.layout):
            found += [
                {"path": path, "key": key, "layout": layout.title}
                for key in _keys(path.replace("\\", "/"), layout, keying, context)
            ]
    if options.json:
        context.json(found)
    elif not found:
        context.print("no rule makes a key of that, and no dictionary tells one")
    else:
        print_table(context, [Column(title, [shown(one[title]) for one in found], style=style)
                              for title, style in (("key", "yellow"), ("path", "blue"), ("layout", "dim"))])  # fmt: skip
    return Status.OK if found else Status.DIFFERS


def _keys(path: str, layout: Layout, keying: Keying, context: Context) -> list[str]:
    """Keys by rule, or where numbers stand for names those that dictionaries tell."""
    told = [key for one in context.shelf().of(layout) for known, key in one.told if known == path]
    try:
        if keying.numbering is not None:
            number = keying.numbering.number(keying.text(path))
            return [*told, str(number)]
        return [keying.text(path)]
    except RefusedError:
        return told
