"""More families: what real archives needed besides the first. A layout, a writer and a strict loader each, in plain
Python."""

from __future__ import annotations

import struct
import zlib

from tests.families import Family, Files, Reader, aligned, expect, span

# texts filled up to a multiple, sizes with an escape, ends in place of sizes, numbers in digits; conditions of several
# tests;
# checksums over several blocks, over each record, complemented, and without their own bytes

LEDGER = """
layout "ledger" kind archive
little endian
known by "LEDG" at 0
block head at 0
    mark     4 bytes   is "LEDG"
    sum      u32       crc32 of head and table without itself
    whole    u32 xor 0xffffffff   adler32 of table
    last     digits 10             end of table
    count    digits 6 left filled 00   count of table
block table after head repeats
    name     text u16 zero padded 4 filled 2e   name
    kind     text 4 filled 20   kept
    size     u8 escape 0xff u24   size of content
    note     text u8   kept when kind is "png" or size > 600
    longer   u16       kept when note is "long" and size >= 600
    begin    u32       start of content
    end      u32 minus 3   end of content
    sum      u16       crc(bits 16, poly 0x1021, start 0, reflected no, final 0) of record
content in order align 16 fill 2d
"""


def crc_ccitt(data: bytes) -> int:
    state = 0
    for byte in data:
        state ^= byte << 8
        for _ in range(8):
            state = (state << 1 ^ (0x1021 if state & 0x8000 else 0)) & 0xFFFF
    return state


def ledger_record(name: str, content: bytes, start: int) -> bytes:
    text = name.encode() + b"\0"
    out = bytearray(struct.pack("<H", len(text)) + text)
    aligned(out, 4, 0x2E)
    kind = name.rpartition(".")[2][:4].encode()
    out += kind.ljust(4, b" ")
    out += bytes([len(content)]) if len(content) < 255 else b"\xff" + len(content).to_bytes(3, "little")
    if kind == b"png" or len(content) > 600:
        out += b"\4long"
        out += b"\7\0" if len(content) >= 600 else b""
    out += struct.pack("<II", start, start + len(content) + 3)
    return bytes(out) + struct.pack("<H", crc_ccitt(bytes(out) + b"\0\0"))


def ledger(files: Files) -> bytes:
    size = 28 + sum(len(ledger_record(name, content, 0)) for name, content in files)
    table, body = b"", bytearray(size)
    for name, content in files:
        aligned(body, 16, 0x2D)
        table += ledger_record(name, content, len(body))
        body += content
    rest = (
        struct.pack("<I", zlib.adler32(table) ^ 0xFFFFFFFF) + b"%10d" % size + str(len(files)).encode().ljust(6, b"\0")
    )
    body[:size] = b"LEDG" + struct.pack("<I", zlib.crc32(b"LEDG" + rest + table)) + rest + table
    return bytes(body)


def load_ledger(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"LEDG")
    total, whole = read("I"), read("I")
    end, count = int(read.take(10)), int(read.take(6).rstrip(b"\0"))
    expect(total, zlib.crc32(data[:4] + data[8:end]))
    expect(whole, zlib.adler32(data[28:end]) ^ 0xFFFFFFFF)
    for _ in range(count):
        begun = read.at
        text = read.take(read("H"))
        name = text[:-1].decode()
        read.take(-(read.at - begun) % 4)
        kind, size = read.take(4).rstrip(), read("B")
        size = int.from_bytes(read.take(3), "little") if size == 255 else size
        if kind == b"png" or size > 600:
            note = read.take(read("B"))
            if note == b"long" and size >= 600:
                read("H")
        start = read("I")
        expect(read("I") - 3, start + size)
        covered = data[begun : read.at]
        expect(read("H"), crc_ccitt(covered + b"\0\0"))
        expect(start % 16, 0)
        found[name] = span(data, start, size)
    expect(read.at, end)
    return found


