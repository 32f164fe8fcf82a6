"""The bytes of each group in reverse; what is left at the end stays as it is."""

import numpy as np

from volvex.codec.ciphers import Blockwise
from volvex.codec.compiled import as_array
from volvex.codec.parameters import Parameter

PARAMETERS = {"size": Parameter(2, numbers=(2, 16))}


class _Swap:
    def __init__(self, size: int) -> None:
        self._size = size

    def update(self, data: bytes) -> bytes:
        return np.ascontiguousarray(as_array(data).reshape(-1, self._size)[:, ::-1]).tobytes()


def make(size: int) -> Blockwise:
    return Blockwise(size, "bare", lambda: _Swap(size), lambda: _Swap(size))
