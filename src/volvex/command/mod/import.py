"""Make a mod from files or archives that others changed.

SOURCE is a folder or an archive of changed files, a whole changed archive of the game, or a single file (with --path).
Files are matched to the game by their paths. A whole changed archive is compared with the game's own, and what differs
becomes the mod's changes, by id and field where the format is known: so mods that each ship the same archive can be
combined.

Nothing is taken over that is in doubt: --accept also takes files with a similar name, and new files.
"""

from __future__ import annotations

import argparse
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from volvex.archive.safe_names import quoted, shown
from volvex.archive.transfer.compare import Difference, compare_files, content_of
from volvex.bench.semantic_diff import all_paths
from volvex.bench.workbench import Workbench
from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, names_of, open_library, open_staging, part_counts
from volvex.command.ui.table import Column, count, print_table
from volvex.errors import NotFoundError, RefusedError, Status, UsageError
from volvex.mods.mod.content import ID, Descriptor, Mod, Part, Removed
from volvex.mods.mod.make import part_between
from volvex.mods.mod.package import unpack_untrusted
from volvex.mods.mod.takeover import AMBIGUOUS, EXACT, Match, matches
from volvex.mods.mod.write import write_mod
from volvex.source import atomic
from volvex.source.digest import digest_chunks

PRIORITY = 47
WRITES = True
INPUTS = ("source",)
EXAMPLES = ("volvex mod import letter.txt ../letter-mod --path data/main.kwp/letters/en/01-arrival.txt",)
STATUSES = {Status.DIFFERS: "some files are in doubt and were not taken over"}
MOST_LISTED = 30


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", type=Path, metavar="SOURCE", help="a folder, an archive, or a file")
    parser.add_argument(
        "dir", nargs="?", type=Path, metavar="DIR", help="the mod's folder (default: the source's name with -mod)"
    )
    parser.add_argument("--path", metavar="PATH", help="the path of the game that a single file is for")
    parser.add_argument("--accept", action="store_true", help="also take over files with a similar name, and new files")
    parser.add_argument("--id", help="the mod's id (default: from the source's name)")
    parser.add_argument("--title", help="the mod's title (default: its id)")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if not options.source.exists():
        raise NotFoundError(f"there is no file {shown(str(options.source))}", "a folder, an archive, or a file")
    name = options.id or re.sub(r"[^a-z0-9._-]+", "-", options.source.resolve().stem.lower()).strip("-._")
    if not ID.fullmatch(name):
        raise UsageError(f"{shown(name)} is not an id", "--id with small letters, digits and dashes")
    folder = options.dir or Path(f"{name}-mod")
    context.disk.require_allowed(folder)
    if folder.exists() and any(folder.iterdir()):
        raise RefusedError(f"{folder} is not empty", "another folder for the mod")
    with (
        open_library(options, context) as library,
        open_staging(library, context, "import") as bench,
        _work(bench) as work,
    ):
        parts, left = _Import(bench, work, options, context).parts(options.source)
        if parts:
            descriptor = Descriptor(
                name, "1.0", names_of(bench.game)[0], titles={"en": options.title or name}, descriptions={"en": ""}
            )
            write_mod(Mod(descriptor, parts), folder, context.disk)
    if not parts:
        context.print("nothing differs from the game" if not left else "nothing was taken over")
        return Status.DIFFERS if left else Status.OK
    mod = Mod(descriptor, parts)
    context.print(f"{folder}: {mod.id} {mod.descriptor.version}: {part_counts(mod)}")
    context.tip(f"next: `volvex mod add {quoted(folder.as_posix())}`")
    return Status.DIFFERS if left else Status.OK


@contextmanager
def _work(bench: Workbench) -> Iterator[Path]:
    """A folder for what is looked at, removed afterwards."""
    shutil.rmtree(bench.folder, ignore_errors=True)
    bench.disk.make_folder(bench.folder)
    try:
        yield bench.folder
    finally:
        shutil.rmtree(bench.folder, ignore_errors=True)


