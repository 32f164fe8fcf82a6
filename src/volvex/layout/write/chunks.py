"""Parts that are cut into chunks, written: those that hold what they held keep their bytes, others are wrapped
again."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

import numpy as np

from volvex.layout.chunks import Chunk, ChunkedSource, as_coded, chunk_table
from volvex.layout.columns import AllColumns, Array, rows_of, taken
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Cut, Field, Part
from volvex.layout.read.blocks import Area, Reading
from volvex.layout.records.blank import blank_columns
from volvex.layout.transforms import wrapped
from volvex.layout.write.contents import ContentPlan
from volvex.layout.write.directory import Directory
from volvex.layout.write.place import Placed
from volvex.layout.write.plan import Piece, Plan, PlannedSource
from volvex.source import BytesSource, JoinedSource, Source, Spool, WindowSource

Edge = Callable[[str, str], int]
Settle = Callable[[Field], Field]
WAITING = 64  # chunks that are being wrapped


class ChunkPlan:
    """The chunks of a part for each round of placing, and their table."""

    def __init__(self, reading: Reading, contents: ContentPlan, directory: Directory) -> None:
        self.reading, self.contents, self.directory = reading, contents, directory
        self.area = next((area for area in reading.areas.values() if isinstance(area.source, ChunkedSource)), None)
        source = self.area.source if self.area is not None else None
        self.chunks = source.chunk_list if isinstance(source, ChunkedSource) else []
        self._told = self.chunks  # as the table has them now
        found = reading.attribute(attributes.CHUNK_CODEC)
        self._codecs = found[1].meaning.table if found is not None and isinstance(found[1].meaning, Attribute) else ()

    @property
    def stays(self) -> bool:
        """Whether the chunks are those that the table tells."""
        return self.chunks == self._told

    def put(self, columns: AllColumns, edge: Edge, settle: Settle) -> None:
        """The table of chunks, by what they were when they were last made."""
        table = chunk_table(self.reading)
        if table is None or self.area is None:
            return
        self._told = chunks = self.chunks
        before = columns[table.block.name]
        if not rows_of(before):
            before = blank_columns(table.block)
        known = np.minimum(np.arange(len(chunks)), max(0, rows_of(before) - 1))
        columns[table.block.name] = {text: taken(column, known) for text, column in before.items()}
        stored = np.array([chunk.stored for chunk in chunks], np.int64)
        words = {word: number for number, word in self._codecs}
        values = {
            attributes.CHUNK_STORED: stored,
            attributes.CHUNK_SIZE: np.array([chunk.size or 0 for chunk in chunks], np.int64),
            attributes.CHUNK_START: edge("start", self.area.part.name) + np.cumsum(stored) - stored,
            attributes.CHUNK_CODEC: np.array([words.get(chunk.codec or "", 0) for chunk in chunks], np.int64),
        }
        for what, numbers in values.items():
            for block, field in self.reading.attributes(what):
                self.directory.put(columns, block, settle(field), numbers.astype(object), None)

    def cut(self, area: Area, inner: Plan, placed: Placed | None, spool: Callable[[], Spool]) -> Piece:
        """The stored bytes of the part from what it holds; `placed` are the contents in it."""
        source, part, file = area.source, area.part, self.reading.source
        assert isinstance(source, ChunkedSource) and part.cut is not None
        made = list[Future[tuple[Source, Chunk]]]()
        same, ends = _unmoved(inner, source), self._ends(placed)
        whole = PlannedSource(inner, source.name)
        with ThreadPoolExecutor() as threads:  # the libraries let others run while they compress
            for number, start in enumerate(range(0, inner.size, part.cut.size)):
                stop = min(start + part.cut.size, inner.size)
                end = min(stop, max(start, _last_end(ends, start, stop))) if part.cut.short else stop
                if _holds(source, number, end - start) and (
                    _covers(same, start, end) or source.read(start, end - start) == whole.read(start, end - start)
                ):
                    at, size = source.stored_at(number)
                    old = Chunk(size, end - start, source.chunk_list[number].codec)
                    made.append(_done(WindowSource(file, at, size, file.name), old))
                    continue
                data = whole.read(start, end - start)
                made.append(threads.submit(self._wrapped, part, part.cut, data, spool()))
                if number >= WAITING:
                    made[number - WAITING].result()  # no more than so many are held in memory
            pairs = [future.result() for future in made]
        self.chunks = [chunk for _, chunk in pairs]
        joined = JoinedSource([source for source, _ in pairs], file.name) if pairs else BytesSource(b"", file.name)
        return Piece(source=joined, size=joined.size)

    def _wrapped(self, part: Part, cut: Cut, data: bytes, spool: Spool) -> tuple[Source, Chunk]:
        """A chunk wrapped and put into the temporary file."""
        stored, codec = self._stored(part, cut, data)
        offset, size = spool.append([stored])
        return WindowSource(spool, offset, size, "new chunks"), Chunk(size, len(data), codec)

    def _stored(self, part: Part, cut: Cut, data: bytes) -> tuple[bytes, str | None]:
        """A chunk wrapped: bare where that is not larger and the format can say so."""
        names = [word for _, word in self._codecs]
        codec = next((name for name in names if name != "none"), None)
        made = b"".join(wrapped(as_coded(part, codec, False), iter([data])))
        if len(made) >= len(data) and (cut.bare or "none" in names):
            return b"".join(wrapped(as_coded(part, None, True), iter([data]))), "none" if names else None
        return made, codec

    def _ends(self, placed: Placed | None) -> tuple[Array, Array]:
        """Where contents start, ascending, and where they end."""
        if placed is None:
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        contents = self.contents
        there = ~contents.gone & (contents.new_of_span < 0)
        old = placed.span_start[there]
        new = np.array(list(placed.new_start.values()), np.int64)
        sizes = np.array([contents.stored_size(index) for index in placed.new_start], np.int64)
        starts = np.concatenate([old, new])
        ends = np.concatenate([old + contents.spans[there, 1], new + sizes])
        order = np.argsort(starts, kind="stable")
        return starts[order], np.maximum.accumulate(ends[order]) if len(order) else ends


def _done(source: Source, chunk: Chunk) -> Future[tuple[Source, Chunk]]:
    """A chunk for which nothing is to be done."""
    future: Future[tuple[Source, Chunk]] = Future()
    future.set_result((source, chunk))
    return future


def _holds(source: ChunkedSource, number: int, size: int) -> bool:
    """Whether there was such a chunk, and it held as many bytes."""
    return number < len(source.chunk_list) and source.held(number) == size


def _last_end(ends: tuple[Array, Array], start: int, stop: int) -> int:
    """Where the last content ends that begins before `stop`."""
    number = int(np.searchsorted(ends[0], stop, "left"))
    return int(ends[1][number - 1]) if number else start


def _unmoved(inner: Plan, source: Source) -> list[tuple[int, int]]:
    """The stretches of what a part holds that are as they were, where they were."""
    found, at = list[tuple[int, int]](), 0
    for piece in inner.pieces:
        if piece.source is source and piece.offset == at and piece.size:
            if found and found[-1][1] == at:
                found[-1] = found[-1][0], at + piece.size
            else:
                found.append((at, at + piece.size))
        at += piece.size
    return found


def _covers(stretches: list[tuple[int, int]], start: int, stop: int) -> bool:
    while stretches and stretches[0][1] <= start:
        stretches.pop(0)
    return bool(stretches) and stretches[0][0] <= start and stretches[0][1] >= stop
