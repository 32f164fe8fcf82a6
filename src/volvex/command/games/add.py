"""Add a game pack from a folder, ZIP or address.

Everything in it is checked first. A pack teaches Volvex one game; its description may say how the game starts, so add
only packs of people whom you trust.
"""

from __future__ import annotations

import argparse
import re
import shutil
from pathlib import Path
from urllib.parse import unquote

from volvex.bench.game_description import missing_templates, read_game_description
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import ManyErrors, Status
from volvex.mods.mod.package import unpack_untrusted
from volvex.names.game_pack import DESCRIPTION, Pack, add_pack, faults_of, pack_in
from volvex.source import atomic
from volvex.source.fetch import path_of

PRIORITY = 58
WRITES = True
INPUTS = ("source",)
LARGEST = 1 << 28  # bytes of a ZIP from the web
EXAMPLES = ("volvex games add ../kelpwick-pack.zip --name my-kelpwick",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("source", metavar="PACK", help="the pack's folder or ZIP, or the address of one: https://...")
    parser.add_argument("--name", metavar="NAME", help="the pack's name here (default: that of the folder or ZIP)")
    parser.add_argument("--overwrite", action="store_true", help="replace a pack of that name")


def run(options: argparse.Namespace, context: Context) -> int:
    web = re.match(r"https?://", options.source)
    source = Path(unquote(path_of(options.source))) if web else Path(options.source).resolve()
    name = options.name or re.sub(r"[^a-z0-9._-]+", "-", source.stem.lower()).strip("-._")
    if not web and not source.is_file():
        return _add(pack_in(Path(options.source)), name, options, context)
    work = context.home / "cache" / "game-pack"
    shutil.rmtree(work, ignore_errors=True)
    try:
        if web:
            source = _fetched(options.source, work.with_suffix(".zip"), context)
        unpack_untrusted(source, work, context.disk.real, "game pack")
        inner = [path for path in work.iterdir() if path.is_dir()]
        folder = inner[0] if not (work / DESCRIPTION).is_file() and len(inner) == 1 else work
        return _add(pack_in(folder), name, options, context)
    finally:
        shutil.rmtree(work, ignore_errors=True)
        work.with_suffix(".zip").unlink(missing_ok=True)


def _fetched(address: str, target: Path, context: Context) -> Path:
    """The ZIP behind an address."""
    from volvex.source.fetch import fetch

    data = fetch(address, LARGEST).data or b""
    with atomic(context.disk.real, target, durable=False) as file:
        context.disk.write(file, data)
    return target


def _add(pack: Pack, name: str, options: argparse.Namespace, context: Context) -> int:
    description = read_game_description(pack.folder / DESCRIPTION)
    faults = faults_of(pack) + missing_templates(description)
    if faults:
        raise faults[0] if len(faults) == 1 else ManyErrors(faults)
    add_pack(context.home, pack, name, context.disk, options.overwrite)
    context.print(
        f"{name}: {description.name}, {count(len(pack.layouts), 'layout')}, {count(len(pack.names), 'list')} of names"
    )
    if description.start:
        context.print(f"  `volvex start` will run: {' '.join(description.start)}")
    return Status.OK
