"""What the readers share: numbers one behind the other, and refusals."""

from __future__ import annotations

import struct
import zlib

from kelpwick import GameError


class Reader:
    """Numbers from bytes; what is not there is a refusal."""

    def __init__(self, data: bytes, order: str = "<") -> None:
        self.data, self.order, self.at = data, order, 0

    def take(self, size: int) -> bytes:
        """The next bytes."""
        if size < 0 or self.at + size > len(self.data):
            raise GameError(f"{size} bytes at {self.at} reach past the end")
        self.at += size
        return self.data[self.at - size : self.at]

    def number(self, form: str) -> int:
        """The next number, by struct's letter for it."""
        return int(struct.unpack(self.order + form, self.take(struct.calcsize(self.order + form)))[0])

    def text(self, size: int) -> str:
        """The next bytes as text."""
        raw = self.take(size)
        try:
            return raw.decode()
        except UnicodeDecodeError:
            raise GameError(f"{raw!r} is not UTF-8") from None

    def skip_to(self, align: int, fill: int) -> None:
        """Filling up to a multiple; each byte of it must be right."""
        filling = self.take(-self.at % align)
        must(filling == bytes([fill]) * len(filling), f"filling {filling!r} before {self.at}")


def must(true: bool, problem: str) -> None:
    """A refusal when something is not so."""
    if not true:
        raise GameError(problem)


def span(data: bytes, start: int, size: int) -> bytes:
    """Some bytes, all of them."""
    must(start >= 0 and start + size <= len(data), f"{size} bytes at {start} reach past the end")
    return data[start : start + size]


def closed(data: bytes, start: int) -> str:
    """The text that ends at a zero."""
    end = data.find(b"\0", start)
    must(end >= 0, f"the text at {start} has no end")
    try:
        return data[start:end].decode()
    except UnicodeDecodeError:
        raise GameError(f"{data[start:end]!r} is not UTF-8") from None


def inflate(stored: bytes, size: int) -> bytes:
    """A zlib stream that must hold exactly so many bytes."""
    try:
        content = zlib.decompress(stored)
    except zlib.error as error:
        raise GameError(f"a stream is damaged: {error}") from error
    must(len(content) == size, f"a stream holds {len(content)} bytes, not {size}")
    return content
