"""Changes of numbers and conditions on them: one meaning for single values, whole columns and generated code."""

from __future__ import annotations

import operator
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

N = TypeVar("N", int, Any)
# the change as it is done to a stored number, and its sign in Python
_APPLY: dict[str, Callable[[Any, int], Any]] = {"times": operator.mul, "plus": operator.add, "xor": operator.xor}
_SIGNS = {"times": "*", "plus": "+", "xor": "^"}
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "is": operator.eq,
    "is not": operator.ne,
    ">=": operator.ge,
    "<=": operator.le,
    ">": operator.gt,
    "<": operator.lt,
    "has": lambda found, bits: (found & bits) != 0,
}


class NotMultipleError(ValueError):
    """A number that cannot be stored, because it is no multiple of the unit it is counted in."""


@dataclass(frozen=True)
class NumberChange:
    """How a stored number differs from the true one; each runs both ways, on ints and on arrays of them."""

    how: str  # times, plus, xor, from
    number: int = 0
    edge: str = ""  # of `from`: start or end
    part: str = ""

    def apply(self, stored: N) -> N:
        """The number after this change; the same for `from`, until it is settled to `plus`."""
        changed: N = _APPLY[self.how](stored, self.number) if self.how in _APPLY else stored
        return changed

    def undo(self, number: N) -> N:
        """The number before this change; NotMultipleError when there is none."""
        if self.how == "from":
            return number
        if self.how == "plus":
            return number - self.number
        if self.how == "xor":
            return number ^ self.number
        if np.any(number % self.number):
            raise NotMultipleError(f"not a multiple of {self.number}")
        return number // self.number

    def emit(self, expression: str) -> str:
        """Python code for `apply` to an expression; the same for `from`."""
        return f"({expression} {_SIGNS[self.how]} {int(self.number)})" if self.how in _SIGNS else expression

    def __str__(self) -> str:
        if self.how == "from":
            return f"from {self.edge} of {self.part}"
        return f"{'x' if self.how == 'times' else self.how} {self.number}"


@dataclass(frozen=True)
class Condition:
    """When something is there: `field` is one of the same record, or `block.field` of a single record."""

    field: str
    how: str  # is, is not, has, >=, <=, >, <, ends
    value: int | bytes

    def __str__(self) -> str:
        value = self.value if isinstance(self.value, int) else repr(self.value)[1:]
        return f"{self.field} {self.how} {value}"

    def test(self, value: Any) -> Any:
        """Whether it holds for a stored value, or for each of an array; `ends` asks names, and is tested elsewhere."""
        result = _COMPARE[self.how](value, self.value)
        return result if isinstance(result, np.ndarray) else bool(result)

    def emit(self, expression: str) -> str:
        """Python code for `test` of a number."""
        value = self.value if isinstance(self.value, int) else int.from_bytes(self.value, "big")
        sign = {"is": "==", "is not": "!=", "has": "&"}.get(self.how, self.how)
        return f"{expression} {sign} {value}"
