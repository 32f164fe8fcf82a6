"""Words for what the parser of layouts met: found, expected, and what may have been meant."""

from __future__ import annotations

import difflib
import re

from lark import Lark, Token
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from volvex.errors import LayoutError

_SAID = {  # how terminals are called in errors
    "STRING": 'a text in quotes such as "KWPK"',
    "NUMBER": "a number",
    "WORD": "a name",
    "HEX_BYTE": "a byte such as 00",
    "NUMBER_TYPE": "a number's type (u8 u16 u24 u32 u64 i8 ...)",
    "FLOAT_TYPE": "f16, f32 or f64",
    "VARINT": "varint",
    "BYTE_ORDER": "little or big",
    "SIGN": "+ or -",
    "TIMES": "*, / or mod",
    "SHIFT": "<< or >>",
    "ROUNDED": "rounded up to",
    "LEAST": "least( or most(",
    "GATHERED": "total of, previous or next",
    "FACT": "a fact that reads as something",
    "READS": "reads as",
    "_FILE": "file",
    "BARE": "bare when equal",
    "SHORT": "short",
    "ORDERED": "in order",
    "UNTIL": "until",
    "COMPARED": "is, is not, has, >=, <=, > or <",
    "DIFFER": "when sizes differ",
    "EDGE": "start or end",
    "REPEATS": "repeats",
    "ZERO": "zero",
    "_FIELD": "an indented field",
    "_LINE": "the end of the line",
    "$END": "the end of the file",
}
_HINTS = {
    "_FIELD": "indenting the block's fields below it, one a line",
    "NUMBER_TYPE": "name, type, meaning, such as: files  u32  count of directory",
}
# what is often written, and how the language has it
_WRITTEN = (
    (re.compile(r"\{[^}]*\d\s*=\s*\w"), "words for numbers without a sign between: { 0 none, 1 zlib }"),
    (re.compile(r"\bhex\s+(?:0x)?((?:[0-9a-fA-F]{2}){2,})\b"), "hexadecimal bytes apart: hex 6c 6d"),
    (re.compile(r"\b(?:filled|fill)\s+(?:0x)?[0-9a-fA-F]\b"), "a byte of two digits: 00"),
)
_FIELD_HINT = "the meaning of the field, or `kept` if it is unknown"


def explain(error: UnexpectedInput, text: str, file: str, parser: Lark) -> LayoutError:
    """Words for what the parser met: found, expected, and what may have been meant."""
    if isinstance(error, UnexpectedToken):
        token, wanted = error.token, set(error.accepts or error.expected)
    elif isinstance(error, UnexpectedCharacters):
        token, wanted = Token("?", error.char), set(error.allowed or ())
    else:
        token, wanted = Token("?", ""), set()
    literals = {t.name: t.pattern.value for t in parser.terminals if t.pattern.type == "str"}
    line = text.splitlines()[error.line - 1] if 0 < error.line <= len(text.splitlines()) else ""
    word = (line[error.column - 1 :].split() or [""])[0]
    found = f"`{word}`" if word else "the end of the line"
    names = sorted({_SAID.get(name, literals.get(name, name)) for name in wanted})
    near = difflib.get_close_matches(word, [literals[n] for n in wanted if n in literals], 1)
    written = next((hint for pattern, hint in _WRITTEN if pattern.search(line)), "")
    hint = written or (f"`{near[0]}` in place of {found}" if near else _hint(token, wanted))
    return LayoutError(
        file, error.line, error.column, f"{found} is not understood here", expected=_list(names), hint=hint
    )


def _hint(token: Token, wanted: set[str]) -> str:
    if "WORD" in wanted and "IS" in wanted:
        return _FIELD_HINT
    return next((hint for name, hint in _HINTS.items() if name in wanted), "")


def _list(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}" if names else ""
