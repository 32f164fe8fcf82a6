"""Loops that run one byte after another, compiled by numba when they are first used.

numba is loaded only then; what it compiled is kept on disk beside the code, or in the user's cache folder.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]


class Compiled:
    """A function on arrays and integers, compiled at its first call. It lets go of the interpreter while it runs."""

    def __init__(self, function: Callable[..., Any]) -> None:
        self._function = function
        self._fast: Any = None
        self.__doc__ = function.__doc__

    def __call__(self, *values: Any) -> Any:
        if self._fast is None:
            import numba  # half a second, so only when such a loop runs

            try:
                self._fast = numba.njit(cache=True, nogil=True)(self._function)
            except RuntimeError:  # there is no folder to keep it in: then it is compiled each time
                self._fast = numba.njit(nogil=True)(self._function)
        return self._fast(*values)


def as_array(data: bytes | bytearray | memoryview) -> Bytes:
    """Bytes as an array, without a copy."""
    return np.frombuffer(data, np.uint8)
