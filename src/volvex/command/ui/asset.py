"""Assets in the terminal: what they are, and what can be drawn of them."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from volvex.archive import Walker
from volvex.archive.safe_names import shown
from volvex.asset.kind import AssetKind, Drawn, kinds_for
from volvex.command.ui.context import Context
from volvex.command.ui.model import Surroundings
from volvex.command.ui.reader import Content
from volvex.command.ui.table import count, number
from volvex.errors import Status
from volvex.source.outputs import Outputs

LABEL = 8  # letters of a label, at least
LEAST = 40  # columns of an outline


def asset_in(
    content: Content,
    file_type: str,
    walker: Walker,
    context: Context,
    thorough: bool = False,
    wanted: Callable[[AssetKind[Any]], bool] = lambda kind: True,
) -> tuple[AssetKind[Any], Any] | None:
    """The kind of asset that a content is, of those that are `wanted`, and what it is as that; None for anything
    else."""
    around = Surroundings(walker, context)
    for kind in kinds_for(file_type):
        asset = kind.opened(content.source, walker.library, around, thorough) if wanted(kind) else None
        if asset is not None:
            return kind, asset
    return None


def show_asset(
    kind: AssetKind[Any], asset: Any, content: Content, options: argparse.Namespace, context: Context
) -> None:
    """What there is to say about an asset, and on a terminal what can be drawn of it."""
    context.print(
        f"{context.paint(shown(content.path), 'bold')}  {kind.form(asset)}, {number(content.source.size)} bytes"
    )
    lines = list(kind.lines(asset))
    width = max([LABEL, *(len(label) for label, _ in lines)])
    for label, text in lines:
        context.print(f"  {shown(label):<{width}}  {shown(text)}")
    draw = kind.preview(asset, vars(options))
    if draw is not None and context.terminal:
        _draw(draw(max(LEAST, context.width)), options.zoom, len(lines) + 4, context)


def _draw(drawn: Drawn, zoom: int, above: int, context: Context) -> None:
    if drawn.pixels is not None:
        from volvex.command.ui.picture import draw

        draw(drawn.pixels, zoom, context, above)
    for line in drawn.lines:
        context.print("".join(context.paint(text, "green" if marked else "cyan") for text, marked in line))
    if drawn.times:
        *first, last = drawn.times
        columns = max(LEAST, context.width)
        times = "".join(time.ljust(columns // len(first)) for time in first)
        axis = f"{times[: columns - len(last) - 1].ljust(columns - len(last))}{last}"
        context.print(context.paint(axis.rstrip(), "dim"))
    if drawn.marked and context.colour:
        context.print(context.paint(drawn.marked, "green"))


def convert_asset(
    kind: AssetKind[Any],
    asset: Any,
    content: Content,
    walker: Walker,
    options: argparse.Namespace,
    context: Context,
) -> int:
    """Convert an asset to an open format with what goes out with it; or a user's file into the form of the one at
    `--like`.

    Of a user's file, what would lie in other files of the game is named and not written.
    """
    target: Path = options.target
    if options.like:
        from volvex.bench.assets import user_file

        user = user_file(kind, Path(options.path), walker.library)
        result = kind.replace(asset, user, vars(options))
        if result is None:
            from volvex.errors import UsageError

            raise UsageError(f"{shown(options.path)} is no {kind.NAME}", f"a {kind.NAME}")
        stem = Path(content.path).stem
        files = {
            name if not name.startswith(stem) else target.stem + name[len(stem) :]: data
            for name, data in result.files.items()
        }
        notes, what = result.notes, result.what
        if result.rest:
            notes += (
                f"what differs in {', '.join(result.rest)} lies in other files: `volvex take --as glb` in a bench",
            )
    else:
        out = kind.export(asset, target.suffix, stem=target.stem)
        files, notes, what = dict(out.files), out.notes, ""
    paths = {target.with_name(name) if name else target: data for name, data in files.items()}
    with Outputs(context.disk, options.overwrite) as outputs:
        for path in paths:
            outputs.check(path)
        for path, data in paths.items():
            with outputs.file(path) as file:
                context.disk.write(file, data)
    for note in notes:
        context.note(f"note: {shown(note)}")
    beside = f"; {count(len(paths) - 1, 'file')} beside it" if len(paths) > 1 else ""
    said = f"{what}, " if what else ""
    context.print(f"{shown(str(target))}: {said}{number(len(files['']))} bytes{beside}")
    return Status.OK
