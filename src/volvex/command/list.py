"""List the entries of archives with sizes, codec and type.

A path leads into archives: game/data/main.kwp, game/data/main.kwp/rules, game/**/*.xml. The type comes from the
content; for more than 20,000 entries it is shown only with --long or --sort type. A path that is stored several times,
for example once for each language, is one line unless --variant selects one of them or all.
"""

from __future__ import annotations

import argparse
import functools
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from volvex.archive import Group
from volvex.archive.access.nested import content_source, entry_source
from volvex.archive.access.paths import Found
from volvex.archive.detect import filetypes
from volvex.archive.detect.types.models import MODELS
from volvex.archive.detect.types.pictures import TYPES
from volvex.archive.detect.types.sounds import MOVIES, SOUNDS
from volvex.archive.object_types import KINDS, kind_of, object_types
from volvex.archive.safe_names import shown
from volvex.asset.content_kind import entry_kind, kind_in
from volvex.command.ui.about import about_text, banked_text
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import (
    Cells,
    Column,
    Labels,
    Numbers,
    Prefixed,
    Spans,
    cell_texts,
    count,
    number,
    percent,
    print_table,
)
from volvex.command.ui.tree import print_tree
from volvex.command.ui.variants import add_variant
from volvex.errors import LockedError, NotFoundError, VolvexError
from volvex.layout import Library
from volvex.layout.columns import Array
from volvex.source import FileSource, Source

