"""CRC-32 as in ISO 3309 and ITU-T V.42 (polynomial 04C11DB7, reflected)."""

from __future__ import annotations

import contextlib
import zlib
from typing import Any

fast: Any = zlib
with contextlib.suppress(ImportError):  # there is no wheel for some processors
    from isal import isal_zlib as fast

bits = 32


def start() -> int:
    return 0


def update(state: int, data: bytes | memoryview) -> int:
    value: int = fast.crc32(data, state)
    return value
