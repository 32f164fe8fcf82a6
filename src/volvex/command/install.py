"""Install mods and what was built; originals are kept.

All mods that are on (see `volvex mod list`) are combined with what the bench built, in one transaction: all of it is
installed, or nothing. GAME alone, without a bench, installs the mods. Before anything changes, the originals are copied
into the game's folder `.volvex`, read back and synced. An interrupted install is finished or undone by the next
command. `volvex restore` brings back exactly the bytes that were there. Where mods disagree, all conflicts are listed
and nothing is installed. What another bench installed is taken out only with --overwrite.
"""

from __future__ import annotations

import argparse
import contextlib
import sys
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.build import read_built
from volvex.bench.check import refuse_errors
from volvex.bench.copies import EVERYWHERE
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import add_game, name_game, require_named
from volvex.command.ui.logs import log_of
from volvex.command.ui.mods import decisions_of, game_folder, library_of, open_staging, print_conflicts
from volvex.command.ui.moves import note_copies, tell
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, RefusedError, Status, UsageError
from volvex.mods import Done
from volvex.mods.assemble import Assembled, assemble, made_of, unpacked
from volvex.mods.deploy import Deployment, withdraw
from volvex.mods.installed import installed
from volvex.mods.library import ModLibrary, Used, check_requirements
from volvex.mods.mod.content import Descriptor, Mod
from volvex.mods.mod.make import parts_of_bench
from volvex.mods.running import LogMarks, command_of, run_game
from volvex.mods.ways import REPLACE, way_of
from volvex.mods.ways.aside import Aside