# known by its name; the whole file masked; in it a directory that is masked once more and is as long as its records,
# and a part that
# reaches to a foot at the end

VEILED = """
layout "veiled" kind archive
big endian
known by name "*.veil"
part all at 0 until end wrapped in xor(key hex 5a 3c 77)
block head in all at 0
    mark     4 bytes   is "VEIL"
    count    u16       count of table
    begin    u32       start of table
    ends     u32       end of table
block table in all repeats
    name     text u8   name
    start    u32       start of content
    size     u32       size of content
content in all in order align 8
"""


def masked(data: bytes, key: bytes = b"\x5a\x3c\x77") -> bytes:
    return bytes(byte ^ key[at % len(key)] for at, byte in enumerate(data))


def veiled(files: Files) -> bytes:
    out, table = bytearray(14), b""
    for name, content in files:
        start = aligned(out, 8)
        table += bytes([len(name)]) + name.encode() + struct.pack(">II", start, len(content))
        out += content
    out[:14] = b"VEIL" + struct.pack(">HII", len(files), len(out), len(out) + len(table))
    return masked(bytes(out) + table)


def load_veiled(data: bytes) -> dict[str, bytes]:
    read, found = Reader(masked(data), order=">"), {}
    expect(read.take(4), b"VEIL")
    count, read.at = read("H"), read("I")
    for _ in range(count):
        name = read.take(read("B")).decode()
        start, size = read("I"), read("I")
        expect(start % 8, 0)
        found[name] = span(read.data, start, size)
    expect((read.at, Reader(read.data, 10, ">")("I")), (len(data), len(data)))
    return found


# a directory that is masked and as long as its records; contents behind it in a part that reaches to the foot

VAULT = """
layout "vault" kind archive
little endian
known by "VALT" at 0
block head at 0
    mark     4 bytes   is "VALT"
    count    u16       count of table
part index after head as long as its records wrapped in add(key hex 07)
block table in index at 0 repeats
    name     text zero name
    start    u32       start of content
    size     varint    size of content
part body after index align 4 until end - 8 wrapped in zlib
block foot at end - 8
    mark     4 bytes   is "foot"
    files    u32       count of table
content in body in order
"""


def varint(number: int) -> bytes:
    return bytes([number & 127 | 128]) + varint(number >> 7) if number > 127 else bytes([number])


def vault(files: Files) -> bytes:
    table, body = b"", b""
    for name, content in files:
        table += name.encode() + b"\0" + struct.pack("<I", len(body)) + varint(len(content))
        body += content
    out = bytearray(b"VALT" + struct.pack("<H", len(files)) + bytes(byte + 7 & 255 for byte in table))
    aligned(out, 4)
    return bytes(out) + zlib.compress(body, 9) + b"foot" + struct.pack("<I", len(files))


def load_vault(data: bytes) -> dict[str, bytes]:
    expect((data[:4], data[-8:-4]), (b"VALT", b"foot"))
    read = Reader(data[:6] + bytes(byte - 7 & 255 for byte in data[6:]), 4)
    count, rows = read("H"), []
    expect(Reader(data, len(data) - 4)("I"), count)
    for _ in range(count):
        name, start, size, shift = read.zero().decode(), read("I"), 0, 0
        while True:
            byte = read("B")
            size |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                break
        rows.append((name, start, size))
    at = read.at + -read.at % 4
    expect(data[read.at : at], bytes(at - read.at))
    body = zlib.decompress(data[at:-8])
    return {name: span(body, start, size) for name, start, size in rows}


# content hidden by a generator that the record's number starts, and by another that a field of the record starts;
# sorted, so that a
# new entry gives those behind it other numbers

HIDDEN = """
layout "hidden" kind archive
little endian
known by "HIDE" at 0
block head at 0
    mark     4 bytes   is "HIDE"
    count    u16       count of table
block table after head repeats sorted by name
    name     text u8   name
    seed     u16       kept
    tick     u32 big   kept
    start    u32       start of content
    size     u32       size of content
content in order align 4 wrapped in congruential(key from number u32 x 7 plus 1, size 2), xorshift(key from field seed, bits 16, size 2), xor(key from field tick u8)
"""  # noqa: E501


