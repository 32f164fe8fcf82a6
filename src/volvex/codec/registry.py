"""The registries of codecs: compressions, checksums and ciphers by name, with parameters where they take some."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, Protocol, TypeVar, cast

from volvex.codec.checksums import Sum
from volvex.codec.parameters import Parameter, Spec, parse_spec, settled
from volvex.registry import Registry

T = TypeVar("T")
REMEMBERED = 256  # codecs that are kept made; those with a key for each entry are not


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

    # Codecs whose stored bytes show where the content ends have one more function:
    # def content_size(chunks: Iterable[bytes], most: int) -> int: the bytes that it decodes to; ContentError when these
    # are
    # more than `most`, or damaged


class Checksum(Protocol):
    """A checksum or digest of `bits` bits; `new()` starts one."""

    bits: int

    def new(self) -> Sum: ...


class CipherStream(Protocol):
    """A cipher at work on one stretch of bytes."""

    def update(self, data: bytes) -> bytes: ...

    def finish(self) -> bytes:
        """What is still held."""
        ...


class Cipher(Protocol):
    """Encrypted bytes <-> bare ones. `unit`: bytes that are encrypted together; `pads` when the last unit is filled
    up."""

    unit: int
    pads: bool

    def decrypt(self) -> CipherStream: ...

    def encrypt(self) -> CipherStream: ...


class Codecs(Registry[T]):
    """The codecs of one family, by name; with parameters where they take some."""

    def __init__(self, family: str) -> None:
        super().__init__(family, f"volvex.codec.{family}", Path(__file__).parent / family)
        self._made: dict[str, T] = {}

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and super().__contains__(name.partition("(")[0])

    def get(self, name: str) -> T:
        """The codec of that name, such as `zlib` or `lzss(window 4096)`; UsageError when there is none."""
        found = self._made.get(name)
        if found is None:
            found = self.make(parse_spec(name))
            if len(self._made) < REMEMBERED:
                self._made[name] = found
        return found

    def make(self, spec: Spec) -> T:
        """A codec with these parameters; UsageError when they do not suit it."""
        module: Any = self.load(spec.name)
        parameters = getattr(module, "PARAMETERS", None)
        values = settled(spec, parameters or {})
        return cast(T, module if parameters is None else module.make(**values))

    def parameters(self, name: str) -> dict[str, Parameter]:
        """The parameters that a codec takes."""
        return dict(getattr(self.load(name), "PARAMETERS", {}))


COMPRESS: Codecs[Compression] = Codecs("compress")
CHECKSUM: Codecs[Checksum] = Codecs("checksum")
CIPHER: Codecs[Cipher] = Codecs("cipher")
