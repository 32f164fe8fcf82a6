"""Expressions over a sheet's columns: `fuel == 'oil' and range > 9`, `price * 0.5`. Parsed and checked, never executed.

A field is told by its name, in backticks when that is no plain word (`hook/height` is one). Texts stand in quotes.
Comparing with a number takes cells as numbers; a cell that is none is not equal, not less and not more. Everything
is worked out for all records at once.
"""

from __future__ import annotations

import functools
import operator
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from volvex.data.model.sheet import Array, Sheet
from volvex.errors import UsageError

_GRAMMAR = r"""
?start: _either
_either: either
?either: both ("or" both)*
?both: negated ("and" negated)*
?negated: "not" negated -> negation
    | compared
?compared: sum (COMPARED sum)? -> comparison
    | sum "in" "(" [sum ("," sum)*] ")" -> among
    | sum "not" "in" "(" [sum ("," sum)*] ")" -> not_among
    | sum "has" sum -> has
    | sum "begins" sum -> begins
    | sum "ends" sum -> ends
?sum: product (ADDED product)* -> chain
?product: signed (TIMES signed)* -> chain
?signed: "-" signed -> minus
    | single
?single: NUMBER -> number
    | STRING -> text
    | WORD "(" [either ("," either)*] ")" -> call
    | WORD -> field
    | QUOTED -> field
    | "(" either ")"
COMPARED: "==" | "!=" | "<=" | ">=" | "<" | ">"
ADDED: "+" | "-"
TIMES: "*" | "//" | "/" | "%"
NUMBER: /[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]+)?/
STRING: /'([^'\\]|\\.)*'|"([^"\\]|\\.)*"/
WORD: /[A-Za-z_@][\w@.]*(\/[A-Za-z_][\w.\[\]]*)*/
QUOTED: /`[^`]+`/
%ignore /\s+/
"""
_COMPARED: dict[str, Callable[[Any, Any], Any]] = {
    "==": operator.eq,
    "!=": operator.ne,
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
}
_COMPUTED: dict[str, Callable[[Any, Any], Any]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
    "/": operator.truediv,
    "//": operator.floordiv,
    "%": operator.mod,
}
LONGEST = 1000  # characters; what is nested deeper takes very long to be understood
_EXAMPLE = "fuel == 'oil' and range > 9"


@functools.cache
def _parser() -> Any:
    from lark import Lark

    return Lark(_GRAMMAR, parser="earley", lexer="dynamic")


class Expression:
    """A parsed expression; UsageError at the place where it is none."""

    def __init__(self, text: str) -> None:
        from lark.exceptions import UnexpectedInput

        self.text = text
        if len(text) > LONGEST:
            raise UsageError(f"an expression of {len(text):,} characters", f"at most {LONGEST:,}")
        try:
            self.tree = _parser().parse(text)
        except RecursionError as error:
            raise UsageError("an expression nested too deep", "a shorter one") from error
        except UnexpectedInput as error:
            at = error.column if isinstance(getattr(error, "column", None), int) and error.column > 0 else len(text) + 1
            before, rest = text[: at - 1].rstrip(), text[at - 1 :].strip()
            problem = (
                f"condition ends after `{before.split()[-1]}`; expected a value"
                if before and not rest
                else f"condition has `{rest[:20]}` at character {at}, which is not expected there"
            )
            raise UsageError(problem, f'one such as "{_EXAMPLE}"') from error

    def values(self, sheet: Sheet, file: str) -> Array:
        """Its value for each record. NotFoundError for a field that is not there, UsageError for what cannot be
        computed."""
        try:
            with np.errstate(divide="ignore", invalid="ignore"):
                found = _Evaluation(sheet, file).value(self.tree)
        except (TypeError, ValueError, OverflowError, ZeroDivisionError, RecursionError) as error:
            raise UsageError(
                f"`{self.text}` cannot be computed: {error}", "numbers with numbers, texts with texts"
            ) from error
        if np.ndim(found) == 0:
            found = np.full(len(sheet), found, object if isinstance(found, str) else None)
        return np.asarray(found)

    def rows(self, sheet: Sheet, file: str) -> Array:
        """The records for which it holds; UsageError when it is no condition."""
        found = self.values(sheet, file)
        if found.dtype != bool:
            raise UsageError(f"`{self.text}` is neither true nor false", f'a condition such as "{_EXAMPLE}"')
        return np.flatnonzero(found)


