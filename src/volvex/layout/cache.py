"""Checked layouts remembered as JSON, so that the parser is not needed for a layout that was read before.

A remembered layout is named by the digest of its text, of the grammar and of Volvex's version; nothing in the
file is executed, and one that does not load is read from its text again.
"""

from __future__ import annotations

import contextlib
import dataclasses
import functools
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

from volvex import __version__
from volvex.layout import model
from volvex.source.digest import digest_bytes

_CLASSES = {name: var for name, var in vars(model).items() if dataclasses.is_dataclass(var) and isinstance(var, type)}

GRAMMARS: Path | None = None  # where the parser's tables are kept, in the user's cache; set by who knows the folder


def grammar_tables() -> str:
    """The file that keeps the grammar's tables, which take two seconds to make; nothing where no folder is known, or
    none can be made.

    The parser compares the grammar's digest, and makes the tables again when it is another or the file is damaged.
    """
    if GRAMMARS is None:
        return ""
    try:
        GRAMMARS.mkdir(parents=True, exist_ok=True)
    except OSError:
        return ""
    return str(GRAMMARS / "layouts.tables")


@functools.cache
def _language() -> str:
    """A digest of all of what a layout's text goes through, and of what it may name: the whole package, and the
    codecs."""
    here = Path(__file__).parent
    sources = [*here.rglob("*.py"), *here.rglob("*.lark"), *here.parent.joinpath("codec").rglob("*.py")]
    return digest_bytes(__version__.encode() + b"".join(path.read_bytes() for path in sorted(sources)))


def key(text: bytes) -> str:
    """The name under which a layout's text is remembered."""
    return digest_bytes(_language().encode() + text)[:32]


@dataclasses.dataclass
class Remembered:
    """A layout of which only its kind and its marks are made until all of it is asked for: most are never the one that
    fits."""

    kind: str
    known: tuple[model.Known, ...]
    _make: Callable[[], model.Layout]

    @functools.cached_property
    def layout(self) -> model.Layout:
        """All of it."""
        return self._make()

    @classmethod
    def of(cls, layout: model.Layout) -> Remembered:
        """One that is made already."""
        return cls(layout.kind, layout.known, lambda: layout)


def dump(layout: model.Layout) -> bytes | None:
    """A layout as two lines of JSON, its kind and marks, and all of it; None for one with a field type of another
    package, which may change."""
    with contextlib.suppress(TypeError):
        head, body = json.dumps([layout.kind, _plain(layout.known)]), json.dumps(_plain(layout))
        return f"{digest_bytes(body.encode())} {head}\n{body}".encode()
    return None


def load(data: bytes, file: str) -> Remembered | None:
    """The layout that was dumped, as it is read from this file now; None when it does not load."""
    head, _, body = data.partition(b"\n")
    digest, _, head = head.partition(b" ")
    try:
        kind, known = json.loads(head)
        marks = _value(known)
        if digest.decode() != digest_bytes(body) or not all(isinstance(mark, model.Known) for mark in marks):
            return None
        return Remembered(str(kind), marks, lambda: dataclasses.replace(_value(json.loads(body)), file=file))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None


def _plain(value: Any) -> Any:
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        if _CLASSES.get(type(value).__name__) is not type(value):
            raise TypeError(f"{type(value).__name__} comes from another package")
        fields = {field.name: _plain(getattr(value, field.name)) for field in dataclasses.fields(value)}
        return {"is": type(value).__name__, **fields}
    if isinstance(value, tuple):
        return [_plain(one) for one in value]
    return {"is": "bytes", "hex": value.hex()} if isinstance(value, bytes) else value


def _value(plain: Any) -> Any:
    if isinstance(plain, list):
        return tuple(_value(one) for one in plain)
    if not isinstance(plain, dict):
        return plain
    name = plain.pop("is")
    return (
        bytes.fromhex(plain["hex"]) if name == "bytes" else _CLASSES[name](**{k: _value(v) for k, v in plain.items()})
    )
