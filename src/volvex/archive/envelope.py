"""What may lie around a whole archive: a compression, a repeating key, or its being cut into pieces.

Reading goes through `view`, which makes a source of bare bytes of the file's own; writing goes through `planned`, which
makes the file's bytes of bare ones.
"""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np

from volvex.codec import COMPRESS
from volvex.codec.streams import Streamed
from volvex.errors import ContentError, FormatError, RefusedError
from volvex.layout.write.plan import Piece, Plan, PlannedSource
from volvex.source import Source, Spool

HELD = 1 << 26  # bytes after which the room is looked at again
MOST = 2000  # times its size that a compressed file may hold
LEFT = 1 << 30  # bytes that must stay free for others


class Envelope(Protocol):
    """A wrap around a whole archive."""

    @property
    def title(self) -> str:
        """How it is called behind the format's name."""
        ...

    def view(self, source: Source) -> Source:
        """The bare bytes of a file."""
        ...

    def planned(self, plan: Plan, folder: Path | None) -> Plan:
        """The file that holds bare bytes; temporary files go to `folder`."""
        ...


def xored(data: bytes, key: bytes, at: int) -> bytes:
    """Bytes that stand at a place of the file, behind a repeating key or without it."""
    turn = at % len(key)
    mask = ((key[turn:] + key[:turn]) * (-(-len(data) // len(key))))[: len(data)]
    if len(data) <= 256:  # below that NumPy takes longer to call than to work
        return (int.from_bytes(data, "little") ^ int.from_bytes(mask, "little")).to_bytes(len(data), "little")
    return (np.frombuffer(data, np.uint8) ^ np.frombuffer(mask, np.uint8)).tobytes()


class XorSource(Source):
    """A source behind a repeating key."""

    def __init__(self, source: Source, key: bytes) -> None:
        self.inner, self.name, self.size = source, source.name, source.size
        self._key = key

    def _read(self, offset: int, size: int) -> bytes:
        return xored(self.inner.read(offset, size), self._key, offset)

    def close(self) -> None:
        self.inner.close()


@dataclass(frozen=True)
class Xored:
    """A repeating XOR key over all of the file."""

    key: bytes = field(repr=False)
    title = "xor"

    def view(self, source: Source) -> Source:
        return XorSource(source, self.key)

    def planned(self, plan: Plan, folder: Path | None) -> Plan:
        made = XorSource(PlannedSource(plan, "new archive"), self.key)
        return Plan([Piece(source=made, offset=0, size=plan.size)] if plan.size else [], plan.size, plan.held)


@dataclass(frozen=True)
class Compressed:
    """A compression around all of the file."""

    codec: str

    @property
    def title(self) -> str:
        return self.codec

    def view(self, source: Source) -> Source:
        return decoded(source, self.codec)

    def planned(self, plan: Plan, folder: Path | None) -> Plan:
        spool = Spool(folder)
        offset, size = spool.append(COMPRESS.get(self.codec).encode_stream(plan.chunks()))
        return Plan([Piece(source=spool, offset=offset, size=size)], size, (*plan.held, spool))


def decoded(source: Source, codec: str) -> Source:
    """What a compressed file holds, as a temporary file: its size is known when all of it is decoded."""
    spool = Spool()
    spool.name = source.name
    try:
        spool.append(members(source, codec))
    except BaseException:
        spool.close()
        raise
    return _Both(spool, source)


def members(source: Source, codec: str) -> Iterator[bytes]:
    """The content of all streams of a compressed file, one behind the other."""
    made = COMPRESS.get(codec)
    streams = made if isinstance(made, Streamed) else getattr(made, "_codec", None)
    assert isinstance(streams, Streamed)
    most, made_so_far, checked = source.size * MOST + HELD, 0, 0
    try:
        for chunk in streams.decode_members(source.chunks(0, source.size)):
            made_so_far += len(chunk)
            if made_so_far > most:
                raise FormatError(
                    source.name, f"more than {MOST} times its size when decoded: refused as a possible bomb", offset=0
                )
            if made_so_far - checked > HELD:
                checked = made_so_far
                _check_room(source.name, made_so_far)
            yield chunk
    except ContentError as error:
        raise FormatError(source.name, error.message, hint="a fresh copy of the file: it is damaged") from error


def _check_room(name: str, size: int) -> None:
    """RefusedError when the temporary files' disk is nearly full of what comes out of a file."""
    if shutil.disk_usage(tempfile.gettempdir()).free < LEFT:
        raise RefusedError(
            f"{name}: {size:,} bytes have come out, and the disk for temporary files is nearly full",
            "making room, or another TMPDIR",
        )


class _Both(Source):
    """Decoded bytes, which let go of the file they came from as well."""

    def __init__(self, inner: Source, file: Source) -> None:
        self.inner, self.file, self.name, self.size = inner, file, file.name, inner.size

    def _read(self, offset: int, size: int) -> bytes:
        return self.inner.read(offset, size)

    def close(self) -> None:
        self.inner.close()
        self.file.close()
