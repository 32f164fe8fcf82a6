"""Make a mod from a bench, or from an item.

The changes on the bench become the mod.

The mod is a folder: `mod.toml` describes it, `changes` and `lines` contain what was changed by id, field and line, and
`files` contains new and replaced files. It contains nothing of the game that you did not change. With a folder that is
a mod already, --overwrite writes the changes again and keeps its `mod.toml` and other files; what you put among its
changes by hand goes to the bench's folder `undone`. The changes are checked first, as `check` does.

With --item an item of the game is copied on the bench first: its record, files of data and pictures under a new id,
with the references among them; its name in each language is the mod's title, and its picture the mod's icon. The rest
is ordinary editing with `set`; then the same command with --overwrite and without --item.
"""

from __future__ import annotations

import argparse
import re
from dataclasses import replace
from pathlib import Path

from volvex.archive.safe_names import quoted, shown
from volvex.bench.aside import keep_aside
from volvex.bench.base_item import Item, new_item
from volvex.bench.game_description import UNKNOWN
from volvex.bench.semantic_diff import game_catalogue
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench, require_checked
from volvex.command.ui.context import Context
from volvex.command.ui.mods import names_of, part_counts
from volvex.data.check import game_version
from volvex.errors import RefusedError, Status, UsageError
from volvex.mods.mod.content import ID, VERSION, Descriptor, Mod
from volvex.mods.mod.folder import DESCRIPTOR, read_descriptor
from volvex.mods.mod.made_for import made_for
from volvex.mods.mod.make import parts_of_bench
from volvex.mods.mod.write import recover_mod, rewrite_mod, write_mod
from volvex.source import atomic

PRIORITY = 42
WRITES = True
EXAMPLES = ("volvex mod new ../bright-lamps --title 'Bright lamps'",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir", nargs="?", type=Path, metavar="DIR", help="the mod's folder (default: the bench's name with -mod)"
    )
    parser.add_argument("--id", help="the mod's id (default: from the folder's name)")
    parser.add_argument(
        "--title",
        action="append",
        default=[],
        metavar="[LANGUAGE=]TEXT",
        help="the mod's title (default: its id); de=TEXT for a language",
    )
    parser.add_argument(
        "--item", dest="base", metavar="PATH", help="start from this item: a file of data, with --row its record"
    )
    parser.add_argument("--row", metavar="ID", help="with --item: the record of the item")
    parser.add_argument(
        "--item-id", dest="item", metavar="ID", help="with --item: the new item's id (default: the mod's, with _ for -)"
    )
    parser.add_argument("--version", help="the mod's version (default: 1.0)")
    parser.add_argument("--author", help="who made it")
    parser.add_argument("--licence", help="under which licence others may use it")
    parser.add_argument("--overwrite", action="store_true", help="write the changes into an existing mod")
    parser.add_argument("--anyway", action="store_true", help="make the mod despite errors found by `check`")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench:
        folder = options.dir or Path(f"{bench.folder.name}-mod")
        context.disk.require_allowed(folder)
        before = _descriptor_there(folder, options.overwrite)
        item = _start_from(bench, folder, before, options, context) if options.base is not None else None
        parts = parts_of_bench(bench)
        if not parts:
            raise RefusedError("the bench has no changes", "`volvex set` or `volvex swap`")
        own = [path for path in parts if bench.game.description.is_own(path)]
        if own:
            raise RefusedError(f"{own[0]} is written by the game itself", "leaving it out of the bench")
        of_game = game_version(game_catalogue(bench))
        descriptor = _descriptor(options, folder, names_of(bench.game)[0], of_game, before)
        descriptor = replace(descriptor, behind={path: other for path, other in bench.after.items() if path in parts})
        icon = bench.files / item.pictures[0] if item is not None and item.pictures and not descriptor.icon else None
        if icon is not None:
            descriptor = replace(descriptor, icon=f"icon{icon.suffix.lower()}")
        mod = Mod(descriptor, parts)
        require_checked(bench, options.anyway, context)
        if icon is not None and (folder / descriptor.icon).exists():
            raise RefusedError(
                f"{folder / descriptor.icon} already exists", "another name for it, or naming it in mod.toml"
            )
        changed = [bench.file_of(bench.home(path)[0]) for path in parts]
        facts = made_for(bench.game, bench.game.description is not UNKNOWN, changed).record()
        if before is None:
            write_mod(mod, folder, context.disk, game=facts)
        else:
            rewrite_mod(
                mod,
                folder,
                context.disk,
                lambda file, name: _keep(bench, file, f"{folder.name}/{name}", context),
                facts,
            )
        if icon is not None:
            with atomic(context.disk, folder / descriptor.icon, durable=False) as file:
                context.disk.write(file, icon.read_bytes())
    context.print(f"{folder}: {mod.descriptor.title} {mod.descriptor.version}: {part_counts(mod)}")
    context.tip(f"next: edit {folder / DESCRIPTOR}, then `volvex mod export {quoted(folder.as_posix())}`")
    return Status.OK


