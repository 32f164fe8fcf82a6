"""Show what a mod changes, by file, id and field."""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.mods import add_game, mod_named, part_counts
from volvex.command.ui.table import count, number
from volvex.data.differences import plain
from volvex.errors import Status
from volvex.mods.mod.content import FieldChanges, LineChanges, Mod, NewFile, Part

PRIORITY = 45
INPUTS = ("mod",)
EXAMPLES = ("volvex mod show bright-lamps",)
A_FILE = 40  # lines shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", metavar="MOD", help="a mod's folder, its ZIP, or its id in the library")
    parser.add_argument("--all", action="store_true", help=f"show every line, not only the first {A_FILE} of a file")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with mod_named(options.mod, options, context) as mod:
        if options.json:
            context.json(_record(path, part) for path, part in mod.parts.items())
            return Status.OK
        _print_head(mod, context)
        for path, part in mod.parts.items():
            _print_part(path, part, options.all, context)
    return Status.OK


def _print_head(mod: Mod, context: Context) -> None:
    descriptor = mod.descriptor
    by = f" by {descriptor.author}" if descriptor.author else ""
    versions = f" {', '.join(descriptor.game_versions)}" if descriptor.game_versions else ""
    context.print(
        f"{context.paint(shown(descriptor.title), 'bold')}  {descriptor.id} {descriptor.version}{shown(by)}, for "
        f"{shown(descriptor.game + versions)}"
    )
    description = descriptor.descriptions.get("en") or next(iter(descriptor.descriptions.values()), "")
    for line in description.splitlines():
        context.print(f"  {shown(line)}")
    for word, others in (
        ("requires", descriptor.requires),
        ("not together with", descriptor.conflicts),
        ("after", descriptor.after),
    ):
        if others:
            context.print(f"  {word} {', '.join(map(str, others))}")
    context.print(f"  {part_counts(mod)}")


def _print_part(path: str, part: Part, every: bool, context: Context) -> None:
    name = context.paint(shown(path), "bold")
    if isinstance(part, NewFile):
        what = "replaces" if part.replaces is not None else "adds"
        context.print(f"{what}  {name}  {number(part.file.stat().st_size)} bytes")
        return
    if not isinstance(part, FieldChanges | LineChanges):
        context.print(f"removes  {name}")
        return
    context.print(f"changes  {name}")
    if isinstance(part, FieldChanges):
        lines = [change_line(change, context) for change in part.changes]
    else:
        lines = []
        for hunk in part.hunks:
            lines += [context.paint(f"{hunk.start:>5} - {shown(line)}", "red") for line in hunk.old]
            lines += [context.paint(f"{hunk.start:>5} + {shown(line)}", "green") for line in hunk.new]
    for line in lines if every else lines[:A_FILE]:
        context.print(f"  {line}")
    if len(lines) > A_FILE and not every:
        context.print(f"  and {count(len(lines) - A_FILE, 'more line')}: --all shows them")


def _record(path: str, part: Part) -> dict[str, object]:
    if isinstance(part, FieldChanges):
        return {"path": path, "what": "fields", "changes": [plain(change) for change in part.changes]}
    if isinstance(part, LineChanges):
        return {
            "path": path,
            "what": "lines",
            "changes": [{"line": hunk.start, "old": hunk.old, "new": hunk.new} for hunk in part.hunks],
        }
    if isinstance(part, NewFile):
        return {"path": path, "what": "file", "size": part.file.stat().st_size, "replaces": part.replaces}
    return {"path": path, "what": "removal", "replaces": part.replaces}
