"""Archives without names, written in plain Python: hashes by whatever rule, and the layouts that describe them."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Mapping, Sequence

Hash = Callable[[bytes], int]


def fnv1a(data: bytes, bits: int = 64) -> int:
    """FNV-1a as its authors write it down."""
    state, prime = (0xCBF29CE484222325, 0x100000001B3) if bits == 64 else (0x811C9DC5, 0x01000193)
    for byte in data:
        state = (state ^ byte) * prime % (1 << bits)
    return state


def layout(rules: str, keys: Sequence[tuple[str, str]], title: str = "keyed", mark: str = "KEYD") -> str:
    """A layout with these rules, and these fields for keys: type and meaning."""
    fields = "\n".join(f"    k{number}      {kind}     {meaning}" for number, (kind, meaning) in enumerate(keys))
    return f"""layout "{title}" kind archive
little endian
known by "{mark}" at 0
{rules}
block head at 0
    mark    4 bytes  is "{mark}"
    count   u32      count of table
block table after head repeats sorted by k0
{fields}
    start   u32      start of content
    size    u32      size of content
"""


def archive(entries: Mapping[tuple[int, ...], bytes], forms: str, mark: bytes = b"KEYD") -> bytes:
    """An archive of entries by their keys, which are packed by the letters of `forms`."""
    record = struct.Struct(f"<{forms}II")
    at, table, body = 8 + record.size * len(entries), b"", b""
    for keys, content in sorted(entries.items()):
        table += record.pack(*keys, at + len(body), len(content))
        body += content
    return mark + struct.pack("<I", len(entries)) + table + body


def crc_archive(files: Mapping[str, bytes]) -> bytes:
    """An archive keyed by the CRC-32 of its paths."""
    return archive({(zlib.crc32(path.encode()),): content for path, content in files.items()}, "I")


CRC = layout("hashes by crc32", [("u32", "name hash")])
FNV = layout("hashes by fnv1a(bits 64)", [("u64", "name hash")])


def fnv_archive(files: Mapping[str, bytes]) -> bytes:
    """An archive keyed by 64 bits of FNV-1a."""
    return archive({(fnv1a(path.encode()),): content for path, content in files.items()}, "Q")
