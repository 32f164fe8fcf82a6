"""The game's main archive (`.kwp`): its own writer and its own strict reader.

head      mark "KWPK", version u16 = 3, flags u16, entries u32, directory's start u64,
          directory's length u32, file's length u64, CRC-32 of the directory    (36 bytes)
stamp     28 bytes that only the game's makers understand: salt, a word, a check
content   each entry at a multiple of 64, zeros between
directory at a multiple of 16, sorted by path; a record an entry:
          path (u16 length, UTF-8), start / 64 u32, stored size u32, size u32,
          method u8 (0 bare, 1 zlib), group u8 (1..9), CRC-32 of the stored bytes
"""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from kelpwick import GameError

HEAD = struct.Struct("<4sHHIQIQI")
RECORD = struct.Struct("<IIIBBI")
ALIGN = 64
STAMP_KEY = 0x5EA51DE5


@dataclass(frozen=True)
class Item:
    """A file to be packed."""

    path: str
    content: bytes
    group: int
    method: int = 1


def make_stamp(salt: bytes) -> bytes:
    """28 bytes: 12 of salt, 12 of a word, the check over both."""
    body = salt[:12].ljust(12, b"\x55") + b"wick&tallow."
    return body + struct.pack("<I", zlib.crc32(body) ^ STAMP_KEY)


def write_pack(path: Path, items: Iterable[Item], salt: bytes) -> int:
    """Write an archive, content in the order given; the number of entries."""
    with path.open("w+b") as file:
        return _write_to(file, items, salt)


def packed(items: Iterable[Item], salt: bytes) -> bytes:
    """An archive as bytes."""
    out = io.BytesIO()
    _write_to(out, items, salt)
    return out.getvalue()


def _write_to(file: BinaryIO, items: Iterable[Item], salt: bytes) -> int:
    records: list[tuple[bytes, bytes]] = []
    file.write(bytes(HEAD.size) + make_stamp(salt))
    for item in items:
        stored = zlib.compress(item.content, 6) if item.method else item.content
        start = _pad(file, ALIGN)
        file.write(stored)
        attributes = (start // ALIGN, len(stored), len(item.content), item.method, item.group, zlib.crc32(stored))
        records.append((item.path.encode(), RECORD.pack(*attributes)))
    start = _pad(file, 16)
    directory = b"".join(struct.pack("<H", len(name)) + name + attributes for name, attributes in sorted(records))
    file.write(directory)
    head = HEAD.pack(b"KWPK", 3, 0x21, len(records), start, len(directory), file.tell(), zlib.crc32(directory))
    file.seek(0)
    file.write(head)
    return len(records)


def _pad(file: BinaryIO, align: int) -> int:
    file.write(bytes(-file.tell() % align))
    return file.tell()


def read_pack(path: Path) -> dict[str, bytes]:
    """Every file of an archive, all checksums, sizes and alignments checked; GameError when one is wrong."""
    return unpacked(path.read_bytes(), path.name)


def unpacked(data: bytes, own: str) -> dict[str, bytes]:
    """The same from bytes; `own` is what refusals call them."""
    count, directory = _read_head(data, own)
    files: dict[str, bytes] = {}
    last, offset, end_of_content = b"", 0, HEAD.size + 28
    spans: list[tuple[int, int]] = []
    for number in range(count):
        name, attributes, offset = _read_record(directory, offset, number)
        if name <= last:
            raise GameError(f"{own}: record {number}: {name!r} does not come after {last!r}")
        last = name
        start, content = _read_content(data, name, attributes)
        spans.append((start, start + attributes[1]))
        files[_text(name)] = content
    if offset != len(directory):
        raise GameError(f"{own}: {len(directory) - offset} bytes too many in the directory")
    for start, end in sorted(spans):
        if start < end_of_content or any(data[end_of_content:start]):
            raise GameError(f"{own}: content at {start} overlaps, or what lies before it is not zero")
        end_of_content = end
    return files


def _read_head(data: bytes, name: str) -> tuple[int, bytes]:
    if len(data) < HEAD.size + 28:
        raise GameError(f"{name}: shorter than its head")
    mark, version, flags, count, start, length, total, checksum = HEAD.unpack_from(data)
    if (mark, version, flags) != (b"KWPK", 3, 0x21):
        raise GameError(f"{name}: not a pack of version 3: {mark!r} {version} {flags:#x}")
    if total != len(data):
        raise GameError(f"{name}: the head says {total} bytes, the file has {len(data)}")
    body, check = data[HEAD.size : HEAD.size + 24], data[HEAD.size + 24 : HEAD.size + 28]
    if struct.unpack("<I", check)[0] ^ STAMP_KEY != zlib.crc32(body):
        raise GameError(f"{name}: the makers' stamp is broken")
    if start % 16 or start + length != len(data):
        raise GameError(f"{name}: the directory at {start} is misplaced")
    directory = data[start : start + length]
    if zlib.crc32(directory) != checksum:
        raise GameError(f"{name}: the directory's checksum is wrong")
    return count, directory


def _read_record(directory: bytes, offset: int, number: int) -> tuple[bytes, tuple[int, ...], int]:
    try:
        (length,) = struct.unpack_from("<H", directory, offset)
        attributes = RECORD.unpack_from(directory, offset + 2 + length)
    except struct.error:
        raise GameError(f"record {number}: the directory ends within it") from None
    return directory[offset + 2 : offset + 2 + length], attributes, offset + 2 + length + RECORD.size


def _read_content(data: bytes, name: bytes, attributes: tuple[int, ...]) -> tuple[int, bytes]:
    start, stored_size, size, method, group, check = attributes
    start *= ALIGN
    stored = data[start : start + stored_size]
    if len(stored) != stored_size:
        raise GameError(f"{name!r}: reaches past the end of the pack")
    if zlib.crc32(stored) != check:
        raise GameError(f"{name!r}: its checksum is wrong")
    if method not in (0, 1) or not 1 <= group <= 9:
        raise GameError(f"{name!r}: method {method}, group {group}")
    try:
        content = zlib.decompress(stored) if method else stored
    except zlib.error as error:
        raise GameError(f"{name!r}: {error}") from error
    if len(content) != size:
        raise GameError(f"{name!r}: {len(content)} bytes, the directory says {size}")
    return start, content


def _text(name: bytes) -> str:
    try:
        return name.decode()
    except UnicodeDecodeError:
        raise GameError(f"{name!r}: the name is not UTF-8") from None
