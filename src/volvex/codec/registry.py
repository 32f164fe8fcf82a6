"""One registry a family: names from a folder's files and from entry points, imported when first used."""

from __future__ import annotations

import importlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Generic, Protocol, TypeVar, cast

from volvex.codec.sums import Sum
from volvex.errors import UsageError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoints

T = TypeVar("T")
LIMIT = 1 << 31  # content above this size is never decoded in one piece


class Compression(Protocol):
    """Stored bytes <-> content, both directions side by side."""

    def decode(self, stored: bytes, size: int) -> bytes:
        """The content; ContentError unless it is exactly `size` bytes and all of `stored` is used."""
        ...

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        """The same in pieces, for content of any size; never more than `size` bytes come out."""
        ...

    def decode_start(self, stored: bytes, size: int) -> bytes:
        """The first `size` bytes of the content (fewer when it is shorter), from a beginning of `stored`."""
        ...

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Content in pieces to stored bytes in pieces; the same content gives the same bytes."""
        ...


class Seal(Protocol):
    """A checksum or digest of `bits` bits; `new()` starts one."""

    bits: int

    def new(self) -> Sum: ...


class Registry(Generic[T]):
    """The codecs of one family, by name."""

    def __init__(self, family: str) -> None:
        self.family = family
        self._package = f"volvex.codec.{family}"
        self._folder = Path(__file__).parent / family
        self._loaded: dict[str, T] = {}

    def names(self) -> list[str]:
        """All names, sorted."""
        own = {path.stem for path in self._folder.glob("[!_]*.py")}
        return sorted(own | {point.name for point in self._points()})

    def __contains__(self, name: str) -> bool:
        own = name.isidentifier() and (self._folder / f"{name}.py").is_file()
        return own or any(point.name == name for point in self._points())

    def _points(self) -> EntryPoints:
        from importlib.metadata import entry_points  # slow, and seldom needed

        return entry_points(group=f"volvex.{self.family}")

    def get(self, name: str) -> T:
        """The codec of that name; UsageError when there is none."""
        if name not in self._loaded:
            self._loaded[name] = self._load(name)
        return self._loaded[name]

    def _load(self, name: str) -> T:
        if name.isidentifier() and (self._folder / f"{name}.py").is_file():
            return cast(T, importlib.import_module(f"{self._package}.{name}"))
        for point in self._points().select(name=name):
            return cast(T, point.load())
        raise UsageError(f"there is no {self.family} called {name}", f"one of {', '.join(self.names())}")


COMPRESS: Registry[Compression] = Registry("compress")
SEAL: Registry[Seal] = Registry("seal")
