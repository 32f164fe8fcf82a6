"""The entries of archives: true and stored size, codec, type, path.

A path reaches into archives: game/data/main.kwp, game/data/main.kwp/rules, game/**/*.xml. The type is told
by content; in lists of more than 20,000 entries by the name's ending, with a ~, unless --long asks for it.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from volvex.archive import Group
from volvex.archive import filetypes
from volvex.archive.names import shown
from volvex.archive.paths import Found
from volvex.command._context import Context
from volvex.command._tables import Column, count, number, numbers, percent, print_table
from volvex.command._tree import print_tree
from volvex.errors import Status
from volvex.layout.model import Kept

PLACE = 11
BY_CONTENT = 20_000  # entries whose content is looked at without being asked
SORTS = ("path", "size", "name", "type")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a file, folder, archive or what lies in it; * ? [ab] and ** match")
    parser.add_argument("--long", action="store_true", help="also where each entry starts, its share, and what its layout keeps")
    parser.add_argument("--tree", action="store_true", help="as a tree of folders")
    parser.add_argument("--sort", choices=SORTS, help="largest first, or by the last part of the name, or by type")
    parser.add_argument("--layout", metavar="FILE", help="open archives with this layout")
    parser.add_argument("--json", action="store_true", help="one list of records")


class _Rows:
    """What is listed, column by column."""

    def __init__(self, found: Sequence[Found], by_content: bool) -> None:
        self.groups = [group for one in found for group in one.groups]
        self.files = [file for one in found for file in one.files]
        self.paths = [path for group in self.groups for path in group.paths()] + [name for name, _ in self.files]
        sizes = [path.stat().st_size for _, path in self.files]
        self.size = np.concatenate([*(group.archive.entries.size[group.rows] for group in self.groups), np.array(sizes, np.int64)])
        self.stored = np.concatenate([*(group.archive.entries.stored[group.rows] for group in self.groups), np.array(sizes, np.int64)])
        self.codec = [codec for group in self.groups for codec in _codecs(group)] + ["-"] * len(self.files)
        self.by_content = by_content or len(self.paths) <= BY_CONTENT
        self.kind = self._kinds()

    def _kinds(self) -> list[str]:
        if not self.by_content:
            return ["~" + filetypes.kind_by_name(path) for path in self.paths]
        kinds = [group.archive.kind(row) for group in self.groups for row in group.rows.tolist()]
        for _, path in self.files:
            with path.open("rb") as file:
                kinds.append(filetypes.kind_by_content(file.read(filetypes.HEAD)))
        return kinds

    def order(self, sort: str | None) -> list[int]:
        rows = range(len(self.paths))
        if sort == "size":
            return [int(row) for row in np.argsort(-self.size, kind="stable")]
        keys: dict[str, Callable[[int], Any]] = {
            "path": lambda row: self.paths[row],
            "name": lambda row: (self.paths[row].rpartition("/")[2], self.paths[row]),
            "type": lambda row: (self.kind[row], self.paths[row]),
        }
        return sorted(rows, key=keys[sort]) if sort else list(rows)


def _codecs(group: Group) -> list[str]:
    names = [*group.archive.entries.codecs, "?"]
    return [names[index] for index in group.archive.entries.codec[group.rows].tolist()]


def run(options: argparse.Namespace, context: Context) -> int:
    with context.walker(options) as walker:
        found = [walker.find(path) for path in options.path]
        rows = _Rows(found, options.long)
        order = rows.order(options.sort)
        if options.json:
            context.json(_records(rows, order))
        elif options.tree:
            print_tree(context, rows.paths, rows.size.tolist(), rows.kind)
        else:
            _print(rows, order, options, context)
        for fault in walker.faults:
            context.note(fault.message)
    return Status.OK


def _records(rows: _Rows, order: list[int]) -> list[dict[str, object]]:
    size, stored = rows.size.tolist(), rows.stored.tolist()
    by = "content" if rows.by_content else "name"
    return [{"path": rows.paths[row], "size": size[row], "stored": stored[row], "codec": rows.codec[row],
             "type": rows.kind[row].lstrip("~"), "type_by": by} for row in order]  # fmt: skip


def _print(rows: _Rows, order: list[int], options: argparse.Namespace, context: Context) -> None:
    def chosen(cells: Sequence[str]) -> Sequence[str]:
        return cells if not options.sort else [cells[row] for row in order]

    columns = [Column("size", chosen(numbers(rows.size.tolist())), right=True),
               Column("stored", chosen(numbers(rows.stored.tolist())), right=True)]  # fmt: skip
    if options.long:
        columns += [Column(c.title, chosen(c.cells), c.right) for c in _long(rows)]
    columns += [Column("codec", chosen(rows.codec)), Column("type", chosen(rows.kind)),
                Column("path", chosen([shown(path) if not path.isprintable() else path for path in rows.paths]))]  # fmt: skip
    print_table(context, columns, cut=False)
    size, stored = int(rows.size.sum()), int(rows.stored.sum())
    context.print(context.paint(f"{count(len(rows.paths), 'entry' if rows.groups else 'file', 'entries' if rows.groups else 'files')}, "
                                f"{number(size)} bytes, stored in {number(stored)} ({percent(stored, size)})", "dim"))  # fmt: skip


def _long(rows: _Rows) -> list[Column]:
    """Where entries start, their share, and the fields that nobody knows."""
    share = [f"{100 * b / a:.0f}%" if a else "-" for a, b in zip(rows.size.tolist(), rows.stored.tolist(), strict=True)]
    starts = [f"{start:#x}" for group in rows.groups for start in group.archive.entries.start[group.rows].tolist()]
    columns = [Column("share", share, right=True), Column("start", starts + ["-"] * len(rows.files), right=True)]
    names = sorted({field.name for group in rows.groups for field in _kept(group)})
    for name in names:
        cells: list[str] = []
        for group in rows.groups:
            values: Any = group.archive.reading.home.columns.get(name)
            cells += [str(value) for value in values[group.rows].tolist()] if values is not None else ["-"] * len(group.rows)
        columns.append(Column(name, cells + ["-"] * len(rows.files), right=True))
    return columns


def _kept(group: Group) -> list[Any]:
    return [field for field in group.archive.reading.home.block.fields if isinstance(field.meaning, Kept)]