def _keep(bench: Workbench, file: Path, name: str, context: Context) -> None:
    """Keep a file that is the author's own in the bench's folder `undone`."""
    kept = keep_aside(bench.folder, file, name, context.disk)
    context.note(f"note: {shown(name)} is not from this bench; it is kept in {shown(kept)} of the bench")


def _start_from(
    bench: Workbench, folder: Path, before: Descriptor | None, options: argparse.Namespace, context: Context
) -> Item:
    """Copy an item of the game on the bench, and print what that is."""
    new = options.item or _id(options, folder, before).replace("-", "_")
    titles = _titles(options) or {"": new}
    titles.setdefault("", titles.get("en") or next(iter(titles.values())))
    item = new_item(bench, bench.within_game(options.base, context.cwd), options.row, new, titles)
    for path, changes in item.changes.items():
        for change in changes:
            context.print(f"new  {shown(path)}: {change.sheet} {shown(change.id)}, like {shown(change.like or '')}")
    for old, path in item.files.items():
        context.print(f"new  {shown(path)}, from {shown(old)}")
    return item


def _titles(options: argparse.Namespace) -> dict[str, str]:
    """The titles that were given, by language; English where none is named."""
    found = {}
    for text in options.title:
        language, sign, rest = text.partition("=")
        known = bool(sign) and re.fullmatch(r"[a-z]{2,3}(?:-[A-Za-z]{2,4})?", language) is not None
        found[language if known else "en"] = rest if known else text
    return found


def _id(options: argparse.Namespace, folder: Path, before: Descriptor | None) -> str:
    """The id of the mod: what was given, what it has, or what its folder is called."""
    name = options.id or (
        before.id if before else re.sub(r"[^a-z0-9._-]+", "-", folder.resolve().name.lower()).strip("-._")
    )
    if not ID.fullmatch(name):
        raise UsageError(
            f"{shown(name)} is not an id", "--id with small letters, digits and dashes, such as bright-lamps"
        )
    return str(name)


def _descriptor_there(folder: Path, overwrite: bool) -> Descriptor | None:
    """The descriptor of a mod that is written again; None for a new folder."""
    recover_mod(folder)
    if not folder.exists():
        return None
    if (folder / DESCRIPTOR).is_file() and overwrite:
        return read_descriptor(folder / DESCRIPTOR)
    if folder.is_dir() and not any(folder.iterdir()):
        return None
    raise RefusedError(f"{folder} already exists", "another folder, or --overwrite for a mod")


def _descriptor(
    options: argparse.Namespace, folder: Path, game: str, of_game: str, before: Descriptor | None
) -> Descriptor:
    """The descriptor: what was given, what was there, and what can be known."""
    name = _id(options, folder, before)
    version = options.version or (before.version if before else "1.0")
    if not VERSION.fullmatch(version):
        raise UsageError(f"{shown(version)} is not a version", "--version with numbers, such as 1.0")
    titles = {**(before.titles if before else {}), **_titles(options)} or {"en": name}
    return Descriptor(
        name,
        version,
        before.game if before else game,
        before.game_versions if before else tuple(filter(None, [of_game])),
        titles,
        before.descriptions if before else {"en": ""},
        options.author or (before.author if before else ""),
        options.licence or (before.licence if before else ""),
        before.icon if before else "",
        before.requires if before else (),
        before.conflicts if before else (),
        before.after if before else (),
    )
