"""What every kind of asset can do. A kind is a file in `asset/kinds`, or a member of another package (entry points
`volvex.asset_kind`).

Each is an object of a class below `AssetKind`. What a file is as one kind is opened once (`opened`); everything else is
asked with that: showing, comparing, checking, an open file made of it and taken back. Commands have one loop over all
kinds and ask no other question.

The rule that holds for all: what an edit does not change keeps its stored bytes.
"""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, NamedTuple, Protocol, TypeVar

from volvex.errors import UsageError
from volvex.layout import Library
from volvex.layout.inspect.hints import Hint
from volvex.layout.read.blocks import Reading
from volvex.registry import Registry
from volvex.source import Source

if TYPE_CHECKING:
    from PIL import Image

    from volvex.asset.model.gather import Files, Settings

A = TypeVar("A")
Options = Mapping[str, Any]  # of a command, by their names; one that is not given is None, False or ""
Pixels = Any  # height x width x red, green, blue, alpha, of 8 bits


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
class Drawn:
    """What a terminal shows of an asset below its facts.

    pixels    a picture
    lines     lines of characters, each as runs of a text and whether it is marked
    marked    what the marked runs are
    times     texts that are spread over the width below
    """

    pixels: Pixels = None
    lines: Sequence[Sequence[tuple[str, bool]]] = ()
    marked: str = ""
    times: Sequence[str] = ()


@dataclass(frozen=True)
class Exported:
    """An asset in an open format: its files by their names beside the first, whose name is empty; and what they do not
    carry."""

    files: Mapping[str, bytes]
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Edited:
    """A file that a user edited: its name for errors, its bytes, the extension and the part of the asset it was made
    for."""

    name: str
    source: Source
    extension: str
    part: str = ""


@dataclass(frozen=True)
class Result:
    """An asset of a game with what a user made in it.

    files   its own file under an empty name, and by their names those beside it that it is made of
    what    what was taken over, in a few words; empty for nothing
    notes   what the user is to be told
    others  other files of the game that change with it, by path
    rest    what those are, in words
    form    the format that it is in now
    as_is   the user's file needs no change: it takes the asset's place as it is
    """

    files: Mapping[str, bytes]
    what: str = ""
    notes: tuple[str, ...] = ()
    others: Mapping[str, bytes] = field(default_factory=dict)
    rest: tuple[str, ...] = ()
    form: str = ""
    as_is: bool = False


class Fault(NamedTuple):
    """What may be wrong with a changed asset: `level` is error or warning, `what` names the subject (rate, size)."""

    level: str
    what: str
    message: str
    hint: str


class Around(Protocol):
    """The game around assets, in one of its states."""

    def around(self, path: str) -> tuple[Files, str, Settings]:
        """The files of the game, the path of one among them, and where the game has what models refer to."""


