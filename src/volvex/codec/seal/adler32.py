"""Adler-32 (RFC 1950, section 8.2)."""

from __future__ import annotations

import zlib

bits = 32


def start() -> int:
    return 1


def update(state: int, data: bytes | memoryview) -> int:
    return zlib.adler32(data, state)
