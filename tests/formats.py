"""Small archive formats with writers of their own, independent of the layout engine, and a layout each."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import struct
import zlib
from collections.abc import Callable, Sequence

import lz4.block
import lz4.frame
import xxhash
import zstandard

Files = Sequence[tuple[str, bytes]]

# a table of fixed records right behind the head, names padded with zeros, content without alignment
FIXED = """
layout "fixed table" kind archive
little endian
known by "FXT1" at 0
block head at 0
    mark   4 bytes  is "FXT1"
    count  u16      count of table
    where  u16      start of table
    spare  6 bytes  kept
block table repeats
    name   text 16  name
    start  u32      start of content
    size   u32      size of content
content
"""


def fixed(files: Files, spare: bytes = b"\x01\x02\x03\x04\x05\x06") -> bytes:
    start = 14 + 24 * len(files)
    table, content = b"", b""
    for name, data in files:
        table += struct.pack("<16sII", name.encode(), start + len(content), len(data))
        content += data
    return struct.pack("<4sHH", b"FXT1", len(files), 14) + spare + table + content


# big endian, names up to a zero, two texts a record, starts counted from a base, masked sizes, checksums of content and
# head
ZERO = """
layout "zero-ended names" kind archive
big endian
known by hex 5a 00 ff at 1
block head at 0
    first   u8            is 7
    mark    3 bytes       is hex 5a 00 ff
    files   u32           count of list
    total   u32           length of file
    list_at u32 plus 16   start of list
    own     u32           crc32 of head
block list repeats
    name    text zero     name
    author  text u8       kept
    begin   u32 plus 20   start of content
    size    u32 xor 0xA5A5A5A5  size of content
    flag    i16 little    kept
    check   u32           adler32 of content
content align 4 fill ff
"""


def zero(files: Files, author: bytes = b"Ansa") -> bytes:
    position, content, places = 20, b"", []
    for _, data in files:
        padding = -(position + len(content)) % 4
        content += b"\xff" * padding
        places.append(position + len(content))
        content += data
    listed = b"".join(
        name.encode()
        + b"\0"
        + bytes([len(author)])
        + author
        + struct.pack(">II", place - 20, len(data) ^ 0xA5A5A5A5)
        + struct.pack("<h", -3)
        + struct.pack(">I", zlib.adler32(data))
        for (name, data), place in zip(files, places, strict=True)
    )
    total = position + len(content) + len(listed)
    head = struct.pack(">B3sIII", 7, b"\x5a\x00\xff", len(files), total, position + len(content) - 16)
    return head + struct.pack(">I", zlib.crc32(head + bytes(4))) + content + listed


# deflated and bare entries, content aligned, sizes both told, a table that is searched by name
PACKED = """
layout "packed" kind archive
little endian
known by "PKD" at 0
block head at 0
    mark    3 bytes      is "PKD"
    files   u8           count of table
    bytes   u32          length of table
    where   u32 x 16     start of table
block table repeats sorted by name align 16
    name    text u8 in cp1252  name
    begin   u32 x 16     start of content
    stored  u32          stored size of content
    size    u32          size of content
    how     u8           codec of content { 0 none, 8 zlib }
    check   u32          crc32 of content
content align 16 fill 20
"""


def packed(files: Files, methods: Sequence[int] = ()) -> bytes:
    body, records = bytearray(12), []
    for number, (name, data) in enumerate(files):
        method = methods[number] if methods else 8
        body += b" " * (-len(body) % 16) if number else b"\0" * (-len(body) % 16)
        stored = zlib.compress(data) if method == 8 else data
        attributes = struct.pack("<IIIBI", len(body) // 16, len(stored), len(data), method, zlib.crc32(data))
        records.append((name.encode("cp1252"), attributes))
        body += stored
    body += bytes(-len(body) % 16)
    table = b"".join(bytes([len(name)]) + name + attributes for name, attributes in sorted(records))
    body[:12] = struct.pack("<3sBII", b"PKD", len(files), len(table), len(body) // 16)
    return bytes(body + table)


# content first; the table is found through a footer, which is found from the end of the file
FOOTER = """
layout "footer" kind archive
big endian
known by "KELP" at end - 4
block foot at end - 20
    digest   8 bytes  xxh64 of table
    where    u32      start of table
    count    u32      count of table
    mark     4 bytes  is "KELP"
block table repeats
    name     text u8  name
    start    u32      start of content
    size     u32      size of content
