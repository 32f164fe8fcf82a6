"""Compute the hash of a path by every layout."""

from __future__ import annotations

import argparse

from volvex.command.names._shared import Row, add_look_up, look_up
from volvex.command.ui.context import Context
from volvex.errors import RefusedError
from volvex.layout import Layout
from volvex.layout.name_hash import Keying

PRIORITY = 66
EXAMPLES = ("volvex names hash boats/skiff_01/hull.msh",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a path within an archive")
    add_look_up(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    def rows(path: str, layout: Layout, keying: Keying) -> list[Row]:
        return [{"hash": value, "path": path} for value in _hashes(path.replace("\\", "/"), layout, keying, context)]

    missing = "no layout computes a hash of that path, and no dictionary gives one"
    return look_up(options.path, rows, missing, options, context)


def _hashes(path: str, layout: Layout, keying: Keying, context: Context) -> list[str]:
    """Hashes by the layout's function; where numbers stand for names, also those that dictionaries give."""
    given = [
        value for dictionary in context.dictionaries().of(layout) for known, value in dictionary.told if known == path
    ]
    try:
        if keying.numbering is not None:
            number = keying.numbering.number(keying.text(path))
            return [*given, str(number)]
        return [keying.text(path)]
    except RefusedError:
        return given
