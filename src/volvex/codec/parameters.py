"""Codecs that take parameters, as layouts write them: `lzss(window 4096, longest 18)`.

The canonical text of such a codec is its name everywhere: in an entry, in a table, in an error. A codec that
takes parameters exports `PARAMETERS` (name -> Parameter) and `make(**values)` in place of the codec itself.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from volvex.errors import UsageError

Value = int | str | bytes  # a number, a word (or a codec's own text), bytes

_TOKEN = re.compile(
    r"\s*(?:(?P<hex>hex((?:\s+[0-9a-fA-F]{2})+))(?![0-9a-zA-Z])|(?P<number>0x[0-9a-fA-F_]+|\d[\d_]*)(?![\w])"
    r"|(?P<word>\w[\w.-]*)|(?P<sign>[(),]))"
)


@dataclass(frozen=True)
class Parameter:
    """What a parameter may be: a number within limits, one of some words, bytes of some length, or a codec."""

    default: Value | None = None  # None: it must be given
    numbers: tuple[int, int] | None = None
    words: tuple[str, ...] = ()
    sizes: tuple[int, ...] | None = None  # lengths that bytes may have; empty for any but none
    codec: bool = False  # another codec's text

    def problem(self, value: Value) -> str:
        """What is wrong with a value; nothing when it may be used."""
        if self.numbers is not None:
            low, high = self.numbers
            good = isinstance(value, int) and low <= value <= high
            return "" if good else f"a number from {low} to {high}"
        if self.sizes is not None:
            size = len(value) if isinstance(value, bytes) else 0
            good = size in self.sizes if self.sizes else size > 0
            return (
                ""
                if good
                else f"{' or '.join(map(str, self.sizes))} bytes"
                if self.sizes
                else "some bytes, such as hex 4b 57"
            )
        if self.codec:
            return "" if isinstance(value, str) else "the name of a codec"
        return "" if value in self.words else f"one of {', '.join(self.words)}"


@dataclass(frozen=True)
class Spec:
    """A codec's name and the parameters given to it."""

    name: str
    given: tuple[tuple[str, Value], ...] = ()

    def __str__(self) -> str:
        if not self.given:
            return self.name
        return f"{self.name}({', '.join(f'{name} {written(value)}' for name, value in self.given)})"


def written(value: Value) -> str:
    """A value as a layout writes it."""
    return f"hex {value.hex(' ')}" if isinstance(value, bytes) else str(value)


def parse_spec(text: str) -> Spec:
    """The codec that a canonical text names; UsageError when it is none."""
    spec, rest = _parse(_tokens(text), text)
    if rest:
        raise UsageError(f"`{text}` is not a codec")
    return spec


def _tokens(text: str) -> list[tuple[str, str]]:
    found, at = [], 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if match is None or (match.lastgroup is None and not match[0].strip()):
            raise UsageError(f"`{text}` is not a codec", "a name such as zlib, or lzss(window 4096)")
        kind = next(name for name in ("hex", "number", "word", "sign") if match[name] is not None)
        found.append((kind, match[kind]))
        at = match.end()
    return found


def _parse(tokens: list[tuple[str, str]], text: str) -> tuple[Spec, list[tuple[str, str]]]:
    if not tokens or tokens[0][0] != "word":
        raise UsageError(f"`{text}` is not a codec", "a name such as zlib, or lzss(window 4096)")
    name, rest, given = tokens[0][1], tokens[1:], list[tuple[str, Value]]()
    if not rest or rest[0][1] != "(":
        return Spec(name), rest
    rest = rest[1:]
    while rest and rest[0][1] != ")":
        if len(rest) < 2 or rest[0][0] != "word":
            raise UsageError(f"`{text}`: a parameter is a name and a value", f"{name}(window 4096)")
        parameter, (kind, said) = rest[0][1], rest[1]
        if kind == "number":
            given.append((parameter, int(said.replace("_", ""), 0 if said.startswith("0x") else 10)))
            rest = rest[2:]
        elif kind == "hex":
            given.append((parameter, bytes.fromhex(said[3:])))
            rest = rest[2:]
        else:
            inner, rest = _parse(rest[1:], text)
            given.append((parameter, str(inner)))
        if rest and rest[0][1] == ",":
            rest = rest[1:]
    if not rest:
        raise UsageError(f"`{text}` lacks its closing bracket")
    return Spec(name, tuple(given)), rest[1:]


def settled(spec: Spec, known: Mapping[str, Parameter]) -> dict[str, Any]:
    """All parameters of a codec with their values; UsageError for one that is unknown, missing or wrong."""
    values: dict[str, Any] = {}
    for name, value in spec.given:
        if name not in known:
            hint = f"one of {', '.join(known)}" if known else f"`{spec.name}` without brackets"
            raise UsageError(f"{spec.name} has no parameter {name}", hint)
        wanted = known[name].problem(value)
        if wanted:
            raise UsageError(f"{spec.name}: {name} cannot be {written(value)}", wanted)
        values[name] = value
    for name, parameter in known.items():
        if name not in values:
            if parameter.default is None:
                raise UsageError(f"{spec.name} needs its {name}", f"{spec.name}({name} ...)")
            values[name] = parameter.default
    return values
