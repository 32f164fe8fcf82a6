"""Set values in XML and JSON rules, every other byte staying as it is.

    volvex set data/main.kwp/rules/lamps.xml --row fresnel_3 range=14 oil=3.1
    volvex set data/main.kwp/rules/tides.json spring=4.6 lag/the_pans=40
    volvex set data/main.kwp/rules/lamps.xml --at lamps/lamp[3] name="Red mole, outer"

--row finds the record whose id, key or name it is; --at goes to a place (XML counts from 1, JSON lists from
0). What was not taken into the bench yet is taken.
"""

from __future__ import annotations

import argparse

from volvex.archive import filetypes
from volvex.archive.names import shown
from volvex.command._bench import add_bench, open_bench
from volvex.command._context import Context
from volvex.command._variants import add_variant
from volvex.data import Target, edit
from volvex.errors import Status, UsageError
from volvex.source import atomic

PLACE = 32


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="an XML or JSON entry, as in the game")
    parser.add_argument(
        "value", nargs="+", metavar="FIELD=VALUE", help="an attribute, element or member, and its new value"
    )
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--row", metavar="KEY", help="the record with this id, key or name")
    where.add_argument("--at", metavar="PLACE", help="the record at this place")
    parser.add_argument("--plan", action="store_true", help="say what would change, and change nothing")
    add_variant(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    values = [_pair(value) for value in options.value]
    with open_bench(options, context) as bench:
        path = bench.within_game(options.path, context.cwd)
        if options.plan:
            data = bench.current(path)
        else:
            path, file = bench.open_for_edit(path)
            data = file.read_bytes()
        kind = filetypes.kind_by_content(data[: filetypes.HEAD])
        written, done = edit(data, kind, Target(options.row, options.at), values, shown(path))
        if not options.plan:
            with atomic(bench.disk, file, durable=False) as out:
                bench.disk.write(out, written)
        for one in done:
            record = f" {one.target}:" if options.row or options.at else ":"
            context.print(
                f"{shown(path)}{record} {one.field} {context.paint(shown(one.before), 'red')} -> {context.paint(shown(one.after), 'green')}"
            )
        if options.plan:
            context.print("nothing was changed: this is the plan")
    return Status.OK


def _pair(text: str) -> tuple[str, str]:
    field, sign, value = text.partition("=")
    if not sign or not field:
        raise UsageError(f"{text!r} sets nothing", "FIELD=VALUE, such as range=14")
    return field, value
