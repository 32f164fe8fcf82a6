"""What writer and reader of drawn formats both stand on: checksums, names and ciphers in plain Python."""

from __future__ import annotations

import bz2
import zlib

Files = dict[str, tuple[bytes, int]]  # content, and flags


def checksum(algorithm: str, data: bytes) -> int:
    """A checksum by its name."""
    if algorithm == "crc32":
        return zlib.crc32(data)
    if algorithm == "adler32":
        return zlib.adler32(data)
    if algorithm.startswith("sum"):
        return sum(data) % (1 << int(algorithm[3:]))
    if algorithm == "djb2":
        value = 5381
        for byte in data:
            value = (value * 33 + byte) & 0xFFFFFFFF
        return value
    bits = 64 if "64" in algorithm else 32
    value, prime = (0xCBF29CE484222325, 0x100000001B3) if bits == 64 else (0x811C9DC5, 0x01000193)
    for byte in data:
        value = ((value ^ byte) * prime) % (1 << bits)
    return value


def text_of(words: str, name: str, encoding: str = "utf-8") -> bytes:
    """What words such as `lower leaf of name` mean of a path, in the encoding of the archive's names."""
    plain = name.replace("\\", "/")
    folder, _, leaf = plain.rpartition("/")
    extension = leaf.rpartition(".")[2] if "." in leaf else ""
    if "leaf" in words:
        text = leaf
    elif "folder" in words:
        text = folder
    elif "extension" in words:
        text = extension
    else:
        text = plain.replace("/", "\\") if "backslashes" in words else name
    if words.startswith("lower"):
        text = text.lower()
    if words.startswith("upper"):
        text = text.upper()
    return text.encode(encoding)


def packed(codec: str, data: bytes, level: int = 9) -> bytes:
    """Content in a codec."""
    if codec == "bzip2":
        return bz2.compress(data)
    if codec == "deflate":
        return zlib.compress(data, level, -15)
    return zlib.compress(data, level)


def unpacked(codec: str, data: bytes) -> bytes:
    """What content in a codec holds: all of it, and nothing behind."""
    if codec == "bzip2":
        return bz2.decompress(data)
    stream = zlib.decompressobj(-15 if codec == "deflate" else 15)
    held = stream.decompress(data) + stream.flush()
    if stream.unused_data or not stream.eof:
        raise ValueError("bytes behind a stream, or a stream without an end")
    return held


def xored(data: bytes, key: bytes) -> bytes:
    """Bytes under a repeated key."""
    whole = (key * (len(data) // len(key) + 1))[: len(data)]
    return (int.from_bytes(data, "big") ^ int.from_bytes(whole, "big")).to_bytes(len(data), "big") if data else b""
