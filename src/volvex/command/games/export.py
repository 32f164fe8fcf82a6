"""Write a game pack as a ZIP to share.

The same pack gives the same bytes on every system. Keys are never part of a pack.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.table import count, number
from volvex.errors import Status
from volvex.mods.mod.package import export_mod
from volvex.names.game_pack import pack_named

PRIORITY = 57
WRITES = True
OUTPUTS = {"file": ".zip"}
EXAMPLES = ("volvex games export kelpwick ../kelpwick-pack.zip",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="PACK", help="the pack's name")
    parser.add_argument("file", type=Path, nargs="?", metavar="ZIP", help="the ZIP to write (default: PACK.zip)")
    parser.add_argument("--overwrite", action="store_true", help="replace an existing file")


def run(options: argparse.Namespace, context: Context) -> int:
    pack = pack_named(context.home, options.name)
    target = options.file or Path(f"{pack.name}.zip")
    files = export_mod(pack.folder, target, context.disk, options.overwrite)
    context.print(f"{target}: {count(files, 'file')}, {number(context.disk.where(target).stat().st_size)} bytes")
    return Status.OK
