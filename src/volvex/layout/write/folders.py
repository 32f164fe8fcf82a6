"""Folders that new entries need and the archive does not have: the archive read as if they were there already,
empty."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.errors import RefusedError
from volvex.layout.columns import Array, Columns, Texts, taken
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Field, RecordsOf, Text, is_bare, pooled_length
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.names import folder_paths, parents_of
from volvex.layout.records.blank import blank_columns
from volvex.layout.records.numbers import encode_numbers
from volvex.layout.write.blank import with_row
from volvex.layout.write.plan import Edit


@dataclass
class _Folder:
    """A folder of the new table: its row in the old one (-1 for a new one), its own name, and the folder above it."""

    row: int
    name: bytes
    above: _Folder | None


def with_folders(reading: Reading, edit: Edit) -> Reading:
    """The same when all folders are there; RefusedError when the archive has no room for the name of a new one."""
    if not edit.added or not reading.rooted("folder"):
        return reading
    assert reading.entries is not None
    slash = "/".encode(reading.entries.names.encoding)
    paths = folder_paths(reading)
    wanted = {name.rpartition(slash)[0] + slash for name in (added.name for added in edit.added) if slash in name}
    if wanted <= set(paths):
        return reading
    tree = _Tree(reading, paths, slash)
    for path in sorted(wanted - set(paths)):
        tree.add(path)
    return tree.read()


class _Tree:
    """The folders of an archive, to which some are added in the order that the format asks for."""

    def __init__(self, reading: Reading, paths: list[bytes], slash: bytes) -> None:
        self.reading, self.slash = reading, slash
        self.table = reading.rooted("folder")[0]
        self.ranged = reading.attribute(attributes.FIRST_FOLDER) is not None
        self.nested = reading.attribute(attributes.FOLDERS) is not None and not self.ranged
        self.flat = reading.attribute(attributes.PARENT) is None and not self.ranged and not self.nested
        named = reading.attribute(attributes.FOLDER_NAME)
        self.sorted = self.table.block.sorted_by is not None
        if self.sorted and (self.ranged or self.nested or named is None or named[1].name != self.table.block.sorted_by):
            raise RefusedError(
                f"{reading.source.name}: its folders are sorted in a way in which none can be added",
                "a folder that it has",
            )
        names = named[0].columns[named[1].name] if named is not None else None
        raws = names.raws() if isinstance(names, Texts) else [b""] * len(paths)
        self.folders = [_Folder(row, raw, None) for row, raw in enumerate(raws)]
        for folder, above in zip(self.folders, parents_of(reading), strict=True):
            folder.above = self.folders[above] if above >= 0 else None
        self.by_path = dict(reversed(list(zip(paths, self.folders, strict=True))))

    def add(self, path: bytes) -> _Folder:
        """A folder by its path with the closing slash, and those above it."""
        if path in self.by_path:
            return self.by_path[path]
        head, _, name = path.removesuffix(self.slash).rpartition(self.slash)
        above = None if self.flat else self.add(head + self.slash) if head else self.by_path.get(b"")
        folder = _Folder(-1, path.removesuffix(self.slash) if self.flat else name, above)
        self.folders.insert(self._place(above), folder)
        self.by_path[path] = folder
        return folder

    def _place(self, above: _Folder | None) -> int:
        """Where in the table a new folder goes: behind its siblings, or behind all that lies in the folder above it."""
        if above is None or not (self.ranged or self.nested):
            return len(self.folders)
        inside = [number for number, folder in enumerate(self.folders) if self._lies_in(folder, above)]
        if inside:
            return inside[-1] + 1
        return self.folders.index(above) + 1 if self.nested else len(self.folders)

    def _lies_in(self, folder: _Folder, above: _Folder) -> bool:
        at = folder.above
        while self.nested and at is not None and at is not above:
            at = at.above
        return at is above

    def read(self) -> Reading:
        """The archive with these folders."""
        if self.sorted:
            self.folders.sort(key=lambda folder: folder.name)
        made = dataclasses.replace(self.reading, blocks=dict(self.reading.blocks))
        for block in self.reading.rooted("folder"):
            made.blocks[block.block.name] = self._extended(block)
        self._name(made)
        self._link(made)
        new_row = np.zeros(max(1, len(self.table.starts)), np.int64)
        for number, folder in enumerate(self.folders):
            if folder.row >= 0:
                new_row[folder.row] = number
        for block in self.reading.entry_blocks():
            made.blocks[block.block.name] = self._renumbered(made, block, new_row)
        return made

    def _extended(self, block: BlockRead) -> BlockRead:
        """A block with a blank record for each new folder, all in their new order."""
        last = len(block.starts)
        rows = np.array([folder.row if folder.row >= 0 else last for folder in self.folders], np.int64)
        columns = {name: taken(column, rows) for name, column in with_row(block.columns, _blank(block)).items()}
        return dataclasses.replace(block, columns=columns, starts=np.append(block.starts, block.end)[rows])

    def _new(self) -> Array:
        return np.array([number for number, folder in enumerate(self.folders) if folder.row < 0], np.int64)

    def _name(self, made: Reading) -> None:
        """The names of the new folders, in their records or in the pool."""
        names, rows = [folder.name for folder in self.folders if folder.row < 0], self._new()
        found = self.reading.attribute(attributes.FOLDER_NAME)
        if found is not None:
            home = made.blocks[found[0].block.name]
            column = home.columns[found[1].name]
            assert isinstance(column, Texts)
            raws = column.raws()
            for row, name in zip(rows.tolist(), names, strict=True):
                raws[row] = name
            home.columns[found[1].name] = Texts.of(raws, column.encoding)
            return
        place, pool = self.reading.attribute(attributes.FOLDER_NAME_AT), self.reading.pool()
        assert place is not None and pool is not None  # the check sees to that
        starts = _put_in_pool(made, pool, names)
        self._put(made, place, np.array(starts, object), rows)
        length = pooled_length(place[0].block, place[1])
        if length is not None:
            self._put(made, (place[0], length), np.array([len(name) for name in names], object), rows)

    def _link(self, made: Reading) -> None:
        """What folders tell of each other: the one above, or the first within and how many there are."""
        number_of = {id(folder): number for number, folder in enumerate(self.folders)}
        within: dict[int, list[int]] = {number: [] for number in range(len(self.folders))}
        for number, folder in enumerate(self.folders):
            if folder.above is not None:
                within[number_of[id(folder.above)]].append(number)
        every = np.arange(len(self.folders))
        counts = np.array([len(within[number]) for number in every.tolist()], object)
        parent, new = self.reading.attribute(attributes.PARENT), self._new()
        if parent is not None:
            old = self.reading.decode_numbers(*parent).tolist()
            above = [
                number_of[id(folder.above)] if folder.above is not None else self._topmost(folder, number, old)
                for number, folder in enumerate(self.folders)
            ]
            self._put(made, parent, np.array(above, object), every)
        told = self.reading.attribute(attributes.FOLDERS)
        if told is not None:
            self._put(made, told, counts, every)
        first = self.reading.attribute(attributes.FIRST_FOLDER)
        if first is not None:
            filled = np.flatnonzero(counts > 0)
            self._put(made, first, np.array([within[number][0] for number in filled.tolist()], object), filled)
        file = self.reading.attribute(attributes.FIRST_FILE)
        if file is not None:
            assert self.reading.entries is not None
            self._put(made, file, np.full(len(new), len(self.reading.entries), object), new)

    def _topmost(self, folder: _Folder, number: int, old: list[int]) -> int:
        """What a folder that lies in no other stores as the one above it: its own number, or one that no folder has."""
        own = [row for row, parent in enumerate(old) if parent == row]
        if folder.row in own or (folder.row < 0 and own):
            return number
        return old[folder.row] if folder.row >= 0 else _outside(old)

    def _renumbered(self, made: Reading, block: BlockRead, new_row: Array) -> BlockRead:
        """A block of entries whose folders have other numbers."""
        owners = None if block.owners is None else new_row[block.owners]
        regions = block.regions
        if regions is not None:  # the groups of new folders have no place yet
            none = np.zeros(2, np.int64)
            regions = np.stack([regions[folder.row] if folder.row >= 0 else none for folder in self.folders])
        result = dataclasses.replace(made.blocks[block.block.name], owners=owners, regions=regions)
        for field in block.block.fields:
            if isinstance(field.meaning, Attribute) and field.meaning.what == attributes.FOLDER:
                made.blocks[block.block.name] = result = dataclasses.replace(result, columns=dict(result.columns))
                rows = new_row[self.reading.decode_numbers(block, field)]
                self._put(made, (block, field), rows.astype(object), np.arange(len(rows)))
        return result

    def _put(self, made: Reading, found: tuple[BlockRead, Field], numbers: Array, rows: Array) -> None:
        block, field = made.blocks[found[0].block.name], self.reading.settled(found[1])
        column: Any = block.columns[field.name]
        column = column.copy()
        column[rows] = encode_numbers(numbers, field, f"{self.reading.source.name}, {block.block.name}")
        block.columns[field.name] = column


def _blank(block: BlockRead) -> Columns:
    """The columns of a folder that holds nothing."""
    held = [field for field in block.block.fields if isinstance(field.meaning, RecordsOf)]
    plain = tuple(field for field in block.block.fields if field not in held)
    columns = blank_columns(dataclasses.replace(block.block, fields=plain))
    for field in held:
        columns[field.name] = Texts.of([b""], "latin-1")
    return columns


def _outside(parents: list[int]) -> int:
    """The number that stands for no folder above, as those have it that have none."""
    return next((parent for parent in parents if not 0 <= parent < len(parents)), -1)


def _put_in_pool(made: Reading, pool: tuple[BlockRead, Field], names: list[bytes]) -> list[int]:
    """Put names behind what is in a pool; where each starts there."""
    block, field = made.blocks[pool[0].block.name], pool[1]
    column, at, starts, data = block.columns[field.name], len(block.data), list[int](), b""
    for name in names:
        starts.append(at + len(data))
        data += name if is_bare(field) else _pooled_bytes(field, name)
    if isinstance(column, Texts):
        more: Any = Texts.of([*column.raws(), *names], column.encoding)
        begun = np.append(block.starts, block.start + np.array(starts, np.int64))
    else:
        more = np.concatenate([column, np.frombuffer(data, column.dtype)])
        begun = np.append(block.starts, block.start + at + np.arange(len(more) - len(column)))
    made.blocks[block.block.name] = dataclasses.replace(
        block,
        columns={**block.columns, field.name: more},
        starts=begun,
        data=block.data + data,
        grown=block.grown + len(data),
    )
    return starts


def _pooled_bytes(field: Field, name: bytes) -> bytes:
    """A text as it stands in a pool: behind its length, or with its zero."""
    assert isinstance(field.type, Text)
    return field.type.tail_bytes(Texts.of([name], field.type.encoding), np.ones(1, bool))[0]
