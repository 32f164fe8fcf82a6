"""Records in groups, written: each group is placed by itself, and measured into the record that it belongs to."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from volvex.layout.columns import AllColumns, Columns
from volvex.layout.order import group_holder
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.groups import group_fields
from volvex.layout.transforms import wrap_of, wrapped
from volvex.layout.write.directory import Directory, Settle
from volvex.layout.write.place import Fixed, Placed


@dataclass(frozen=True)
class Groups:
    """The groups of one block and the block whose records they belong to."""

    block: BlockRead
    holder: BlockRead
    made: dict[bytes, bytes] = field(default_factory=dict)  # groups that were wrapped

    def name(self, row: int) -> str:
        """A group's name as a part of the file."""
        return f"{self.block.block.name}#{row}"

    def rows(self, columns: Columns, directory: Directory) -> list[list[bytes]]:
        """The records of each group."""
        made: list[list[bytes]] = [[] for _ in self.holder.starts]
        owners = directory.owners(self.block)
        pieces = zip(*self.block.records.pieces(columns), strict=True)
        for owner, parts in zip(owners.tolist(), pieces, strict=True):
            made[owner].append(b"".join(parts))
        return made

    def fixed(self, directory: Directory) -> list[Fixed]:
        """The groups for placing: a new one behind the others; one that is empty and stays so has no place."""
        assert self.block.regions is not None
        own, last = self.block.block, self.block.end
        used = np.bincount(directory.owners(self.block), minlength=len(self.holder.starts))
        return [
            Fixed(self.name(row), start if size else last, size, None, own.align, own.fill, new=not size)
            for row, (start, size) in enumerate(self.block.regions.tolist())
            if size or used[row]
        ]

    def sizes(self, columns: Columns, directory: Directory) -> dict[str, int]:
        """The stored bytes of each group."""
        return {name: len(data) for name, data in self.data(columns, directory).items()}

    def data(self, columns: Columns, directory: Directory) -> dict[str, bytes]:
        """The stored bytes of each group, by its name."""
        return {self.name(row): self._stored(b"".join(rows)) for row, rows in enumerate(self.rows(columns, directory))}

    def _stored(self, data: bytes) -> bytes:
        """A group as it lies in the file; one that holds what one held before keeps its bytes."""
        if not self.block.block.transforms or not data:
            return data
        if data not in self.made:
            self.made[data] = self.block.stored.get(data) or b"".join(wrapped(wrap_of(self.block.block), [data]))
        return self.made[data]

    def put(self, columns: AllColumns, directory: Directory, placed: Placed, settle: Settle) -> None:
        """Measure all groups into the records that they belong to."""
        name = self.block.block.name
        rows = self.rows(columns[name], directory)
        lengths = np.array([sum(map(len, group)) for group in rows], np.int64)
        stored = np.array([len(self._stored(b"".join(group))) for group in rows], np.int64)
        placed_rows = np.array([row for row in range(len(rows)) if self.name(row) in placed.starts], np.int64)
        starts = np.array([placed.starts[self.name(row)] for row in placed_rows.tolist()], np.int64)
        values = {"count": np.array([len(group) for group in rows], np.int64), "length": lengths}
        values["stored length"] = stored
        for what, own in group_fields(self.holder.block, name).items():
            if what in values:
                directory.put(columns, self.holder, settle(own), values[what].astype(object), None)
            else:
                numbers = starts if what == "start" else starts + stored[placed_rows]
                directory.put(columns, self.holder, settle(own), numbers.astype(object), placed_rows)


@dataclass(frozen=True)
class Rows(Groups):
    """Several rows of one block's records, each a part of its own."""

    def name(self, row: int) -> str:
        return self.block.rows[row].name

    def rows(self, columns: Columns, directory: Directory) -> list[list[bytes]]:
        made: list[list[bytes]] = [[] for _ in self.block.rows]
        pieces = zip(*self.block.records.pieces(columns), strict=True)
        for owner, parts in zip(directory.owners(self.block).tolist(), pieces, strict=True):
            made[owner].append(b"".join(parts))
        return made

    def fixed(self, directory: Directory) -> list[Fixed]:
        assert self.block.regions is not None
        return [
            Fixed(own.name, start, size, None, own.align, own.fill)
            for own, (start, size) in zip(self.block.rows, self.block.regions.tolist(), strict=True)
        ]

    def put(self, columns: AllColumns, directory: Directory, placed: Placed, settle: Settle) -> None:
        """Nothing: single fields hold the measures of each row, as of any part."""

    def count(self, name: str, directory: Directory) -> int:
        """How many records a row has."""
        row = next(at for at, own in enumerate(self.block.rows) if own.name == name)
        return int((directory.owners(self.block) == row).sum())


def groups_of(reading: Reading) -> list[Groups]:
    """All groups of a file."""
    found = list[Groups]()
    for block in reading.blocks.values():
        if block.rows:
            found.append(Rows(block, block))
            continue
        home = group_holder(reading.layout, block.block) if block.regions is not None else None
        if home is not None:
            found.append(Groups(block, reading.blocks[home.name]))
    return found
