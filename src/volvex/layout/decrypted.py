"""Parts that are only encrypted, read where they lie: no more of them is decrypted than somebody asks for."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence

from volvex.codec.ciphers import Bytewise
from volvex.layout.model import Part
from volvex.layout.transforms import decrypted, keeps_size, made_codec
from volvex.source import Source


def decrypted_view(part: Part, file: Source, start: int, size: int) -> Source | None:
    """What a part holds, without decrypting all of it; None when its transforms do not allow that."""
    if not all(keeps_size(transform) for transform in part.transforms):
        return None
    ciphers = [made_codec(transform) for transform in part.transforms]
    name = f"{file.name}, {part.name}"
    if all(isinstance(cipher, Bytewise) for cipher in ciphers):
        return BytewiseSource(name, file, start, size, ciphers)
    if part.reach is not None and part.reach.to == "records":  # nobody knows yet how little of it is wanted
        return PrefixSource(name, size, decrypted(file.chunks(start, size), ciphers))
    return None


class BytewiseSource(Source):
    """Bytes whose ciphers depend only on where each stands."""

    def __init__(self, name: str, file: Source, start: int, size: int, ciphers: Sequence[Bytewise]) -> None:
        self.name, self.size, self._file, self._start, self._ciphers = name, size, file, start, ciphers

    def _read(self, offset: int, size: int) -> bytes:
        data = self._file.read(self._start + offset, size)
        for cipher in self._ciphers:
            data = cipher.decrypted(data, offset)
        return data


class PrefixSource(Source):
    """Bytes that can only be made in order: as many are made, and held, as were asked for."""

    def __init__(self, name: str, size: int, chunks: Iterator[bytes]) -> None:
        self.name, self.size, self._chunks, self._made = name, size, chunks, bytearray()
        self._lock = threading.Lock()

    def _read(self, offset: int, size: int) -> bytes:
        with self._lock:
            while len(self._made) < offset + size:
                chunk = next(self._chunks, b"")
                if not chunk:
                    break
                self._made += chunk
            return bytes(self._made[offset : offset + size])