class _Import:
    """What files of others change in a game."""

    def __init__(self, bench: Workbench, work: Path, options: argparse.Namespace, context: Context) -> None:
        self.bench, self.work, self.options, self.context = bench, work, options, context
        self.count = self.left = 0  # files that were made, and new ones that were not taken over

    def parts(self, source: Path) -> tuple[dict[str, Part], int]:
        """The parts of the mod, and how many files were left in doubt."""
        if self.options.path is not None:
            if not source.is_file():
                raise UsageError("--path is for a single file", "a file")
            return self._of_file(source, self.options.path.replace("\\", "/")), self.left
        if source.is_file():
            whole = self._as_game_file(source)
            if whole:
                return self._of_file(source, whole), self.left
            folder = self.work / "source"
            unpack_untrusted(source, folder, self.context.disk.real)
            source = folder
        return self._of_folder(source)

    def _as_game_file(self, source: Path) -> str:
        """The game's file that a whole changed archive replaces: of the same name and format; empty for none."""
        named = [
            name for name, _ in self.bench.game.files() if name.rpartition("/")[2].casefold() == source.name.casefold()
        ]
        if len(named) > 1:
            raise RefusedError(
                f"the game has several files called {source.name}: {', '.join(named[:4])}",
                "--path with the one that is meant",
            )
        return named[0] if named else ""

    def _of_folder(self, folder: Path) -> tuple[dict[str, Part], int]:
        files = {
            path.relative_to(folder).as_posix(): path
            for path in sorted(folder.rglob("*"))
            if path.is_file() and not path.is_symlink()
        }
        names = [name for name, _ in self.bench.game.files()]
        whole = matches(files, names)
        inner = matches(files, all_paths(self.bench))
        found = [
            match if match.sure and match.path in names else other for match, other in zip(whole, inner, strict=True)
        ]
        self._print(found)
        taken = [match for match in found if match.sure or (self.options.accept and match.how != AMBIGUOUS)]
        parts: dict[str, Part] = {}
        for match in taken:
            parts |= self._of_file(files[match.name], match.path)
        return parts, len(found) - len(taken) + self.left

    def _print(self, found: list[Match]) -> None:
        odd = [match for match in found if match.how != EXACT]
        rows = odd[:MOST_LISTED]
        print_table(
            self.context,
            [
                Column("match", [match.how for match in rows], style="yellow"),
                Column("file", [shown(match.name) for match in rows]),
                Column("path of the game", [shown(match.path or " or ".join(match.others)) for match in rows]),
            ],
        )
        if len(odd) > len(rows):
            self.context.print(f"and {len(odd) - len(rows):,} more")
        doubt = sum(not match.sure for match in found)
        said = f"{count(len(found), 'file')}, {sum(match.sure for match in found):,} matched"
        if doubt:
            said += f", {doubt:,} in doubt" + (
                "" if self.options.accept else ": --accept takes those with a path, --path gives one"
            )
        self.context.print(self.context.paint(said, "dim"))

    def _of_file(self, file: Path, path: str) -> dict[str, Part]:
        """What a file changes at a path: of an archive, what differs in it."""
        original = self.bench.game.original(path)
        if original is not None:
            return self._of_archive(path, original, file)
        before = None
        if self._is_entry(path):
            name, _ = self.bench.split(path) or ("", "")
            row = self.bench.row(path)
            assert row is not None
            before = content_of(self.bench.require_archive(name), row)
        part = part_between(path, before, file, self.bench.library)
        return {} if part is None else {path: part}

    def _of_archive(self, path: str, original: Path, file: Path) -> dict[str, Part]:
        """What a whole changed archive changes; files that the game does not have only where that is accepted."""
        parts, new = dict[str, Part](), list[str]()
        for difference in compare_files(path, original, file, self.bench.library):  # each can be read until the next
            if difference.old is None and not self.options.accept:
                new.append(difference.path)
            elif (part := self._part(difference)) is not None:
                parts[difference.path] = part
        for name in new[:MOST_LISTED]:
            self.context.complain(f"not taken over: {shown(name)}: not in the game; --accept takes it")
        if len(new) > MOST_LISTED:
            self.context.complain(f"and {len(new) - MOST_LISTED:,} more")
        self.left += len(new)
        return parts

    def _is_entry(self, path: str) -> bool:
        split = self.bench.split(path)
        return split is not None and bool(split[1]) and self.bench.row(path) is not None

    def _part(self, difference: Difference) -> Part | None:
        """A difference as a part of the mod; None when only the stored bytes differ."""
        if difference.new is None:
            return Removed(digest_chunks(difference.old.chunks())[0]) if difference.old is not None else None
        self.count += 1
        file = self.work / "new" / str(self.count)
        with atomic(self.bench.disk, file, durable=False) as out:
            for chunk in difference.new.chunks():
                self.bench.disk.write(out, chunk)
        return part_between(difference.path, difference.old, file, self.bench.library)