class _Evaluation:
    """The value of each part of an expression, for all records."""

    def __init__(self, sheet: Sheet, file: str) -> None:
        self.sheet, self.file = sheet, file

    def value(self, tree: Any) -> Any:
        if not hasattr(tree, "data"):
            return tree
        return getattr(self, f"_{tree.data}")(tree.children)

    def _number(self, children: list[Any]) -> Any:
        text = str(children[0])
        return int(text) if text.isdigit() else float(text)

    def _text(self, children: list[Any]) -> str:
        return str(children[0])[1:-1].replace("\\'", "'").replace('\\"', '"').replace("\\\\", "\\")

    def _field(self, children: list[Any]) -> Array:
        name = str(children[0]).strip("`")
        if name == "@id":
            return np.array([*self.sheet.ids, None], object)[:-1]
        return self.sheet.column(name, self.file).values

    def _either(self, children: list[Any]) -> Any:
        return functools.reduce(np.logical_or, [self._truth(child) for child in children])

    def _both(self, children: list[Any]) -> Any:
        return functools.reduce(np.logical_and, [self._truth(child) for child in children])

    def _negation(self, children: list[Any]) -> Any:
        return np.logical_not(self._truth(children[0]))

    def _truth(self, tree: Any) -> Any:
        found = self.value(tree)
        if np.asarray(found).dtype != bool:
            raise TypeError("`and`, `or` and `not` join conditions")
        return found

    def _comparison(self, children: list[Any]) -> Any:
        if len(children) == 1:
            return self.value(children[0])
        left, how, right = self.value(children[0]), str(children[1]), self.value(children[2])
        if _is_number(left) or _is_number(right):
            left, right = as_numbers(left), as_numbers(right)
            found = _COMPARED[how](left, right)
            return (
                found & ~(np.isnan(left) | np.isnan(right))
                if how == "!=" and np.asarray(left).dtype.kind == "f"
                else found
            )
        left, right = _texts(left), _texts(right)
        if how in ("==", "!="):
            return np.asarray(_COMPARED[how](left, right), bool)
        there = np.asarray((left != None) & (right != None))  # noqa: E711
        left, right = np.broadcast_arrays(left, right)
        numbers = [as_numbers(values[values != None]) for values in (left, right) if values.ndim]  # noqa: E711
        if len(numbers) == 2 and not any(np.isnan(number).any() for number in numbers):
            return _COMPARED[how](as_numbers(left), as_numbers(right))
        there = np.broadcast_to(there, left.shape)
        found = np.zeros(left.shape, bool)
        found[there] = _COMPARED[how](left[there], right[there])
        return found

    def _among(self, children: list[Any]) -> Any:
        return functools.reduce(
            np.logical_or,
            [self._comparison([children[0], "==", child]) for child in children[1:] if child is not None],
            np.zeros(len(self.sheet), bool),
        )

    def _not_among(self, children: list[Any]) -> Any:
        return np.logical_not(self._among(children))

    def _has(self, children: list[Any]) -> Any:
        return self._each(children, lambda whole, part: part in whole)

    def _begins(self, children: list[Any]) -> Any:
        return self._each(children, str.startswith)

    def _ends(self, children: list[Any]) -> Any:
        return self._each(children, str.endswith)

    def _each(self, children: list[Any], holds: Callable[[str, str], bool]) -> Any:
        whole, part = (self.value(child) for child in children)
        if not isinstance(part, str):
            raise TypeError("has, begins and ends ask for a text in quotes")
        return np.array([one is not None and holds(str(one), part) for one in np.asarray(whole).tolist()], bool)

    def _chain(self, children: list[Any]) -> Any:
        found = self.value(children[0])
        for how, tree in zip(children[1::2], children[2::2], strict=True):
            other = self.value(tree)
            if str(how) == "+" and not (_is_number(found) or _is_number(other)):
                found = np.asarray(_texts(found) + _texts(other))
            else:
                found = _computed(str(how), as_numbers(found), as_numbers(other))
        return found

    def _minus(self, children: list[Any]) -> Any:
        return -as_numbers(self.value(children[0]))

    def _call(self, children: list[Any]) -> Any:
        name, given = str(children[0]), [self.value(child) for child in children[1:] if child is not None]
        function = _FUNCTIONS.get(name)
        if function is None:
            raise UsageError(f"there is no function {name}", f"one of {', '.join(_FUNCTIONS)}")
        least, most, made = function
        if not least <= len(given) <= most:
            raise UsageError(f"{name} takes {least} values" + (f" to {most}" if most > least else ""), f"{name}(...)")
        return made(*given)


