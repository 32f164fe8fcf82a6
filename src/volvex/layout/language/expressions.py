"""Expressions and conditions in a layout's text, and what the words in them name when all blocks are known."""

from __future__ import annotations

import dataclasses
from typing import Any

from lark import Token, Transformer, v_args

from volvex.codec.parameters import Spec
from volvex.errors import LayoutError
from volvex.layout import model
from volvex.layout.language.meanings import Names
from volvex.layout.language.parsed import Skipped, Unnamed, at_token, pair, written
from volvex.layout.language.values import Unknown, fact_named, named
from volvex.layout.types._base import integer

ROUNDED = "rounded up to"


class Expressions(Transformer[Token, Any]):
    """The rules of the grammar that make expressions; their words are named at the end, since blocks may come late."""

    def __init__(self, file: str) -> None:
        super().__init__()
        self.file = file

    def _fail(self, token: Token, problem: str, expected: str = "", hint: str = "") -> LayoutError:
        return LayoutError(self.file, *pair(at_token(token)), problem, expected=expected, hint=hint)

    @v_args(inline=True)
    def computed(self, value: Unnamed) -> tuple[str, Any, str]:
        if isinstance(value.settled, model.Literal):
            return ("is", model.Constant(value.settled.value), f"is {written(value.settled.value)}")
        return ("is", value, f"is {value.text}")

    @v_args(inline=True)
    def told(self, fact: Token, sign: Token, value: Unnamed) -> tuple[str, Any]:
        return ("told", (fact, value))

    @v_args(inline=True)
    def from_value(self, value: Unnamed, number: model.Number | None) -> model.Derived:
        return model.Derived("value", number=number, value=value)  # type: ignore[arg-type]  # named later

    @v_args(inline=True)
    def literal(self, literal: Token) -> Unnamed:
        value = literal.value if isinstance(literal.value, bytes) else integer(literal)
        return Unnamed(literal, written(value) if isinstance(value, bytes) else str(literal), model.Literal(value))

    def words(self, children: list[Token]) -> Unnamed:
        return Unnamed(children[0], " ".join(children))

    def summed(self, children: list[Any]) -> Unnamed:
        given = tuple(child for child in children if isinstance(child, tuple))
        name, *words = [child for child in children if not isinstance(child, tuple)]
        return Unnamed(name, f"{Spec(str(name), given)} of {' '.join(words)}")

    @v_args(inline=True)
    def operation(self, left: Unnamed, sign: Token, right: Unnamed) -> Unnamed:
        how = " ".join(sign.split())
        text = f"{left.grouped} {how} {right.grouped}"
        return Unnamed(left.token, text, None, "rounded" if how == ROUNDED else how, (left, right))

    @v_args(inline=True)
    def negative(self, sign: Token, value: Unnamed) -> Unnamed:
        nothing = Unnamed(sign, "0", model.Literal(0))
        return Unnamed(sign, f"{sign}{value.grouped}", None, str(sign), (nothing, value))

    @v_args(inline=True)
    def picked(self, values: Unnamed, row: Unnamed) -> Unnamed:
        return Unnamed(values.token, f"{values.grouped} at {row.grouped}", None, "at", (values, row))

    def least(self, children: list[Any]) -> Unnamed:
        how, *values = children
        return Unnamed(how, f"{how}({', '.join(value.text for value in values)})", None, str(how), tuple(values))

    @v_args(inline=True)
    def gathered(self, how: Token, value: Unnamed) -> Unnamed:
        text = f"({value.text})" if " " in value.text else value.text
        return Unnamed(how, f"{' '.join(how.split())} {text}", None, how.split()[0], (value,))

    def chosen(self, children: list[Unnamed]) -> Unnamed:
        condition, one, other = children
        text = f"if {condition.text} then {one.text} else {other.text}"
        return Unnamed(condition.token, text, None, "if", (condition, one, other))

    def named_value(self, value: Unnamed, names: Names) -> model.Expression:
        """An expression whose words name something."""
        if value.settled is not None:
            return value.settled
        if value.how:
            return model.Made(value.how, tuple(self.named_value(one, names) for one in value.operands))
        try:
            return named(value.text, names)
        except Unknown as error:
            raise self._fail(value.token, str(error), hint=error.hint) from error

    def named_fact(self, fact_words: Token, value: Unnamed, names: Names) -> model.Told:
        text = " ".join(fact_words.split())
        try:
            what, part = fact_named(text, names)
        except Unknown as error:
            raise self._fail(fact_words, str(error), hint=error.hint) from error
        fact = model.Measure(what, part) if part else model.Attribute(what)
        return model.Told(fact, self.named_value(value, names), f"{text} reads as {value.text}", at_token(fact_words))

    def named_keys(self, transform: model.Transform, names: Names) -> model.Transform:
        """A cipher whose keys are expressions with names that mean something."""
        given = tuple(
            (name, dataclasses.replace(key, value=self.named_value(key.value, names)))
            if isinstance(key, model.Derived) and isinstance(key.value, Unnamed)
            else (name, key)
            for name, key in transform.given
        )
        return dataclasses.replace(transform, given=given)

    # conditions

    def when(self, tests: list[model.Condition]) -> model.When:
        return tests[0] if len(tests) == 1 else model.Conditions(tuple(tests), "and")

    def skipped(self, tests: list[model.Condition]) -> Skipped:
        return Skipped(self.when(tests))

    def when_one(self, tests: list[model.Condition]) -> model.When:
        return model.Conditions(tuple(tests), "or")

    @v_args(inline=True)
    def test(self, name: Token, said: tuple[str, int | bytes]) -> model.Condition:
        return model.Condition(str(name), *said)

    @v_args(inline=True)
    def compared(self, how: Token, literal: Token) -> tuple[str, int | bytes]:
        value = literal.value if isinstance(literal.value, bytes) else integer(literal)
        if isinstance(value, bytes) and " ".join(how.split()) not in ("is", "is not"):
            raise self._fail(literal, f"only a number can be compared by `{how}`", hint="is, or is not")
        return " ".join(how.split()), value

    @v_args(inline=True)
    def ends(self, literal: Token) -> tuple[str, int | bytes]:
        return "ends", literal.value
