"""Fingerprints of files: BLAKE3 of all of a file, or of a sample when all would take too long."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from volvex.source.reading import FileSource

SAMPLE, SAMPLES = 1 << 16, 16
STEP = 1 << 22


def digest_bytes(data: bytes) -> str:
    """The BLAKE3 digest of some bytes, in hex."""
    return str(blake3(data).hexdigest())


def digest_file(path: Path, advance: Callable[[int], None] = lambda size: None) -> str:
    """The BLAKE3 digest of all of a file, in hex."""
    state = blake3(max_threads=blake3.AUTO)
    with path.open("rb", buffering=0) as file:
        while chunk := file.read(STEP):
            state.update(chunk)
            advance(len(chunk))
    return str(state.hexdigest())


@dataclass(frozen=True)
class Fingerprint:
    """A file's size and the digest of sixteen samples spread over it: told in no time, however large it is.

    It notices another version of a file; that nothing at all changed only the whole digest can say.
    """

    size: int
    sample: str

    @classmethod
    def of(cls, path: Path) -> Fingerprint:
        with FileSource(path) as source:
            last = max(0, source.size - SAMPLE)
            starts = sorted({last * index // (SAMPLES - 1) for index in range(SAMPLES)})
            state = blake3(source.size.to_bytes(8, "little"))
            for start in starts:
                state.update(source.peek(start, SAMPLE))
            return cls(source.size, str(state.hexdigest()))
