"""From a layout's text to its model: lark parses, a transformer builds, every mistake gets its line."""

from __future__ import annotations

import codecs
import dataclasses
import difflib
import functools
from collections.abc import Callable, Mapping
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

from lark import Lark, Token, v_args
from lark.exceptions import UnexpectedInput, VisitError

from volvex.codec.parameters import Spec
from volvex.errors import FormatError, VolvexError
from volvex.layout import cache, model
from volvex.layout.kinds import kind_names
from volvex.layout.language.check.layout import check_layout
from volvex.layout.language.expressions import Expressions
from volvex.layout.language.meanings import Names, meaning_of
from volvex.layout.language.mistakes import explain
from volvex.layout.language.parsed import (
    Field,
    GoesOn,
    Repeats,
    Skipped,
    Unnamed,
    at_token,
    is_order,
    is_placing,
    texts_by_length,
    with_rows,
)
from volvex.layout.language.resolve import ordered, resolved
from volvex.layout.language.values import as_expression
from volvex.layout.name_hash import TRAITS, WHOSE_KEYS
from volvex.layout.types import FIELD_TYPES, InvalidSyntax
from volvex.layout.types._base import integer
from volvex.layout.types.text import encoding_named

T = TypeVar("T")


@functools.cache
def _parser() -> Lark:
    grammar = resources.files("volvex.layout.language").joinpath("grammar.lark").read_text(encoding="utf-8")
    types = [module.GRAMMAR.strip() for module in FIELD_TYPES.all()]
    first = " | ".join(rules.partition(":")[0] for rules in types)
    return Lark(
        "\n".join([grammar, f"_type: {first}", *types]) + "\n",
        parser="lalr",
        propagate_positions=True,
        maybe_placeholders=True,
        cache=cache.grammar_tables() or False,
    )


