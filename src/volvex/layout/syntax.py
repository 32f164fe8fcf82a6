"""From a layout's text to its model: lark parses, a transformer builds, every mistake gets its line."""

from __future__ import annotations

import codecs
import difflib
import functools
from importlib import resources
from pathlib import Path
from typing import Any

from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken, VisitError

from volvex.errors import FormatError, LayoutError, VolvexError
from volvex.layout import model
from volvex.layout.check import check_layout, meaning_of
from volvex.layout.kinds import kind_names

_SAID = {  # how terminals are called in errors
    "STRING": 'a text in quotes such as "KWPK"', "NUMBER": "a number", "WORD": "a name", "HEX_BYTE": "a byte such as 00",
    "NUMBER_TYPE": "a number's type (u8 u16 u32 u64 i8 i16 i32 i64)", "BYTE_ORDER": "little or big",
    "REPEATS": "repeats", "ZERO": "zero", "_FIELD": "an indented field", "_LINE": "the end of the line", "$END": "the end of the file",
}  # fmt: skip
_HINTS = {
    "_FIELD": "indenting the block's fields below it, one a line",
    "NUMBER_TYPE": "name, type, meaning, such as: files  u32  count of directory",
}
_FIELD_HINT = "saying what the field means, or `kept` when nobody knows"


@functools.cache
def _parser() -> Lark:
    grammar = resources.files("volvex.layout").joinpath("grammar.lark").read_text(encoding="utf-8")
    return Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=True)


