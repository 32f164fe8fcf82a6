"""Check a layout, and report mistakes with their line.

Also reports whether archives can be written with it, and if not, why; and the largest counts, sizes
and offsets that its fields can store.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import ManyErrors, NotFoundError, Status, VolvexError
from volvex.layout.inspect.limits import limits_of
from volvex.layout.language.parser import read_layout
from volvex.layout.model import Layout
from volvex.layout.write.checks import unwritable

PRIORITY = 50
INPUTS = ("file",)
EXAMPLES = ("volvex layout check mine.layout",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", nargs="+", type=Path, metavar="FILE", help="a layout")


def run(options: argparse.Namespace, context: Context) -> int:
    status = Status.OK
    faults: list[VolvexError] = []
    for file in options.file:
        try:
            layout = _read(file)
        except VolvexError as error:  # the others are checked all the same
            faults.append(error)
            continue
        reasons = unwritable(layout)
        fields = sum(len(block.fields) for block in layout.blocks)
        about = f'{layout.kind} "{layout.title}", {count(len(layout.blocks), "block")}, {count(fields, "field")}'
        context.print(
            f"{file}: no faults, {context.paint('can be written' if not reasons else 'cannot be written', 'bold')}: "
            f"{about}"
        )
        limits = [f"{limit.of} {limit.most:,}{' bytes' if limit.is_size else ''}" for limit in limits_of(layout)]
        if limits:
            context.print(f"{file}: at the most {', '.join(limits)}")
        context.account(
            path=str(file),
            kind=layout.kind,
            title=layout.title,
            fields=fields,
            written=not reasons,
            reasons=[{"line": place.line, "column": place.column, "reason": reason} for place, reason in reasons],
            limits={limit.of: limit.most for limit in limits_of(layout)},
        )
        for place, reason in reasons:
            context.print(f"{file}:{place.line}:{place.column}: {reason}")
            status = Status.DIFFERS
    if faults:
        raise faults[0] if len(faults) == 1 else ManyErrors(faults)
    return status


def _read(file: Path) -> Layout:
    if not file.is_file():
        raise NotFoundError(f"there is no file {file}")
    return read_layout(file)
