"""Changes of numbers and conditions on them: one meaning for single values, whole columns and generated code."""

from __future__ import annotations

import functools
import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
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

    how: str  # times, plus, xor, from, record (counted from where the record starts)
    number: int = 0
    edge: str = ""  # of `from`: start or end
    part: str = ""

    def apply(self, stored: N) -> N:
        """The number after this change; the same for `from`, until it is settled to `plus`."""
        changed: N = _APPLY[self.how](stored, self.number) if self.how in _APPLY else stored
        return changed

    def undo(self, number: N) -> N:
        """The number before this change; NotMultipleError when there is none."""
        if self.how in ("from", "record"):
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
        if self.how == "plus" and self.number < 0:
            return f"minus {-self.number}"
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

    @property
    def tests(self) -> tuple[Condition, ...]:
        """The single conditions of which it is made."""
        return (self,)

    def renamed(self, new: Callable[[str], str]) -> Condition:
        """The same condition on fields of other names."""
        return replace(self, field=new(self.field))

    def test(self, value: Any) -> Any:
        """Whether it holds for a stored value, or for each of an array; `ends` asks names, and is tested elsewhere."""
        if isinstance(value, str) and isinstance(self.value, bytes):
            value = value.encode("utf-8", "surrogateescape")
        result = _COMPARE[self.how](value, self.value)
        return result if isinstance(result, np.ndarray) else bool(result)

    def asked(self, test: Callable[[Condition], N]) -> N:
        """What `test` says of it."""
        return test(self)

    def emit(self, variables: Mapping[str, str]) -> str:
        """Python code for `test` of the variables that hold the fields; None for a field that is not there."""
        name = variables[self.field]
        if isinstance(self.value, bytes):  # hexadecimal digits only: no layout can put code there
            sign = {"is": "==", "is not": "!="}[self.how]
            return f"({name} is not None and {name} {sign} bytes.fromhex('{self.value.hex()}'))"
        sign = {"is": "==", "is not": "!=", "has": "&"}.get(self.how, self.how)
        return f"({name} is not None and {name} {sign} {self.value})"


@dataclass(frozen=True)
class Conditions:
    """Several conditions, of which all must hold (`and`), or one (`or`)."""

    tests: tuple[Condition, ...]
    word: str  # and, or

    def __str__(self) -> str:
        return f" {self.word} ".join(map(str, self.tests))

    def renamed(self, new: Callable[[str], str]) -> Conditions:
        """The same conditions on fields of other names."""
        return replace(self, tests=tuple(test.renamed(new) for test in self.tests))

    def asked(self, test: Callable[[Condition], N]) -> N:
        """What `test` says of each, put together: bools, or arrays of them."""
        join = operator.and_ if self.word == "and" else operator.or_
        result: N = functools.reduce(join, [test(condition) for condition in self.tests])
        return result

    def emit(self, variables: Mapping[str, str]) -> str:
        """Python code for whether they hold."""
        return f"({f' {self.word} '.join(condition.emit(variables) for condition in self.tests)})"


When = Condition | Conditions


def settled_condition(when: When, ask: Callable[[Condition], bool | None]) -> When | bool:
    """A condition without the tests that `ask` can answer; True or False when nothing is left. `ask` gives None for
    others."""
    word = when.word if isinstance(when, Conditions) else "and"
    left = []
    for test in when.tests:
        answer = ask(test)
        if answer is None:
            left.append(test)
        elif answer == (word == "or"):
            return answer
    if not left:
        return word == "and"
    return left[0] if len(left) == 1 else Conditions(tuple(left), word)