"""


def footer(files: Files) -> bytes:
    content = b"".join(data for _, data in files)
    table, position = b"", 0
    for name, data in files:
        table += bytes([len(name)]) + name.encode() + struct.pack(">II", position, len(data))
        position += len(data)
    return content + table + xxhash.xxh64(table).digest() + struct.pack(">II", len(content), len(files)) + b"KELP"


# the same behind a mark that is searched from the end, with a comment of any length behind it
MARKED = """
layout "marked" kind archive
little endian
known by "MK" at 0
block head at 0
    mark     2 bytes  is "MK"
block foot at last "<ends>"
    mark     6 bytes  is "<ends>"
    where    u32      start of table
    bytes    u32      length of table
    comment  text u8  kept
block table repeats
    name     text zero name
    start    u32      start of content
    size     u16      size of content
    sum      u16      sum16 of content
"""


def marked(files: Files, comment: bytes = b"made <end> at night") -> bytes:
    content, table = b"MK", b""
    for name, data in files:
        table += name.encode() + b"\0" + struct.pack("<IHH", len(content), len(data), sum(data) % 65536)
        content += data
    foot = b"<ends>" + struct.pack("<II", len(content), len(table)) + bytes([len(comment)]) + comment
    return content + table + foot


# where each content starts is told, and not where it ends
NEXT = """
layout "up to the next" kind archive
known by "NX" at 0
block head at 0
    mark     2 bytes  is "NX"
    count    u16      count of table
block table at 4 repeats
    name     text 12  name
    start    u32      start of content
content until next
"""


def until_next(files: Files) -> bytes:
    table, content, start = b"", b"", 4 + 16 * len(files)
    for name, data in files:
        table += struct.pack("<12sI", name.encode(), start + len(content))
        content += data
    return b"NX" + struct.pack("<H", len(files)) + table + content


# every codec, told by a number of each entry, and digests
SUMMED = """
layout "summed" kind archive
little endian
known by "SEAL" at 0
block head at 0
    mark     4 bytes   is "SEAL"
    where    u64       start of table
    count    u32       count of table
    sha      20 bytes  sha1 of table
    own      32 bytes  sha256 of head
block table repeats
    name     text u16  name
    start    u64       start of content
    stored   u32       stored size of content
    size     u32       size of content
    how      i8        codec of content { 0 none, 1 deflate, 2 gzip, 3 bzip2, 4 lzma, 5 xz, 6 lz4, 7 lz4frame, 8 zstd }
    digest   16 bytes  md5 of content
    hash     u32       xxh32 of stored content
"""
ENCODERS: tuple[Callable[[bytes], bytes], ...] = (
    bytes,
    lambda data: zlib.compress(data, 9)[2:-4],
    lambda data: gzip.compress(data, mtime=1),
    bz2.compress,
    lambda data: lzma.compress(data, lzma.FORMAT_ALONE),
    lambda data: lzma.compress(data, check=lzma.CHECK_CRC32),
    lambda data: lz4.block.compress(data, mode="high_compression", store_size=False),
    lz4.frame.compress,
    zstandard.ZstdCompressor(level=1).compress,
)


def summed(files: Files) -> bytes:
    body, table = b"", b""
    for number, (name, data) in enumerate(files):
        how = number % len(ENCODERS)
        stored = ENCODERS[how](data)
        table += (
            struct.pack("<H", len(name))
            + name.encode()
            + struct.pack("<QIIb", 68 + len(body), len(stored), len(data), how)
        )
        table += hashlib.md5(data).digest() + struct.pack("<I", xxhash.xxh32_intdigest(stored))
        body += stored
    head = b"SEAL" + struct.pack("<QI", 68 + len(body), len(files)) + hashlib.sha1(table).digest()
    return head + hashlib.sha256(head + bytes(32)).digest() + body + table


# parallel arrays: all starts, then all sizes, then all names, one behind the other
ARRAYS = """
layout "arrays" kind archive
little endian
known by "ARR" at 0
block head at 0
    mark     3 bytes  is "ARR"
    count    u8       count of starts
block starts after head repeats
    start    u32      start of content
block sizes after starts repeats with starts
    size     u16      size of content
    mood     i16      kept
block names after sizes repeats with starts align 8 fill 7e
    name     text zero  name
block sums after names repeats with names
    sum      u32      crc32 of content
