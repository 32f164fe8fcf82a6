"""Loops that run one byte after another, compiled by numba when they are first used.

numba is loaded only then; what it compiled is kept on disk beside the code, or in the user's cache folder. Where it is
not installed (`volvex[fast]`), the loops run as plain Python.
"""

from __future__ import annotations

import types
import zlib
from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from volvex.extras import has

Bytes = npt.NDArray[np.uint8]


class Compiled:
    """A function on arrays and integers, compiled at its first call. It lets go of the interpreter while it runs.

    `parts` are plain functions that it calls by these names: the same loop with other parts is another function.
    """

    def __init__(self, function: Callable[..., Any], **parts: Callable[..., Any]) -> None:
        self._function, self._parts = function, parts
        self._fast: Any = None
        self.__doc__ = function.__doc__

    def __call__(self, *values: Any) -> Any:
        if self._fast is None and not has("numba"):
            self._fast = self._plain()
        if self._fast is None:
            import numba  # half a second, so only when such a loop runs

            function = self._whole()
            try:
                self._fast = numba.njit(cache=True, nogil=True)(function)
            except RuntimeError:  # there is no folder to keep it in: then it is compiled each time
                self._fast = numba.njit(nogil=True)(function)
        return self._fast(*values)

    def _plain(self) -> Callable[..., Any]:
        """The function as it is, with its parts in reach: some hundred times as slow, and exact."""
        loop: Any = self._function
        function = types.FunctionType(loop.__code__, {**loop.__globals__, **self._parts}, loop.__name__)

        def run(*values: Any) -> Any:
            with np.errstate(over="ignore"):  # what is compiled wraps around, too
                return function(*values)

        return run

    def _whole(self) -> Callable[..., Any]:
        """The function with its parts in reach, under a name of its own, by which what was compiled is kept."""
        if not self._parts:
            return self._function
        from numba.extending import register_jitable

        loop: Any = self._function
        scope = {**loop.__globals__, **{name: register_jitable(part) for name, part in self._parts.items()}}
        made = types.FunctionType(loop.__code__, scope, loop.__name__)
        codes = [part.__code__ for part in self._parts.values()]
        text = repr([(code.co_code, code.co_consts, code.co_names) for code in codes])
        made.__qualname__ = f"{loop.__name__}_{zlib.crc32(text.encode()):08x}"
        made.__module__ = loop.__module__
        return made


def as_array(data: bytes | bytearray | memoryview) -> Bytes:
    """Bytes as an array, without a copy."""
    return np.frombuffer(data, np.uint8)
