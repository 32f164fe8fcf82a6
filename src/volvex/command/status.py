"""Show what is installed and edited, and the next step.

For a game: which mods are on, which files are installed and of what they are made, and whether the game's files are still those
that were installed. On a bench also what was taken, edited and built.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.build import read_built
from volvex.bench.changes import changes
from volvex.bench.semantic_diff import game_catalogue
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.mods import add_game_folder, game_folder, library_of, open_staging
from volvex.command.ui.table import Column, count, print_table
from volvex.data.check import game_version
from volvex.errors import NotFoundError, Status
from volvex.mods.deploy import all_states
from volvex.mods.installed import FileState

PRIORITY = 34
EXAMPLES = ("volvex status",)
MOST = 20  # files that are listed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_game_folder(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


def run(options: argparse.Namespace, context: Context) -> int:
    on_bench = options.game is None and (context.bench is not None or options.bench is not None)
    folder = game_folder(options, context).resolve()
    found = all_states(folder, game_description(folder, context))
    if options.json:
        context.json({"path": state.path, "state": state.state, "made_of": state.made_of} for state in found)
        return Status.OK
    with library_of(folder, context) as library, open_staging(library, context, "status") as staged:
        version = game_version(game_catalogue(staged))
        name = staged.game.description.name
    on = [entry.id for entry in library.entries if entry.on]
    context.print(f"{context.paint(shown(name), 'bold')}{' ' + shown(version) if version else ''} in {folder}")
    context.print(
        f"  mods on: {', '.join(on) or 'none'}"
        + (f"; off: {len(library.entries) - len(on):,}" if len(library.entries) > len(on) else "")
    )
    _print_files(found, context)
    among_mods = any("(bench)" in state.made_of for state in found)
    step = _on_bench(options, context, among_mods) if on_bench else ""
    context.print(context.paint(f"next: {step or _next(found, on, folder)}", "dim"))
    return Status.OK


def _print_files(found: list[FileState], context: Context) -> None:
    if not found:
        context.print("  nothing is installed: all files are the game's own")
        return
    rows = sorted(found, key=lambda one: one.state == "installed")[:MOST]
    print_table(
        context,
        [
            Column("state", [state.state for state in rows], style="yellow"),
            Column("file", [shown(state.path) for state in rows]),
            Column("made of", [", ".join(state.made_of) or "a bench" for state in rows]),
        ],
    )
    if len(found) > MOST:
        context.print(f"  and {count(len(found) - MOST, 'more file')}: --json lists all")


def _next(found: list[FileState], on: list[str], folder: Path) -> str:
    """What to do with the game."""
    if any(state.state == "changed since" for state in found):
        return (
            f"volvex install {folder} carries the mods into the game's new files" if on else f"volvex restore {folder}"
        )
    made = {mod.rpartition(" ")[0] for state in found for mod in state.made_of}
    if on and (not found or (made and set(on) != made - {"(bench)"})):
        return f"volvex install {folder}"
    return (
        f"volvex restore {folder} brings the originals back" if found else "volvex bench GAME, or volvex mod add FILE"
    )


def _on_bench(options: argparse.Namespace, context: Context, among_mods: bool) -> str:
    """What is on the bench; what to do there next."""
    options.game = None
    with open_bench(options, context) as bench:
        edited = changes(bench)
        taken, renewed = len(bench.taken), sorted(name for name in bench.fingerprints if bench.renewed(name))
        try:
            built = {built.path for built in read_built(bench.built)}
        except NotFoundError:
            built = set()
        wanted = {bench.file_of(bench.home(change.path)[0]) for change in edited}
        context.print(
            f"  on the bench: {count(taken, 'file')} taken, {count(len(edited), 'change')} in {count(len(wanted), 'file')} of the game, {len(built):,} built"
        )
    if renewed:
        context.print(f"  updated since the bench was made: {', '.join(map(shown, renewed[:4]))}")
        return "volvex merge carries your edits into the new files"
    if not edited:
        return "volvex take PATH, or volvex set"
    if among_mods:  # `install` builds
        return "volvex start, or volvex install after more edits"
    return "volvex build" if wanted - built else "volvex install"
