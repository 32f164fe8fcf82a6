"""The text of a layout, by its title, its file's name, or an archive that it opens."""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command._context import Context
from volvex.errors import NotFoundError, Status
from volvex.layout import Layout, Library
from volvex.source import FileSource

PLACE = 54


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "name", metavar="NAME", help='a title such as "Kelpwick pack", a file\'s name such as pack, or an archive'
    )


def run(options: argparse.Namespace, context: Context) -> int:
    layout = _find(options.name, context.library())
    context.print(context.paint(f"# {layout.file}", "dim"))
    context.out.write(Path(layout.file).read_text(encoding="utf-8-sig"))
    return Status.OK


def _find(name: str, library: Library) -> Layout:
    if Path(name).is_file():
        with FileSource(Path(name)) as source:
            found = library.match(source)
        if found is not None:
            return found
    layouts = list(library.every())
    for one in layouts:
        if name.casefold() in (one.title.casefold(), Path(one.file).stem.casefold(), Path(one.file).name.casefold()):
            return one
    raise NotFoundError(f"there is no layout {name}", f"one of {', '.join(one.title for one in layouts)}")
