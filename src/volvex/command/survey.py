"""What is in a game's folder: what opens, with which layout, what is unknown.

Every file below the folder, the largest first: its share of all bytes, the layout that opens it and how many
entries it has, or what kind of file it is. Nothing is unpacked.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.survey import Surveyed, survey
from volvex.bench.profile import UNKNOWN, profile_for
from volvex.command._context import Context
from volvex.command._tables import Column, count, number, numbers, percent, print_table
from volvex.errors import Status

PLACE = 10
SHOWN = 40


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", type=Path, metavar="DIR", help="the game's folder")
    parser.add_argument("--all", action="store_true", help=f"every file, not just the {SHOWN} largest")
    parser.add_argument("--json", action="store_true", help="one list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    library = context.library()
    files = survey(options.dir, library)
    if options.json:
        context.json(_record(one) for one in files)
        return Status.OK
    shown = files if options.all else files[:SHOWN]
    total = sum(one.size for one in files)
    print_table(context, [
        Column("size", numbers(one.size for one in shown), right=True),
        Column("share", [percent(one.size, total) for one in shown], right=True),
        Column("entries", [number(one.entries) for one in shown], right=True),
        Column("opens with", [one.layout or ("damaged" if one.fault else "-") for one in shown]),
        Column("type", [one.kind for one in shown]),
        Column("path", [one.path for one in shown]),
    ], cut=True)  # fmt: skip
    if len(shown) < len(files):
        context.print(context.paint(f"and {count(len(files) - len(shown), 'smaller file')}: --all shows them", "dim"))
    _summary(files, total, options.dir, context)
    for fault in [one.fault for one in files if one.fault] + library.faults:
        for line in fault.lines():
            context.note(line)
    return Status.BAD_DATA if any(one.fault for one in files) else Status.OK


def _record(one: Surveyed) -> dict[str, object]:
    return {"path": one.path, "size": one.size, "type": one.kind, "layout": one.layout, "entries": one.entries,
            "content": one.content, "fault": one.fault.message if one.fault else None}  # fmt: skip


def _summary(files: list[Surveyed], total: int, folder: Path, context: Context) -> None:
    profile = profile_for(folder, [context.home])
    opened = [one for one in files if one.layout and not one.fault]
    unknown = [one for one in files if not one.layout and one.kind in ("binary", "?")]
    inside = sum(one.entries or 0 for one in opened)
    context.print()
    context.print(f"{count(len(files), 'file')}, {number(total)} bytes; "
                  f"{context.paint(profile.name, 'bold')}" + (", known by its profile" if profile is not UNKNOWN else ""))  # fmt: skip
    held = sum(one.size for one in opened)
    context.print(f"{count(len(opened), 'archive opens', 'archives open')} and {'hold' if len(opened) != 1 else 'holds'} "
                  f"{percent(held, total)} of the bytes: {count(inside, 'entry', 'entries')}")  # fmt: skip
    if unknown:
        context.print(
            f"unknown: {count(len(unknown), 'file')}, {percent(sum(one.size for one in unknown), total)} of the bytes"
        )
    if opened:
        context.print(
            context.paint(f"next: volvex list {opened[0].path}   or   volvex bench {folder.as_posix()}", "dim")
        )