content align 8 fill 2d
"""


def arrays(files: Files) -> bytes:
    count = len(files)
    names = b"".join(name.encode() + b"\0" for name, _ in files)
    before = 4 + 8 * count
    before += -before % 8
    position, starts, content = before + len(names) + 4 * count, [], b""
    for _, data in files:
        content += b"-" * (-(position + len(content)) % 8)
        starts.append(position + len(content))
        content += data
    sizes = b"".join(struct.pack("<Hh", len(data), -number) for number, (_, data) in enumerate(files))
    head = b"ARR" + bytes([count]) + struct.pack(f"<{count}I", *starts) + sizes
    sums = b"".join(struct.pack("<I", zlib.crc32(data)) for _, data in files)
    return head.ljust(before, b"~") + names + sums + content


# names in a pool, to which the records point in another order; one name is the end of another
POOL = """
layout "pool" kind archive
little endian
known by "POOL" at 0
block head at 0
    mark     4 bytes   is "POOL"
    count    u16       count of table
    bytes    u16       length of pool
    pool_at  u32       start of pool
block table at 12 repeats
    start    u32       start of content
    name_at  u16 x 1 plus 0  start of name
    size     u32 big   size of content
block pool repeats
    text     text zero in cp1252  names
"""


def pool(files: Files) -> bytes:
    texts = b"nobody's\0" + b"".join(b"in-" + name.encode("cp1252") + b"\0" for name, _ in reversed(files))
    start, content, table = 12 + 10 * len(files), b"", b""
    for name, data in files:
        table += struct.pack("<IH", start + len(content), texts.index(name.encode("cp1252") + b"\0")) + struct.pack(
            ">I", len(data)
        )
        content += data
    return struct.pack("<4sHHI", b"POOL", len(files), len(texts), start + len(content)) + table + content + texts


# entries in a row, each with its own record before its content, until a mark; records at multiples of 8, content of 4
ROW = """
layout "in a row" kind archive
big endian
known by "ROW!" at 0
block head at 0
    mark     4 bytes  is "ROW!"
    total    u32      length of file
block entry after head repeats until "<end" align 8 fill 3d
    mood     u8       kept
    name     text u16 name
    stored   u16 x 1 xor 0x55   stored size of content
    size     u32 little size of content
    how      u8       codec of content { 0 none, 2 zlib }
    check    u32      crc32 of stored content
    data     bytes    content
block foot after entry align 8 fill 3d
    mark     4 bytes  is "<end"
    count    u32      count of entry
content align 4 fill 2b
"""


def in_a_row(files: Files) -> bytes:
    out = bytearray(b"ROW!\0\0\0\0")
    for number, (name, data) in enumerate(files):
        how = 2 * (number % 2)
        stored = zlib.compress(data) if how else data
        out += b"=" * (-len(out) % 8) + struct.pack(">BH", number % 256, len(name)) + name.encode()
        out += (
            struct.pack(">H", len(stored) ^ 0x55)
            + struct.pack("<IB", len(data), how)
            + struct.pack(">I", zlib.crc32(stored))
        )
        out += b"+" * (-len(out) % 4) + stored
    out += b"=" * (-len(out) % 8) + b"<end" + struct.pack(">I", len(files))
    struct.pack_into(">I", out, 4, len(out))
    return bytes(out)


# the same without a count or a mark: until the end of the file, or as many as the head says
STREAM = """
layout "until the end" kind archive
little endian
known by "ST" at 0
block head at 0
    mark     2 bytes  is "ST"
block entry after head repeats until end
    size     u16      size of content
    name     text zero name
    data     bytes    content
"""


def stream(files: Files) -> bytes:
    return b"ST" + b"".join(struct.pack("<H", len(data)) + name.encode() + b"\0" + data for name, data in files)


COUNTED = """
layout "counted" kind archive
little endian
known by "CT" at 0
block head at 0
    mark     2 bytes  is "CT"
    count    u16      count of entry
    first    u32      start of entry
block entry repeats
    name     text 16  name
    size     u32      size of content
    sum      8 bytes  xxh64 of content
    data     bytes    content