def hidden_mask(number: int, seed: int, tick: int, size: int) -> bytes:
    out, state, turned = bytearray(), number * 7 + 1, seed
    first, second = bytearray(), bytearray()
    while len(first) < size:
        state = (state * 1103515245 + 12345) % (1 << 32)
        first += (state >> 16 & 0xFFFF).to_bytes(2, "little")
    while len(second) < size:
        turned ^= turned << 13 & 0xFFFF
        turned ^= turned >> 17
        turned ^= turned << 5 & 0xFFFF
        second += turned.to_bytes(2, "little")
    out += bytes(one ^ other ^ tick & 255 for one, other in zip(first[:size], second, strict=False))
    return bytes(out)


def hidden(files: Files) -> bytes:
    ordered = sorted(files, key=lambda file: file[0].encode())
    out = bytearray(6 + sum(15 + len(name) for name, _ in files))
    table = b""
    for number, (name, content) in enumerate(ordered):
        start, seed, tick = aligned(out, 4), 77 + 3 * len(name), 5 * len(name)
        table += bytes([len(name)]) + name.encode() + struct.pack("<H", seed) + struct.pack(">I", tick)
        table += struct.pack("<II", start, len(content))
        out += bytes(
            one ^ other for one, other in zip(content, hidden_mask(number, seed, tick, len(content)), strict=True)
        )
    out[: 6 + len(table)] = b"HIDE" + struct.pack("<H", len(files)) + table
    return bytes(out)


def load_hidden(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"HIDE")
    names = []
    for number in range(read("H")):
        name, seed, tick = read.take(read("B")), read("H"), int.from_bytes(read.take(4), "big")
        start, size = read("I"), read("I")
        expect(start % 4, 0)
        mask = hidden_mask(number, seed, tick, size)
        found[name.decode()] = bytes(one ^ other for one, other in zip(span(data, start, size), mask, strict=True))
        names.append(name)
    expect(names, sorted(names))
    return found


# names in a pool of mere bytes, of which each entry tells the start and the length; counts that are one less than they
# are; names in
# UTF-16, whose starts and lengths count characters

POOLED = """
layout "pooled" kind archive
little endian
known by "POOL" at 0
block head at 0
    mark     4 bytes   is "POOL"
    last     u16 plus 1   count of table
    letters  u32 x 2   length of pool
    start    u32       start of pool
block table after head repeats
    at       u32 x 2   start of name
    long     u8 x 2    length of at
    start    u32       start of content
    end      u32       end of content
block pool repeats align 4
    letter   u16       names
content in order align 4
"""