def read_layout(path: Path) -> model.Layout:
    """The checked layout in a file; LayoutError with line and column for every mistake in it."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(path, "a layout is UTF-8 text", offset=error.start) from error
    return parse_layout(text, path.as_posix())


def parse_layout(text: str, file: str) -> model.Layout:
    """The checked layout in a text; `file` is its name in errors."""
    try:
        tree = _parser().parse(text.rstrip() + "\n")
    except UnexpectedInput as error:
        raise _explain(error, text, file) from error
    try:
        layout: model.Layout = _Builder(file).transform(tree)
    except VisitError as error:
        if isinstance(error.orig_exc, VolvexError):
            raise error.orig_exc from error
        raise
    check_layout(layout)
    return layout


def _explain(error: UnexpectedInput, text: str, file: str) -> LayoutError:
    """Words for what the parser met: found, expected, and what may have been meant."""
    if isinstance(error, UnexpectedToken):
        token, wanted = error.token, set(error.accepts or error.expected)
    elif isinstance(error, UnexpectedCharacters):
        token, wanted = Token("?", error.char), set(error.allowed or ())
    else:
        token, wanted = Token("?", ""), set()
    literals = {t.name: t.pattern.value for t in _parser().terminals if t.pattern.type == "str"}
    line = text.splitlines()[error.line - 1] if 0 < error.line <= len(text.splitlines()) else ""
    word = (line[error.column - 1 :].split() or [""])[0]
    found = f"`{word}`" if word else "the end of the line"
    names = sorted({_SAID.get(name, literals.get(name, name)) for name in wanted})
    near = difflib.get_close_matches(word, [literals[n] for n in wanted if n in literals], 1)
    hint = f"`{near[0]}` in place of {found}" if near else _hint(token, wanted)
    return LayoutError(
        file, error.line, error.column, f"{found} is not understood here", expected=_list(names), hint=hint
    )


def _hint(token: Token, wanted: set[str]) -> str:
    if "WORD" in wanted and "IS" in wanted:
        return _FIELD_HINT
    return next((hint for name, hint in _HINTS.items() if name in wanted), "")


def _list(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} or {names[-1]}" if names else ""


def _at(token: Token) -> model.Place:
    return model.Place(token.line or 0, token.column or 0)


def _number(token: Token) -> int:
    return int(token.replace("_", ""), 0 if token.startswith("0x") else 10)


class _Builder(Transformer[Token, Any]):
    """Builds the model from the tree, leaves first. Byte order is settled at the end: it may be said late."""

    def __init__(self, file: str) -> None:
        super().__init__()
        self.file = file

    def _fail(self, token: Token, problem: str, expected: str = "", hint: str = "") -> LayoutError:
        return LayoutError(self.file, *_pair(_at(token)), problem, expected=expected, hint=hint)

    # values

    def STRING(self, token: Token) -> Token:
        try:
            value = codecs.escape_decode(token[1:-1].encode())[0]
        except ValueError as error:
            raise self._fail(token, f"{token} is not a text: {error}", hint=r"\x00 to \xff for bytes") from error
        return token.update(value=value)

    @v_args(inline=True)
    def hex(self, *parts: Token) -> Token:
        return parts[0].update(type="STRING", value=bytes.fromhex("".join(parts)))

    @v_args(inline=True)
    def number(self, kind: Token, order: Token | None) -> tuple[str, int, bool, str | None]:
        return ("number", int(kind[1:]), kind[0] == "i", str(order) if order else None)

    @v_args(inline=True)
    def raw(self, size: Token) -> tuple[str, int]:
        return ("raw", _number(size))

    @v_args(inline=True)
    def text(self, length: Any, encoding: Token | None) -> tuple[str, Any, str]:
        if encoding is not None:
            try:
                codecs.lookup(encoding)
            except LookupError as error:
                raise self._fail(
                    encoding, f"there is no text encoding {encoding}", hint="utf-8, utf-16-le, cp1252"
                ) from error
        return (
            "text",
            _number(length) if isinstance(length, Token) and length.type == "NUMBER" else length,
            str(encoding or "utf-8"),
        )

    def times(self, children: list[Token]) -> model.Change:
        if _number(children[0]) < 1:
            raise self._fail(children[0], "a unit is at least 1")
        return model.Change("times", _number(children[0]))

    def plus(self, children: list[Token]) -> model.Change:
        return model.Change("plus", _number(children[0]))

    def xor(self, children: list[Token]) -> model.Change:
        return model.Change("xor", _number(children[0]))

    @v_args(inline=True)
    def pair(self, number: Token, word: Token) -> tuple[int, str]:
        return (_number(number), str(word))

    def table(self, children: list[tuple[int, str]]) -> tuple[tuple[int, str], ...]:
        return tuple(children)

    @v_args(inline=True)
    def constant(self, literal: Token) -> tuple[str, model.Constant, str]:
        value = literal.value if isinstance(literal.value, bytes) else _number(literal)
        return ("is", model.Constant(value), f"is {_written(value)}")

    def phrase(self, children: list[Any]) -> tuple[str, list[Token], Any]:
        return ("phrase", children[:-1], children[-1])

    # parts

    def align(self, children: list[Token]) -> tuple[str, int]:
        if _number(children[0]) < 1:
            raise self._fail(children[0], "an alignment is at least 1")
        return ("align", _number(children[0]))

    def fill(self, children: list[Token]) -> tuple[str, int]:
        return ("fill", int(children[0], 16))

    def field(self, children: list[Any]) -> tuple[Token, Any, tuple[model.Change, ...], Any]:
        return (children[0], children[1], tuple(children[2:-1]), children[-1])

    def block(self, children: list[Any]) -> tuple[str, Any]:
        return ("block", children)

    def content(self, children: list[Any]) -> tuple[str, Any]:
        until, *placing = children
        return ("content", {**dict(placing), "until_next": until is not None})

    def at(self, children: list[Token]) -> model.At:
        return model.At(_number(children[0]))

    def at_end(self, children: list[Token]) -> model.At:
        return model.At(_number(children[0]), from_end=True)

    def after(self, children: list[Token]) -> model.At:
        return model.At(after=str(children[0]))

    def repeats(self, children: list[Any]) -> tuple[Any]:
        return (children[1],)

    def until_end(self, children: list[Token]) -> bytes:
        return b""

    def until_mark(self, children: list[Token]) -> bytes:
        if not isinstance(children[1].value, bytes) or not children[1].value:
            raise self._fail(children[1], "only bytes can end a row of records", hint="a text in quotes or hex 4b 57")
        return children[1].value

    def here(self, children: list[Token]) -> tuple[str]:
        return ("here",)

    def at_last(self, children: list[Token]) -> model.At:
        if not isinstance(children[0].value, bytes) or not children[0].value:
            raise self._fail(children[0], "only bytes can be searched for", hint="a text in quotes or hex 4b 57")
        return model.At(mark=children[0].value)

    @v_args(inline=True)
    def known(self, literal: Token, at: model.At) -> tuple[str, Any]:
        if not isinstance(literal.value, bytes):
            raise self._fail(literal, "a file is known by bytes, not by a number", "a text in quotes or hex 4b 57")
        return ("known", model.Known(literal.value, at))

    def endian(self, children: list[Token]) -> tuple[str, Any]:
        return ("endian", str(children[0]))

    def read_only(self, children: list[Token]) -> tuple[str, Any]:
        return ("read_only", True)

    def title(self, children: list[Token]) -> list[Token]:
        return children

    def start(self, children: list[Any]) -> model.Layout:
        (title, kind), statements = children[0], children[1:]
        if kind not in kind_names():
            raise self._fail(kind, f"there is no kind {kind}", hint=f"one of {', '.join(kind_names())}")
        said: dict[str, list[Any]] = {}
        for name, value in statements:
            said.setdefault(name, []).append(value)
        for name in ("endian", "content"):
            if len(said.get(name, ())) > 1:
                raise self._fail(title, f"`{name}` is said twice")
        big = said.get("endian", ["little"])[0] == "big"
        raw_blocks = said.get("block", [])
        names = [str(block[0]) for block in raw_blocks]
        return model.Layout(
            title=title.value.decode(), kind=str(kind), file=self.file, known=tuple(said.get("known", ())),
            blocks=tuple(self._block(block, big, names, str(kind)) for block in raw_blocks),
            content=model.Content(**said.get("content", [{}])[0]), read_only="read_only" in said, place=_at(title),
        )  # fmt: skip

    def _block(self, children: list[Any], big: bool, names: list[str], kind: str) -> model.Block:
        name, at, repeats, sorted_by, *rest = children
        placing = {"align": 1, "fill": 0} | dict(item for item in rest if len(item) == 2)
        fields = tuple(self._field(item, big, names, kind) for item in rest if len(item) == 4)
        how = repeats[0] if repeats else None
        return model.Block(
            str(name), at, repeats is not None, str(how) if isinstance(how, Token) else None, how if isinstance(how, bytes) else None,
            str(sorted_by) if sorted_by else None, placing["align"], placing["fill"], fields, _at(name),
        )  # fmt: skip

    def _field(self, parts: Any, big: bool, names: list[str], kind: str) -> model.Field:
        name, shape, changes, meaning = parts
        if meaning[0] == "is":
            said, words = meaning[1], meaning[2]
        else:
            words = " ".join(meaning[1])
            said = meaning_of(kind, words, names, meaning[2], self.file, _at(meaning[1][0]))
        return model.Field(str(name), _type(shape, big), changes, said, words, _at(name))


def _written(value: bytes | int) -> str:
    """A constant as an author would write it."""
    if isinstance(value, int):
        return str(value)
    readable = all(32 <= byte < 127 and byte not in b'"\\\\' for byte in value)
    return f'"{value.decode()}"' if readable else f"hex {value.hex(' ')}"


def _pair(place: model.Place) -> tuple[int, int]:
    return place.line, place.column


def _type(shape: Any, big: bool) -> model.FieldType:
    if shape[0] == "number":
        return model.Number(shape[1], shape[2], big if shape[3] is None else shape[3] == "big")
    if shape[0] == "here":
        return model.Here()
    if shape[0] == "raw":
        return model.Raw(shape[1])
    length, encoding = shape[1], shape[2]
    if isinstance(length, tuple):
        prefix = _type(length, big)
        return model.Text(encoding, prefix=prefix if isinstance(prefix, model.Number) else None)
    return model.Text(encoding, size=length if isinstance(length, int) else None)
