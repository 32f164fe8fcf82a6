"""Show which files open, are locked or unknown.

Prints every file below the folder, largest first: its share of all bytes, the format that opens it and its number of
entries, or its type; which archives need a key, and which key. Nothing is unpacked. Results are remembered by path,
size and time, so a second survey of 100,000 files takes seconds.
"""

from __future__ import annotations

import argparse
import fnmatch
from dataclasses import replace
from pathlib import Path

from volvex.archive.detect.survey import Surveyed, survey
from volvex.archive.detect.survey_cache import Memory
from volvex.archive.safe_names import quoted
from volvex.bench.game_description import UNKNOWN, GameDescription
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.reader import add_reading, folder_of, tied_library
from volvex.command.ui.table import Column, count, number, numbers, percent, print_table
from volvex.errors import Status

PRIORITY = 10
EXAMPLES = (
    "volvex survey game",
    "volvex survey game --all --json",
)
SHOWN = 25
FAULTS = 10


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir",
        type=Path,
        nargs="?",
        default=Path(),
        metavar="DIR",
        help="the game's folder (default: the current one; on a bench its game)",
    )
    parser.add_argument("--all", action="store_true", help=f"show every file, not only the {SHOWN} largest")
    parser.add_argument("--refresh", action="store_true", help="read every file again")
    add_reading(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    library, ties = tied_library(options, context)
    folder, before = folder_of(options.dir, options, context)
    description = game_description(folder, context) if folder.is_dir() else UNKNOWN
    memory = Memory(None if options.refresh else context.cache / "survey.sqlite")
    context.interrupted = ("results so far are kept", "the same command again, which goes on from there")
    files = survey(folder, library, memory, lambda path: _key(description, path), tied=ties.words)
    files = [_without(surveyed, before) for surveyed in files]
    if options.json:
        context.json(_record(file) for file in files)
        return Status.OK
    shown = files if options.all else files[:SHOWN]
    total = sum(file.size for file in files)
    print_table(
        context,
        [
            Column("size", numbers(surveyed.size for surveyed in shown), right=True),
            Column("share", [percent(surveyed.size, total) for surveyed in shown], right=True),
            Column("entries", [number(surveyed.entries) for surveyed in shown], right=True),
            Column("opens with", [_opens_with(surveyed) for surveyed in shown]),
            Column("type", [surveyed.kind for surveyed in shown]),
            Column("path", [surveyed.path for surveyed in shown], path=True),
        ],
        cut=True,
    )
    if len(shown) < len(files):
        context.print(context.paint(f"and {count(len(files) - len(shown), 'smaller file')}: --all shows them", "dim"))
    context.out.flush()  # the totals and the next step are to be the last
    faults = [surveyed for surveyed in files if surveyed.fault]
    for fault in faults[:FAULTS]:
        context.complain("\n".join([fault.fault, *([f"try {fault.hint}"] if fault.hint else [])]))
    if len(faults) > FAULTS:
        context.complain(f"and {len(faults) - FAULTS:,} more")
    for error in library.faults:
        context.complain("\n".join(error.lines()))
    _summary(files, total, folder, description, context)
    return Status.BAD_DATA if any(not surveyed.locked for surveyed in faults) else Status.OK


def _without(surveyed: Surveyed, before: str) -> Surveyed:
    """A file as it is called on a bench: from the game's folder."""
    lines = (
        [text.removeprefix(before) for text in (surveyed.path, surveyed.fault)]
        if before
        else [surveyed.path, surveyed.fault]
    )
    return replace(surveyed, path=lines[0], fault=lines[1])


def _key(description: GameDescription, path: str) -> str:
    """The key that a game description names for a file."""
    return next((key for pattern, key in description.keys.items() if fnmatch.fnmatchcase(path, pattern)), "")


def _opens_with(surveyed: Surveyed) -> str:
    if surveyed.fault:
        return (f"locked: {surveyed.key}" if surveyed.key else "locked") if surveyed.locked else "damaged"
    return (surveyed.layout or "-") + (f", key {surveyed.key}" if surveyed.key else "")


def _record(surveyed: Surveyed) -> dict[str, object]:
    return {
        "path": surveyed.path,
        "size": surveyed.size,
        "type": surveyed.kind,
        "layout": surveyed.layout,
        "entries": surveyed.entries,
        "content": surveyed.content,
        "locked": surveyed.locked,
        "key": surveyed.key,
        "fault": surveyed.fault or None,
    }


def _summary(files: list[Surveyed], total: int, folder: Path, description: GameDescription, context: Context) -> None:
    opened = [surveyed for surveyed in files if surveyed.opens and surveyed.kind == "archive"]
    held = sum(surveyed.size for surveyed in files if surveyed.opens)
    inside, content = (
        sum(surveyed.entries or 0 for surveyed in opened),
        sum(surveyed.content or 0 for surveyed in opened),
    )
    context.print()
    context.print(
        f"{count(len(files), 'file')}, {number(total)} bytes; "
        f"{context.paint(description.name, 'bold')}"
        + (", known by its game description" if description is not UNKNOWN else "")
    )
    context.print(
        f"{count(len(opened), 'archive opens', 'archives open')} and {'hold' if len(opened) != 1 else 'holds'} "
        f"{percent(held, total)} of the bytes: {count(inside, 'entry', 'entries')}, {number(content)} bytes"
    )
    _tell("locked", [surveyed for surveyed in files if surveyed.fault and surveyed.locked], total, context)
    _tell("damaged", [surveyed for surveyed in files if surveyed.fault and not surveyed.locked], total, context)
    unknown = [surveyed for surveyed in files if surveyed.unknown]
    _tell("unknown", unknown, total, context)
    steps = [f"`volvex list {quoted(opened[0].path)}`"] if opened else []
    steps += [f"`volvex bench {quoted(folder.as_posix())} my-mod`"] if opened and context.bench is None else []
    steps += [f"`volvex identify {quoted(unknown[0].path)}`"] if unknown else []
    for step, before in zip(steps, ("next: ", "  or  ", "  or  "), strict=False):
        context.tip(f"{before}{step}")


def _tell(what: str, those: list[Surveyed], total: int, context: Context) -> None:
    if those:
        context.print(
            f"{context.paint(what, 'yellow')}: {count(len(those), 'file')}, "
            f"{percent(sum(surveyed.size for surveyed in those), total)} of the bytes"
        )
