"""Make a mod from the changes on a bench.

The mod is a folder: `mod.toml` describes it, `changes` and `lines` contain what was changed by id, field and line, and `files`
contains new and replaced files. It contains nothing of the game that you did not change. With a folder that is a mod already,
--overwrite writes the changes again and keeps its `mod.toml`.
"""

from __future__ import annotations

import argparse
import re
import shutil
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.semantic_diff import game_catalogue
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.mods import names_of, part_counts
from volvex.data.check import game_version
from volvex.errors import RefusedError, Status, UsageError
from volvex.mods.mod.content import ID, VERSION, Descriptor, Mod
from volvex.mods.mod.folder import CHANGES, CONTENTS, DESCRIPTOR, FILES, LINES, read_descriptor, read_mod, write_mod
from volvex.mods.mod.make import parts_of_bench

PRIORITY = 42
EXAMPLES = ("volvex mod new ../bright-lamps --title 'Bright lamps'",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir", nargs="?", type=Path, metavar="DIR", help="the mod's folder (default: the bench's name with -mod)"
    )
    parser.add_argument("--id", help="the mod's id (default: from the folder's name)")
    parser.add_argument("--title", help="the mod's title (default: its id)")
    parser.add_argument("--version", help="the mod's version (default: 1.0)")
    parser.add_argument("--author", help="who made it")
    parser.add_argument("--licence", help="under which licence others may use it")
    parser.add_argument("--overwrite", action="store_true", help="write the changes into a mod that is there again")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench:
        folder = options.dir or Path(f"{bench.folder.name}-mod")
        before = _descriptor_there(folder, options.overwrite)
        parts = parts_of_bench(bench)
        if not parts:
            raise RefusedError("the bench has no changes", "`volvex set` or `volvex swap`")
        own = [path for path in parts if bench.game.description.is_own(path)]
        if own:
            raise RefusedError(f"{own[0]} is written by the game itself", "leaving it out of the bench")
        of_game = game_version(game_catalogue(bench))
        mod = Mod(_descriptor(options, folder, names_of(bench.game)[0], of_game, before), parts)
        if before is not None:
            for name in (CHANGES, LINES, FILES):
                shutil.rmtree(folder / name, ignore_errors=True)
            (folder / CONTENTS).unlink(missing_ok=True)
        write_mod(mod, folder, context.disk)
    mod = read_mod(folder)
    context.print(f"{folder}: {mod.descriptor.title} {mod.descriptor.version}: {part_counts(mod)}")
    context.print(context.paint(f"next: edit {folder / DESCRIPTOR}, then volvex mod export {folder}", "dim"))
    return Status.OK


def _descriptor_there(folder: Path, overwrite: bool) -> Descriptor | None:
    """The descriptor of a mod that is written again; None for a new folder."""
    if not folder.exists():
        return None
    if (folder / DESCRIPTOR).is_file() and overwrite:
        return read_descriptor(folder / DESCRIPTOR)
    if folder.is_dir() and not any(folder.iterdir()):
        return None
    raise RefusedError(f"{folder} is there already", "another folder, or --overwrite for a mod")


def _descriptor(
    options: argparse.Namespace, folder: Path, game: str, of_game: str, before: Descriptor | None
) -> Descriptor:
    """The descriptor: what was given, what was there, and what can be known."""
    name = options.id or (
        before.id if before else re.sub(r"[^a-z0-9._-]+", "-", folder.resolve().name.lower()).strip("-._")
    )
    version = options.version or (before.version if before else "1.0")
    if not ID.fullmatch(name):
        raise UsageError(
            f"{shown(name)} is not an id", "--id with small letters, digits and dashes, such as bright-lamps"
        )
    if not VERSION.fullmatch(version):
        raise UsageError(f"{shown(version)} is not a version", "--version with numbers, such as 1.0")
    titles = {**(before.titles if before else {}), **({"en": options.title} if options.title else {})} or {"en": name}
    return Descriptor(
        name, version, before.game if before else game, before.game_versions if before else tuple(filter(None, [of_game])), titles,
        before.descriptions if before else {"en": ""}, options.author or (before.author if before else ""),
        options.licence or (before.licence if before else ""), before.icon if before else "",
        before.requires if before else (), before.conflicts if before else (), before.after if before else (),
    )  # fmt: skip
