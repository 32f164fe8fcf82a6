"""LZMA streams without a head: what the head would say stands in the layout."""

from __future__ import annotations

import lzma as library
from typing import Any

from volvex.codec.parameters import Parameter
from volvex.codec.streams import Streamed

PARAMETERS = {
    "lc": Parameter(3, numbers=(0, 4)),
    "lp": Parameter(0, numbers=(0, 4)),
    "pb": Parameter(2, numbers=(0, 4)),
    "window": Parameter(1 << 23, numbers=(4096, 1 << 26)),
}


class Decoder:
    """A bare stream may lack its end mark: then the size alone tells where it ends."""

    open_ended = True

    def __init__(self, filters: list[dict[str, Any]]) -> None:
        self._stream = library.LZMADecompressor(library.FORMAT_RAW, filters=filters)

    @property
    def eof(self) -> bool:
        return self._stream.eof

    @property
    def unused_data(self) -> bytes:
        return self._stream.unused_data

    def decompress(self, data: bytes, max_length: int) -> bytes:
        return b"" if self._stream.eof else self._stream.decompress(data, max_length)


def filters(lc: int, lp: int, pb: int, window: int) -> list[dict[str, Any]]:
    """What the library calls these parameters."""
    return [{"id": library.FILTER_LZMA1, "preset": 6, "lc": lc, "lp": lp, "pb": pb, "dict_size": window}]


def make(lc: int, lp: int, pb: int, window: int) -> Streamed:
    chain = filters(lc, lp, pb, window)
    return Streamed(
        "LZMA stream",
        lambda: Decoder(chain),
        lambda: library.LZMACompressor(library.FORMAT_RAW, filters=chain),
        (library.LZMAError, EOFError, MemoryError),
    )
