"""djb2, a byte at a time: h x 33 + byte, or XOR with it."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import ChecksumStream, Loop, as_it_is, hashed
from volvex.codec.parameters import Parameter

PARAMETERS = {
    "bits": Parameter(32, numbers=(32, 64)),
    "start": Parameter(5381, numbers=(0, (1 << 64) - 1)),
    "mix": Parameter("add", words=("add", "xor")),
}


def _added(state: Any, byte: Any, table: Any) -> Any:
    return state * np.uint64(33) + byte


def _mixed(state: Any, byte: Any, table: Any) -> Any:
    return (state * np.uint64(33)) ^ byte


def make(bits: int, start: int, mix: str) -> ChecksumStream:
    return hashed(bits, Loop(_mixed if mix == "xor" else _added, as_it_is, start))