def _computed(how: str, left: Any, right: Any) -> Any:
    """Two numbers made one; whole numbers stay whole, and are never cut to 64 bits."""
    if how in ("/", "//", "%") and np.any(np.asarray(right) == 0):
        raise UsageError("a division by 0", "`--where` with the records that have another value")
    whole = all(np.asarray(one).dtype.kind in "iu" for one in (left, right)) and how != "/"
    if whole and (_large(left) or _large(right)):
        left, right = np.asarray(left).astype(object), np.asarray(right).astype(object)
    return _COMPUTED[how](left, right)


def _large(value: Any) -> bool:
    values = np.asarray(value)
    return bool(values.size) and (int(values.max()) > 1 << 31 or int(values.min()) < -(1 << 31))


def _is_number(value: Any) -> bool:
    return np.asarray(value).dtype.kind in "iufb"


def as_numbers(value: Any) -> Any:
    """Cells as numbers; what is none is no number (nan)."""
    values = np.asarray(value)
    if values.dtype.kind in "iuf":
        return values if values.ndim else values[()]
    if values.ndim == 0:
        raise TypeError(f"{value!r} is no number")
    return np.array([_number_of(one) for one in values.tolist()], float)


def _number_of(cell: Any) -> float:
    try:
        return float(cell)
    except (TypeError, ValueError):
        return float("nan")


def _texts(value: Any) -> Any:
    if isinstance(value, str):
        return np.asarray(value, object)
    values = np.asarray(value)
    if values.dtype.kind in "iuf":
        return values.astype(str).astype(object)
    return values


def _rounded(value: Any, digits: Any = 0) -> Any:
    """Rounded as people do it, halves away from zero."""
    unit = 10.0 ** int(digits)
    numbers = as_numbers(value)
    found = np.sign(numbers) * np.floor(np.abs(numbers) * unit + 0.5) / unit
    return found.astype(np.int64) if digits == 0 and not np.isnan(found).any() else found


def _whole(how: Callable[[Any], Any]) -> Callable[[Any], Any]:
    def made(value: Any) -> Any:
        found = how(as_numbers(value))
        return found.astype(np.int64) if not np.isnan(found).any() else found

    return made


def _cased(how: Callable[[str], str]) -> Callable[[Any], Any]:
    return lambda value: np.array(
        [None if one is None else how(str(one)) for one in np.asarray(value).tolist()], object
    )


def _least(*values: Any) -> Any:
    return functools.reduce(np.minimum, map(as_numbers, values))


def _most(*values: Any) -> Any:
    return functools.reduce(np.maximum, map(as_numbers, values))


def _length(value: Any) -> Any:
    return np.array([0 if one is None else len(str(one)) for one in np.asarray(value).tolist()], np.int64)


_FUNCTIONS: dict[str, tuple[int, int, Callable[..., Any]]] = {
    "round": (1, 2, _rounded),
    "floor": (1, 1, _whole(np.floor)),
    "ceil": (1, 1, _whole(np.ceil)),
    "abs": (1, 1, lambda value: np.abs(as_numbers(value))),
    "min": (2, 9, _least),
    "max": (2, 9, _most),
    "lower": (1, 1, _cased(str.lower)),
    "upper": (1, 1, _cased(str.upper)),
    "length": (1, 1, _length),
}


def functions() -> Sequence[str]:
    """The functions there are."""
    return list(_FUNCTIONS)
