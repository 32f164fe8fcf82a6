"""What is known of a type of open file."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from volvex.source import Source

Measured = tuple[int | None, int | None] | None  # size, size of what it holds; None when it is no such file after all


@dataclass(frozen=True)
class FileType:
    """A type of file, found by a signature or, without one, by `fits`.

    signatures  bytes and their offset; any of them
    fits        whether what follows a short signature (or the whole head) is what such files have
    detail      version, picture size, codec and the like, from the first 160 bytes or more
    embedded    regular expression of how it begins inside other files; its first byte must be a plain byte or a set
    measure     source, offset -> its size in bytes, or None; for those with `embedded`
    codec       the codec that decodes a compressed stream
    weak        signatures that only count when what follows decodes: see `formats/single`
    extension   of files of this type (default: the name)
    extensions     extensions of a compressed file, which what it holds has not
    holds       it may contain other files, or its signature is too short to exclude that
    """

    name: str
    signatures: tuple[tuple[bytes, int], ...] = ()
    form: bytes = b""  # bytes at the start, when the signature is behind them
    fits: Callable[[bytes], bool] | None = None
    detail: Callable[[bytes], str] | None = None
    embedded: bytes = b""
    measure: Callable[[Source, int], Measured] | None = None
    codec: str = ""
    weak: tuple[bytes, ...] = ()
    extension: str = ""
    extensions: tuple[str, ...] = ()
    holds: bool = False

    def begins(self, head: bytes) -> bool:
        """Whether a file that begins with `head` (64 bytes or all of it) is of this type; only for types with
        signatures."""
        marked = any(head.startswith(mark, offset) for mark, offset in self.signatures)
        return marked and head.startswith(self.form) and (self.fits is None or self.fits(head))


def until(source: Source, at: int, end: bytes, size: int) -> Measured:
    """The size of a file that ends with `end`, of which `size` bytes are its own."""
    found = source.peek(at, 1 << 24).find(end)
    return (found + size, None) if found > 0 else None


def riff_length(source: Source, at: int) -> Measured:
    """The size of a RIFF file, with its last byte of padding where there is one."""
    size = int.from_bytes(source.peek(at + 4, 4), "little") + 8
    if at + size > source.size:
        return None
    return (size + size % 2 if at + size + size % 2 <= source.size else size, None)
