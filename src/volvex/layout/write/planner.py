"""Writing a file by its layout: gather the parts, place them, measure, compute checksums, emit.

Nothing here takes a place, a count or a checksum from a caller: they are computed from what is written. Places depend
on sizes, and some sizes depend on places (a compressed directory in front of the content, numbers of as many bytes as
they need): then all is placed again with the sizes that came out, until they stay.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from volvex.errors import FormatError
from volvex.layout.checksums import (
    block_checksums,
    checksum_size,
    checksum_value,
    is_over_file,
    new_sum,
    record_checksums,
    without,
)
from volvex.layout.chunks import ChunkedSource
from volvex.layout.columns import AllColumns, Array, one_row, rows_of
from volvex.layout.kinds.archive import OWN
from volvex.layout.model import CONTENTS, Attribute, Block, ChecksumOf, Computed, Field, Measure, Part, Raw
from volvex.layout.order import checksum_order
from volvex.layout.read.blocks import Reading, Skipped, measured, offset_in, settled_by
from volvex.layout.transforms import is_cipher
from volvex.layout.write.blank import with_blank
from volvex.layout.write.chunks import ChunkPlan
from volvex.layout.write.computed import Computing
from volvex.layout.write.contents import ContentPlan
from volvex.layout.write.directory import Directory, by_start
from volvex.layout.write.folders import with_folders
from volvex.layout.write.groups import Rows, groups_of
from volvex.layout.write.place import Fixed, Inline, Moved, New, Placer, RecordOf, Step, WholePart, fixed_of
from volvex.layout.write.plan import Edit, Piece, Plan
from volvex.layout.write.skipped import Places, skipped_size, stored_places, with_skipped
from volvex.layout.write.volumes import VOLUMES, VolumePlacer, placed_together
from volvex.layout.write.wraps import is_same, wrapped_piece
from volvex.source import Spool

ROUNDS = 24  # how often places are tried before wrapped parts get room to spare
ROWS = " rows"  # stands for the sizes of all records that are followed by their content
AFTER = 48  # and how often with it


@dataclass(frozen=True)
class Pointer:
    """Numbers that say where in the file something is: how far into a part, for some records of a block."""

    block: str
    field: Field
    part: str
    rows: Array
    into: Array


def plan(
    reading: Reading,
    edit: Edit,
    each: bool = False,
    folder: Path | None = None,
    pinned: bool = False,
    columns: AllColumns | None = None,
    pointers: Sequence[Pointer] = (),
) -> Plan:
    """How the file is written with the changes of `edit`.

    With `each`, every content is placed by itself and every padding made again, which proves the layout; otherwise
    stretches in which nothing changes are moved as they are, which is fast. Content that must be encrypted again goes
    through a temporary file in `folder`. With `pinned`, contents stay where they are, as far as the format allows: what
    is new goes into a hole that is large enough, or behind them. `columns` are the blocks' columns where their values
    are new, as in tables; `pointers` what in them counts from a part that may move.
    """
    reading, edit = with_blank(with_folders(reading, edit), edit)
    inline = any(block.ends is not None for block in reading.blocks.values())
    pinned = pinned and not inline and not reading.layout.content.until_next and not by_start(reading)
    return _Planner(reading, edit, each, folder, pinned, columns, pointers).plan()


class _Planner:
    def __init__(
        self,
        reading: Reading,
        edit: Edit,
        each: bool,
        folder: Path | None,
        pinned: bool,
        columns: AllColumns | None = None,
        pointers: Sequence[Pointer] = (),
    ) -> None:
        self.pointers = pointers
        assert reading.entries is not None
        self.reading, self.edit, self.each, self.layout = reading, edit, each, reading.layout
        self.folder, self._spool = folder, list[Spool]()
        self.pinned, self.turn = pinned, 0
        self.contents = ContentPlan(reading, edit, self.spool, pinned)
        self.directory = Directory(reading, edit, self.contents, columns)
        self.within = VOLUMES if reading.volumes else self.layout.content.within
        self.inline = next((block for block in reading.blocks.values() if block.ends is not None), None)
        self.stored = {name: area.stored for name, area in reading.areas.items()}  # of wrapped parts, as assumed
        self.room = dict(self.stored)  # what is granted to them
        self.built: dict[str, Piece] = {}
        self.chunks = ChunkPlan(reading, self.contents, self.directory)
        self.computing = Computing(reading, self.directory, self._settle, self._measured)
        self.groups = groups_of(reading)
        self.rows = {own.name: group for group in self.groups if isinstance(group, Rows) for own in group.block.rows}

    def spool(self) -> Spool:
        """The temporary file for what is made again."""
        if not self._spool:
            self._spool.append(Spool(self.folder))
        return self._spool[0]

    # rounds

    def plan(self) -> Plan:
        placers = {name: self._placer(name) for name in ("", *self.reading.areas)}
        self.volumes = [
            VolumePlacer(self.contents, number, each=self.each) for number in range(len(self.reading.volumes))
        ]
        for placer in placers.values():
            placer.check(self.contents.name_of_span)
        for volume in self.volumes:
            volume.check()
        self.columns = self.directory.columns()
        for turn in range(ROUNDS + AFTER):
            self.turn = turn
            sizes = self.sizes = self._sizes()
            self.placed = {name: placer.place(sizes) for name, placer in placers.items() if name}
            self.placed[""] = placers[""].place(sizes)
            if self.volumes:
                self.placed[VOLUMES] = placed_together(self.volumes, self.contents, sizes)
            data = self._filled()
            if self._settled(sizes, turn):
                self._check_ends()
                return self._emitted(data)
        raise FormatError(self.reading.source.name, "its places depend on each other in a way that finds no end")

    def _placer(self, name: str) -> Placer:
        """The placer for the file, or for what a part of it holds."""
        fixed: list[Fixed] = [
            fixed_of(block)
            for block in self.reading.blocks.values()
            if block.ends is None and block.owners is None and block.block.within == name
        ]
        if not name:
            fixed += [fixed_of(area) for area in self.reading.areas.values()]
        fixed += [
            one for groups in self.groups if groups.block.block.within == name for one in groups.fixed(self.directory)
        ]
        contents = self.contents.placed(name == self.within)
        inline = self._inline() if name == self.within else None
        filled = (1, 0) if name else self.layout.end
        each = self.each or (inline is not None and self._says_more(inline.block.block))
        return Placer(self.reading.area(name), fixed, contents, inline, each, self.pinned, filled)

    def _says_more(self, block: Block) -> bool:
        """Whether records may change although their content does not: by where they stand, or under another key."""
        meanings = [field.meaning for field in block.fields]
        own = any(isinstance(one, Computed) or (isinstance(one, Attribute) and one.what in OWN) for one in meanings)
        return own or self.contents.keyed

    def _inline(self) -> Inline | None:
        if self.inline is None:
            return None
        removed = np.zeros(len(self.contents.entries), np.int64)
        removed[list(self.edit.removed)] = 1
        new_row = np.cumsum(removed == 0) - 1
        return Inline(
            self.inline,
            lambda row: len(self._record(row)),
            new_row,
            len(self.contents.kept_rows),
            self.contents.new_of_span[self.contents.part_of_row],
            removed,
        )

    def _sizes(self) -> dict[str, int]:
        """The sizes of all blocks with the columns of the last round, of wrapped parts and of new contents."""
        sizes = {
            f"new {index}": self.contents.stored_size(index) for index in range(len(self.contents.new))
        } | self.room
        for name, block in self.reading.blocks.items():
            sizes[name] = block.records.size(self.columns[name]) + skipped_size(block)
        if self.inline is not None:  # each record has a place of its own, so each has to keep its size
            sizes[ROWS] = hash(self.inline.records.sizes(self.columns[self.inline.block.name]).tobytes())
        for groups in self.groups:
            sizes |= groups.sizes(self.columns[groups.block.block.name], self.directory)
        return sizes

    def _settled(self, sizes: dict[str, int], turn: int) -> bool:
        """Whether all have the sizes with which they were placed; otherwise those are changed for the next round."""
        now = {name: self.built[name].size for name in self.reading.areas}
        same = self.chunks.stays and now == self.stored and all(size <= self.room[name] for name, size in now.items())
        for name, size in now.items():
            self.room[name] = size if turn < ROUNDS else max(size, self.room[name])
        self.stored = now
        again = self._sizes()
        return same and again == sizes | {name: again[name] for name in now if turn >= ROUNDS}

    def _filled(self) -> dict[str, bytes]:
        """The columns filled with what the placing says; the blocks' bytes, and the wrapped parts built."""
        self.columns = self.directory.filled(self.placed[self.within], self._settle)
        self.chunks.put(self.columns, self._edge, self._settle)
        for groups in self.groups:
            placed = self.placed[groups.block.block.within]
            groups.put(self.columns, self.directory, placed, self._settle)
        for pointer in self.pointers:
            values = pointer.into + self._edge("start", pointer.part)
            holder = self.reading.blocks[pointer.block]
            self.directory.put(self.columns, holder, self._settle(pointer.field), values, pointer.rows)
        data: dict[str, bytes] = {}
        within = {block.block.within for block in self.reading.blocks.values()}
        self.built = {name: piece for name, piece in self.built.items() if name not in within}  # content alone stays
        for home in self.layout.blocks:
            for field in home.fields:
                if isinstance(field.meaning, Measure):
                    self._put_measure(home, field, field.meaning)
        self.computing.put(self.columns)
        for block in checksum_order(self.layout):
            if block.inline:
                self.computing.put_summed(block, lambda part: self._bytes_of(part, data))
                self._sum_records(block)
            else:
                self.directory.weave(block, self.columns, data)
                data[block.name] = self._write_block(block, data)
        for groups in self.groups:
            data |= groups.data(self.columns[groups.block.block.name], self.directory)
        for name in self.reading.areas:
            self._build(name, data)
        return data

    def _emitted(self, data: dict[str, bytes]) -> Plan:
        placed = self.placed[""]
        self._checksum_file(data)
        pieces = [self._made(step, data) for step in placed.steps]
        others = {}
        for volume in self.volumes:
            if self.each or volume.changes():
                made = [self._made(step, data) for step in volume.placed.steps]
                others[volume.volume.name] = Plan([piece for piece in made if piece.size], volume.placed.size)
        return Plan([piece for piece in pieces if piece.size], placed.size, tuple(self._spool), others)

    # places

    def _edge(self, edge: str, name: str) -> int:
        """Where a block or part starts or ends now."""
        if name == CONTENTS:
            placed = self.placed[self.within]
            if placed.first_content >= 0:
                return placed.first_content
            stored = measured(self.reading, "start", CONTENTS)  # of no content it may be anything within the file
            return placed.room if stored is None or stored > placed.size or self.reading.entries else stored
        if self.inline is not None and self.inline.block.name == name:
            placed = self.placed[""]
            return placed.inline_end if edge == "end" else placed.starts.get(name, placed.size)
        block = self.rows[name].block if name in self.rows else self.reading.blocks.get(name)
        within = "" if block is None else block.block.within
        start = self.placed[within].starts[name]
        if edge == "start":
            return start
        return start + (self.stored[name] if name in self.reading.areas else self.sizes[name])

    def _settle(self, field: Field) -> Field:
        """A field whose changes are numbers, from where the parts are now."""
        return settled_by(field, self._edge)

    def _check_ends(self) -> None:
        """Blocks that are found from the end, or behind another one, stand there still."""
        for name, placed in self.placed.items():
            for block in self.layout.blocks if name else self.layout.places:
                at, start = block.at, placed.starts.get(block.name)
                reach = block.reach if isinstance(block, Part) else None
                if reach is not None and reach.to == "end" and start is not None:
                    self._check_reach(block.name, placed.size - reach.back)
                if at is None or start is None or (isinstance(block, Block) and (block.within != name or block.inline)):
                    continue
                if at.from_end and start != placed.size - at.offset:
                    raise FormatError(
                        self.reading.source.name,
                        f"{block.name} must stand {at.offset} bytes before the end, "
                        f"it now stands {placed.size - start} before it",
                    )
                if at.after:
                    end = self._edge("end", at.after)
                    if start != end + -end % block.align:
                        raise FormatError(
                            self.reading.source.name, f"{block.name} would no longer stand right behind {at.after}"
                        )

    def _check_reach(self, name: str, wanted: int) -> None:
        end = self._edge("end", name)
        if end != wanted:
            raise FormatError(self.reading.source.name, f"{name} must reach to {wanted:#x}, it now ends at {end:#x}")

    # blocks

    def _put_measure(self, home: Block, field: Field, meaning: Measure) -> None:
        """Measure a part and put that into its field, where this file has both."""
        known = meaning.part in ("file", CONTENTS, *self.reading.blocks, *self.reading.areas, *self.rows)
        block = self.reading.blocks[home.name]
        if not known or meaning.upper or (home.repeats and not field.when) or not bool(block.present(field)[:1].all()):
            return
        self.directory.put(self.columns, block, self._settle(field), np.array([self._measure(meaning)], object), None)

    def _measured(self, what: str, part: str) -> int:
        """A measurement that an expression asks for; of what this file has not there is nothing."""
        if part not in ("file", CONTENTS, *self.reading.blocks, *self.reading.areas, *self.rows):
            return 0
        return self._measure(Measure(what, part))

    def _measure(self, meaning: Measure) -> int:
        part, what = meaning.part, meaning.what
        if part == "file":
            return self.placed[""].size
        if part == CONTENTS:
            placed = self.placed[self.within]
            if what == "start":
                return self._edge("start", CONTENTS)
            return placed.last_content - placed.first_content if placed.first_content >= 0 else 0
        if part in self.reading.areas:
            if what in ("start", "end"):
                return self._edge(what, part)
            return self.stored[part] if what == "stored length" else self.placed[part].size
        if what in ("start", "end"):
            return self._edge(what, part)
        if part in self.rows:
            return self.rows[part].count(part, self.directory) if what == "count" else self.sizes[part]
        columns = self.columns[part]
        if what == "length" and self.inline is not None and self.inline.block.name == part:
            return self._edge("end", part) - self._edge("start", part)
        if what == "count":
            return rows_of(columns) + len(self.reading.blocks[part].skipped)
        return self.sizes[part]

    def _write_block(self, block: Block, done: dict[str, bytes]) -> bytes:
        """A block's bytes with its checksums: those over others are put in first, its own last."""
        records = self.reading.blocks[block.name].records
        checksums = [(field, meaning) for home, field, meaning in block_checksums(self.layout) if home is block]
        own = [(field, meaning) for field, meaning in checksums if block.name in meaning.parts and not meaning.edge]
        for field, meaning in checksums:
            if is_over_file(meaning) or (field, meaning) in own:
                self._put_checksum(block, field, 0)
            else:
                self._put_checksum(block, field, self._sum(meaning, self._covered(meaning, done)))
        summed = self.computing.summed(block)
        for field in summed:  # what covers its own block counts as zero there
            self.computing.blank(block, field)
        if summed:
            self.computing.put_summed(
                block, lambda part: self._written(block) if part == block.name else self._bytes_of(part, done)
            )
        self._sum_records(block)
        data = self._written(block)
        for field, meaning in own:
            covered = without(data, self._own_offset(block, field), checksum_size(field), meaning.skips)
            pieces = self._covered(meaning, {**done, block.name: covered})
            self._put_checksum(block, field, self._sum(meaning, pieces))
        return records.write(self.columns[block.name]) if own else data

    def _written(self, block: Block) -> bytes:
        """A block's bytes, with the records that are no entries."""
        holder, columns = self.reading.blocks[block.name], self.columns[block.name]
        if not holder.skipped:
            return holder.records.write(columns)
        placed = self.placed[self.within]
        last = placed.last_content if placed.first_content >= 0 else placed.size
        places = Places(*self.directory.placed, last, placed.size)

        def renewed(record: Skipped, row: int) -> bytes:
            """The record with the places that it stores as they are now."""
            own = {block.name: dict(record.columns)}
            for field, _, anchor in stored_places(self.reading, holder, record):
                if anchor:
                    self.directory.put(
                        own, holder, self._settle(field), np.array([places.of(anchor, row)], object), None
                    )
            return holder.records.write(own[block.name])

        last_row = len(holder.starts) - 1 - self.reading.blanks
        return with_skipped(holder, columns, self.contents.kept_rows, self.contents.numbers, last_row, renewed)

    def _covered(self, meaning: ChecksumOf, done: dict[str, bytes]) -> list[Piece]:
        """The blocks and wrapped parts that a checksum covers, as they are written."""
        areas = self.reading.areas
        return [
            self._build(part, done) if part in areas else Piece.of(done[part])
            for part in meaning.parts
            if part in areas or part in done
        ]

    def _bytes_of(self, part: str, done: dict[str, bytes]) -> bytes:
        """The bytes of a block or part as they are written."""
        if part in self.reading.areas:
            return b"".join(self._build(part, done).chunks())
        return done.get(part, b"")

    def _own_offset(self, block: Block, field: Field) -> int:
        """Where in the bytes of a single record one of its fields starts."""
        return offset_in(self.reading.blocks[block.name].records, self.columns[block.name], field.name, 0)

    def _sum_records(self, block: Block) -> None:
        """The checksums of records over themselves."""
        holder, columns = self.reading.blocks[block.name], self.columns[block.name]
        for field, meaning in record_checksums(block):
            size, values = checksum_size(field), []
            rows = [b"".join(parts) for parts in zip(*holder.records.pieces(columns), strict=True)]
            for row, data in enumerate(rows):
                at = offset_in(holder.records, columns, field.name, row)
                values.append(checksum_value(meaning.algorithm, without(data, at, size, meaning.skips)))
            self.directory.put_checksums(self.columns, holder, field, values, np.arange(len(values)))

    def _sum(self, meaning: ChecksumOf, pieces: list[Piece]) -> int:
        total = new_sum(meaning.algorithm)
        for piece in pieces:
            for chunk in piece.chunks():
                total.update(chunk)
        return total.value()

    def _put_checksum(self, block: Block, field: Field, value: int) -> None:
        """Set a checksum of a block that is a single record; a digest in bytes has its highest byte first."""
        if isinstance(field.type, Raw):
            self.columns[block.name][field.name] = np.frombuffer(
                value.to_bytes(field.type.size, "big"), f"V{field.type.size}"
            )
        else:
            self.directory.put(self.columns, self.reading.blocks[block.name], field, np.array([value], object), None)

    def _checksum_file(self, data: dict[str, bytes]) -> None:
        """The checksums over the file, which are computed from all that will be written."""
        for home, field, meaning in block_checksums(self.layout):
            if not is_over_file(meaning):
                continue
            made = Plan([self._made(step, data) for step in self.placed[""].steps], self.placed[""].size)
            start, end = 0, made.size
            if meaning.edge:
                begin, stop = (self._edge(edge, meaning.part) for edge in ("start", "end"))
                start, end = {"before": (0, begin), "over": (begin, stop)}.get(meaning.edge, (stop, made.size))
            total, at = new_sum(meaning.algorithm), start
            skipped = self._in_file(home, field) if meaning.skips and not meaning.edge else -1
            for chunk in made.between(start, end):
                first, last = max(skipped, at), min(skipped + checksum_size(field), at + len(chunk))
                at += len(chunk)
                if skipped >= 0 and first < last:
                    chunk = without(chunk, first - (at - len(chunk)), last - first, True)
                total.update(chunk)
            self._put_checksum(home, field, total.value())
            data[home.name] = self.reading.blocks[home.name].records.write(self.columns[home.name])

    def _in_file(self, home: Block, field: Field) -> int:
        """Where in the file a field of a single record is written."""
        return self.placed[home.within].starts[home.name] + self._own_offset(home, field)

    # wrapped parts

    def _build(self, name: str, data: dict[str, bytes]) -> Piece:
        """A wrapped part's stored bytes: as they were when it holds what it held, otherwise wrapped again."""
        if name not in self.built:
            area, placed = self.reading.areas[name], self.placed[name]
            inner = Plan([self._made(step, data) for step in placed.steps], placed.size)
            if isinstance(area.source, ChunkedSource):
                self.built[name] = self.chunks.cut(area, inner, placed if name == self.within else None, self.spool)
                return self.built[name]
            bare = all(is_cipher(transform) for transform in area.part.transforms)
            if is_same(area, inner) and not (self.each and bare):
                self.built[name] = Piece(source=self.reading.source, offset=area.start, size=area.stored)
            else:
                room = self.room[name] if self.turn >= ROUNDS else 0
                self.built[name] = wrapped_piece(area, inner, self.spool, room)
        return self.built[name]

    # pieces

    def _made(self, step: Step, data: dict[str, bytes]) -> Piece:
        """A piece of the new file for a step of the placing."""
        if isinstance(step, WholePart):
            if step.name not in self.reading.areas:
                return Piece.of(data[step.name])
            built, room = self._build(step.name, data), self.room[step.name]
            return built if built.size == room else Piece.of(b"".join(built.chunks()).ljust(room, b"\0"))
        if isinstance(step, RecordOf):
            return Piece.of(self._record(step.row))
        if isinstance(step, New):
            return self.contents.made(step.index)
        if isinstance(step, Moved):
            return self.contents.moved(step.span, step.start)
        return step

    def _record(self, row: int) -> bytes:
        """One record of those that are followed by their content; its row is of the new directory."""
        assert self.inline is not None
        columns = self.columns[self.inline.block.name]
        return self.inline.records.write(one_row(columns, row))
