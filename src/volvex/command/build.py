"""Rebuild changed archives; copy everything else bit for bit.

All data is checked first (see `check`). The result is written to the bench's folder `built`; the game is not touched.
Unchanged entries are copied as they are stored. Nested archives are rebuilt from the inside out, each with its own
checksums and keys.

With --in-place the game's own files are changed, after each original is stored (`restore` brings it back). New content
goes into a gap or to the end, and only the directory is rewritten, so the time depends on the change and not on the
size of the archive. An interrupted build is finished or undone by the next command.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.bench.build import build, to_build
from volvex.bench.changes import changes
from volvex.bench.copies import EVERYWHERE
from volvex.command.ui.bench import add_bench, open_bench, require_checked
from volvex.command.ui.context import Context
from volvex.command.ui.games import add_game, require_named
from volvex.command.ui.moves import note_copies, tell
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import Column, count, number, numbers, print_table
from volvex.errors import Status
from volvex.mods import Done, earlier, patch
from volvex.mods.patch.plan import plan_in_place
from volvex.source import Spool

if TYPE_CHECKING:
    from volvex.bench.workbench import Workbench

PRIORITY = 37
WRITES = True
EXAMPLES = ("volvex build",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--in-place", action="store_true", help="change the game's own files, once their originals are safe"
    )
    parser.add_argument("--anyway", action="store_true", help="build despite errors found by `check`")
    parser.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="ARCHIVE",
        help="where several archives have the same content, change it in this one",
    )
    parser.add_argument(
        "--everywhere", action="store_true", help="change every archive that has the same content under the same path"
    )
    add_game(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_layout(parser)
    add_bench(parser, game=False)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.in_place:
        return _in_place(options, context)
    with open_bench(options, context, sync_exports=True) as bench:
        require_checked(bench, options.anyway, context)
        only = EVERYWHERE if options.everywhere else options.only
        if options.rehearse:
            return _plan(bench, only, options, context)
        total = sum(fingerprint.size for fingerprint in bench.fingerprints.values())
        context.interrupted = (
            "the next command finishes or undoes it" if options.in_place else "nothing that was built is installed",
            "the same command again",
        )
        with context.progress("building", total) as on_progress:
            built = build(bench, on_progress, only=only)
        folder = os.path.relpath(bench.built, context.cwd)
    if options.json:
        context.json({"path": built.path, "size": built.size, "changes": built.changes} for built in built)
    elif not built:
        context.print("no changes, so nothing was built")
    else:
        print_table(
            context,
            [
                Column("size", numbers(built.size for built in built), right=True),
                Column("changes", numbers(built.changes for built in built), right=True),
                Column("built", [built.path for built in built]),
            ],
        )
        note_copies(built, context)
        context.tip(f"{count(len(built), 'file')} in {folder}; next: `volvex install`")
    return Status.OK


def _plan(bench: Workbench, only: Sequence[str], options: argparse.Namespace, context: Context) -> int:
    """Print what would be built of what, without building it."""
    files = sorted(to_build(bench, changes(bench), only).items())
    if options.json:
        context.json({"path": path, "changes": len(found)} for path, found in files)
    for path, found in files if not options.json else ():
        context.print(f"{shown(path)}: {count(len(found), 'change')}")
    return Status.OK


def _in_place(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench, Spool(bench.folder) as spool:
        require_checked(bench, options.anyway, context)
        game = bench.game.folder
        require_named(game, options, context)
        patches = list(plan_in_place(bench, earlier(game), spool))
        total = 3 * sum(patch.base.size for patch in patches if patch.path not in earlier(game))
        if options.rehearse:
            for one in patches:
                context.print(f"{shown(one.path)}: {number(one.written)} bytes to write")
            return Status.OK
        with context.progress("keeping the originals safe", total) as on_progress:
            done = patch(game, patches, context.disk, on_progress, bench.identity) if patches else Done()
    if not patches and not options.json:
        context.print("the game's files are as the bench has them already")
        return Status.OK
    status = tell(done.actions, done.skipped, False, options.json, context)
    if not options.json:
        written = sum(patch.written for patch in patches)
        context.tip(f"{number(written)} bytes written; `volvex restore` brings the originals back")
    return status
