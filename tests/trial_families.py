"""Formats that were invented first and described from the book alone, each mixing several of its constructs: the trial
of the language.

A layout, a writer and a strict loader each, in plain Python.
"""

from __future__ import annotations

import hashlib
import itertools
import struct
import zlib
from collections.abc import Callable

import lz4.block

from tests.families import Family, Files, Reader, aligned, expect, fnv1a32, span
from tests.more_families import masked

# 1 sextant: chunks in one table for all, counted and padded names, complemented checksum, count one more
SEXTANT = """
layout "sextant" kind archive
big endian
known by "SXT1" at 0
block head at 0
    mark    4 bytes    is "SXT1"
    sum     u32 xor 0xffffffff   crc32 of head and table without itself
    count   u16 minus 1   count of table
    chunks  u16        count of sizes
block table after head repeats
    name    text u8 zero padded 4 counted   name
    first   u16 x 256  start of content
    size    u32        size of content
block sizes after table repeats
    stored  u16        stored size of chunk
    holds   u16        size of chunk
part body after sizes cut every 256 bare when equal short wrapped in zlib
content in body in order align 256
"""


def sextant(files: Files) -> bytes:
    table, sizes, body, first = b"", b"", b"", 0
    for name, content in files:
        text = name.encode() + b"\0"
        size = len(text) + -(len(text) + 1) % 4
        table += bytes([size]) + text.ljust(size, b"\0") + struct.pack(">HI", first, len(content))
        for at in range(0, len(content), 256):
            chunk = content[at : at + 256]
            packed = zlib.compress(chunk)
            if len(packed) >= len(chunk):
                packed = chunk
            sizes += struct.pack(">HH", len(packed), len(chunk))
            body += packed
            first += 1
    rest = struct.pack(">HH", len(files) + 1, len(sizes) // 4)
    return b"SXT1" + struct.pack(">I", zlib.crc32(b"SXT1" + rest + table) ^ 0xFFFFFFFF) + rest + table + sizes + body


def load_sextant(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data, order=">"), {}
    expect(read.take(4), b"SXT1")
    total, count, chunks = read("I"), read("H") - 1, read("H")
    rows = []
    for _ in range(count):
        size = read("B")
        expect((size + 1) % 4, 0)
        text = read.take(size)
        raw, _, rest = text.partition(b"\0")
        expect(rest.strip(b"\0"), b"")
        expect(b"\0" in text and len(rest) < 4, True)
        rows.append((raw.decode(), read("H"), read("I")))
    expect(zlib.crc32(data[:4] + data[8 : read.at]) ^ 0xFFFFFFFF, total)
    sizes = [(read("H"), read("H")) for _ in range(chunks)]
    held, used = [], set()
    for stored, size in sizes:
        raw = read.take(stored)
        held.append(raw if stored == size else zlib.decompress(raw))
        expect(len(held[-1]), size)
    expect(read.at, len(data))
    for name, first, size in rows:
        number = -(-size // 256)
        expect(all(sizes[first + at][1] == 256 for at in range(number - 1)), True)
        content = b"".join(held[first : first + number])
        used |= set(range(first, first + number))
        expect(len(content), size)
        found[name] = content
    expect(used, set(range(chunks)))
    return found


# 2 cairn: read from its end; a zlib directory without its true size; UTF-16 pool with lengths; CRC of each record;
# times
CAIRN = """
layout "cairn" kind archive
little endian
known by "CARN" at end - 4
block foot at end - 14
    count   u16       count of table
    pool    u16       length of names
    where   u16       start of index
    stored  u32       stored length of index
    mark    4 bytes   is "CARN"
part index wrapped in zlib
block table in index at 0 repeats
    name    u16       start of name
    long    u16       length of name
    time    u32       unix time
    start   u32       start of content
    size    u32       size of content
    sum     u16       crc(bits 16, poly 0x8005, start 0, reflected yes, final 0) of record
block names in index after table repeats
    letter  u16       names
content in order align 4
"""


def crc_arc(data: bytes) -> int:
    state = 0
    for byte in data:
        state ^= byte
        for _ in range(8):
            state = state >> 1 ^ (0xA001 if state & 1 else 0)
    return state


def cairn(files: Files) -> bytes:
    out, table, pool = bytearray(), b"", b""
    for name, content in files:
        start = aligned(out, 4)
        text = name.encode("utf-16-le")
        record = struct.pack("<HHIII", len(pool), len(text), 1700000000 + len(table), start, len(content))
        table += record + struct.pack("<H", crc_arc(record + b"\0\0"))
        pool += text
        out += content
    packed = zlib.compress(table + pool)
    aligned(out, 1)
    return bytes(out) + packed + struct.pack("<HHHI", len(files), len(pool), len(out), len(packed)) + b"CARN"


def load_cairn(data: bytes) -> dict[str, bytes]:
    expect(data[-4:], b"CARN")
    count, size, where, stored = struct.unpack("<HHHI", data[-14:-4])
    expect(where + stored, len(data) - 14)
    plain = zlib.decompress(data[where : where + stored])
    expect(len(plain), count * 18 + size)
    read, found = Reader(plain), {}
    pool = plain[count * 18 :]
    for _ in range(count):
        at = read.at
        name, long, time, start, held = read("H"), read("H"), read("I"), read("I"), read("I")
        expect(read("H"), crc_arc(plain[at : at + 16] + b"\0\0"))
        expect(start % 4, 0)
        expect(time >= 1700000000, True)
        expect(start + held <= where, True)
        found[span(pool, name, long).decode("utf-16-le")] = span(data, start, held)
    return found


# 3 kedge: entries in a row with properties until a tag, escaped sizes, a choice per record, an end tag
KEDGE = """
layout "kedge" kind archive
little endian
known by "KEDG" at 0
record property
    tag     u8        kept
    value   u16       kept
record plain
    mood    u8        kept
record marked
    owner   text u8   kept
block head at 0
    mark    4 bytes   is "KEDG"
    count   u32       count of entry
block entry after head repeats until "ENDR" align 4 fill ee
    name    text zero name
    size    u8 escape 0xfe u32   size of content
    kind    u8        kept { 0 plain, 1 marked }
    about   choice by kind { 0 plain, 1 marked }   kept
    props   array until hex ff property   kept
    data    bytes     content
block foot after entry align 4 fill ee
    mark    4 bytes   is "ENDR"
    sum     u32       crc32 of entry
    length  u32       length of file
content align 8 fill ee
"""


def kedge(files: Files) -> bytes:
    out = bytearray(b"KEDG" + struct.pack("<I", len(files)))
    first = None
    for number, (name, content) in enumerate(files):
        aligned(out, 4, 0xEE)
        first = len(out) if first is None else first
        out += name.encode() + b"\0"
        out += bytes([len(content)]) if len(content) < 0xFE else b"\xfe" + struct.pack("<I", len(content))
        out += b"\1\4wick" if number % 2 else b"\0\7"
        out += b"".join(struct.pack("<BH", tag, tag * 3) for tag in range(number % 3)) + b"\xff"
        aligned(out, 8, 0xEE)
        out += content
    end = len(out)
    aligned(out, 4, 0xEE)
    return bytes(out) + b"ENDR" + struct.pack("<II", zlib.crc32(bytes(out[first:end])), len(out) + 12)


def load_kedge(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"KEDG")
    count = read("I")
    first = end = None
    while True:
        expect(read.take(-read.at % 4).strip(b"\xee"), b"")
        if data[read.at : read.at + 4] == b"ENDR":
            break
        first = read.at if first is None else first
        name = read.zero().decode()
        size = read("B")
        size = read("I") if size == 0xFE else size
        kind = read("B")
        expect(kind in (0, 1), True)
        read.take(read("B") if kind else 1)
        while read("B") != 0xFF:
            read("H")
        expect(read.take(-read.at % 8).strip(b"\xee"), b"")
        found[name] = read.take(size)
        end = read.at
    expect(count, len(found))
    read.take(4)
    expect(read("I"), zlib.crc32(data[first:end] if found else b""))
    expect(read("I"), len(data))
    expect(read.at, len(data))
    return found


# 4 lantern: sizes only, key by number, digits, checksum of several parts
LANTERN = """
layout "lantern" kind archive
big endian
known by "LANT" at 0
block head at 0
    mark    4 bytes   is "LANT"
    count   digits 5 filled 30   count of table
    bytes   digits 7 octal  length of file
block table after head repeats
    letters u8        length of name
    flags   u16       kept
    size    u24       size of content
    sum     u8        sum8 of content
    name    text of letters padded 2   name
block check after table
    sum     u32       adler32 of head and table
content after check in order align 16 fill 20
content wrapped in xor(key from number u16 x 259 plus 7)
"""


def lantern(files: Files) -> bytes:
    table = b""
    for name, content in files:
        text = name.encode()
        table += (
            bytes([len(text)])
            + struct.pack(">H", 9)
            + len(content).to_bytes(3, "big")
            + bytes([sum(content) & 255])
            + text
            + bytes(len(text) % 2)
        )
    out = bytearray(20 + len(table))
    for number, (_, content) in enumerate(files):
        aligned(out, 16, 0x20)
        out += masked(content, struct.pack(">H", number * 259 + 7))
    head = b"LANT" + b"%05d%07o" % (len(files), len(out))
    out[: 20 + len(table)] = head + table + struct.pack(">I", zlib.adler32(head + table))
    return bytes(out)


def load_lantern(data: bytes) -> dict[str, bytes]:
    read, found, rows = Reader(data, order=">"), {}, []
    expect(read.take(4), b"LANT")
    count = int(read.take(5))
    expect(int(read.take(7), 8), len(data))
    for _ in range(count):
        letters, _, size, total = read("B"), read("H"), int.from_bytes(read.take(3), "big"), read("B")
        name = read.take(letters).decode()
        expect(read.take(letters % 2).strip(b"\0"), b"")
        rows.append((name, size, total))
    expect(zlib.adler32(data[: read.at]), read("I"))
    for number, (name, size, total) in enumerate(rows):
        expect(read.take(-read.at % 16).strip(b" "), b"")
        found[name] = masked(read.take(size), struct.pack(">H", number * 259 + 7))
        expect(sum(found[name]) & 255, total)
    expect(read.at, len(data))
    return found


# 5 mooring: sorted hashes with names in a pool, folders by parents, ends in place of sizes, starts from contents
MOORING = """
layout "mooring" kind archive
little endian
known by "MOOR" at 0
block head at 0
    mark    4 bytes   is "MOOR"
    folders u16       count of folders
    count   u16       count of table
    bytes   u32       length of pool
    data    u32       start of contents
    long    u32       length of contents
block folders after head repeats
    name    u32       start of folder name
    up      u16       parent folder
block table after folders repeats sorted by hash
    hash    u32       djb2 of lower name
    folder  u16       folder
    name    u32       start of name
    start   u32 from start of contents   start of content
    end     u32 from start of contents   end of content
block pool after table repeats
    text    text zero   names
content align 32
"""


def djb2(data: bytes) -> int:
    state = 5381
    for byte in data:
        state = (state * 33 + byte) & 0xFFFFFFFF
    return state


def mooring(files: Files) -> bytes:
    folders, pool = {"": 0}, bytearray()
    names: dict[str, int] = {}

    def text(name: str) -> int:
        if name not in names:
            names[name] = len(pool)
            pool.extend(name.encode() + b"\0")
        return names[name]

    parts = [(text(""), 0)]
    for path, _ in files:
        here = ""
        for piece in path.split("/")[:-1]:
            up, here = folders[here], (here + "/" + piece if here else piece)
            if here not in folders:
                folders[here] = len(folders)
                parts.append((text(piece), up))
    body, records = bytearray(), []
    for path, content in files:
        folder, _, name = path.rpartition("/")
        start = aligned(body, 32)
        body += content
        records.append((djb2(name.lower().encode()), folders[folder], text(name), start, len(body)))
    records.sort()
    front = 20 + 6 * len(parts) + 18 * len(records) + len(pool)
    start = front + -front % 32
    head = b"MOOR" + struct.pack("<HHIII", len(parts), len(records), len(pool), start, len(body))
    out = (
        head
        + b"".join(struct.pack("<IH", *p) for p in parts)
        + b"".join(struct.pack("<IHIII", *r) for r in records)
        + pool
    )
    return out.ljust(start, b"\0") + body


def load_mooring(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"MOOR")
    folders, count, size, where, long = read("H"), read("H"), read("I"), read("I"), read("I")
    parts = [(read("I"), read("H")) for _ in range(folders)]
    rows = [(read("I"), read("H"), read("I"), read("I"), read("I")) for _ in range(count)]
    expect([r[0] for r in rows], sorted(r[0] for r in rows))
    pool = read.take(size)

    def text(at: int) -> str:
        return pool[at : pool.index(0, at)].decode()

    if count:
        expect(where % 32, 0)
    expect(where + long, len(data))
    for hash_, folder, name, start, end in rows:
        expect(hash_, djb2(text(name).lower().encode()))
        expect(start % 32, 0)
        path = [text(name)]
        while folder:
            expect(parts[folder][1] < folder, True)
            path.insert(0, text(parts[folder][0]))
            folder = parts[folder][1]
        expect(end >= start, True)
        found["/".join(path)] = span(data, where + start, end - start)
    return found


# 6 petrel: a whole file masked, known by its name, versions, markers, starts only
PETREL = """
layout "petrel" kind archive
little endian
known by name "*.petrel"
part all at 0 until end wrapped in add(key hex 11 22 33)
block head in all at 0
    mark    2 bytes   is "PT"
    version u8        kept
    count   u16 minus 1   count of table
    extra   u32       length of file  when version >= 2
block table in all after head repeats except name is "END"
    name    text u8   name
    time    u32       dos time  when head.version >= 2
    start   u32       start of content
content in all in order until next
"""


def petrel(files: Files) -> bytes:
    table, size = b"", sum(len(n) + 9 for n, _ in files) + 12
    at = 9 + size
    for name, content in files:
        table += bytes([len(name)]) + name.encode() + struct.pack("<II", 0x58210000, at)
        at += len(content)
    table += b"\3END" + struct.pack("<II", 0, at)
    data = b"PT\2" + struct.pack("<HI", len(files) + 2, at) + table + b"".join(c for _, c in files)
    return bytes((b + (0x11, 0x22, 0x33)[i % 3]) & 255 for i, b in enumerate(data))


def load_petrel(data: bytes) -> dict[str, bytes]:
    data = bytes((b - (0x11, 0x22, 0x33)[i % 3]) & 255 for i, b in enumerate(data))
    read, rows = Reader(data), []
    expect(read.take(3), b"PT\2")
    count = read("H") - 1
    expect(read("I"), len(data))
    for _ in range(count):
        name = read.take(read("B")).decode()
        read("I")
        rows.append((name, read("I")))
    expect(rows[-1][0], "END")
    expect(rows[-1][1], len(data))
    if len(rows) > 1:
        expect(rows[0][1], read.at)
    found = {}
    for (name, start), (_, end) in itertools.pairwise(rows):
        expect(start <= end, True)
        found[name] = span(data, start, end - start)
    return found


# 7 quern: one logical stream in LZ4 chunks with places; a masked directory as long as its records, ended by a zero;
# sums of records
QUERN = """
layout "quern" kind archive
big endian
known by "QUERN" at 0
block head at 0
    mark    5 bytes   is "QUERN"
    chunks  u16       count of places
    bytes   u32       length of body
part index after head as long as its records wrapped in xor(key hex a7)
block table in index at 0 repeats until hex 00
    name    text u8   name
    start   varint big    start of content
    size    varint big    size of content
    sum     u8        sum8 of record
block stop in index after table
    none    u8        is 0
block places after index repeats
    start   u32       start of chunk
    stored  u16       stored size of chunk
    how     u8        codec of chunk { 0 none, 1 lz4 }
part body after places cut every 512 wrapped in lz4
content in body in order
"""


def leb(n: int) -> bytes:
    out = bytes([n & 127])
    n >>= 7
    while n:
        out = bytes([n & 127 | 128]) + out
        n >>= 7
    return out


def quern(files: Files) -> bytes:
    table, stream = b"", b""
    for name, content in files:
        row = bytes([len(name)]) + name.encode() + leb(len(stream)) + leb(len(content))
        table += row + bytes([sum(row) & 255])
        stream += content
    table = masked(table + b"\0", b"\xa7")
    chunks = []
    for at in range(0, len(stream), 512):
        plain = stream[at : at + 512]
        packed = lz4.block.compress(plain, store_size=False)
        chunks.append((packed, 1) if len(packed) < len(plain) else (plain, 0))
    at = 11 + len(table) + 7 * len(chunks)
    places = b""
    for packed, how in chunks:
        places += struct.pack(">IHB", at, len(packed), how)
        at += len(packed)
    return b"QUERN" + struct.pack(">HI", len(chunks), len(stream)) + table + places + b"".join(c for c, _ in chunks)


def load_quern(data: bytes) -> dict[str, bytes]:
    expect(data[:5], b"QUERN")
    chunks, total = struct.unpack(">HI", data[5:11])
    plain = masked(data, b"\xa7")
    read, rows = Reader(plain, 11, ">"), []

    def number() -> int:
        value = 0
        while True:
            byte = read("B")
            value = value << 7 | byte & 127
            if byte < 128:
                return value

    while plain[read.at]:
        at = read.at
        name = read.take(read("B")).decode()
        start, size = number(), number()
        expect(sum(plain[at : read.at]) & 255, read("B"))
        rows.append((name, start, size))
    read.take(1)
    read.data = data
    table = [(read("I"), read("H"), read("B")) for _ in range(chunks)]
    at, stream = read.at, b""
    for number_, (start, stored, how) in enumerate(table):
        expect(start, at)
        raw = span(data, start, stored)
        at += stored
        want = min(512, total - 512 * number_)
        plain_ = lz4.block.decompress(raw, uncompressed_size=want) if how else raw
        expect(len(plain_), want)
        stream += plain_
    expect(at, len(data))
    expect(len(stream), total)
    return {name: span(stream, start, size) for name, start, size in rows}


# 8 skerry: a tape: records of 64 bytes, then content up to multiples of 32; octal digits, permissions, sums; until the
# end
SKERRY = """
layout "skerry" kind archive
known by "skerry" at 40
block entry at 0 repeats until end align 32
    name    text 40 filled 20   name
    mark    6 bytes   is "skerry"
    mode    digits 4 octal   permissions
    owner   u16 little  owner
    size    digits 8 hexadecimal   size of content
    sum     u32 little   crc32 of record
    data    bytes     content
content align 32
file align 32
"""


def skerry(files: Files) -> bytes:
    out = bytearray()
    for name, content in files:
        aligned(out, 32)
        record = name.encode().ljust(40) + b"skerry" + b"0644" + b"\7\0" + b"%08x" % len(content)
        out += record + struct.pack("<I", zlib.crc32(record + bytes(4)))
        aligned(out, 32)
        out += content
    aligned(out, 32)
    return bytes(out)


def load_skerry(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(len(data) % 32, 0)
    while read.at < len(data):
        at = read.at
        name = read.take(40).rstrip(b" ").decode()
        expect(read.take(6), b"skerry")
        int(read.take(4), 8)
        read("H")
        size = int(read.take(8), 16)
        expect(read("I"), zlib.crc32(data[at : at + 60] + bytes(4)))
        found[name] = read.take(size)
        expect(read.take(-read.at % 32).strip(b"\0"), b"")
    return found


# 9 tern: byte order by a field, bits with a codec, sectors, UTF-16 names whose length counts the zero, upper halves, an
# MD5
TERN = """
layout "tern" kind archive
known by "<TERN" or ">TERN" at 0
block head at 0
    order   1 bytes   byte order { "<" little, ">" big }
    mark    4 bytes   is "TERN"
    where   u16 x 64  start of table
    count   u16       count of table
    digest  16 bytes  md5 of table
block table repeats align 64 fill 2a
    name    text u16 x 2 zero in utf-16   name
    start   u16 x 64  start of content
    packed  u32       described
    size    packed bits 0 to 23    size of content
    how     packed bits 24 to 27   codec of content { 0 none, 2 deflate, 3 gzip }
    stored  u24       stored size of content  when how is not 0
content in order align 64 fill 2a
"""


def tern(files: Files) -> bytes:
    out, table = bytearray(25), b""
    for name, content in files:
        start = aligned(out, 64, 0x2A) // 64
        how = 2 if name.endswith("txt") and content else 0
        c = zlib.compressobj(9, wbits=-15)
        stored = c.compress(content) + c.flush() if how else content
        text = (name + "\0").encode("utf-16-be")
        table += (
            struct.pack(">H", len(text) // 2) + text + struct.pack(">HI", start, len(content) | how << 24 | 0x50000000)
        )
        if how:
            table += len(stored).to_bytes(3, "big")
        out += stored
    where = aligned(out, 64, 0x2A) // 64
    out[:25] = b">TERN" + struct.pack(">HH", where, len(files)) + hashlib.md5(table).digest()
    return bytes(out) + table


def load_tern(data: bytes) -> dict[str, bytes]:
    expect(data[:5], b">TERN")
    read, found = Reader(data, 5, ">"), {}
    read.at, count, digest = read("H") * 64, read("H"), read.take(16)
    begun = read.at
    for _ in range(count):
        text = read.take(read("H") * 2).decode("utf-16-be")
        expect(text[-1], "\0")
        start, packed = read("H") * 64, read("I")
        size, how = packed & 0xFFFFFF, packed >> 24 & 15
        expect(packed >> 28, 5)
        stored = int.from_bytes(read.take(3), "big") if how else size
        raw = span(data, start, stored)
        content = zlib.decompress(raw, {2: -15, 3: 31}[how]) if how else raw
        expect(len(content), size)
        found[text[:-1]] = content
    expect(read.at, len(data))
    expect(hashlib.md5(data[begun:]).digest(), digest)
    return found


# 10 gannet: compressed content without true size, stored size counts its own field, sorted by name without case, hash
# of upper name, key from the hash
GANNET = """
layout "gannet" kind archive
little endian
known by "GNT" at 0
block head at 0
    mark    3 bytes   is "GNT"
    files   varint    count of table
block table after head repeats sorted by hash
    hash    u32       fnv1a of upper name
    name    text varint   name
    start   i32 from start of record   start of content
    stored  u32 minus 4   stored size of content
block stop after table
    mark    u32       is 0
content as zlib
content wrapped in congruential(key from field hash, bits 32, times 69069, plus 1, shift 16, size 2)
content in order align 4
"""


def generated(data: bytes, seed: int) -> bytes:
    out = bytearray()
    while len(out) < len(data):
        seed = (seed * 69069 + 1) & 0xFFFFFFFF
        out += struct.pack("<H", seed >> 16 & 0xFFFF)
    return masked(data, bytes(out)) if data else b""


def low_leb(n: int) -> bytes:
    out = b""
    while n > 127:
        out += bytes([n & 127 | 128])
        n >>= 7
    return out + bytes([n])


def gannet(files: Files) -> bytes:
    rows = sorted((fnv1a32(n.upper().encode()), n, c) for n, c in files)
    head = b"GNT" + low_leb(len(files))
    size = len(head) + 4 + sum(len(low_leb(len(n))) + len(n) + 12 for _, n, _ in rows)
    out, table = bytearray(size), b""
    for hash_, name, content in rows:
        start = aligned(out, 4)
        stored = generated(zlib.compress(content), hash_)
        table += (
            struct.pack("<I", hash_)
            + low_leb(len(name))
            + name.encode()
            + struct.pack("<iI", start - len(head) - len(table), len(stored) + 4)
        )
        out += stored
    out[:size] = head + table + bytes(4)
    return bytes(out)


def load_gannet(data: bytes) -> dict[str, bytes]:
    expect(data[:3], b"GNT")
    read, found = Reader(data, 3), {}

    def number() -> int:
        value = shift = 0
        while True:
            byte = read("B")
            value |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                return value

    before = -1
    last = 0
    for _ in range(number()):
        at = read.at
        hash_ = read("I")
        name = read.take(number()).decode()
        expect(hash_, fnv1a32(name.upper().encode()))
        expect(hash_ >= before, True)
        before = hash_
        start = at + read("i")
        stored = read("I") - 4
        expect(start % 4, 0)
        expect(start >= last, True)
        last = start + stored
        found[name] = zlib.decompress(generated(span(data, start, stored), hash_))
    expect(read("I"), 0)
    return found


# groups: folders with where their own directory lies; records sorted by name within each
HARBOUR = """
layout "harbour" kind archive
little endian
known by "HARB" at 0
block head at 0
    mark    4 bytes   is "HARB"
    count   u16       count of folders
block folders after head repeats
    name    text u8   folder name
    files   u16       count of files
    where   u32       start of files
block files repeats sorted by name align 4
    name    text u8   name
    start   u32       start of content
    size    u16       size of content
content in order align 8
"""


def harbour(files: Files) -> bytes:
    return _grouped(files, b"HARB", None)


def _grouped(files: Files, mark: bytes, wrap: Callable[[bytes], bytes] | None) -> bytes:
    folders: dict[str, list[tuple[str, bytes]]] = {}
    for path, content in files:
        folder, _, name = path.rpartition("/")
        folders.setdefault(folder, []).append((name, content))
    size = 6 + sum(len(f) + (9 if wrap else 7) for f in folders)
    out, table = bytearray(size), b""
    for folder, held in folders.items():
        held.sort()
        starts = []
        for _, content in held:
            starts.append(aligned(out, 8))
            out += content
        where = aligned(out, 4)
        rows = b"".join(
            bytes([len(name)]) + name.encode() + struct.pack("<IH", start, len(content))
            for (name, content), start in zip(held, starts, strict=True)
        )
        out += wrap(rows) if wrap else rows
        table += bytes([len(folder)]) + folder.encode() + struct.pack("<HI", len(held), where)
        table += struct.pack("<H", len(wrap(rows))) if wrap else b""
    out[:size] = mark + struct.pack("<H", len(folders)) + table
    return bytes(out)


def load_harbour(data: bytes) -> dict[str, bytes]:
    return _load_grouped(data, b"HARB", False)


def _load_grouped(data: bytes, mark: bytes, packed: bool) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), mark)
    for _ in range(read("H")):
        folder = read.take(read("B")).decode()
        count, where = read("H"), read("I")
        if count:
            expect(where % 4, 0)
        inner = Reader(data, where)
        if packed:
            stored = read("H")
            expect(stored > 0, count > 0)
            opened = zlib.decompress(span(data, where, stored)) if count else b""
            inner = Reader(opened)
        names = []
        for _ in range(count):
            name = inner.take(inner("B")).decode()
            start, size = inner("I"), inner("H")
            expect(start % 8, 0)
            names.append(name)
            found[(folder + "/" if folder else "") + name] = span(data, start, size)
        if packed:
            expect(inner.at, len(opened))
        expect(names, sorted(names))
    return found


# wrapped groups: the same, each folder's directory compressed
QUAY = (
    HARBOUR.replace("HARB", "QUAY")
    .replace('layout "harbour"', 'layout "quay"')
    .replace(
        "    where   u32       start of files",
        "    where   u32       start of files\n    stored  u16       stored length of files",
    )
    .replace("block files repeats sorted by name align 4", "block files repeats sorted by name align 4 wrapped in zlib")
)


def quay(files: Files) -> bytes:
    return _grouped(files, b"QUAY", zlib.compress)


def load_quay(data: bytes) -> dict[str, bytes]:
    return _load_grouped(data, b"QUAY", True)


# two rows: entries that shipped with the game, and those that came later, each with a count of their own
SLIP = """
layout "slip" kind archive
little endian
known by "SLIP" at 0
block head at 0
    mark    4 bytes   is "SLIP"
    first   u16       count of files
    more    u16       count of late
    where   u32       start of late
block files after head repeats sorted by name
    name    text u8   name
    start   u32       start of content
    size    u32       size of content
block late repeats as files align 4
content align 4
"""


def slip(files: Files) -> bytes:
    half = 2 * len(files) // 3
    rows = [sorted(files[:half]), sorted(files[half:])]
    size = 12 + sum(9 + len(name.encode()) for name, _ in rows[0])
    out, tables = bytearray(size), [b"", b""]
    for at, row in enumerate(rows):
        starts = {}
        for name, content in reversed(row):
            starts[name] = aligned(out, 4)
            out += content
        for name, content in row:
            tables[at] += bytes([len(name.encode())]) + name.encode() + struct.pack("<II", starts[name], len(content))
    where = aligned(out, 4)
    out += tables[1]
    out[:size] = b"SLIP" + struct.pack("<HHI", len(rows[0]), len(rows[1]), where) + tables[0]
    return bytes(out)


def load_slip(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"SLIP")
    first, more, where = read("H"), read("H"), read("I")
    expect(where % 4, 0)
    for at, count in ((12, first), (where, more)):
        row, names = Reader(data, at), []
        for _ in range(count):
            names.append(row.take(row("B")).decode())
            start, size = row("I"), row("I")
            expect(start % 4, 0)
            found[names[-1]] = span(data, start, size)
        expect(names, sorted(names))
    expect(len(found), first + more)
    return found


# links: records that store their number, their length and where the next one starts; and a row of entries that does
LINKS = """
layout "links" kind archive
little endian
known by "LINK" at 0
block head at 0
    mark    4 bytes   is "LINK"
    count   u16       count of table
block table after head repeats
    length  u16       length of record
    next    u32       start of next record
    number  u16 minus 1   number of record
    name    text u8   name
    props   array until hex ff property   kept
    start   u32       start of content
    size    u32       size of content
record ranged
    far     u16       kept
record noted
    text    text u8   kept
record property
    tag     u8        kept
    what    choice by tag { 1 ranged, 2 noted }   kept
content in order align 4
"""


def links(files: Files) -> bytes:
    size = 6 + sum(2 + 4 + 2 + 1 + len(n) + (3 if i % 2 else 4) + 1 + 8 for i, (n, _) in enumerate(files))
    out, table = bytearray(size), b""
    for i, (name, content) in enumerate(files):
        start = aligned(out, 4)
        out += content
        rest = (
            struct.pack("<H", i + 1)
            + bytes([len(name)])
            + name.encode()
            + (b"\1\7\0" if i % 2 else b"\2\2ok")
            + b"\xff"
            + struct.pack("<II", start, len(content))
        )
        length = len(rest) + 6
        end = 6 + len(table) + length
        table += struct.pack("<HI", length, end if i + 1 < len(files) else 0) + rest
    out[:size] = b"LINK" + struct.pack("<H", len(files)) + table
    return bytes(out)


def load_links(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"LINK")
    read, found = Reader(data, 6), {}
    (count,) = struct.unpack("<H", data[4:6])
    for i in range(count):
        begun = read.at
        length, after = read("H"), read("I")
        expect(read("H"), i + 1)
        name = read.take(read("B")).decode()
        while (tag := read("B")) != 0xFF:
            read.take(2 if tag == 1 else read("B"))
        start, size = read("I"), read("I")
        expect(read.at, begun + length)
        expect(after, read.at if i + 1 < count else 0)
        expect(start % 4, 0)
        found[name] = span(data, start, size)
    return found


CHAIN = """
layout "chain" kind archive
big endian
known by "CHAI" at 0
block head at 0
    mark    4 bytes   is "CHAI"
    last    u32       end of entry
block entry after head repeats align 8 fill 2a
    next    u32 from start of record   start of next record
    size    u16       size of content
    name    text zero name
    data    bytes     content
content align 2
"""


def chain(files: Files) -> bytes:
    out = bytearray(8)
    for name, content in files:
        begun = aligned(out, 8, 0x2A)
        out += bytes(4) + struct.pack(">H", len(content)) + name.encode() + b"\0"
        aligned(out, 2)
        out += content
        out[begun : begun + 4] = struct.pack(">I", len(out) + -len(out) % 8 - begun)
    out[:8] = b"CHAI" + struct.pack(">I", len(out))
    return bytes(out)


def load_chain(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"CHAI")
    (end,) = struct.unpack(">I", data[4:8])
    expect(end, len(data))
    at, found = 8, {}
    while at < end:
        read = Reader(data, at, ">")
        after, size, name = read("I"), read("H"), read.zero().decode()
        read.take(read.at % 2)
        found[name] = read.take(size)
        expect(read.at + -read.at % 8, at + after)
        at += after
    return found


TRIAL: dict[str, Family] = {
    "sextant": Family(SEXTANT, sextant, load_sextant),
    "cairn": Family(CAIRN, cairn, load_cairn),
    "kedge": Family(KEDGE, kedge, load_kedge),
    "lantern": Family(LANTERN, lantern, load_lantern),
    "mooring": Family(MOORING, mooring, load_mooring),
    "petrel": Family(PETREL, petrel, load_petrel),
    "quern": Family(QUERN, quern, load_quern),
    "skerry": Family(SKERRY, skerry, load_skerry),
    "tern": Family(TERN, tern, load_tern),
    "gannet": Family(GANNET, gannet, load_gannet),
    "harbour": Family(HARBOUR, harbour, load_harbour),
    "quay": Family(QUAY, quay, load_quay),
    "slip": Family(SLIP, slip, load_slip),
    "links": Family(LINKS, links, load_links),
    "chain": Family(CHAIN, chain, load_chain),
}
