"""Inflating for the three wrappings of deflate, by ISA-L where it is installed, otherwise by the system's zlib.

Encoding always uses Python's own zlib at level 6, so that the same content gives the same bytes whether or not
the faster library is there.
"""

from __future__ import annotations

import contextlib
import zlib
from typing import Any

from volvex.codec.streams import Streamed, Tailed

fast: Any = zlib
with contextlib.suppress(ImportError):  # there is no wheel for some processors
    from isal import isal_zlib as fast

LEVEL = 6
WINDOW = {"zlib": 15, "gzip": 31, "deflate": -15}  # zlib's own numbers for the wrappings


def inflated(name: str) -> Streamed:
    """The compression for one wrapping."""
    bits = WINDOW[name]
    return Streamed(
        f"{name} stream",
        lambda: Tailed(fast.decompressobj(bits)),
        lambda: zlib.compressobj(LEVEL, zlib.DEFLATED, bits),
        (zlib.error, *({fast.error} - {zlib.error})),
    )
