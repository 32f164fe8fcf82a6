"""FNV-1a, of 32 or 64 bits (RFC 9923)."""

from __future__ import annotations

from typing import Any

from volvex.codec._fnv import PARAMETERS, fnv
from volvex.codec.checksums import ChecksumStream

__all__ = ["PARAMETERS", "make"]


def _step(state: Any, byte: Any, table: Any) -> Any:
    return (state ^ byte) * table[0]


def make(bits: int, start: int) -> ChecksumStream:
    return fnv(_step, bits, start)