PRIORITY = 11
INPUTS = ("path",)
EXAMPLES = (
    "volvex list game/data/main.kwp/rules",
    "volvex list game/data/main.kwp --tree",
    'volvex list "game/data/**/*.png" --sort size',
)
BY_CONTENT = 20_000  # entries whose content is looked at without being asked
SIZED = frozenset(kind.name for kind in TYPES)  # pictures: --long shows their size
OPENED = ("texture", "sound", "movie", *MODELS, *SOUNDS, *MOVIES)  # files that are opened for that
SORTS = ("path", "size", "name", "type")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "path", nargs="+", metavar="PATH", help="a file, folder, archive, or a path in one; * ? [ab] and ** match"
    )
    parser.add_argument(
        "--long", action="store_true", help="also show offsets, shares, and values that the layout preserves"
    )
    parser.add_argument("--deep", action="store_true", help="also list nested archives, to any depth")
    parser.add_argument("--tree", action="store_true", help="show a tree of folders")
    parser.add_argument("--sort", choices=SORTS, help="sort by size (largest first), name (last part) or type")
    parser.add_argument(
        "--by",
        choices=("type",),
        help="number and total size per type: pictures, sounds, models, tables first",
    )
    add_variant(parser)
    add_reading(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


class _Rows:
    """What is listed, column by column."""

    def __init__(
        self,
        found: Sequence[Found],
        library: Library,
        with_kinds: bool,
        together: bool,
        described: Callable[[Source, str], str],
    ) -> None:
        self.library, self.described = library, described
        groups = [group for found in found for group in found.groups]
        several = [group.archive.variants is not None and together for group in groups]
        self.members = [_by_path(group) if many else None for group, many in zip(groups, several, strict=True)]
        self.groups = [
            replace(group, rows=np.array([rows[0] for rows in member], np.int64)) if member is not None else group
            for group, member in zip(groups, self.members, strict=True)
        ]
        self.files = [file for found in found for file in found.files]
        self._homes = {name: home for one in found for name, home in one.homes.items()}
        self.faults: list[VolvexError] = []
        self.files = [file for file in self.files if self._is_there(*file)]
        sizes = np.array([path.stat().st_size for _, path in self.files], np.int64)
        self.size = np.concatenate([*(self._summed(at, "size") for at in range(len(groups))), sizes])
        self.stored = np.concatenate([*(self._summed(at, "stored") for at in range(len(groups))), sizes])
        self.codec = Labels.joined([*(_codecs(group) for group in self.groups), Labels.of(["-"] * len(self.files))])
        self.kind = self._kinds() if with_kinds or len(self.size) <= BY_CONTENT else None

    def _is_there(self, name: str, path: Path) -> bool:
        """Whether a file can be looked at: some go away meanwhile, or are closed to us."""
        try:
            with path.open("rb"):
                return True
        except OSError as error:
            self.faults.append(NotFoundError(f"{shown(name)}: {(error.strerror or str(error)).lower()}"))
            return False

    def _summed(self, at: int, what: str) -> Array:
        """A column of a group's entries; of a path with variants, the sum of them."""
        column: Array = getattr(self.groups[at].archive.entries, what)
        members = self.members[at]
        if members is None:
            return column[self.groups[at].rows]
        return np.array([int(column[rows].sum()) for rows in members], np.int64)

    @functools.cached_property
    def variants(self) -> list[list[str]]:
        """The variants of each line."""
        told: list[list[str]] = []
        for group, members in zip(self.groups, self.members, strict=True):
            known = group.archive.variants
            each = members if members is not None else [[row] for row in group.rows.tolist()]
            told += [[known[row] for row in rows if known[row]] if known is not None else [] for rows in each]
        return told + [[] for _ in self.files]

    @functools.cached_property
    def about(self) -> list[str]:
        """What the heads of pictures and sounds say of each: size and format, duration and rate."""
        if self.kind is None:
            return []
        kinds, details, at = self.kind.texts(), list[str](), 0
        for group in self.groups:
            for row in group.rows.tolist():
                kind = kinds[at]
                if kind == "wav" and (banked := banked_text(group.archive, row)):
                    details.append(banked)
                elif kind in OPENED:
                    name = f"{group.path}/{group.archive.names[row]}"
                    make = entry_source if kind in (*SOUNDS, *MOVIES) else content_source  # of a sound the head will do
                    details.append(self._opened(functools.partial(make, group.archive, row, name), kind))
                else:
                    head = group.archive.beginning(row, filetypes.DETAIL) if kind in SIZED else b""
                    details.append(filetypes.detail(kind, head) if head else "")
                at += 1
        for name, path in self.files:
            head = b""
            if kinds[at] in SIZED:
                with path.open("rb") as file:
                    head = file.read(filetypes.DETAIL)
            if kinds[at] in OPENED:
                details.append(self._opened(functools.partial(FileSource, path, name), kinds[at]))
            else:
                details.append(filetypes.detail(kinds[at], head) if head else "")
            at += 1
        return details

    def _opened(self, make: Callable[[], Source], kind: str) -> str:
        """The size and format of a picture of the game's own, the duration of a sound; nothing when it is damaged,
        which is among the faults."""
        try:
            with make() as source:
                return self.described(source, kind)
        except VolvexError as error:
            self.faults.append(error)
            return ""

    @property
    def merged(self) -> bool:
        """Whether paths of the tree that a game sees are listed."""
        return any(group.home for group in self.groups) or bool(self._homes)

    @property
    def homes(self) -> list[str]:
        """The file of the game in which each is."""
        return [
            *(group.file for group in self.groups for _ in group.rows),
            *(self._homes.get(name, name) for name, _ in self.files),
        ]

    @functools.cached_property
    def paths(self) -> list[str]:
        """Every whole path, as it is: not safe to print."""
        whole: list[str] = []
        for group, members in zip(self.groups, self.members, strict=True):
            paths = group.archive.paths
            whole += group.paths() if members is None else [f"{group.path}/{paths[rows[0]]}" for rows in members]
        return whole + [name for name, _ in self.files]

    def harmless(self) -> Cells:
        """The paths, safe to print."""
        if (
            len(self.groups) == 1 and not self.files and self.members[0] is None
        ):  # the prefix is the same for all: it need not be joined to each
            group = self.groups[0]
            plain = group.archive.plain_names() if len(group.rows) == len(group.archive) else None
            if plain is not None:
                return Spans(shown(group.path) + "/", plain.data, plain.starts, plain.lengths)
            names = group.archive.names
            names = names if len(group.rows) == len(names) else [names[row] for row in group.rows.tolist()]
            return Prefixed(
                shown(group.path) + "/", names if "".join(names).isprintable() else [shown(name) for name in names]
            )
        return [shown(path) for path in self.paths]

    def _kinds(self) -> Labels:
        kinds = [self._kind(group, row) for group in self.groups for row in group.rows.tolist()]
        for name, path in self.files:
            with FileSource(path, name) as source:
                kinds.append(kind_in(source, filetypes.kind_by_content(source.peek(0, filetypes.HEAD)), self.library))
        return Labels.of(kinds)

    def _kind(self, group: Group, row: int) -> str:
        """What an entry's content is; `locked` where a key is missing."""
        path = f"{group.path}/{group.archive.names[row]}"
        try:
            return entry_kind(group.archive, row, path, self.library)
        except LockedError as error:
            self.faults.append(error)
            return "locked"

    def types(self) -> list[str]:
        """The type of each: of an object of a package its own, of all else the kind of its content."""
        found: list[str] = []
        kinds = self.kind.texts() if self.kind is not None else self._kinds().texts()
        for group in self.groups:
            own = object_types(group.archive)
            rows = group.rows.tolist()
            here = kinds[len(found) : len(found) + len(rows)]
            found += [own[row] or kind for row, kind in zip(rows, here, strict=True)] if own is not None else here
        return [*found, *kinds[len(found) :]]

    def order(self, sort: str | None) -> list[int]:
        rows = range(len(self.size))
        if sort == "size":
            return [int(row) for row in np.argsort(-self.size, kind="stable")]
        kinds = self.kind.texts() if self.kind is not None else []
        keys: dict[str, Callable[[int], Any]] = {
            "path": lambda row: self.paths[row],
            "name": lambda row: (self.paths[row].rpartition("/")[2], self.paths[row]),
            "type": lambda row: (kinds[row], self.paths[row]),
        }
        return sorted(rows, key=keys[sort]) if sort else list(rows)


def _by_path(group: Group) -> list[list[int]]:
    """The entries of a group by their paths: all variants of one together."""
    found: dict[str, list[int]] = {}
    for row in group.rows.tolist():
        found.setdefault(group.archive.paths[row], []).append(row)
    return list(found.values())


def _codecs(group: Group) -> Labels:
    return Labels(group.archive.entries.codec[group.rows], [*group.archive.codec_labels, "?"])  # -1 is the last


def run(options: argparse.Namespace, context: Context) -> int:
    context.answers = False  # nobody who looks around wants to be asked for each locked archive on the way
    with open_walker(options, context) as walker:
        found = [walker.find(path, deep=options.deep, nested=options.deep) for path in options.path]
        described = functools.partial(about_text, walker=walker, context=context)
        with_kinds = options.long or options.sort == "type" or options.by is not None
        rows = _Rows(found, walker.library, with_kinds, not options.variant, described)
        order = rows.order(options.sort) if options.sort or options.json or options.long else []
        if options.by:
            _print_types(rows, options, context)
        elif options.json:
            context.json(_records(rows, order))
        elif options.tree:
            print_tree(
                context,
                rows.paths,
                rows.size.tolist(),
                rows.kind.texts() if rows.kind is not None else [""] * len(rows.size),
            )
        else:
            _print(rows, order, options, context)
        return note_faults([*walker.faults, *rows.faults], context)


def _print_types(rows: _Rows, options: argparse.Namespace, context: Context) -> None:
    """What there is of each type: how many, how large, and the first of them."""
    kinds = rows.kind.texts() if rows.kind is not None else []
    found: dict[str, list[int]] = {}
    for row, name in enumerate(rows.types()):
        found.setdefault(name, []).append(row)
    kind_by_type = {name: kind_of(kinds[own[0]]) for name, own in found.items()}
    size, stored = rows.size, rows.stored
    order = sorted(found, key=lambda name: (KINDS.index(kind_by_type[name]), -int(size[found[name]].sum()), name))
    if options.json:
        context.json(
            {
                "type": name,
                "kind": kind_by_type[name],
                "entries": len(found[name]),
                "size": int(size[found[name]].sum()),
                "stored": int(stored[found[name]].sum()),
            }
            for name in order
        )
        return
    columns = [
        Column("kind", [kind_by_type[name] for name in order]),
        Column("type", [shown(name) for name in order]),
        Column("entries", [number(len(found[name])) for name in order], right=True),
        Column("size", [number(int(size[found[name]].sum())) for name in order], right=True),
        Column("stored", [number(int(stored[found[name]].sum())) for name in order], right=True),
        Column("first", [shown(rows.paths[found[name][0]]) for name in order]),
    ]
    print_table(context, columns)
    context.print(context.paint(f"{count(len(rows.size), 'entry', 'entries')} of {count(len(order), 'type')}", "dim"))


def _records(rows: _Rows, order: list[int]) -> list[dict[str, object]]:
    size, stored, codec = rows.size.tolist(), rows.stored.tolist(), rows.codec.texts()
    kind = rows.kind.texts() if rows.kind is not None else [None] * len(size)
    return [
        {"path": rows.paths[row], "size": size[row], "stored": stored[row], "codec": codec[row], "type": kind[row]}
        | ({"variants": rows.variants[row]} if rows.variants[row] else {})
        for row in order
    ]


def _print(rows: _Rows, order: list[int], options: argparse.Namespace, context: Context) -> None:
    picked = np.array(order, dtype=np.int64) if options.sort else slice(None)
    columns = [
        Column("size", Numbers(rows.size[picked]), right=True),
        Column("stored", Numbers(rows.stored[picked]), right=True),
    ]
    if options.long:
        columns += [Column(c.title, [c.texts()[row] for row in order], c.right) for c in _long(rows)]
    columns.append(Column("codec", rows.codec.picked(picked)))
    if rows.kind is not None:
        columns.append(Column("type", rows.kind.picked(picked)))
    if any(member is not None for member in rows.members):
        lines = [" ".join(variant) for variant in rows.variants]
        columns.append(Column("variants", [lines[row] for row in order] if options.sort else lines))
    paths = rows.harmless()
    columns.append(
        Column("path", [texts[row] for row in order] if options.sort and (texts := cell_texts(paths)) else paths)
    )
    print_table(context, columns)
    size, stored = int(rows.size.sum()), int(rows.stored.sum())
    things = count(len(rows.size), "entry", "entries") if rows.groups else count(len(rows.size), "file")
    untold = "; --long shows their types" if rows.kind is None else ""
    context.print(
        context.paint(
            f"{things}, {number(size)} bytes, stored in {number(stored)} ({percent(stored, size)}){untold}", "dim"
        )
    )


def _long(rows: _Rows) -> list[Column]:
    """Where entries start, their share, the fields whose meaning is unknown, and the file that won of several."""
    share = [f"{100 * b / a:.0f}%" if a else "-" for a, b in zip(rows.size.tolist(), rows.stored.tolist(), strict=True)]
    starts = [f"{start:#x}" for group in rows.groups for start in group.archive.entries.start[group.rows].tolist()]
    columns = [Column("share", share, right=True), Column("start", starts + ["-"] * len(rows.files), right=True)]
    if rows.merged:
        columns.append(Column("from", [shown(home) for home in rows.homes]))
    if any(about := rows.about):
        columns.append(Column("about", [text or "-" for text in about]))
    kept = [dict(group.archive.columns()) for group in rows.groups]
    for name in sorted({name for record in kept for name in record}):
        cells: list[str] = []
        for group, record in zip(rows.groups, kept, strict=True):
            cells += (
                [str(value) for value in record[name][group.rows].tolist()]
                if name in record
                else ["-"] * len(group.rows)
            )
        columns.append(Column(name, cells + ["-"] * len(rows.files), right=True))
    return columns
