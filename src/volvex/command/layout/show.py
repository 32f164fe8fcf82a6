"""Show a layout's text, by title, file name or path."""

from __future__ import annotations

import argparse
import contextlib
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_bench_read, each_content, open_walker
from volvex.errors import NotFoundError, Status, VolvexError
from volvex.layout import Layout, Library

PRIORITY = 54
EXAMPLES = (
    'volvex layout show "Kelpwick pack"',
    "volvex layout show game/isles/shores.kwt",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "name",
        metavar="NAME",
        help='a title ("Kelpwick pack"), a file name (pack), or the path of a file that it reads',
    )
    add_bench_read(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    layout = _of_path(options, context) or _named(options.name, context.library())
    context.print(context.paint(f"# {layout.file}", "dim"))
    context.out.write(Path(layout.file).read_text(encoding="utf-8-sig"))
    return Status.OK


def _of_path(options: argparse.Namespace, context: Context) -> Layout | None:
    """The layout by which the one thing that a path means is read; None when it means none, or nothing knows it."""
    with open_walker(argparse.Namespace(path=options.name, bench=options.bench), context) as walker:
        try:
            content, _ = next(each_content(options.name, walker, context), (None, None))
        except VolvexError:
            return None
        if content is None:
            return None
        with contextlib.closing(content.source) as source:
            library: Library = walker.library
            return library.match(source) or library.match_data(source)


def _named(name: str, library: Library) -> Layout:
    layouts = list(library.every())
    for layout in layouts:
        if name.casefold() in (
            layout.title.casefold(),
            Path(layout.file).stem.casefold(),
            Path(layout.file).name.casefold(),
        ):
            return layout
    raise NotFoundError(f"there is no layout {name}", f"one of {', '.join(layout.title for layout in layouts)}")
