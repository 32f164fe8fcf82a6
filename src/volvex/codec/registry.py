"""One registry a family: names from a folder's files and from entry points, imported when first used."""

from __future__ import annotations

import importlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, Protocol, TypeVar, cast

from volvex.codec.parameters import Parameter, Spec, parse_spec, settled
from volvex.codec.sums import Sum
from volvex.errors import UsageError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoints

T = TypeVar("T")
REMEMBERED = 256  # codecs that are kept made; those with a key for each entry are not
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


class Transform(Protocol):
    """A cipher at work on one stretch of bytes."""

    def update(self, data: bytes) -> bytes: ...

    def finish(self) -> bytes:
        """What is still held."""
        ...


class Cipher(Protocol):
    """Enciphered bytes <-> bare ones. `unit`: bytes that are enciphered together; `pads` when the last unit is filled up."""

    unit: int
    pads: bool

    def decipher(self) -> Transform: ...

    def encipher(self) -> Transform: ...


class Registry(Generic[T]):
    """The codecs of one family, by name; with parameters where they take some."""

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
        name = name.partition("(")[0]
        return self._is_own(name) or any(point.name == name for point in self._points())

    def _is_own(self, name: str) -> bool:
        return len(name) < 64 and name.isidentifier() and (self._folder / f"{name}.py").is_file()

    def _points(self) -> EntryPoints:
        from importlib.metadata import entry_points  # slow, and seldom needed

        return entry_points(group=f"volvex.{self.family}")

    def get(self, name: str) -> T:
        """The codec of that name, such as `zlib` or `lzss(window 4096)`; UsageError when there is none."""
        found = self._loaded.get(name)
        if found is None:
            found = self.make(parse_spec(name))
            if len(self._loaded) < REMEMBERED:
                self._loaded[name] = found
        return found

    def make(self, spec: Spec) -> T:
        """A codec with these parameters; UsageError when they do not suit it."""
        module = self._module(spec.name)
        parameters = getattr(module, "PARAMETERS", None)
        values = settled(spec, parameters or {})
        return cast(T, module if parameters is None else module.make(**values))

    def parameters(self, name: str) -> dict[str, Parameter]:
        """The parameters that a codec takes."""
        return dict(getattr(self._module(name), "PARAMETERS", {}))

    def _module(self, name: str) -> Any:
        if self._is_own(name):
            return importlib.import_module(f"{self._package}.{name}")
        for point in self._points().select(name=name):
            return point.load()
        raise UsageError(f"there is no {self.family} called {name[:64]}", f"one of {', '.join(self.names())}")


COMPRESS: Registry[Compression] = Registry("compress")
SEAL: Registry[Seal] = Registry("seal")
CIPHER: Registry[Cipher] = Registry("cipher")
