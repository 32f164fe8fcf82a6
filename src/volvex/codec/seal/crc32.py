"""CRC-32 as in ISO 3309 and ITU-T V.42 (polynomial 04C11DB7, reflected)."""

from __future__ import annotations

import zlib

try:
    from isal import isal_zlib as fast
except ImportError:  # no wheel for this processor
    fast = zlib

bits = 32


def start() -> int:
    return 0


def update(state: int, data: bytes | memoryview) -> int:
    value: int = fast.crc32(data, state)
    return value
