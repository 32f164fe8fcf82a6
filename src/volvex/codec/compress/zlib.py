"""zlib streams (RFC 1950). Decoded by ISA-L where it is installed, otherwise by the system's zlib.

Encoding always uses Python's own zlib at level 6, so that the same content gives the same bytes
whether or not the faster library is there.
"""

from __future__ import annotations

import contextlib
import zlib
from collections.abc import Iterable, Iterator
from typing import Any

from volvex.errors import ContentError

fast: Any = zlib
with contextlib.suppress(ImportError):  # there is no wheel for some processors
    from isal import isal_zlib as fast

LEVEL = 6
_ERRORS: tuple[type[Exception], ...] = (zlib.error, fast.error)


def decode(stored: bytes, size: int) -> bytes:
    # bounded by `size`: a stream that would grow past it is refused, not expanded
    stream = fast.decompressobj()
    try:
        content: bytes = stream.decompress(stored, size + 1)
    except _ERRORS as error:
        raise ContentError(f"not a sound zlib stream: {error}") from error
    if len(content) != size:
        over = "more than " if len(content) > size else f"{len(content)}, not "
        raise ContentError(f"the zlib stream holds {over}the {size} bytes that the size says")
    _check_end(stream.eof, len(stream.unused_data))
    return content


def decode_stream(chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
    stream, left, unused = fast.decompressobj(), size, 0
    try:
        for chunk in chunks:
            if stream.eof:
                unused += len(chunk)
                continue
            out = b"-"
            while (chunk or out) and not stream.eof:
                out = stream.decompress(chunk, 1 << 20)
                left -= len(out)
                if left < 0:
                    raise ContentError(f"the zlib stream holds more than the {size} bytes that the size says")
                if out:
                    yield out
                chunk = stream.unconsumed_tail
    except _ERRORS as error:
        raise ContentError(f"not a sound zlib stream: {error}") from error
    if left:
        raise ContentError(f"the zlib stream holds {size - left}, not the {size} bytes that the size says")
    _check_end(stream.eof, unused + len(stream.unused_data))


def _check_end(ended: bool, unused: int) -> None:
    if not ended:
        raise ContentError("the zlib stream is cut off before its end")
    if unused:
        raise ContentError(f"{unused} bytes follow the end of the zlib stream")


def decode_start(stored: bytes, size: int) -> bytes:
    try:
        start: bytes = fast.decompressobj().decompress(stored, size)
    except _ERRORS as error:
        raise ContentError(f"not a sound zlib stream: {error}") from error
    return start


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    stream = zlib.compressobj(LEVEL)
    for chunk in chunks:
        out = stream.compress(chunk)
        if out:
            yield out
    yield stream.flush()
