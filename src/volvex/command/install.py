"""Install mods and what was built; originals are kept.

All mods that are on (see `volvex mod list`) are combined with what the bench built, in one transaction: all of it is installed,
or nothing. GAME alone, without a bench, installs the mods. Before anything changes, the originals are copied into the game's
folder `.volvex`, read back and synced. An interrupted install is finished or undone by the next command. `volvex restore` brings
back exactly the bytes that were there. Where mods disagree, all conflicts are listed and nothing is installed. What another bench
installed is taken out only with --replace.
"""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.build import Built, read_built
from volvex.bench.check import refuse_errors
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import add_game, name_game, require_named
from volvex.command.ui.mods import decisions_of, game_folder, library_of, open_staging, print_conflicts
from volvex.command.ui.moves import tell
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, RefusedError, Status, UsageError
from volvex.mods import Done, install, plan_install
from volvex.mods.assemble import Assembled, assemble, told
from volvex.mods.library import ModLibrary, check_requirements
from volvex.mods.mod.content import Descriptor, Mod
from volvex.mods.mod.make import parts_of_bench
from volvex.mods.ways import way_of

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
    parser.add_argument("--replace", action="store_true", help="take out what another bench installed")
    parser.add_argument(
        "--prefer", action="append", default=[], metavar="MOD", help="this mod wins where nothing is settled"
    )
    parser.add_argument("--anyway", action="store_true", help="install mods despite errors found by `check`")
    parser.add_argument(
        "--way",
        metavar="WAY",
        help="replace, later or loose: how the game takes mods (default: as its description says)",
    )
    add_game(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


@dataclass
class _Job:
    """What is to be installed: built files, where they are, and who made them of what."""

    game: Path
    folder: Path
    built: list[Built]
    by: str
    also: tuple[str, ...] = ()  # whose files may go without being asked
    made_of: Mapping[str, tuple[str, ...]] | None = None
    lines: tuple[str, ...] = ()  # what each mod contributed


def run(options: argparse.Namespace, context: Context) -> int:
    if options.dir is None and options.bench is None and context.bench is None:
        with contextlib.suppress(UsageError):  # neither in a game: told as for a bench
            options.dir = game_folder(options, context)
    if options.dir is not None:
        if not options.dir.is_dir():
            raise NotFoundError(f"there is no folder {options.dir}", "the folder that holds the game")
        name_game(options.dir, context)
        with library_of(options.dir, context) as library:
            return _with_mods(library, None, options, context)
    with open_bench(options, context) as bench:
        library = ModLibrary.of(context.home, bench.game.folder, context.disk)
        if not any(entry.on for entry in library.entries) and options.way is None:
            built = read_built(bench.built)
            _refuse_own(bench, [one.path for one in built])
            job = _Job(bench.game.folder, bench.built, built, bench.identity, (MODS,))
        else:
            with library_of(bench.game.folder, context) as library:
                return _with_mods(library, bench, options, context)
    return _install(job, options, context)


def _refuse_own(bench: Workbench, names: list[str]) -> None:
    own = [name for name in names if bench.game.description.is_own(name)]
    if own:
        raise RefusedError(f"{own[0]} is written by the game itself", "leaving it out of the bench")


def _with_mods(library: ModLibrary, bench: Workbench | None, options: argparse.Namespace, context: Context) -> int:
    """Install all mods that are on, and the bench's changes as the last of them."""
    mods = library.mods()
    wrong = check_requirements(mods)
    if wrong:
        raise RefusedError(
            f"the mods that are on do not go together: {shown(wrong[0])}", "`volvex mod on`, `off` or `order`"
        )
    if bench is not None:
        mods.append(Mod(Descriptor(BENCH, "", bench.game.description.name), parts_of_bench(bench)))
    with open_staging(library, context) as staged:
        _refuse_own(staged, [path for mod in mods for path in mod.parts])
        way = way_of(staged.game.description, options.way)
        total = sum(path.stat().st_size for _, path in staged.game.files())
        context.interrupted = ("nothing was installed", "the same command again")
        with context.progress("combining and building", total) as on_progress:
            made = assemble(staged, mods, decisions_of(library, options.prefer), on_progress, options.anyway, way)
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
        versions = {mod.id: mod.descriptor.version for mod in mods}
        made_of = {name: told(counts, versions) for name, counts in made.of_built.items()}
        job = _Job(staged.game.folder, staged.built, made.built, MODS, also, made_of, _contributions(made, mods))
    return _install(job, options, context)


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
    files = {one.path: job.folder / one.path for one in job.built}
    bases = {one.path: one.base for one in job.built}
    if options.plan:
        planned = plan_install(job.game, files, bases, job.by, options.replace, job.also)
        if not planned and not job.built and job.by != MODS:
            raise _NOTHING
        return tell([one for one in planned if one.what != "skip"], [one for one in planned if one.what == "skip"], True,
                    options.json, context, _ALREADY)  # fmt: skip
    if options.dir is None:
        require_named(job.game, options, context)
    total = sum(one.size for one in job.built) * 5
    context.interrupted = ("the next command finishes or undoes it", "the same command again")
    with context.progress("installing", total) as on_progress:
        done = install(
            job.game, files, bases, context.disk, on_progress, job.by, options.replace, job.made_of, job.also
        )
    return _tell(job, done, options, context)


def _tell(job: _Job, done: Done, options: argparse.Namespace, context: Context) -> int:
    if not done.actions and not done.skipped and not job.built and job.by != MODS:
        raise _NOTHING
    status = tell(done.actions, done.skipped, False, options.json, context, _ALREADY)
    if not options.json:
        for line in job.lines:
            context.print(line)
        if done.actions:
            context.print(context.paint("`volvex restore` brings the originals back", "dim"))
    return status