def read_layout(path: Path) -> model.Layout:
    """The checked layout in a file; LayoutError with line and column for every mistake in it."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(path, "a layout is UTF-8 text", offset=error.start) from error
    return parse_layout(text, path.as_posix())


@functools.lru_cache(1024)
def parse_layout(text: str, file: str) -> model.Layout:
    """The checked layout in a text; `file` is its name in errors."""
    try:
        tree = _parser().parse(text.rstrip() + "\n")
    except UnexpectedInput as error:
        raise explain(error, text, file, _parser()) from error
    try:
        layout: model.Layout = _Builder(file).transform(tree)
    except VisitError as error:
        if isinstance(error.orig_exc, VolvexError):
            raise error.orig_exc from error
        raise
    check_layout(layout)
    return layout


LARGEST_CHUNK = 1 << 26  # bytes
LARGEST_ALIGNMENT = 1 << 30  # bytes


class _Builder(Expressions):
    """Builds the model from the tree, leaves first. Byte order is settled at the end: it may be said late."""

    def __init__(self, file: str) -> None:
        super().__init__(file)
        for module in FIELD_TYPES.all():
            for rule, build in module.RULES.items():
                setattr(self, rule, functools.partial(self._built, build))

    def _built(self, build: Callable[[Any], T], parts: Any) -> T:
        """What a function of a field type makes of the parts of its rule."""
        try:
            return build(parts)
        except InvalidSyntax as error:
            assert isinstance(error.part, Token)
            raise self._fail(error.part, str(error), hint=error.hint) from error

    # values

    def NUMBER(self, token: Token) -> Token:
        if integer(token) >= 1 << 64:
            raise self._fail(token, f"{token} has more than 64 bits", hint="a smaller number")
        return token

    def STRING(self, token: Token) -> Token:
        try:
            value = codecs.escape_decode(token[1:-1].encode())[0]
        except ValueError as error:
            raise self._fail(token, f"{token} is not a text: {error}", hint=r"\x00 to \xff for bytes") from error
        return token.update(value=value)

    @v_args(inline=True)
    def hex(self, *parts: Token) -> Token:
        return parts[0].update(type="STRING", value=bytes.fromhex("".join(parts)))

    def times(self, children: list[Token]) -> model.NumberChange:
        if integer(children[0]) < 1:
            raise self._fail(children[0], "a unit is at least 1")
        return model.NumberChange("times", integer(children[0]))

    def plus(self, children: list[Token]) -> model.NumberChange:
        return model.NumberChange("plus", integer(children[0]))

    def minus(self, children: list[Token]) -> model.NumberChange:
        return model.NumberChange("plus", -integer(children[0]))

    def xor(self, children: list[Token]) -> model.NumberChange:
        return model.NumberChange("xor", integer(children[0]))

    def from_edge(self, children: list[Token]) -> model.NumberChange:
        return model.NumberChange("from", 0, str(children[0]), str(children[1]))

    @v_args(inline=True)
    def pair(self, literal: Token, spec: tuple[Token, Spec]) -> tuple[int | bytes, str]:
        return (literal.value if isinstance(literal.value, bytes) else integer(literal), str(spec[1]))

    def table(self, children: list[tuple[int | bytes, str]]) -> tuple[tuple[int | bytes, str], ...]:
        return tuple(children)

    def codec(self, children: list[Any]) -> tuple[Token, Spec]:
        name, *given = children
        return name, Spec(str(name), tuple(one for one in given if one is not None))

    @v_args(inline=True)
    def parameter(self, name: Token, value: Any) -> tuple[str, Any]:
        if isinstance(value, tuple):  # a codec, or a word
            return str(name), str(value[1])
        if isinstance(value, Token):
            return str(name), value.value if isinstance(value.value, bytes) else integer(value)
        return str(name), value

    @v_args(inline=True)
    def called(self, name: Token) -> model.Named:
        return model.Named(name.value.decode())

    @v_args(inline=True)
    def derived(self, what: tuple[Token, Spec], *rest: Any) -> model.Derived:
        first, second, number, *changes = rest
        words = [str(word) for word in (first, second) if word is not None]
        if not words:
            return model.Derived(str(what[1]), "", number, tuple(changes))
        return model.Derived(" ".join(words), str(what[1]), number, tuple(changes))

    @v_args(inline=True)
    def from_field(self, name: Token, number: model.Number | None, *changes: model.NumberChange) -> model.Derived:
        return model.Derived("field", "", number, tuple(changes), str(name))

    def wrapped(self, children: list[tuple[Token, Spec]]) -> tuple[model.Transform, ...]:
        return tuple(model.Transform(spec.name, spec.given, at_token(name)) for name, spec in children)

    def phrase(self, children: list[Any]) -> tuple[str, list[Token], str, Any]:
        return ("phrase", children[:-1], " ".join(children[:-1]), children[-1])

    def checksum(self, children: list[Any]) -> tuple[str, list[Token], str, Any]:
        given = tuple(child for child in children if isinstance(child, tuple))
        name, *words = [child for child in children if not isinstance(child, tuple)]
        return ("phrase", [name], f"{Spec(str(name), given)} of {' '.join(words)}", None)

    # keys

    def keys(self, children: list[Any]) -> tuple[str, Any]:
        return ("keys", children[0])

    def keyed(self, children: list[Any]) -> model.KeyRule:
        of, (name, spec), *traits = children
        whose = WHOSE_KEYS.get("names" if of is None else str(of))
        if whose is None:
            raise self._fail(of, f"there are no hashes of {of}", hint=f"hashes of {', '.join(WHOSE_KEYS)}")
        encodings = [value for what, value in traits if what == "in"]
        words = tuple(str(value) for what, value in traits if what == "trait")
        return model.KeyRule(whose, at_token(name), str(spec), words, encodings[0] if encodings else "utf-8")

    def trait(self, children: list[Token]) -> tuple[str, str]:
        words = " ".join(children)
        if words not in TRAITS:
            near = difflib.get_close_matches(words, TRAITS, 1)
            raise self._fail(
                children[0],
                f"`{words}` is not an option of hashes",
                hint=near[0] if near else f"one of {', '.join(TRAITS)}",
            )
        return "trait", words

    @v_args(inline=True)
    def in_encoding(self, encoding: Token) -> tuple[str, str]:
        return "in", self._built(encoding_named, encoding)

    @v_args(inline=True)
    def numbered(self, pattern: Token, unit: Token | None) -> model.KeyRule:
        return model.KeyRule(
            "name hash", at_token(pattern), numbered=pattern.value.decode(), unit=1 if unit is None else integer(unit)
        )

    # parts

    def align(self, children: list[Token]) -> tuple[str, int]:
        if not 1 <= integer(children[0]) <= LARGEST_ALIGNMENT:
            raise self._fail(children[0], f"an alignment is 1 to {LARGEST_ALIGNMENT:,} bytes", hint="align 16")
        return ("align", integer(children[0]))

    def fill(self, children: list[Token]) -> tuple[str, int]:
        return ("fill", int(children[0], 16))

    def field(self, children: list[Any]) -> Field:
        name, kind, *changes, meaning, when = children
        return Field(name, kind, tuple(changes), meaning, when)

    def record(self, children: list[Any]) -> tuple[str, Any]:
        return ("record", children)

    def part(self, children: list[Any]) -> tuple[str, Any]:
        name, *rest = children
        at = next((one for one in rest if isinstance(one, model.At)), None)
        placing = {"align": 1, "fill": 0} | dict(one for one in rest if is_placing(one))
        transforms = next(one for one in rest if isinstance(one, tuple) and one and isinstance(one[0], model.Transform))
        when = rest[-1]
        reach = next((one for one in rest if isinstance(one, model.Reach)), None)
        chunks = next((one for one in rest if isinstance(one, model.Cut)), None)
        placed = (placing["align"], placing["fill"])
        return ("part", model.Part(str(name), at, transforms, *placed, at_token(name), when, reach, chunks))

    @v_args(inline=True)
    def part_beside(self, name: Token, file: Token, transforms: Any, when: Any) -> tuple[str, Any]:
        pattern = file.value.decode()
        return ("part", model.Part(str(name), model.At(), transforms or (), 1, 0, at_token(name), when, file=pattern))

    def block(self, children: list[Any]) -> tuple[str, Any]:
        return ("block", children)

    def block_as(self, children: list[Any]) -> tuple[str, Any]:
        name, within, *rest = children
        like = [one for one in rest if isinstance(one, Token)][-1]
        return ("block", [name, within, GoesOn(str(like)), *(one for one in rest if not isinstance(one, Token))])

    def content(self, children: list[Any]) -> tuple[str, Any]:
        within, after, ordered_, until, when, *rest = children
        *placing, sounds, codec, differ, transforms = rest
        said = {
            **dict(placing),
            "until_next": until is not None,
            "ordered": ordered_ is not None,
            "transforms": transforms or (),
        }
        said["volumes" if isinstance(within, tuple) else "within"] = (
            within[1] if isinstance(within, tuple) else str(within or "")
        )
        if after is not None:
            said["after"] = after.after
        if sounds is not None:
            said |= {"sounds": str(sounds[1]), "place": at_token(sounds[0])}
        if codec is not None:
            said |= {"codec": str(codec[1]), "differing": differ is not None, "place": at_token(codec[0])}
        return ("content", (when, said))

    @v_args(inline=True)
    def framed(self, head: Token, tail: Token | None) -> tuple[str, Any]:
        return ("framed", (head, str(head), str(tail or "")))

    @v_args(inline=True)
    def framed_behind(self, tail: Token) -> tuple[str, Any]:
        return ("framed", (tail, "", str(tail)))

    @v_args(inline=True)
    def volumes(self, name: Token) -> tuple[str, str]:
        return "volumes", name.value.decode()

    def at(self, children: list[Token]) -> model.At:
        return model.At(integer(children[0]))

    def at_end(self, children: list[Token]) -> model.At:
        return model.At(integer(children[0]), from_end=True)

    def after(self, children: list[Token]) -> model.At:
        return model.At(after=str(children[0]))

    def repeats(self, children: list[Any]) -> Repeats:
        return Repeats(children[1])

    def until_end(self, children: list[Token]) -> bytes:
        return b""

    def until_mark(self, children: list[Token]) -> bytes:
        if not isinstance(children[1].value, bytes) or not children[1].value:
            raise self._fail(children[1], "only bytes can end a row of records", hint="a text in quotes or hex 4b 57")
        return children[1].value

    def at_last(self, children: list[Token]) -> model.At:
        if not isinstance(children[0].value, bytes) or not children[0].value:
            raise self._fail(children[0], "only bytes can be searched for", hint="a text in quotes or hex 4b 57")
        return model.At(mark=children[0].value)

    def known(self, children: list[Any]) -> tuple[str, Any]:
        *literals, at = children
        for literal in literals:
            if not isinstance(literal.value, bytes):
                raise self._fail(literal, "a file is known by bytes, not by a number", "a text in quotes or hex 4b 57")
        return ("known", model.Known(literals[0].value, at, tuple(literal.value for literal in literals[1:])))

    def known_name(self, children: list[Any]) -> tuple[str, Any]:
        names = tuple(name.value.decode("utf-8", "replace") for name in children)
        return ("known", model.Known(b"", model.At(), names=names))

    def reach_end(self, children: list[Any]) -> model.Reach:
        return model.Reach("end", 0 if children[1] is None else integer(children[1]))

    def reach_records(self, children: list[Any]) -> model.Reach:
        return model.Reach("records")

    @v_args(inline=True)
    def cut(self, size: Token, bare: Token | None, short: Token | None) -> model.Cut:
        if not 1 <= integer(size) <= LARGEST_CHUNK:
            raise self._fail(size, f"a chunk has 1 to {LARGEST_CHUNK:,} bytes", hint="cut every 0x8000")
        return model.Cut(integer(size), bare is not None, short is not None)

    def endian(self, children: list[Token]) -> tuple[str, Any]:
        return ("endian", str(children[0]))

    def whole(self, children: list[Any]) -> tuple[str, Any]:
        said = dict(children)
        return ("file", (said.get("align", 1), said.get("fill", 0)))

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
        if len(said.get("endian", ())) > 1:
            raise self._fail(title, "`endian` is given twice")
        if len(said.get("file", ())) > 1:
            raise self._fail(title, "`file align` is given twice", hint="one of the two lines")
        blocks, parts = said.get("block", []), tuple(said.get("part", ()))
        names = Names(str(kind), tuple(str(block[0]) for block in blocks), tuple(part.name for part in parts))
        records = tuple(self._record(one, names) for one in said.get("record", ()))
        orders = any(is_order(field) for block in blocks for field in block[5:] if isinstance(field, Field))
        content = self._content(title, said.get("content", []))
        if len(said.get("framed", ())) > 1:
            raise self._fail(title, "what stands around content is given twice", hint="headed by X ended by Y")
        for _, head, tail in said.get("framed", ()):
            content = dataclasses.replace(content, head=head, tail=tail)
        parts = tuple(
            dataclasses.replace(part, transforms=tuple(self.named_keys(one, names) for one in part.transforms))
            for part in parts
        )
        big = None if orders else said.get("endian", ["little"])[0] == "big"
        layout = model.Layout(
            title=title.value.decode(),
            kind=str(kind),
            file=self.file,
            known=tuple(said.get("known", ())),
            blocks=with_rows([self._block(block, names) for block in blocks]),
            content=dataclasses.replace(
                content, transforms=tuple(self.named_keys(transform, names) for transform in content.transforms)
            ),
            read_only="read_only" in said,
            place=at_token(title),
            parts=parts,
            records=records,
            keys=tuple(said.get("keys", ())),
            told=tuple(self.named_fact(fact, value, names) for fact, value in said.get("told", ())),
            end=said.get("file", [(1, 0)])[-1],
        )
        return resolved(layout) if big is None else ordered(resolved(layout), big)

    def _content(self, title: Token, said: list[tuple[model.When | None, dict[str, Any]]]) -> model.Content:
        """The one statement for all content, and those for some of it."""
        plain = unsaid = model.Content()
        stated = set[str]()
        for record in (record for when, record in said if when is None):
            new = {name: value for name, value in record.items() if value != getattr(unsaid, name)}
            if again := sorted(stated & set(new)):
                raise self._fail(title, f"`content` is given twice: {', '.join(again)}", hint="one of the two lines")
            plain, stated = dataclasses.replace(plain, **new), stated | set(new)
        others, some = [], list[model.Transform]()
        for when, record in said:
            if when is not None:
                if set(record) - {"align", "fill", "until_next", "ordered", "within", "transforms"} or record["within"]:
                    raise self._fail(
                        title,
                        "of some content only the placing and the ciphers can differ",
                        hint="content when ... align 16, or content when ... wrapped in xor(key hex 4b)",
                    )
                if not record["transforms"] or {"align", "fill"} & set(record):
                    others.append(model.Placing(when, record.get("align", plain.align), record.get("fill", plain.fill)))
                some += [dataclasses.replace(transform, when=when) for transform in record["transforms"]]
        return dataclasses.replace(plain, others=tuple(others), transforms=(*plain.transforms, *some))

    def _record(self, children: list[Any], names: Names) -> model.Record:
        name, *fields = children
        texts = texts_by_length(fields)
        return model.Record(str(name), tuple(self._field(field, texts, names) for field in fields), at_token(name))

    def _block(self, children: list[Any], names: Names) -> model.Block:
        name, within, *rest = children
        at = next((one for one in rest if isinstance(one, model.At)), None)
        repeats = next((repeats for repeats in rest if isinstance(repeats, Repeats)), None)
        goes_on = next((one.like for one in rest if isinstance(one, GoesOn)), "")
        sorted_by = next((token for token in rest if isinstance(token, Token)), None)
        when = next((condition for condition in rest if isinstance(condition, model.When)), None)
        placing = {"align": 1, "fill": 0} | dict(one for one in rest if is_placing(one))
        fields = [field for field in rest if isinstance(field, Field)]
        texts = texts_by_length(fields)
        how = repeats.how if repeats else None
        wraps = (one for one in rest if isinstance(one, tuple) and one and isinstance(one[0], model.Transform))
        return model.Block(
            str(name),
            at,
            repeats is not None or bool(goes_on),
            str(how) if isinstance(how, Token) else None,
            how if isinstance(how, bytes) else None,
            str(sorted_by) if sorted_by else None,
            placing["align"],
            placing["fill"],
            tuple(self._field(field, texts, names) for field in fields),
            at_token(name),
            str(within or ""),
            when,
            next((one.when for one in rest if isinstance(one, Skipped)), None),
            next(wraps, ()),
            goes_on,
        )

    def _field(self, said: Field, texts: Mapping[str, tuple[str, ...]], names: Names) -> model.Field:
        kind, changes = said.type, said.changes
        if isinstance(kind, model.Text) and changes:  # of a text its length is changed
            kind, changes = self._counted(said, kind), ()
        if said.meaning[0] == "is":
            meaning, words = said.meaning[1], said.meaning[2]
            if isinstance(meaning, Unnamed):
                meaning = model.Computed(self.named_value(meaning, names))
            elif isinstance(kind, model.IntegerType | model.Text) and not isinstance(kind, model.Number):
                meaning = model.Computed(model.Literal(meaning.value))
        else:
            words = said.meaning[2]
            own = texts.get(str(said.name), texts[""])
            meaning = meaning_of(names, own, words, said.meaning[3], self.file, at_token(said.meaning[1][0]))
            if said.when is not None and isinstance(meaning, model.ChecksumOf):
                meaning = as_expression(meaning)
        return model.Field(str(said.name), kind, changes, meaning, words, at_token(said.name), said.when)

    def _counted(self, said: Field, kind: model.Text) -> model.Text:
        for change in said.changes:
            if (kind.prefix is None and not kind.length_by) or change.how not in ("times", "plus"):
                raise self._fail(said.name, f"a text's length is counted `x` units or `plus` bytes, not {change.how}")
            if change.how == "times":
                kind = dataclasses.replace(kind, unit=kind.unit * change.number)
            else:
                kind = dataclasses.replace(kind, extra=kind.extra + change.number)
        return kind