class AssetKind(Generic[A]):
    """One kind of asset. `A` is what a file of it is opened as.

    NAME        picture, sound ...
    PRIORITY    kinds are asked in this order
    LAYOUTS     kinds of layouts whose files are of this kind
    OPTIONS     options of `swap` that only this kind knows
    LARGEST     bytes of a file that is read into memory
    CHECKED     bytes of a changed file that is checked
    STREAMED    files are read where they lie, whatever their size
    TOGETHER    several open files of one asset may be edited at once
    CHECKS_NEW  files that the game does not have are checked too
    """

    NAME = ""
    PRIORITY = 100
    LAYOUTS: tuple[str, ...] = ()
    OPTIONS: tuple[str, ...] = ()
    LARGEST = 1 << 31
    CHECKED = 1 << 28
    STREAMED = TOGETHER = CHECKS_NEW = False

    def is_open(self, file_type: str) -> bool:
        """Whether files of a type are of this kind, in an open format."""
        return False

    def may_be(self, file_type: str) -> bool:
        """Whether files of a type are of this kind, or may be in a game's own format."""
        return self.is_open(file_type) or file_type == "binary"

    def is_listed(self, file_type: str) -> bool:
        """Whether what a list calls so is of this kind: an open format, or a kind of layouts."""
        return self.is_open(file_type) or file_type in self.LAYOUTS

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> A | None:
        """A file as this kind; None when it is none. FormatError when it is damaged.

        `thorough`: files of no known type are looked into as well, where a library may know them.
        """
        raise NotImplementedError

    def proof(self, source: Source, library: Library) -> Proof | None:
        """How a file of a game's own format is proved; None for a file of another kind, or in an open format."""
        return None

    # looking

    def form(self, asset: A) -> str:
        """The name of the format that an asset is in."""
        return self.NAME

    def lines(self, asset: A) -> Iterator[tuple[str, str]]:
        """What `show` prints: labels and texts."""
        yield from ()

    def preview(self, asset: A, options: Options) -> Callable[[int], Drawn] | None:
        """What draws an asset for a terminal of some columns; None when there is nothing to draw. UsageError for what
        is not there."""
        return None

    def cells(self, asset: A, named: bool) -> Iterator[tuple[Pixels, str, str]]:
        """What a contact sheet shows of an asset: pixels, a label (its file's name where empty) and facts of each.

        `named`: the user named this file by its path."""
        yield from ()

    def short(self, source: Source, library: Library) -> str:
        """What a file is, as one line of a list."""
        asset = self.opened(source, library)
        return self.brief(asset) if asset is not None else ""

    def brief(self, asset: A) -> str:
        """What an asset is, in a few words."""
        return ""

    # comparing

    def differences(self, before: A, after: A) -> Iterator[str]:
        """What `changes` prints of two states."""
        yield from ()

    def compared(self, before: A, after: A, title: str) -> Image.Image | None:
        """Two states drawn side by side; None when they cannot be."""
        return None

    def faults(self, before: A | None, after: A) -> Iterator[Fault]:
        """What is wrong with a changed asset, and was not with the game's own."""
        yield from ()

    def is_whole(self, asset: A) -> None:
        """Read all of an asset that is read late; FormatError when it is damaged."""

    # out and back

    def extensions(self) -> Sequence[str]:
        """Of the open formats that it goes out to, without dots."""
        return ()

    @property
    def takes_back(self) -> bool:
        """Whether open files of an asset, edited, are put into the game's own."""
        return self.can("take_over")

    def can(self, method: str) -> bool:
        """Whether this kind has a method of its own for something."""
        return getattr(type(self), method) is not getattr(AssetKind, method)

    def too_large(self, size: int) -> bool:
        """Whether a file of some bytes is not read into memory."""
        return not self.STREAMED and size > self.LARGEST

    def replaces(self, file_type: str) -> bool:
        """Whether a user's file is converted when it takes the place of what a list calls so."""
        return self.can("replace") and self.is_listed(file_type)

    def one_file(self, extension: str) -> str:
        """The extension of the format that is one file, in place of one that is several."""
        return extension

    def parts(self, asset: A, path: str, options: Options) -> Sequence[str]:
        """The open files that `take` makes of the asset at a path, by what each holds; an empty word for the whole."""
        return ("",)

    def beside(self, asset: A) -> Sequence[str]:
        """The names of the files beside an asset's own that it is made of."""
        return ()

    def others(self, asset: A) -> Sequence[str]:
        """The paths of other files of the game that belong to an asset and change with it."""
        return ()

    def companions(self, asset: A) -> Mapping[str, str]:
        """Assets of the game that go out with this one: their paths, by what it calls them."""
        return {}

    def export(
        self, asset: A, extension: str, part: str = "", stem: str = "", links: Mapping[str, str] | None = None
    ) -> Exported:
        """An asset in an open format. UsageError for a format that it does not go out to.

        `stem`: of the names of the files. `links`: where its companions are, relative to it; without, they are among
        the files.
        """
        hint = f"one of {', '.join(self.extensions())}" if self.extensions() else "`volvex show` for what it is"
        raise UsageError(f"a {self.NAME} does not become .{extension.lstrip('.')}", hint)

    def take_over(self, base: A, edits: Sequence[Edited], library: Library) -> Result:
        """The files of users put into the asset that they were made from. RefusedError where they do not fit."""
        raise NotImplementedError

    def converts(self, own_type: str, file_type: str, options: Options) -> bool:
        """Whether a user's file of a type is converted when it takes the place of one of the game's; by the types
        alone."""
        return True

    def user_file(self, source: Source, library: Library, file_type: str) -> A | None:
        """A user's own file as this kind; None when it is none."""
        return self.opened(source, None) if self.is_open(file_type) else None

    def replace(
        self, own: A, user: A | None, options: Options, on_progress: Callable[[int], None] | None = None
    ) -> Result | None:
        """A user's file, or something empty, in the place of the game's own and like it; None when nothing has to be
        converted.

        RefusedError when it cannot be made to fit.
        """
        return None


ASSET_KINDS: Registry[AssetKind[Any]] = Registry(
    "asset_kind", "volvex.asset.kinds", Path(__file__).parent / "kinds", needs=("NAME", "opened"), member="KIND"
)


def path_beside(path: str, name: str) -> str:
    """The path of a file that is named from the folder of another."""
    return posixpath.normpath(posixpath.join(posixpath.dirname(path), name))


def proof_of(source: Source, library: Library) -> Proof | None:
    """How a file is proved, by the kind that it is of; None for what is no asset in a format of a game's own."""
    return next((proof for kind in ASSET_KINDS.all() if (proof := kind.proof(source, library)) is not None), None)


def kind_named(name: str) -> AssetKind[Any] | None:
    """The kind of that name."""
    return next((kind for kind in ASSET_KINDS.all() if name == kind.NAME), None)


def kind_of_layout(layout_kind: str) -> AssetKind[Any] | None:
    """The kind of asset that files of a kind of layouts are."""
    return next((kind for kind in ASSET_KINDS.all() if layout_kind in kind.LAYOUTS), None)


def kind_of_type(file_type: str) -> AssetKind[Any] | None:
    """The kind that files of a type are of, which is an open format or a kind of layouts."""
    return next((kind for kind in ASSET_KINDS.all() if kind.is_listed(file_type)), None)


def kinds_for(file_type: str) -> list[AssetKind[Any]]:
    """The kinds that a file may be of, by the type of its first bytes."""
    return [kind for kind in ASSET_KINDS.all() if kind.may_be(file_type)]