def pooled(files: Files) -> bytes:
    pool, table = b"", b""
    body = bytearray(14 + 13 * len(files))
    for name, content in files:
        start = aligned(body, 4)
        table += struct.pack("<IBII", len(pool) // 2, len(name), start, start + len(content))
        pool += name.encode("utf-16-le")
        body += content
    where = aligned(body, 4)
    body[: 14 + len(table)] = b"POOL" + struct.pack("<HII", len(files) - 1 & 0xFFFF, len(pool) // 2, where) + table
    return bytes(body) + pool


def load_pooled(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(4), b"POOL")
    count, letters, where = read("H") + 1, read("I"), read("I")
    pool = span(data, where, 2 * letters)
    expect(where % 4, 0)
    for _ in range(count):
        at, size, start, end = read("I"), read("B"), read("I"), read("I")
        expect(start % 4, 0)
        found[span(pool, 2 * at, 2 * size).decode("utf-16-le")] = span(data, start, end - start)
    return found


# a row that a record without a name ends; content in the order of the records, each ending where the next starts;
# sorted by name, so
# that new content goes in between; times and permissions

MARCH = """
layout "march" kind archive
big endian
known by "MRCH" at 0
block head at 0
    mark     4 bytes   is "MRCH"
block table after head repeats until hex 00 sorted by name
    name     text u8   name
    when     u32       unix time
    mode     u16       permissions
    start    u32       start of content
block stop after table
    none     u8        is 0
    first    u32       start of contents
content in order until next
"""


def march(files: Files) -> bytes:
    ordered = sorted(files, key=lambda file: file[0].encode())
    at = 4 + sum(11 + len(name) for name, _ in ordered) + 5
    out, body = b"MRCH", b""
    for name, content in ordered:
        out += bytes([len(name)]) + name.encode() + struct.pack(">IHI", 86400 * len(name), 0o644, at + len(body))
        body += content
    return out + b"\0" + struct.pack(">I", at) + body


def load_march(data: bytes) -> dict[str, bytes]:
    read, rows = Reader(data, 4, ">"), []
    expect(data[:4], b"MRCH")
    while (size := read("B")) != 0:
        name = read.take(size).decode()
        expect((read("I") % 86400, read("H")), (0, 0o644))
        rows.append((name, read("I")))
    expect([name for name, _ in rows], sorted(name for name, _ in rows))
    first = read("I")
    if rows:
        expect((first, rows[0][1]), (read.at, read.at))
    starts = [start for _, start in rows]
    expect(starts, sorted(starts))
    return {name: data[start:end] for (name, start), end in zip(rows, [*starts[1:], len(data)], strict=True)}


# one stream of all content, cut every 512 bytes and compressed chunk by chunk; a chunk that is not smaller is bare,
# which a bit of its
# size says; a start of each chunk

STREAM = """
layout "stream" kind archive
little endian
known by "STRM" at 0
block head at 0
    mark     4 bytes   is "STRM"
    count    u16       count of table
    chunks   u16       count of pieces
    size     u32       length of body
block table after head repeats sorted by name
    name     text zero name
    start    u32       start of content
    size     u32       size of content
block pieces after table repeats align 4
    packed   u32       described
    stored   packed bits 0 to 30   stored size of chunk
    how      packed bits 31        codec of chunk { 0 zlib, 1 none }
    start    u32       start of chunk
part body after pieces cut every 512 wrapped in zlib
content in body in order align 2
"""


def deflated(data: bytes, size: int = 512) -> list[tuple[bytes, bool]]:
    """Chunks of a stream, and whether each is bare."""
    parts = [data[at : at + size] for at in range(0, len(data), size)]
    made = [zlib.compress(part, 9) for part in parts]
    return [(part, True) if len(one) >= len(part) else (one, False) for part, one in zip(parts, made, strict=True)]


def stream(files: Files) -> bytes:
    body, table = bytearray(), b""
    for name, content in sorted(files, key=lambda file: file[0].encode()):
        table += name.encode() + b"\0" + struct.pack("<II", aligned(body, 2), len(content))
        body += content
    chunks = deflated(bytes(body))
    out = bytearray(b"STRM" + struct.pack("<HHI", len(files), len(chunks), len(body)) + table)
    aligned(out, 4)
    at = len(out) + 8 * len(chunks)
    for chunk, bare in chunks:
        out += struct.pack("<II", len(chunk) | bare << 31, at)
        at += len(chunk)
    return bytes(out) + b"".join(chunk for chunk, _ in chunks)


def load_stream(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"STRM")
    read = Reader(data, 4)
    count, chunks, size = read("H"), read("H"), read("I")
    rows = [(read.zero(), read("I"), read("I")) for _ in range(count)]
    expect([name for name, _, _ in rows], sorted(name for name, _, _ in rows))
    read.at += -read.at % 4
    lines, body = [(read("I"), read("I")) for _ in range(chunks)], b""
    for packed, start in lines:
        expect(start, read.at)
        stored = read.take(packed & 0x7FFFFFFF)
        chunk = stored if packed >> 31 else zlib.decompress(stored)
        expect(len(chunk), min(512, size - len(body)))
        body += chunk
    expect((len(body), read.at), (size, len(data)))
    for _, start, _ in rows:
        expect(start % 2, 0)
    return {name.decode(): span(body, start, size) for name, start, size in rows}


# chunk sizes of all entries in one table: an entry tells its first chunk and its size; its last chunk is short

LOCKER = """
layout "locker" kind archive
big endian
known by "LOCK" at 0
block head at 0
    mark     4 bytes   is "LOCK"
    count    u16       count of table
    chunks   u32       count of sizes
    begin    u32       start of body
block table after head repeats
    name     text u8   name
    first    u32 x 256 start of content
    size     u32       size of content
block sizes after table repeats
    stored   u16       stored size of chunk
    holds    u16       size of chunk
part body align 16 fill ee cut every 256 bare when equal short wrapped in zlib
content in body in order align 256
"""


def locker(files: Files) -> bytes:
    table, sizes, body, number = b"", b"", b"", 0
    for name, content in files:
        table += bytes([len(name)]) + name.encode() + struct.pack(">II", number if content else 0, len(content))
        for at in range(0, len(content), 256):
            part = content[at : at + 256]
            made = min(zlib.compress(part, 9), part, key=len)
            made = part if len(made) == len(part) else made
            sizes += struct.pack(">HH", len(made), len(part))
            body, number = body + made, number + 1
    out = bytearray(14) + table + sizes
    begin = aligned(out, 16, 0xEE)
    out[:14] = b"LOCK" + struct.pack(">HII", len(files), number, begin)
    return bytes(out) + body


def load_locker(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"LOCK")
    read = Reader(data, 4, ">")
    count, chunks, begin = read("H"), read("I"), read("I")
    rows = [(read.take(read("B")).decode(), read("I"), read("I")) for _ in range(count)]
    sizes, read.at = [(read("H"), read("H")) for _ in range(chunks)], begin
    expect(begin % 16, 0)
    held = []
    for stored, size in sizes:
        raw = read.take(stored)
        held.append(raw if stored == size else zlib.decompress(raw))
        expect(len(held[-1]), size)
    expect(read.at, len(data))
    found = {}
    for name, first, size in rows:
        parts = held[first : first + -(-size // 256)] if size else []
        expect([len(part) for part in parts], [min(256, size - at) for at in range(0, size, 256)])
        found[name] = b"".join(parts)
    return found


# a row of entries that begins right behind the signature, while what is behind each content is filled up to a multiple
# of 16 of the file

BERTH = """
layout "berth" kind archive
little endian
known by "BRT" at 0
block head at 0
    mark     3 bytes   is "BRT"
block entry at 3 repeats until end align 16 fill 3d
    name     text u8   name
    size     u16       size of content
    data     bytes     content
content align 2
"""


def berth(files: Files) -> bytes:
    out = bytearray(b"BRT")
    for number, (name, content) in enumerate(files):
        if number:
            aligned(out, 16, 0x3D)
        out += bytes([len(name)]) + name.encode() + struct.pack("<H", len(content))
        aligned(out, 2)
        out += content
    return bytes(out)


def load_berth(data: bytes) -> dict[str, bytes]:
    read, found = Reader(data), {}
    expect(read.take(3), b"BRT")
    while read.at < len(data):
        name, size = read.take(read("B")).decode(), read("H")
        expect(read.take(-read.at % 2).strip(b"\0"), b"")
        found[name] = read.take(size)
        if read.at < len(data):
            expect(read.take(-read.at % 16).strip(b"\x3d"), b"")
    return found


# records that are no entries: markers that open and close sections, a blank one that ends the row; they are counted,
# and stay where
# they are between those that are entries

MUSTER = """
layout "muster" kind archive
little endian
known by "MUST" at 0
block head at 0
    mark     4 bytes   is "MUST"
    count    u16       count of table
    bytes    u16       length of table
    last     u32       end of table
block table after head repeats except flag is 9
    name     text u8 zero padded 4 counted filled 20   name
    flag     u8        kept
    start    u32       start of content
    size     u32       size of content
content in order align 4
"""


def muster_record(name: str, flag: int, start: int, size: int) -> bytes:
    text = name.encode() + b"\0"
    text += b" " * (-(1 + len(text)) % 4)
    return bytes([len(text)]) + text + struct.pack("<BII", flag, start, size)


def muster(files: Files) -> bytes:
    rows = [(name, 1, content) for name, content in files]
    rows = [("L_START", 9, b""), *rows[:2], ("L_END", 9, b""), *rows[2:], ("", 9, b"")]
    size, table = sum(len(muster_record(name, 0, 0, 0)) for name, _, _ in rows), b""
    out = bytearray(12 + size)
    for name, flag, content in rows:
        start = aligned(out, 4) if flag == 1 else 0
        table += muster_record(name, flag, start, len(content))
        out += content
    out[: 12 + size] = b"MUST" + struct.pack("<HHI", len(rows), size, 12 + size) + table
    return bytes(out)


def load_muster(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"MUST")
    read, found, markers = Reader(data, 4), {}, []
    count, size, last = read("H"), read("H"), read("I")
    for number in range(count):
        text = read.take(read("B"))
        expect((1 + len(text)) % 4, 0)
        name, flag, start, held = text.rstrip(b" ")[:-1].decode(), read("B"), read("I"), read("I")
        if flag == 9:
            markers.append((name, number))
            expect((start, held), (0, 0))
        else:
            found[name] = span(data, start, held)
            expect(start % 4, 0)
    expect((read.at, last), (12 + size, read.at))
    expect([name for name, _ in markers], ["L_START", "L_END", ""])
    expect((markers[0][1], markers[-1][1]), (0, count - 1))
    return found


# a directory of names and sizes only: content lies behind it in a row, in the order of the records, compressed where
# that helps

TALLY = """
layout "tally" kind archive
little endian
known by "TALY" at 0
block head at 0
    mark     4 bytes   is "TALY"
    count    u16 minus 1   count of table
    files    u32       start of table
block table repeats sorted by name
    name     text 24 filled 20   name
    size     u32       size of content
    stored   u32       stored size of content
    how      u8        codec of content { 0 none, 3 zlib }
content after table in order align 4 fill 2e
"""


def tally(files: Files) -> bytes:
    table, body, begin = b"", bytearray(), 10 + 33 * len(files)
    for name, content in sorted(files, key=lambda file: file[0].encode()):
        made = zlib.compress(content, 9)
        how, made = (3, made) if len(made) < len(content) else (0, content)
        table += name.encode().ljust(24) + struct.pack("<IIB", len(content), len(made), how)
        body += b"." * (-(begin + len(body)) % 4) + made
    return b"TALY" + struct.pack("<HI", len(files) + 1, 10) + table + bytes(body)


def load_tally(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"TALY")
    read = Reader(data, 4)
    count, read.at = read("H") - 1, read("I")
    rows = [(read.take(24).rstrip().decode(), read("I"), read("I"), read("B")) for _ in range(count)]
    expect([row[0] for row in rows], sorted(row[0] for row in rows))
    found = {}
    for name, size, stored, how in rows:
        expect(read.take(-read.at % 4).strip(b"."), b"")
        raw = read.take(stored)
        found[name] = zlib.decompress(raw) if how == 3 else raw
        expect(len(found[name]), size)
    expect(read.at, len(data))
    return found


# folders by their whole paths, sorted; entries tell the number of theirs

WHARF = """
layout "wharf" kind archive
big endian
known by "WHRF" at 0
block head at 0
    mark     4 bytes   is "WHRF"
    folders  u8        count of folders
    files    u8        count of files
block folders after head repeats sorted by path
    path     text u8   folder name
    mood     u16       kept
block files after folders repeats
    folder   u8        folder
    name     text u8   name
    start    u16       start of content
    end      u16       end of content
content in order
"""


def wharf(files: Files) -> bytes:
    folders = sorted({name.rpartition("/")[0].encode() for name, _ in files})
    head = (
        b"WHRF" + bytes([len(folders), len(files)]) + b"".join(bytes([len(path)]) + path + b"\0\7" for path in folders)
    )
    at = len(head) + sum(6 + len(name.rpartition("/")[2]) for name, _ in files)
    body = b""
    for name, content in files:
        folder, _, last = name.rpartition("/")
        start = at + len(body)
        head += (
            bytes([folders.index(folder.encode()), len(last)])
            + last.encode()
            + struct.pack(">HH", start, start + len(content))
        )
        body += content
    return head + body


def load_wharf(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"WHRF")
    read, found = Reader(data, 4, ">"), {}
    folders, files = read("B"), read("B")
    paths = []
    for _ in range(folders):
        paths.append(read.take(read("B")).decode())
        read("H")
    expect(paths, sorted(set(paths)))
    for _ in range(files):
        folder, name = paths[read("B")], read.take(read("B")).decode()
        start, end = read("H"), read("H")
        found[f"{folder}/{name}" if folder else name] = span(data, start, end - start)
    return found


# places that count from where their record starts; records of changing size, sorted; sizes in digits

SWELL = """
layout "swell" kind archive
little endian
known by "SWEL" at 0
block head at 0
    mark     4 bytes   is "SWEL"
    count    digits 4 left   count of table
    bytes    u16       length of table
block table after head repeats sorted by name
    name     text u8 padded 2   name
    start    i32 from start of record   start of content
    size     digits 6 octal     size of content
content in order align 8
"""


def swell(files: Files) -> bytes:
    ordered = sorted(files, key=lambda file: file[0].encode())
    names = [bytes([len(name)]) + name.encode() + bytes(-(1 + len(name)) % 2) for name, _ in ordered]
    out, table = bytearray(10 + sum(len(name) + 10 for name in names)), b""
    for name, (_, content) in zip(names, ordered, strict=True):
        start = aligned(out, 8)
        table += name + struct.pack("<i", start - (10 + len(table))) + b"%06o" % len(content)
        out += content
    out[: 10 + len(table)] = b"SWEL" + str(len(files)).encode().ljust(4) + struct.pack("<H", len(table)) + table
    return bytes(out)


def load_swell(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"SWEL")
    read, found = Reader(data, 4), {}
    count, size = int(read.take(4)), read("H")
    for _ in range(count):
        begun = read.at
        name = read.take(read("B")).decode()
        expect(read.take(-(read.at - begun) % 2).strip(b"\0"), b"")
        start, held = begun + read("i"), int(read.take(6), 8)
        expect(start % 8, 0)
        found[name] = span(data, start, held)
    expect(read.at, 10 + size)
    expect(list(found), sorted(found))
    return found


MORE: dict[str, Family] = {
    "ledger": Family(LEDGER, ledger, load_ledger),
    "veiled": Family(VEILED, veiled, load_veiled),
    "vault": Family(VAULT, vault, load_vault),
    "hidden": Family(HIDDEN, hidden, load_hidden),
    "pooled": Family(POOLED, pooled, load_pooled),
    "march": Family(MARCH, march, load_march),
    "stream": Family(STREAM, stream, load_stream),
    "locker": Family(LOCKER, locker, load_locker),
    "berth": Family(BERTH, berth, load_berth),
    "muster": Family(MUSTER, muster, load_muster),
    "tally": Family(TALLY, tally, load_tally),
    "wharf": Family(WHARF, wharf, load_wharf),
    "swell": Family(SWELL, swell, load_swell),
}
