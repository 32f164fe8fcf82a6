"""List the mods for a game, in their order.

Mods that want something different of the same field, line or file are told by name. With --check everything is combined
with the game's files, which also shows what no longer fits after a game update: "applies with 2 merges" means that two
files of the game are not those that the mod was made for, and that its changes go into them.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, decisions_of, open_library, open_staging, part_counts
from volvex.command.ui.table import Column, count, numbers, print_table
from volvex.errors import Status
from volvex.mods.combine.files import combine
from volvex.mods.combine.overlap import overlaps
from volvex.mods.library import ModLibrary, check_requirements
from volvex.mods.mod.content import Mod

PRIORITY = 45
EXAMPLES = ("volvex mod list", "volvex mod list --check")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--check", action="store_true", help="also combine the mods with the game's files")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        found = library.readable()
        names = {entry.id for entry in library.entries if entry.on}
        on = [mod for mod in found if isinstance(mod, Mod) and mod.id in names]
        state = _checked(library, on, context) if options.check else _quick(on)
    mods = [mod for mod in found if isinstance(mod, Mod)]
    damaged = [error for error in found if not isinstance(error, Mod)]
    places = {entry.id: place for place, entry in enumerate(library.entries, 1)}
    rows = [(places[mod.id], mod, mod.id in names, state.get(mod.id, "")) for mod in mods]
    for error in damaged:
        context.complain(f"damaged: {shown(str(error))}: add it again with --overwrite, or remove it")
    if options.json:
        context.json(
            {
                "id": mod.id,
                "version": mod.descriptor.version,
                "title": mod.descriptor.title,
                "on": is_on,
                "order": place,
                "game_versions": mod.descriptor.game_versions,
                **mod.counts(),
                "state": text,
            }
            for place, mod, is_on, text in rows
        )
        return Status.BAD_DATA if damaged else Status.OK
    if not rows and not damaged:
        context.print("no mods; `volvex mod add FILE` adds one")
        return Status.OK
    print_table(
        context,
        [
            Column("order", numbers(place for place, *_ in rows), right=True),
            Column("", ["on" if is_on else "off" for _, _, is_on, _ in rows], style="green"),
            Column("id", [mod.id for _, mod, *_ in rows], style="cyan"),
            Column("version", [mod.descriptor.version for _, mod, *_ in rows]),
            Column("changes", [part_counts(mod) for _, mod, *_ in rows]),
            Column("made for", [", ".join(mod.descriptor.game_versions) or "-" for _, mod, *_ in rows]),
            Column("state", [text for *_, text in rows], style="yellow"),
        ],
        cut=True,
    )
    for line in check_requirements(on):
        context.complain(f"note: {shown(line)}")
    context.print(context.paint(f"{count(len(rows), 'mod')}, {len(on):,} on", "dim"))
    return Status.BAD_DATA if damaged else Status.OK


def _quick(on: list[Mod]) -> dict[str, str]:
    """What each mod that is on disagrees with."""
    return {
        name: f"differs from {', '.join(sorted(others))}" if others else "-" for name, others in overlaps(on).items()
    }


def _checked(library: ModLibrary, on: list[Mod], context: Context) -> dict[str, str]:
    """How each mod fits the game's files and the other mods."""
    with open_staging(library, context) as bench:
        found = combine(bench, on, decisions_of(library))
    told = {}
    for mod in on:
        conflicts = sum(any(side.mod == mod.id for side in conflict.sides) for conflict in found.conflicts)
        merges = sum(mod.id in combined.merged for combined in found.files)
        fits = f"applies with {count(merges, 'merge')}" if merges else "applies"
        told[mod.id] = count(conflicts, "conflict") if conflicts else fits
    return told
