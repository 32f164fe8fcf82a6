"""Write a mod as a ZIP to share.

The same mod gives the same bytes on every system.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.table import count, number
from volvex.errors import Status
from volvex.mods.mod.folder import read_mod
from volvex.mods.mod.package import export_mod

PRIORITY = 43
EXAMPLES = ("volvex mod export ../bright-lamps ../bright-lamps.zip",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", type=Path, metavar="DIR", help="the mod's folder")
    parser.add_argument("file", type=Path, nargs="?", metavar="ZIP", help="the ZIP to write (default: ID-VERSION.zip)")
    parser.add_argument("--overwrite", action="store_true", help="replace a file that is there")


def run(options: argparse.Namespace, context: Context) -> int:
    descriptor = read_mod(options.mod).descriptor
    target = options.file or Path(f"{descriptor.id}-{descriptor.version}.zip")
    files = export_mod(options.mod, target, context.disk, options.overwrite)
    context.print(
        f"{target}: {descriptor.title} {descriptor.version}, {count(files, 'file')}, {number(target.stat().st_size)} bytes"
    )
    return Status.OK
