"""Write a mod as a ZIP to share.

The same mod gives the same bytes on every system. XML and JSON in it must be whole; `volvex mod check` compares all of
it with a game.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.table import count, number
from volvex.errors import ManyErrors, RefusedError, Status
from volvex.mods.mod.folder import read_mod
from volvex.mods.mod.package import broken_files, export_mod

PRIORITY = 43
WRITES = True
OUTPUTS = {"file": ".zip"}
EXAMPLES = ("volvex mod export ../bright-lamps ../bright-lamps.zip",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", type=Path, metavar="DIR", help="the mod's folder")
    parser.add_argument(
        "file",
        type=Path,
        nargs="?",
        metavar="ZIP",
        help="the ZIP to write (default: ID-VERSION.zip in the current folder, or beside the mod)",
    )
    parser.add_argument("--overwrite", action="store_true", help="replace a file that exists")
    parser.add_argument("--anyway", action="store_true", help="write it despite broken files in the mod")


def run(options: argparse.Namespace, context: Context) -> int:
    mod, home = read_mod(options.mod), options.mod.resolve()
    descriptor = mod.descriptor
    name = f"{descriptor.id}-{descriptor.version}.zip"
    target = options.file or (home.parent / name if context.cwd.resolve().is_relative_to(home) else Path(name))
    if target.resolve().is_relative_to(home):
        raise RefusedError(f"{target} is in the mod's own folder", "another folder for the ZIP")
    broken = list(broken_files(mod))
    if broken and not options.anyway:
        raise broken[0] if len(broken) == 1 else ManyErrors(broken)
    for error in broken:
        context.complain(f"error: {error.message}")
    files = export_mod(options.mod, target, context.disk, options.overwrite)
    context.print(
        f"{target}: {descriptor.title} {descriptor.version}, {count(files, 'file')}, "
        f"{number(context.disk.where(target).stat().st_size)} bytes"
    )
    return Status.OK
