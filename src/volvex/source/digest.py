"""Fingerprints of files: BLAKE3 of all of a file, or of a sample when all would take too long."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from io import RawIOBase
from pathlib import Path

from blake3 import blake3

from volvex.source.source import FileSource

SAMPLE, SAMPLES = 1 << 16, 16
STEP = 1 << 22


_DIGEST = re.compile(r"[0-9a-f]{64}")


def is_digest(value: object) -> bool:
    """Whether a value is a digest as text."""
    return isinstance(value, str) and _DIGEST.fullmatch(value) is not None


def digest_bytes(data: bytes) -> str:
    """The BLAKE3 digest of some bytes, in hex."""
    return str(blake3(data).hexdigest())


def digest_file(path: Path, on_progress: Callable[[int], None] = lambda size: None) -> str:
    """The BLAKE3 digest of all of a file, in hex."""
    state = blake3(max_threads=blake3.AUTO)
    with path.open("rb", buffering=0) as file:
        while chunk := file.read(STEP):
            state.update(chunk)
            on_progress(len(chunk))
    return str(state.hexdigest())


def digest_chunks(chunks: Iterable[bytes]) -> tuple[str, int]:
    """The BLAKE3 digest of content in pieces, in hex, and its size."""
    state, size = blake3(), 0
    for chunk in chunks:
        state.update(chunk)
        size += len(chunk)
    return str(state.hexdigest()), size


BLOCK = 1 << 22  # bytes of a file that have a digest of their own, where parts of it are changed in place


def block_digests(chunks: Iterable[bytes]) -> str:
    """The digests of all blocks of some content, in hex, one behind the other; `chunks` are blocks but for the last."""
    return "".join(digest_bytes(chunk) for chunk in chunks)


def file_blocks(path: Path, on_progress: Callable[[int], None] = lambda size: None) -> Iterator[bytes]:
    """The blocks of a file."""
    with path.open("rb", buffering=0) as file:
        while block := _full(file, BLOCK):
            on_progress(len(block))
            yield block


def _full(file: RawIOBase, size: int) -> bytes:
    """The next bytes of a file, fewer than `size` only at its end."""
    block = file.read(size) or b""
    while block and len(block) < size and (more := file.read(size - len(block))):
        block += more
    return block


def stamp_of(path: Path) -> str:
    """A file's size and time: while they are the same, its content is taken to be the same."""
    found = path.stat()
    return f"{found.st_size} {found.st_mtime_ns}"


@dataclass(frozen=True)
class Fingerprint:
    """A file's size and digest; of a large one its time, and the digest of sixteen samples spread over it.

    Equal ones mean the same content, or a large file untouched. Different ones mean that it must be looked at: equal
    samples never say that content is the same.
    """

    size: int
    sample: str
    time: int = 0  # of the last change of a large file, in ns

    @classmethod
    def of(cls, path: Path) -> Fingerprint:
        time = path.stat().st_mtime_ns
        with FileSource(path) as source:
            if source.size <= BLOCK:
                return cls(source.size, digest_bytes(source.read(0, source.size)))
            last = max(0, source.size - SAMPLE)
            starts = sorted({last * index // (SAMPLES - 1) for index in range(SAMPLES)})
            state = blake3(source.size.to_bytes(8, "little"))
            for start in starts:
                state.update(source.peek(start, SAMPLE))
            return cls(source.size, str(state.hexdigest()), time)
