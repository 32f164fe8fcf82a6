"""Look up the known paths of a hash or number.

A hash is hexadecimal digits; with separate hashes of folder, name and extension, they are separated by slashes.
"""

from __future__ import annotations

import argparse

import numpy as np

from volvex.archive.safe_names import shown
from volvex.command.names._shared import Row, add_look_up, look_up
from volvex.command.ui.context import Context
from volvex.errors import UsageError
from volvex.layout import Layout
from volvex.layout.name_hash import Keying

PRIORITY = 65
EXAMPLES = ("volvex names of 9743",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("hash", nargs="+", metavar="HASH", help="a number, or a hash in hexadecimal digits")
    add_look_up(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    def rows(text: str, layout: Layout, keying: Keying) -> list[Row]:
        return [{"hash": text, "path": path, "by": by} for path, by in _paths(text, layout, keying, context)]

    otherwise = "no path is known for that; `volvex names mine` searches for one"
    return look_up(options.hash, rows, otherwise, options, context)


def _paths(text: str, layout: Layout, keying: Keying, context: Context) -> list[tuple[str, str]]:
    numbers = _numbers(text, keying)
    if numbers is None:
        return []
    told = [
        (path, "a dictionary")
        for paths in context.dictionaries().match(layout, keying, numbers).values()
        for path in paths
    ]
    if keying.numbering is not None:
        told.insert(0, (keying.numbering.path(int(numbers[0][0])), "its rule"))
    return told


def _numbers(text: str, keying: Keying) -> list[np.ndarray] | None:
    """The hash in the columns of a keying; None when it is of another kind."""
    if keying.numbering is not None:
        number = int(text) if text.isdigit() else keying.numbering.number(text)
        return None if number is None or number >= 1 << keying.parts[0].bits else [np.array([number], np.uint64)]
    parts = text.lower().removeprefix("0x").split("/")
    order = keying.in_order()
    if len(parts) != len(order) or any(len(part) > kind.bits // 4 for part, kind in zip(parts, order, strict=True)):
        return None
    try:
        values = {kind.what: int(part, 16) for part, kind in zip(parts, order, strict=True)}
    except ValueError as error:
        raise UsageError(
            f"{shown(text)} is neither a number nor a hash", "hexadecimal digits, such as 3f9c22d01b7e4a55"
        ) from error
    return [np.array([values[part.what]], np.uint64) for part in keying.parts]