"""


def counted(files: Files) -> bytes:
    records = b"".join(
        struct.pack("<16sI", name.encode(), len(data)) + xxhash.xxh64(data).digest() + data for name, data in files
    )
    return b"CT" + struct.pack("<HI", len(files), 11) + b"..." + records


SAMPLES: Files = (
    ("bell.ring", b"RING" + bytes(range(60))),
    ("empty.lst", b""),
    ("letter.txt", b"The stair is not dry.\n" * 9),
    ("odd", b"\x00\xff\x00"),
    ("tide.csv", b"hour;height\n1;2.5\n"),
)
FORMATS: dict[str, tuple[str, Callable[[Files], bytes]]] = {
    "fixed": (FIXED, fixed),
    "zero": (ZERO, zero),
    "packed": (PACKED, packed),
    "footer": (FOOTER, footer),
    "marked": (MARKED, marked),
    "next": (NEXT, until_next),
    "summed": (SUMMED, summed),
    "arrays": (ARRAYS, arrays),
    "pool": (POOL, pool),
    "row": (ROW, in_a_row),
    "stream": (STREAM, stream),
    "counted": (COUNTED, counted),
}
COMPRESSED = ("packed", "summed", "row")  # their writers compress with settings of their own


# strict loaders of those whose writers compress in another way than we do


def _take(data: bytes, start: int, size: int) -> bytes:
    if start < 0 or start + size > len(data):
        raise ValueError(f"{size} bytes at {start} of {len(data)}")
    return data[start : start + size]


def load_packed(data: bytes) -> dict[str, bytes]:
    mark, files, length, where = struct.unpack_from("<3sBII", data)
    found, at, before = {}, 16 * where, b""
    assert mark == b"PKD" and at + length == len(data)
    for _ in range(files):
        name = data[at + 1 : at + 1 + data[at]]
        start, stored, size, how, check = struct.unpack_from("<IIIBI", data, at + 1 + len(name))
        at += 1 + len(name) + 17
        content = _take(data, 16 * start, stored)
        content = zlib.decompress(content) if how == 8 else content
        assert name >= before and len(content) == size and zlib.crc32(content) == check
        found[name.decode("cp1252")], before = content, name
    assert at == len(data)
    return found


DECODERS: tuple[Callable[[bytes, int], bytes], ...] = (
    lambda data, size: data,
    lambda data, size: zlib.decompress(data, -15),
    lambda data, size: gzip.decompress(data),
    lambda data, size: bz2.decompress(data),
    lambda data, size: lzma.decompress(data, lzma.FORMAT_ALONE),
    lambda data, size: lzma.decompress(data, lzma.FORMAT_XZ),
    lambda data, size: lz4.block.decompress(data, uncompressed_size=size),
    lambda data, size: lz4.frame.decompress(data),
    lambda data, size: zstandard.ZstdDecompressor().decompress(data, max_output_size=size),
)


def load_summed(data: bytes) -> dict[str, bytes]:
    where, count = struct.unpack_from("<QI", data, 4)
    table, found, at = data[where:], {}, 0
    assert data[16:36] == hashlib.sha1(table).digest()
    assert data[36:68] == hashlib.sha256(data[:36] + bytes(32)).digest()
    for _ in range(count):
        (length,) = struct.unpack_from("<H", table, at)
        name = table[at + 2 : at + 2 + length].decode()
        start, stored, size, how = struct.unpack_from("<QIIb", table, at + 2 + length)
        digest, check = struct.unpack_from("<16sI", table, at + 2 + length + 17)
        at += 2 + length + 37
        packed = _take(data, start, stored)
        found[name] = DECODERS[how](packed, size)
        assert len(found[name]) == size and hashlib.md5(found[name]).digest() == digest
        assert xxhash.xxh32_intdigest(packed) == check
    assert at == len(table)
    return found


def load_row(data: bytes) -> dict[str, bytes]:
    assert data[:4] == b"ROW!" and struct.unpack_from(">I", data, 4)[0] == len(data)
    at, found = 8, {}
    while True:
        at += -at % 8
        if data.startswith(b"<end", at):
            break
        length = struct.unpack_from(">BH", data, at)[1]
        name = data[at + 3 : at + 3 + length].decode()
        at += 3 + length
        stored, (size, how) = struct.unpack_from(">H", data, at)[0] ^ 0x55, struct.unpack_from("<IB", data, at + 2)
        check = struct.unpack_from(">I", data, at + 7)[0]
        at += 11 + -(at + 11) % 4
        packed = _take(data, at, stored)
        found[name] = zlib.decompress(packed) if how else packed
        assert zlib.crc32(packed) == check and len(found[name]) == size
        at += stored
    assert struct.unpack_from(">I", data, at + 4)[0] == len(found) and at + 8 == len(data)
    return found


LOADERS: dict[str, Callable[[bytes], dict[str, bytes]]] = {
    "packed": load_packed,
    "summed": load_summed,
    "row": load_row,
}
