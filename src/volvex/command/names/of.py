"""Look up the paths of a hash, or compute one.

A hash is hexadecimal digits; with separate hashes of folder, name and extension, they are separated by slashes.
Anything else is a path, whose hash every layout computes that gives the hash function of its names.
"""

from __future__ import annotations

import argparse
import re

import numpy as np

from volvex.command.names._shared import Row, add_look_up, look_up
from volvex.command.ui.context import Context
from volvex.errors import RefusedError
from volvex.layout import Layout
from volvex.layout.name_hash import Keying

PRIORITY = 65
EXAMPLES = ("volvex names of 9743", "volvex names of boats/skiff_01/hull.msh")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "name", nargs="+", metavar="HASH|PATH", help="a number, a hash in hexadecimal digits, or a path"
    )
    add_look_up(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    def rows(text: str, layout: Layout, keying: Keying) -> list[Row]:
        if _is_hash(text) and ("/" not in text or _numbers(text, keying) is not None):
            return [{"hash": text, "path": path, "by": by} for path, by in _paths(text, layout, keying, context)]
        path = text.replace("\\", "/")
        return [{"hash": value, "path": path, "by": by} for value, by in _hashes(path, layout, keying, context)]

    otherwise = "no path is known for that; `volvex names mine` searches for one"
    if not any(map(_is_hash, options.name)):
        otherwise = "no layout computes a hash of that path, and no dictionary gives one"
    return look_up(options.name, rows, otherwise, options, context)


def _is_hash(text: str) -> bool:
    """Whether a text is a number or hashes, rather than a path."""
    return all(re.fullmatch(r"(0x)?[0-9a-f]+", part, re.IGNORECASE) for part in text.split("/")) and any(
        character.isdigit() for character in text
    )


def _hashes(path: str, layout: Layout, keying: Keying, context: Context) -> list[tuple[str, str]]:
    """Hashes by the layout's function; where numbers stand for names, also those that dictionaries give."""
    given = [
        (value, "a dictionary")
        for dictionary in context.dictionaries().of(layout)
        for known, value in dictionary.told
        if known == path
    ]
    try:
        if keying.numbering is not None:
            return [*given, (str(keying.numbering.number(keying.text(path))), "its rule")]
        return [(keying.text(path), "its rule")]
    except RefusedError:
        return given


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
    parts = text.lower().replace("0x", "").split("/")
    order = keying.in_order()
    if len(parts) != len(order) or any(len(part) > kind.bits // 4 for part, kind in zip(parts, order, strict=True)):
        return None
    values = {kind.what: int(part, 16) for part, kind in zip(parts, order, strict=True)}
    return [np.array([values[part.what]], np.uint64) for part in keying.parts]
