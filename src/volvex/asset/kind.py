"""What every kind of asset can do. A kind is a file in `asset/kinds`, or a member of another package (entry points `volvex.asset_kind`).

Each has `NAME` (picture, sound, movie, model) and `proof`. A kind whose files go out to one open file and back has also, as
`ExchangedKind`, what is needed for that: showing, taking, taking over and checking need no other code.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, TypeGuard

from volvex.layout import Library
from volvex.layout.inspect.hints import Hint
from volvex.layout.read.blocks import Reading
from volvex.registry import Registry
from volvex.source import Source


@dataclass(frozen=True)
class Proof:
    """What a layout's proof looks at, of one file.

    reading  the file by its layout: it is written again and compared
    about    what the file is, in a few words
    hints    what the file shows and the layout lacks
    changes  edits of its content, each with what goes wrong when it is written and read again; empty when it holds
    """

    reading: Reading
    about: str
    hints: Callable[[], Sequence[Hint]]
    changes: Callable[[], Iterator[tuple[str, str]]]


@dataclass(frozen=True)
class Exported:
    """An asset in an open format: the file's bytes, and notes on what it does not carry."""

    data: bytes
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Merged:
    """A file of the game's own format with what a user edited: its bytes, what was taken over, and notes."""

    data: bytes
    what: str
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Fault:
    """What may be wrong with a changed asset: `level` is error or warning, `what` names the subject (rate, size)."""

    level: str
    what: str
    message: str
    hint: str


class AssetKind(Protocol):
    NAME: str

    def proof(self, source: Source, library: Library) -> Proof | None:
        """How a file of a game's own format is proved; None for a file of another kind, or in an open format."""


class ExchangedKind(AssetKind, Protocol):
    """A kind whose files go out as one file of an open format and come back."""

    def extensions(self) -> Sequence[str]:
        """Of the open formats, without dots."""

    def recognises(self, source: Source, library: Library) -> bool:
        """Whether a file is of this kind, by its first bytes or the layout that reads it."""

    def describe(self, source: Source, library: Library) -> Sequence[tuple[str, str]]:
        """What `show` prints: labels and texts. FormatError for a damaged file."""

    def export(self, source: Source, library: Library, extension: str) -> Exported:
        """The file in an open format."""

    def take_over(self, base: Source, library: Library, edited: Source, extension: str) -> Merged:
        """A user's file put into the one that it was made from: what did not change keeps its bytes. RefusedError where it does not fit."""

    def faults(self, before: Source, after: Source, library: Library) -> Iterator[Fault]:
        """What is wrong with a changed file, compared with the game's own. FormatError when it cannot be read."""


ASSET_KINDS: Registry[AssetKind] = Registry(
    "asset_kind", "volvex.asset.kinds", Path(__file__).parent / "kinds", needs=("NAME", "proof")
)


def proof_of(source: Source, library: Library) -> Proof | None:
    """How a file is proved, by the kind that it is of; None for what is no asset in a format of a game's own."""
    return next((proof for kind in ASSET_KINDS.all() if (proof := kind.proof(source, library)) is not None), None)


def is_exchanged(kind: AssetKind) -> TypeGuard[ExchangedKind]:
    """Whether files of a kind go out as one open file and back."""
    return hasattr(kind, "take_over")


def exchanged_kinds() -> list[ExchangedKind]:
    """All such kinds."""
    return [kind for kind in ASSET_KINDS.all() if is_exchanged(kind)]


def kind_named(name: str) -> ExchangedKind | None:
    """The exchanged kind of that name."""
    return next((kind for kind in exchanged_kinds() if name == kind.NAME), None)


def kind_of(source: Source, library: Library) -> ExchangedKind | None:
    """The exchanged kind that a file is of."""
    return next((kind for kind in exchanged_kinds() if kind.recognises(source, library)), None)
