"""How fast one core decodes, decrypts and hashes: `python -m benchmarks.codecs`. MB/s of content, against the same
machine's zlib."""

from __future__ import annotations

import zlib
from collections.abc import Callable

from benchmarks.timing import fastest
from kelpwick.world import logbook
from volvex.codec import CHECKSUM, CIPHER, COMPRESS

SIZE = 32_000_000
KEY = "hex " + "4b " * 15 + "4b"
DECODED = ("lzss", "run_length", "lz4", "zstd", "blocks")
CIPHERS = (
    "xor(key hex 5a 3c 11)",
    "add(key hex 5a)",
    "rolling(key hex 5a, times 5, plus 3)",
    f"rc4(key {KEY})",
    f"aes_ctr(key {KEY})",
    f"aes_cbc(key {KEY})",
    f"xtea(key {KEY})",
    f"zip_classic(key {KEY})",
)
HASHES = ("crc(poly 0x1edc6f41)", "fnv1a", "djb2", "murmur3")


def text() -> bytes:
    """Pages of a logbook, so many bytes of them."""
    import random

    page = logbook(random.Random(1), 4000).encode()
    return (page * (SIZE // len(page) + 1))[:SIZE]


def speed(work: Callable[[], object]) -> float:
    """MB/s."""
    return SIZE / 1e6 / fastest(work)


def _decrypted(name: str, data: bytes) -> object:
    transform = CIPHER.get(name).decrypt()
    for at in range(0, len(data), 1 << 20):
        transform.update(data[at : at + (1 << 20)])
    return transform.finish()


def _hashed(name: str, data: bytes) -> int:
    total = CHECKSUM.get(name).new()
    total.update(data)
    return total.value()


def measure() -> dict[str, float]:
    """Codec -> MB/s."""
    content = text()
    stored = zlib.compress(content, 6)
    found = {"Python's zlib, decoding": speed(lambda: zlib.decompress(stored))}
    for name in DECODED:
        codec = COMPRESS.get(name)
        packed = b"".join(codec.encode_stream([content]))
        found[name] = speed(lambda codec=codec, packed=packed: codec.decode(packed, SIZE))  # type: ignore[misc]
    for name in CIPHERS:
        found[name.partition("(")[0]] = speed(lambda name=name: _decrypted(name, content))  # type: ignore[misc]
    for name in HASHES:
        found[name.partition("(")[0]] = speed(lambda name=name: _hashed(name, content))  # type: ignore[misc]
    return {name: round(one) for name, one in found.items()}


if __name__ == "__main__":
    for codec, rate in measure().items():
        print(f"{codec:<26}{rate:>8,} MB/s")
