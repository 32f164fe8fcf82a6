"""Parts that are cut into chunks, each wrapped by itself: their table, and what they hold, decoded where it is asked
for."""

from __future__ import annotations

import functools
from dataclasses import dataclass, replace

import numpy as np

from volvex.codec.parameters import Spec, parse_spec
from volvex.errors import FRESH, ContentError, FormatError
from volvex.layout.columns import Array
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Part, Transform
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.transforms import is_cipher, unwrapped
from volvex.source import Source

REMEMBERED = 16  # chunks that stay decoded
UNKNOWN = "?"  # a codec whose number the layout does not have


@dataclass(frozen=True)
class Chunk:
    """A chunk as it is stored: its bytes in the file, how many it holds when that is told, and the codec that is told
    for it."""

    stored: int
    size: int | None
    codec: str | None


def chunk_table(reading: Reading) -> BlockRead | None:
    """The block whose records are the chunks."""
    return next(iter(reading.rooted("chunk")), None)


def chunks_of(reading: Reading, part: Part, start: int) -> list[Chunk]:
    """The chunks of a part that starts there; FormatError when they do not lie one behind the other."""
    stored, sizes = _column(reading, attributes.CHUNK_STORED), _column(reading, attributes.CHUNK_SIZE)
    codecs, starts = _codecs(reading), _column(reading, attributes.CHUNK_START)
    assert stored is not None and part.cut is not None  # the check sees to that
    if sizes is not None:
        _refuse(
            reading,
            attributes.CHUNK_SIZE,
            (sizes < 0) | (sizes > part.cut.size),
            f"a chunk of {part.name} holds {part.cut.size:,} bytes at most",
        )
    if codecs is not None:
        unknown = np.array([codec == UNKNOWN for codec in codecs], bool)
        _refuse(reading, attributes.CHUNK_CODEC, unknown, "a codec that the layout does not know")
    if starts is not None and len(starts):
        wrong = starts != start + np.cumsum(stored) - stored
        _refuse(reading, attributes.CHUNK_START, wrong, "a chunk that does not start where the one before it ends")
    return [
        Chunk(size, None if sizes is None else int(sizes[row]), None if codecs is None else codecs[row])
        for row, size in enumerate(stored.tolist())
    ]


def _refuse(reading: Reading, what: str, wrong: Array, problem: str) -> None:
    """FormatError for the first chunk that is wrong."""
    found = reading.attribute(what)
    if found is None or not wrong.any():
        return
    (table, field), row = found, int(np.argmax(wrong))
    raise FormatError(
        table.source.name,
        problem,
        offset=table.offset(row, field.name),
        field=table.where(row, field.name),
        hint=FRESH,
        asked="the layout: does it count from another place, or in other units?",
    )


def _column(reading: Reading, what: str) -> Array | None:
    found = reading.attribute(what)
    return None if found is None else reading.decode_numbers(*found)


def _codecs(reading: Reading) -> list[str] | None:
    found = reading.attribute(attributes.CHUNK_CODEC)
    if found is None or not isinstance(found[1].meaning, Attribute):
        return None
    table = dict(found[1].meaning.table)
    return [table.get(number, UNKNOWN) for number in reading.decode_numbers(*found).tolist()]


def as_coded(part: Part, codec: str | None, bare: bool) -> Part:
    """A part as one of its chunks is wrapped: with another codec, or with none at all."""
    if codec is None and not bare:
        return part
    ciphers = tuple(transform for transform in part.transforms if is_cipher(transform))
    if bare or codec in (None, "none"):
        return replace(part, transforms=ciphers)
    spec: Spec = parse_spec(codec)
    return replace(part, transforms=(*ciphers, Transform(spec.name, spec.given, part.place)))


class ChunkedSource(Source):
    """What the chunks of a part hold, one behind the other. Only those are decoded of which bytes are wanted.

    Each but the last holds `part.cut.size` bytes; those that are `short` hold fewer, and count as if zeros were behind.
    """

    def __init__(self, reading: Reading, part: Part, start: int, chunks: list[Chunk], size: int | None) -> None:
        assert part.cut is not None
        self.name = f"{reading.source.name}, {part.name}"
        self.part, self.chunk_list, self._file, self._cut = part, chunks, reading.source, part.cut
        self.starts = start + np.concatenate([[0], np.cumsum([chunk.stored for chunk in chunks])]).astype(np.int64)
        self.decoded = functools.lru_cache(REMEMBERED)(self._decoded)
        whole = len(chunks) * self._cut.size
        if size is None and chunks:
            last = chunks[-1].size
            size = whole - self._cut.size + (len(self._opened(len(chunks) - 1, None)) if last is None else last)
        self.size = whole if size is None else size
        if not self._cut.short and -(-self.size // self._cut.size) != len(chunks):
            raise FormatError(self.name, f"{self.size} bytes in {len(chunks)} chunks of {self._cut.size}", hint=FRESH)

    def room(self, number: int) -> int:
        """The bytes of what is held that a chunk stands for."""
        return min(self._cut.size, self.size - number * self._cut.size)

    def stored_at(self, number: int) -> tuple[int, int]:
        """Where a chunk lies in the file, and how long it is there."""
        return int(self.starts[number]), self.chunk_list[number].stored

    def held(self, number: int) -> int:
        """The bytes that a chunk holds, without what counts as padding behind them."""
        size = self.chunk_list[number].size
        if not self._cut.short:
            return self.room(number)
        return len(self._opened(number, None)) if size is None else size

    def _decoded(self, number: int) -> bytes:
        data = self._opened(number, None if self._cut.short else self.room(number))
        return data.ljust(self.room(number), b"\0")

    def _opened(self, number: int, size: int | None) -> bytes:
        chunk, (start, stored) = self.chunk_list[number], self.stored_at(number)
        size = size if chunk.size is None else chunk.size
        bare = self._cut.bare and stored == (self._cut.size if size is None else size)
        try:
            part = as_coded(self.part, chunk.codec, bare)
            data = b"".join(unwrapped(part, iter([self._file.read(start, stored)]), size, self._cut.size))
        except ContentError as error:
            raise FormatError(
                self._file.name,
                f"chunk {number} of {self.part.name} cannot be opened: {error.message}",
                offset=start,
                hint=FRESH,
            ) from error
        return data

    def _read(self, offset: int, size: int) -> bytes:
        step, parts = self._cut.size, []
        while size > 0:
            number, into = divmod(offset, step)
            data = self.decoded(number)[into : into + size]
            if not data:
                break
            parts.append(data)
            offset, size = offset + len(data), size - len(data)
        return b"".join(parts)
