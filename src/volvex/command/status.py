"""Show what is installed and edited, and the next step.

For a game: which mods are on, which files are installed and of what they are made, and whether the game's files are
still those that were installed. On a bench also what was taken, edited and built.
"""

from __future__ import annotations

import argparse
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.safe_names import quoted, shown
from volvex.bench.build import Built, is_current, read_built
from volvex.bench.changes import FileChange, changes
from volvex.bench.check import check
from volvex.bench.semantic_diff import game_catalogue
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.mods import add_game_folder, game_folder, library_of, open_staging
from volvex.command.ui.table import Column, count, print_table
from volvex.data.check import ERROR, game_version
from volvex.errors import NotFoundError, Status
from volvex.mods.deploy import all_states
from volvex.mods.installed import FileState
from volvex.source.digest import digest_file

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
    with library_of(folder, context) as library, open_staging(library, context, "status") as staged:
        version = game_version(game_catalogue(staged))
        name = staged.game.description.name
    on, off = ([entry.id for entry in library.entries if entry.on is wanted] for wanted in (True, False))
    bench = _on_bench(options, context, found) if on_bench else None
    step, remark = (bench.next, bench.remark) if bench is not None and bench.next else _next(found, on, folder)
    if options.json:
        files = [{"path": state.path, "state": state.state, "made_of": state.made_of} for state in found]
        record = {"path": str(folder), "game": name, "version": version, "mods_on": on, "mods_off": off, "files": files}
        context.json([{**record, "bench": None if bench is None else bench.record(), "next": step}])
        return Status.OK
    context.print(f"{context.paint(shown(name), 'bold')}{' ' + shown(version) if version else ''} in {folder}")
    context.print(f"  mods on: {', '.join(on) or 'none'}" + (f"; off: {len(off):,}" if off else ""))
    _print_files(found, context)
    if bench is not None:
        context.print(
            f"  on the bench: {count(bench.taken, 'file')} taken, {count(bench.changes, 'change')} in "
            f"{count(bench.files, 'file')} of the game, {bench.built:,} built"
        )
        if bench.renewed:
            context.print(f"  updated since the bench was made: {', '.join(map(shown, bench.renewed[:4]))}")
    context.tip(f"next: `{step}`{remark}")
    return Status.OK


@dataclass(frozen=True)
class _Bench:
    """What is on a bench, and what to do there next."""

    taken: int
    changes: int
    files: int  # of the game, with changes
    built: int
    renewed: tuple[str, ...]  # files of the game that are other ones than when the bench was made
    next: str
    remark: str = ""

    def record(self) -> dict[str, object]:
        return {name: value for name, value in vars(self).items() if name not in ("next", "remark")}


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


def _next(found: list[FileState], on: list[str], folder: Path) -> tuple[str, str]:
    """What to do with the game, and what comes of it."""
    game = quoted(folder.as_posix())
    install = f"volvex install {game}"
    restore = f"volvex restore {game}"
    if any(state.state == "changed since" for state in found):
        return (install, " carries the mods into the game's new files") if on else (restore, "")
    made = {mod.rpartition(" ")[0] for state in found for mod in state.made_of}
    if on and (not found or (made and set(on) != made - {"(bench)"})):
        return install, ""
    return (
        (restore, " brings the originals back")
        if found
        else (f"volvex bench {game} my-mod", ", or `volvex mod add FILE`")
    )


def _on_bench(options: argparse.Namespace, context: Context, found: list[FileState]) -> _Bench:
    """What is on the bench; what to do there next."""
    options.game = None
    with open_bench(options, context) as bench:
        edited = changes(bench)
        renewed = tuple(sorted(name for name in bench.fingerprints if bench.renewed(name)))
        try:
            built = read_built(bench.built)
        except NotFoundError:
            built = []
        wanted = {bench.file_of(bench.home(change.path)[0]) for change in edited}
        step, remark = _step(bench, edited, built, found, bool(renewed))
    there = {one.path for one in built}
    return _Bench(len(bench.taken), len(edited), len(wanted), len(there), renewed, step, remark)


def _step(
    bench: Workbench, edited: list[FileChange], built: list[Built], found: list[FileState], renewed: bool
) -> tuple[str, str]:
    if renewed:
        return "volvex merge", " carries your edits into the game's new files"
    if not edited:
        return "volvex take PATH", ", or `volvex set`"
    if is_current(bench):
        if _is_installed(bench, built):
            if bench.game.description.start:
                return "volvex start", ", or more edits: these are installed"
            return "volvex changes", " for what is installed; `volvex restore` takes it out"
        return "volvex install", ""
    if any("(bench)" in state.made_of for state in found):  # `install` builds
        return "volvex install", " builds and installs what changed since"
    if any(problem.level == ERROR for problem in check(bench)):
        return "volvex check", ": the changes have errors"
    return "volvex build", ""


def _is_installed(bench: Workbench, built: list[Built]) -> bool:
    """Whether the game has what was built."""
    game = bench.game.folder
    return all(
        not (game / one.path).exists()
        if one.absent
        else (game / one.path).is_file() and digest_file(game / one.path) == digest_file(bench.built / one.path)
        for one in built
        if not one.lines
    )
