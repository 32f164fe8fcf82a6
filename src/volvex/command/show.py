"""Show an entry: text, table, picture, sound, model or bytes.

Of a picture the size, format, levels and channels are printed, of a sound its duration, rate, encoding, loops and
loudness, of a movie its container, streams and duration; of a model its parts, triangles, levels of detail, joints,
animations, materials and textures; on a terminal they are drawn. On a terminal, text has colours and long text is
paged. Into a pipe, text is written as it is; --raw writes the bytes of anything, so `volvex show PATH --raw > FILE`
takes one file out. In a bench, a path of the game shows the edited state.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import pydoc
from pathlib import Path

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.data import add_data_options, catalogue_of, show_data, wants_data
from volvex.command.ui.picture import add_picture_options
from volvex.command.ui.reader import Content, add_reading, content_at, open_walker
from volvex.command.ui.table import number
from volvex.command.ui.variants import add_variant
from volvex.errors import Status, UsageError
from volvex.source.hex_lines import hex_lines

PRIORITY = 13
INPUTS = ("path",)
EXAMPLES = (
    "volvex show game/data/main.kwp/rules/lamps.xml --depth 1",
    'volvex show game/data/almanac.kwp/tables/lenses.kwb --where "reach > 8" --sort reach',
    "volvex show game/data/almanac.kwp/tables/fittings.kwb --row fresnel_3 --follow",
    "volvex show game/data/main.kwp/pictures/lamps/old_light.png --offset 0x10 --size 64",
)
HEX_BYTES = 512
TEXT_SAMPLE = 1 << 16  # bytes by which its encoding is guessed
TEXT_LIMIT = 1 << 26  # longer text is shown as bytes
DATA_LIMIT = 1 << 30  # data that is larger is shown as bytes
LEXERS = {"xml": "xml", "json": "json"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="one entry of an archive, or a file")
    parser.add_argument("--hex", action="store_true", help="show bytes, even of text")
    parser.add_argument("--offset", metavar="N", help="show bytes from this one on: 64 or 0x40")
    parser.add_argument("--size", metavar="N", help=f"number of bytes to show, or `all` (default: {HEX_BYTES})")
    parser.add_argument("--at", metavar="PLACE", help="a place in a tree: lamps/lamp[3]")
    parser.add_argument("--raw", action="store_true", help="write the bytes as they are")
    parser.add_argument("--unpaged", action="store_true", help="do not page long text")
    parser.add_argument("--json", action="store_true", help="print data as JSON: a list of records")
    add_data_options(parser)
    add_picture_options(parser)
    add_variant(parser)
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_walker(options, context) as walker, contextlib.ExitStack() as held:
        content = content_at(options.path, walker, context)
        held.callback(content.source.close)
        if options.raw:
            context.out.flush()
            for chunk in content.source.chunks(0, content.source.size):
                _write_all(context.out.fileno(), chunk)
            return Status.OK
        kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
        if _shown_as_data(content, kind, walker, options, context):
            return Status.OK
        if _shown_as_asset(content, kind, walker, options, context):
            return Status.OK
        encoding = _encoding(content, walker)
        if (
            (kind in filetypes.TEXT or encoding)
            and not (options.hex or options.offset)
            and content.source.size <= TEXT_LIMIT
        ):
            _show_text(content, kind if kind in filetypes.TEXT else f"text in {encoding}", encoding, options, context)
        else:
            _show_bytes(content, kind, options, context)
    return Status.OK


def _shown_as_data(content: Content, kind: str, walker: Walker, options: argparse.Namespace, context: Context) -> bool:
    """Show what a layout reads, and text of which more was asked than its lines; whether it was so."""
    asked = wants_data(options) or options.json
    if options.hex or options.offset or content.source.size > DATA_LIMIT or (kind in filetypes.TEXT and not asked):
        return False
    library = walker.library
    if not asked and kind not in filetypes.DATA and library.match_data(content.source) is None:
        return False
    from volvex.data import open_data, require_data

    data = content.source.read(0, content.source.size)
    opened = require_data if asked else open_data
    document = opened(data, library, content.path)
    if document is None:
        return False
    show_data(document, content.path, options, context, lambda: catalogue_of(content.path, walker, options, context))
    return True


def _shown_as_asset(content: Content, kind: str, walker: Walker, options: argparse.Namespace, context: Context) -> bool:
    """Show a picture, sound, movie, model, of an open format or of the game; whether it was one."""
    if options.hex or options.offset or options.size or wants_data(options) or options.json:
        return False
    from volvex.command.ui.asset import asset_in, show_asset

    found = asset_in(content, kind, walker, context, thorough=True)
    if found is None:
        return False
    show_asset(*found, content, options, context)
    return True


def _about(content: Content) -> str:
    return ", ".join([f"{number(content.source.size)} bytes", *([content.stored] if content.stored else [])])


def _show_bytes(content: Content, kind: str, options: argparse.Namespace, context: Context) -> None:
    start, size = _span(options, content.source.size)
    if context.terminal:
        context.print(context.paint(f"{shown(content.path)}  {kind}, {_about(content)}", "dim"))
    position = start
    for chunk in content.source.chunks(start, size):
        for pairs, characters in hex_lines(chunk, position):
            context.print(pairs)
            if characters:
                context.print(context.paint(characters, "cyan"))
        position += len(chunk)
    left = content.source.size - start - size
    if left > 0:
        context.print(context.paint(f"and {number(left)} more bytes: --size all shows them, --raw writes them", "dim"))


def _write_all(handle: int, content: bytes) -> None:
    view = memoryview(content)
    while view:
        view = view[os.write(handle, view) :]


def _encoding(content: Content, walker: Walker) -> str:
    """The encoding of text that is not UTF-8, or is told to be in another; empty for all else."""
    from volvex.data.encodings import of_text

    return of_text(walker.library.encoded(content.path), content.source.peek(0, TEXT_SAMPLE))


def _show_text(content: Content, kind: str, encoding: str, options: argparse.Namespace, context: Context) -> None:
    text, path = filetypes.decode_text(content.source.read(0, content.source.size), encoding), content.path
    if not context.terminal:
        context.out.write(text if text.endswith("\n") or not text else text + "\n")
        return
    lines = [shown(line.expandtabs(4)) for line in text.splitlines()]
    title = context.paint(f"{shown(path)}  {kind}, {_about(content)}", "dim")
    body = _coloured(lines, LEXERS.get(kind) or _lexer(path), context)
    height = os.get_terminal_size(context.out.fileno()).lines
    if len(lines) + 2 <= height or options.unpaged or context.pager == "":
        context.print(f"{title}\n{body}")
        return
    if context.pager:
        os.environ["PAGER"] = context.pager
    os.environ.setdefault("LESS", "-R -F -X")  # colours, and no second screen
    pydoc.pager(f"{title}\n{body}\n")


def _lexer(path: str) -> str:
    extension = Path(path).suffix.lstrip(".").lower()
    return extension if extension in ("ini", "lua", "css", "js", "py", "toml", "yaml", "html", "glsl", "hlsl") else ""


def _coloured(lines: list[str], lexer: str, context: Context) -> str:
    """The lines with their numbers, and with colours where their language is known."""
    text = "\n".join(lines)
    if context.colour and lexer and len(text) < 1 << 21:
        from pygments import highlight
        from pygments.formatters import Terminal256Formatter
        from pygments.lexers import get_lexer_by_name

        text = highlight(
            text, get_lexer_by_name(lexer, stripnl=False, ensurenl=False), Terminal256Formatter(style="native")
        )
    width = len(str(len(lines)))
    return "\n".join(
        f"{context.paint(str(n).rjust(width), 'dim')}  {line}" for n, line in enumerate(text.split("\n"), 1)
    )


def _span(options: argparse.Namespace, length: int) -> tuple[int, int]:
    try:
        start = int(options.offset or "0", 0)
        size = length if options.size == "all" else int(options.size, 0) if options.size else HEX_BYTES
    except ValueError as error:
        raise UsageError(f"{error}", "a number such as 64 or 0x40") from error
    if not 0 <= start <= length:
        raise UsageError(f"there is no byte {options.offset}: the content has {number(length)}", "a smaller --offset")
    return start, min(size, length - start)
