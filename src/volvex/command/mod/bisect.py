"""Find the mod and the change that break the game.

Half of the mods that are on are installed, the game is tested, and so on, until the smallest set is left with which it
fails; then the same for the changes of those mods. The test is `volvex start` (an error status, or errors in the log),
a command of yours (--test), or your answer (--ask). What a mod requires is always installed with it. Afterwards
everything is as it was before. After an interruption the same command goes on from there.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import shlex
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.install import BENCH, MODS
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description, name_game
from volvex.command.ui.logs import log_of
from volvex.command.ui.mods import add_game, game_folder, library_of, open_staging
from volvex.command.ui.table import count
from volvex.errors import RefusedError, Status, UsageError, VolvexError
from volvex.mods import installed
from volvex.mods.assemble import assemble, made_of
from volvex.mods.bisect import guilty_changes, guilty_mods
from volvex.mods.combine.conflict import Decisions
from volvex.mods.deploy import Deployment, withdraw
from volvex.mods.journal import Installed
from volvex.mods.library import ModLibrary
from volvex.mods.mod.content import Mod, NewFile
from volvex.mods.running import LogMarks, command_of, run_game
from volvex.mods.ways import way_of
from volvex.source import atomic
from volvex.source.digest import digest_bytes, digest_file

PRIORITY = 47
EXAMPLES = ("volvex mod bisect",)
STATUSES = {Status.DIFFERS: "the game also fails without mods"}
STATE = "bisect.json"
LIMIT = 20.0  # seconds that a game must run to count as started


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--test", metavar="COMMAND", help="a command that ends with an error status when the game fails"
    )
    parser.add_argument("--ask", action="store_true", help="ask after each install whether the game fails")
    parser.add_argument(
        "--timeout",
        type=float,
        default=LIMIT,
        metavar="SECONDS",
        help=f"a game that runs so long has started (default: {LIMIT:.0f})",
    )
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    folder = game_folder(options, context).resolve()
    if options.test is not None and options.ask:
        raise UsageError("--test and --ask cannot be combined", "one of the two")
    before = installed(folder)
    if any(installed.by != MODS or BENCH in installed.made_of for installed in before.values()):
        raise RefusedError("something else than mods is installed", "`volvex restore`, then `volvex install GAME`")
    name_game(folder, context)
    with library_of(folder, context) as library:
        search = _Search(library, library.mods(), options, context)
        context.interrupted = (
            "the mods are installed again" if before else "the game's originals are back",
            "the same command again, which goes on from there",
        )
        with _as_before(search, before):
            status = _report(search)
        (library.folder / STATE).unlink(missing_ok=True)
        return status


@contextlib.contextmanager
def _as_before(search: _Search, before: Mapping[str, Installed]) -> Iterator[None]:
    """Have the same installed afterwards as before; told when it cannot be, as the library no longer has a mod of
    it."""
    was = {made.rpartition(" ")[0] for installed in before.values() for made in installed.made_of}
    was_installed = [mod for mod in search.library.mods(on=False) if mod.id in was]
    try:
        yield
    finally:
        game, context = search.library.game, search.context
        if was_installed:
            search.install(was_installed)
        else:
            done = withdraw(game, game_description(game, context), context.disk)
            for action in done.skipped:
                context.complain(f"skipped: {shown(action.path)}: {shown(action.why)}")
        if _made_of(installed(game)) != _made_of(before):
            context.complain(
                "other files are installed than before: `volvex status` lists them, `volvex install GAME` installs "
                "the mods that are on"
            )


def _made_of(files: Mapping[str, Installed]) -> dict[str, set[str]]:
    """The mods, with their versions, that each installed file is made of."""
    return {path: set(installed.made_of) for path, installed in files.items()}


def _report(search: _Search) -> int:
    """Search, and tell what was found."""
    context, mods = search.context, search.mods
    if not mods or not search.fails(mods):
        context.print("the game does not fail with the mods that are on")
        return Status.OK
    if search.fails([]):
        context.print("the game also fails without mods")
        return Status.DIFFERS
    guilty = guilty_mods(mods, search.fails)
    context.print(f"{context.paint('it fails with', 'red')} {' and '.join(guilty)}")
    for line in guilty_changes(mods, guilty, search.fails):
        context.print(f"  {shown(line)}")
    context.tip(f"{count(search.tried, 'test')}; next: `volvex mod off {' '.join(guilty)}`")
    return Status.OK


@dataclass
class _Search:
    """What installs some mods and tests the game, and remembers the verdicts."""

    library: ModLibrary
    mods: list[Mod]
    options: argparse.Namespace
    context: Context
    tried: int = 0
    verdicts: dict[str, bool] = field(default_factory=dict)

    def __post_init__(self) -> None:
        path = self.library.folder / STATE
        with contextlib.suppress(OSError, ValueError, AttributeError):
            value = json.loads(path.read_bytes())
            if value.get("test") == self._test_name():
                self.verdicts = {str(key): bool(verdict) for key, verdict in value["verdicts"].items()}
        if self.verdicts:
            self.context.note(f"going on after {count(len(self.verdicts), 'test')} of an interrupted search")

    def _test_name(self) -> str:
        return "ask" if self.options.ask else self.options.test or "start"

    def fails(self, mods: Sequence[Mod]) -> bool:
        """Whether the game fails with just these mods; a set that cannot be combined counts as one that does not."""
        key = _key(mods)
        if key not in self.verdicts:
            names = ", ".join(f"{mod.id} ({sum(mod.counts().values())})" for mod in mods) or "no mods"
            verdict = self.install(mods) and self._test()
            self.tried += 1
            self.context.print(f"{'fails' if verdict else 'works'}  {shown(names)}")
            self.verdicts[key] = verdict
            value = {"test": self._test_name(), "verdicts": self.verdicts}
            with atomic(self.context.disk, self.library.folder / STATE, durable=False) as file:
                self.context.disk.write(file, json.dumps(value, indent=1).encode())
        return self.verdicts[key]

    def install(self, mods: Sequence[Mod]) -> bool:
        """Install just these mods as they were installed before; whether they could be combined. Where they disagree
        the one that was preferred wins, or the later one."""
        used = self.library.used
        decisions = Decisions(self.library.settled, (*used.prefer, *(mod.id for mod in reversed(mods))))
        with open_staging(self.library, self.context, "bisect") as bench:  # again: installs move the originals
            description = bench.game.description
            try:
                made = assemble(
                    bench,
                    mods,
                    decisions,
                    anyway=True,
                    way=way_of(description, used.way if used.way in description.takes else None),
                    only=used.only,
                )
            except VolvexError:
                return False
            folder = bench.built
        if made.conflicts:
            return False
        Deployment(self.library.game, description, folder, made.built, MODS, made_of=made_of(made, mods)).install(
            self.context.disk
        )
        return True

    def _test(self) -> bool:
        """Whether the game fails now."""
        game = self.library.game
        description = game_description(game, self.context)
        if self.options.ask:
            return self.context.confirmed("does the game fail?")
        if self.options.test is not None:
            return (
                subprocess.run(
                    shlex.split(self.options.test),
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    check=False,
                ).returncode
                != 0
            )
        command = command_of(description, game, sys.executable)
        log: Path | None = log_of(description, game)
        return run_game(
            command, game / description.start_in, log, LogMarks(description), limit=self.options.timeout
        ).failed


def _key(mods: Sequence[Mod]) -> str:
    """A digest of all that these mods change."""
    parts = []
    for mod in mods:
        for path, part in mod.parts.items():
            parts.append(f"{mod.id} {path} {digest_file(part.file) if isinstance(part, NewFile) else part!r}")
    return digest_bytes("\0".join(parts).encode("utf-8", "surrogatepass"))[:24]
