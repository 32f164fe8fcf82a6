"""Add the paths in a text file to a dictionary.

One path a line; lines that start with # are comments. `PATH = HASH` gives the hash directly, as hexadecimal digits or a
number. In a bench the dictionary belongs to that bench; outside, or with --scope all, to all games; with --scope
NAME to one game, by the name of its description's folder.
"""

from __future__ import annotations

import argparse
import codecs
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import bench_of
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, Status, UsageError

PRIORITY = 61
WRITES = True
INPUTS = ("file",)
EXAMPLES = ("volvex names add paths.txt",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "file", type=Path, nargs="+", metavar="FILE", help="a list of paths; an existing dictionary of this name grows"
    )
    parser.add_argument(
        "--scope", metavar="NAME", help="whose dictionary: a game's name, or `all` games (default: the bench's, or all)"
    )
    parser.add_argument("--encoding", metavar="NAME", help="encoding of the file (default: UTF-8)")
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.names import dictionary
    from volvex.names.dictionary_set import FOLDER

    scope = options.scope or ""
    if not scope.isprintable() or set(scope) & set("/\\:.*?"):
        raise UsageError(f"{shown(scope)!r} is not the name of a folder", "--scope kelpwick")
    if options.encoding is not None:
        _check_encoding(options.encoding)
    bench = None if scope else bench_of(options, context)
    folder = (bench or context.home) / FOLDER / ("" if scope == "all" else scope)
    lists = [(path, _read(path, options.encoding)) for path in options.file]
    for path, lines in lists:
        target, unique = folder / f"{path.stem}{dictionary.ENDING}", set(lines)
        new, whole = dictionary.add(target, unique, context.disk)
        twice = len(lines) - len(unique)
        said = f"; {count(twice, 'line')} given twice" if twice else ""
        context.print(
            f"{count(new, 'new name')} of {len(unique):,}{said}; {context.paint(shown(target.as_posix()), 'blue')} "
            f"has {whole:,}"
        )
    return Status.OK


def _check_encoding(name: str) -> None:
    try:
        codecs.lookup(name)
    except LookupError as error:
        raise UsageError(f"there is no text encoding {shown(name)}", "utf-8, utf-16, cp1252") from error


def _read(path: Path, encoding: str | None) -> list[str]:
    from volvex.names import dictionary

    if not path.is_file():
        raise NotFoundError(f"there is no file {path}")
    return dictionary.parsed(dictionary.decoded(path.read_bytes(), path.as_posix(), encoding), path.as_posix())