PRIORITY = 40
EXAMPLES = (
    "volvex install --plan",
    "volvex install",
)
STATUSES = {Status.DIFFERS: "conflicts between mods, nothing installed"}
MODS, BENCH = "mods", "(bench)"  # who installed a file of mods; the bench among the mods
_ALREADY = "all that was built is installed already"
_NOTHING = NotFoundError(
    "nothing was built: the bench has no changes", "`volvex set` or `volvex swap`, then `volvex build`"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir",
        nargs="?",
        type=Path,
        metavar="GAME",
        help="the game's folder: install its mods, without a bench (default: the bench, or the current folder)",
    )
    parser.add_argument("--plan", action="store_true", help="print what would happen and change nothing")
    parser.add_argument("--overwrite", action="store_true", help="take out what another bench installed")
    parser.add_argument(
        "--prefer", action="append", default=[], metavar="MOD", help="this mod wins where nothing is settled"
    )
    parser.add_argument("--anyway", action="store_true", help="install mods despite errors found by `check`")
    parser.add_argument(
        "--way",
        metavar="WAY",
        help="how the game takes mods: replace, later, loose, aside, folder or list (default: the first of its "
        "description)",
    )
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
    parser.add_argument(
        "--verify-start",
        action="store_true",
        help="with --way aside: first start the game with its archive unpacked and unchanged",
    )
    add_game(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


@dataclass
class _Job:
    """What is to be installed: built files, where they are, and who made them of what."""

    deployment: Deployment
    lines: tuple[str, ...] = ()  # what each mod contributed


def run(options: argparse.Namespace, context: Context) -> int:
    if options.dir is None and options.bench is None and context.bench is None:
        with contextlib.suppress(UsageError):  # neither in a game: told as for a bench
            options.dir = game_folder(options, context)
    options.only = [*EVERYWHERE] if options.everywhere else options.only
    if options.dir is not None:
        if not options.dir.is_dir():
            raise NotFoundError(f"there is no folder {options.dir}", "the folder that holds the game")
        name_game(options.dir, context)
        with library_of(options.dir, context) as library:
            return _with_mods(library, None, options, context)
    with open_bench(options, context) as bench:
        library = ModLibrary.of(context.home, bench.game.folder, context.disk)
        usual = way_of(bench.game.description, options.way) == REPLACE
        if usual and not options.only and not any(entry.on for entry in library.entries):
            built = read_built(bench.built)
            _refuse_own(bench, [built.path for built in built])
            job = _Job(
                Deployment(bench.game.folder, bench.game.description, bench.built, built, bench.identity, (MODS,))
            )
        else:
            with library_of(bench.game.folder, context) as library:
                return _with_mods(library, bench, options, context)
    return _install(job, options, context)


def _refuse_own(bench: Workbench, names: list[str]) -> None:
    own = [name for name in names if bench.game.description.is_own(name)]
    if own:
        raise RefusedError(f"{own[0]} is written by the game itself", "leaving it out of the bench")


def _of_bench(bench: Workbench) -> Descriptor:
    """A descriptor for the changes of a bench."""
    return Descriptor(
        BENCH, "", bench.game.description.name, titles={"en": bench.folder.name}, behind=dict(bench.after)
    )


def _with_mods(library: ModLibrary, bench: Workbench | None, options: argparse.Namespace, context: Context) -> int:
    """Install all mods that are on, and the bench's changes as the last of them."""
    mods = library.mods()
    wrong = check_requirements(mods)
    if wrong:
        raise RefusedError(
            f"the mods that are on do not go together: {shown(wrong[0])}", "`volvex mod on`, `off` or `order`"
        )
    if bench is not None:
        mods.append(Mod(_of_bench(bench), parts_of_bench(bench)))
    with open_staging(library, context) as staged:
        _refuse_own(staged, [path for mod in mods for path in mod.parts])
        way = way_of(staged.game.description, options.way)
        if options.verify_start:
            _verify_start(staged, way, options, context)
        total = sum(path.stat().st_size for _, path in staged.game.files())
        context.interrupted = ("nothing was installed", "the same command again")
        with context.progress("combining and building", total) as on_progress:
            made = assemble(
                staged, mods, decisions_of(library, options.prefer), on_progress, options.anyway, way, options.only
            )
        if made.conflicts:
            print_conflicts(made.conflicts, context)
            return Status.DIFFERS
        if not options.anyway:
            refuse_errors(made.problems)
        for problem in made.problems:
            context.complain(f"{problem.level}: {shown(problem.told)}")
        for name, reason in made.left:
            context.note(f"note: {shown(name)} is replaced: {reason}")
        also = () if bench is None else (bench.identity,)
        game = staged.game
        deployment = Deployment(
            game.folder, game.description, staged.built, made.built, MODS, also, made_of(made, mods)
        )
        job = _Job(deployment, _contributions(made, mods))
    status = _install(job, options, context)
    used = Used(way, tuple(options.prefer), tuple(options.only))
    if not options.plan and library.used != used:
        library.used = used
        library.save()
    return status


def _verify_start(staged: Workbench, way: str, options: argparse.Namespace, context: Context) -> None:
    """Have the game start with its archives unpacked and set aside, before the first change; RefusedError when it does
    not, and everything is as it was then."""
    if way != Aside.name:
        raise UsageError(f"--verify-start is for the way {Aside.name}, this is {way}", "--way aside")
    game, description = staged.game.folder, staged.game.description
    if options.plan:
        return
    require_named(game, options, context) if options.dir is None else None
    command = command_of(description, game, sys.executable)
    before = installed(game)
    if before:
        raise RefusedError("something is installed already", "`volvex restore`, then --verify-start")
    Deployment(game, description, staged.built, unpacked(staged), MODS).install(context.disk)
    try:
        done = run_game(
            command, game / description.start_in, log_of(description, game), LogMarks(description), limit=20
        )
    finally:
        withdraw(game, description, context.disk)
    if done.failed:
        first = next((line.text for line in done.lines if line.level == "error"), f"it ended with status {done.status}")
        raise RefusedError(f"the game does not start with its archives set aside: {shown(first)}", "--way replace")
    context.note("the game starts with its archives set aside")


def _contributions(made: Assembled, mods: list[Mod]) -> tuple[str, ...]:
    """What each mod contributed, a line each."""
    lines = []
    for mod in mods:
        files = {name: counts[mod.id] for name, counts in made.made_of.items() if mod.id in counts}
        name = "the bench" if mod.id == BENCH else f"{mod.id} {mod.descriptor.version}"
        what = (
            f"{count(sum(files.values()), 'change')} in {count(len(files), 'file')}"
            if files
            else "nothing that the others have not"
        )
        lines.append(f"{name}: {what}")
    return tuple(lines)


def _install(job: _Job, options: argparse.Namespace, context: Context) -> int:
    what = job.deployment
    if options.plan:
        planned = what.plan(options.overwrite)
        if not planned and not what.built and what.by != MODS:
            raise _NOTHING
        return tell(
            [action for action in planned if action.what != "skip"],
            [action for action in planned if action.what == "skip"],
            True,
            options.json,
            context,
            _ALREADY,
        )
    if options.dir is None:
        require_named(what.game, options, context)
    total = sum(built.size for built in what.built) * 5
    context.interrupted = ("the next command finishes or undoes it", "the same command again")
    with context.progress("installing", total) as on_progress:
        done = what.install(context.disk, on_progress, options.overwrite)
    return _tell(job, done, options, context)


def _tell(job: _Job, done: Done, options: argparse.Namespace, context: Context) -> int:
    if not done.actions and not done.skipped and not job.deployment.built and job.deployment.by != MODS:
        raise _NOTHING
    status = tell(done.actions, done.skipped, False, options.json, context, _ALREADY)
    if not options.json:
        note_copies(job.deployment.built, context)
        for line in job.lines:
            context.print(line)
        if done.actions:
            context.tip("`volvex restore` brings the originals back")
    return status
