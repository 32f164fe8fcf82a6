"""Archive formats of every family that layouts must express: a layout, a writer and a strict loader each.

Writers and loaders are plain Python and know nothing of the engine; a loader refuses what a game would refuse.
"""

from __future__ import annotations

import hashlib
import struct
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import zstandard
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

Files = Sequence[tuple[str, bytes]]
FILES: Files = (
    ("lamps/argand.txt", b"The wick is trimmed at dusk.\n" * 40),
    ("lamps/fresnel.png", b"\x89PNG\r\n\x1a\n" + bytes(range(200))),
    ("letters/en/arrival.txt", b"The stair is not dry.\n" * 9),
    ("letters/en/empty.txt", b""),
    ("tide.txt", b"hour height\n1 2.5\n"),
)


@dataclass(frozen=True)
class Family:
    """A format: its layout, and code that writes and loads it without the engine."""

    layout: str
    make: Callable[[Files], bytes]
    load: Callable[[bytes], dict[str, bytes]]
    new: str = "lamps/new.txt"  # the name of an entry that can be added
    files: Files = FILES
    names: Callable[[str], str] = field(default=lambda name: name)  # how the archive calls an entry


class Reader:
    """Numbers from bytes, one behind the other; what is not there is an error."""

    def __init__(self, data: bytes, at: int = 0, order: str = "<") -> None:
        self.data, self.at, self.order = data, at, order

    def take(self, size: int) -> bytes:
        if size < 0 or self.at + size > len(self.data):
            raise ValueError(f"{size} bytes at {self.at} of {len(self.data)}")
        self.at += size
        return self.data[self.at - size : self.at]

    def __call__(self, form: str) -> int:
        return int(struct.unpack(self.order + form, self.take(struct.calcsize(self.order + form)))[0])

    def zero(self) -> bytes:
        end = self.data.index(0, self.at)
        text, self.at = self.data[self.at : end], end + 1
        return text


def expect(found: object, wanted: object) -> None:
    """As a strict game does: anything unexpected is a refusal."""
    if found != wanted:
        raise ValueError(f"{found!r}, expected {wanted!r}")


def span(data: bytes, start: int, size: int) -> bytes:
    return Reader(data, start).take(size)


def aligned(out: bytearray, align: int, fill: int = 0) -> int:
    """Fill up to a multiple; where that is."""
    out += bytes([fill]) * (-len(out) % align)
    return len(out)


def fnv1a64(name: str) -> int:
    state = 0xCBF29CE484222325
    for byte in name.encode():
        state = (state ^ byte) * 0x100000001B3 % (1 << 64)
    return state


# 5, 8: no names, only 64-bit hashes by which the table is sorted; content in blocks of which some are bare

KEYED = """
layout "keyed" kind archive
little endian
known by "KEY8" at 0
block head at 0
    mark    4 bytes   is "KEY8"
    files   u32       count of table
    where   u64       start of table
block table repeats sorted by key
    key     u64       name hash
    start   u64       start of content
    stored  u32       stored size of content
    size    u32       size of content
content align 8 as blocks(size 256, sizes before, number u16, bare same, codec zlib)
"""


def in_blocks(data: bytes, size: int = 256) -> bytes:
    """Stored sizes first, then the blocks, each deflated where that helps."""
    parts = [data[at : at + size] for at in range(0, len(data), size)]
    stored = [min(zlib.compress(part, 9), part, key=len) for part in parts]
    return b"".join(struct.pack("<H", len(part)) for part in stored) + b"".join(stored)


def from_blocks(stored: bytes, total: int, size: int = 256) -> bytes:
    count, out = -(-total // size), []
    sizes, at = [Reader(stored, 2 * index)("H") for index in range(count)], 2 * count
    for index, siz in enumerate(sizes):
        wanted, part = min(size, total - index * size), span(stored, at, siz)
        out.append(part if siz == wanted else zlib.decompress(part))
        expect(len(out[-1]), wanted)
        at += siz
    expect(at, len(stored))
    return b"".join(out)


def keyed(files: Files) -> bytes:
    out, rows = bytearray(16), []
    for name, data in files:
        stored = in_blocks(data)
        start = aligned(out, 8)
        rows.append(struct.pack("<QQII", fnv1a64(name), start, len(stored), len(data)))
        out += stored
    out[:16] = b"KEY8" + struct.pack("<IQ", len(rows), len(out))
    return bytes(out) + b"".join(sorted(rows, key=lambda row: struct.unpack_from("<Q", row)[0]))


def load_keyed(data: bytes) -> dict[str, bytes]:
    head, found, before = Reader(data), {}, -1
    expect(head.take(4), b"KEY8")
    count, where = head("I"), head("Q")
    table = Reader(data, where)
    for _ in range(count):
        key, start, stored, size = table("Q"), table("Q"), table("I"), table("I")
        expect(key > before, True)
        expect(start % 8, 0)
        found[f"{key:016x}"] = from_blocks(span(data, start, stored), size)
        before = key
    expect(table.at, len(data))
    return found


# 5, 7: folder hash and file key apart, the extension a number, starts in sectors split over a byte and a masked number

SPLIT = """
layout "split keys" kind archive
big endian
known by "SPLT" at 0
block head at 0
    mark    4 bytes   is "SPLT"
    files   u16       count of table
    pad     u16       is 0
block table after head repeats
    folder  u32       folder hash
    file    u32       name hash
    kind    u8        extension { 0 none, 1 png, 2 txt }
    high    u8        upper start of content
    low     u16 x 16 xor 0x30  start of content
    size    u24       size of content
    date    i24 little kept
content align 16 fill aa
"""


def split(files: Files) -> bytes:
    rows, where = b"", 8 + 18 * len(files)
    out = bytearray(where)
    for name, data in files:
        folder, _, last = name.rpartition("/")
        start = aligned(out, 16, 0xAA)
        sectors = (start ^ 0x30) // 16
        ending = {"png": 1, "txt": 2}.get(last.rpartition(".")[2], 0)
        rows += struct.pack(
            ">IIBBH", zlib.crc32(folder.encode()), zlib.crc32(last.encode()), ending, sectors >> 16, sectors & 0xFFFF
        )
        rows += len(data).to_bytes(3, "big") + (-5).to_bytes(3, "little", signed=True)
        out += data
    out[:where] = b"SPLT" + struct.pack(">HH", len(files), 0) + rows
    return bytes(out)


def load_split(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data, 0, ">"), {}
    expect(head.take(4), b"SPLT")
    count, pad = head("H"), head("H")
    expect(pad, 0)
    for _ in range(count):
        folder, file, kind, sectors = head("I"), head("I"), head("B"), head("B") << 16 | head("H")
        size = int.from_bytes(head.take(3), "big")
        expect(head.take(3), (-5).to_bytes(3, "little", signed=True))
        expect(kind in (0, 1, 2), True)
        found[f"{folder:08x}/{file:08x}"] = span(data, (sectors * 16) ^ 0x30, size)
    return found


# 6: a tree of folders as tables with the first child and how many; names in a pool of UTF-16

TREE = """
layout "tree" kind archive
little endian
known by "TREE" at 0
block head at 0
    mark     4 bytes  is "TREE"
    folders  u16      count of folders
    files    u16      count of files
    names    u32      start of pool
    bytes    u32      length of pool
block folders after head repeats
    name     u32      start of folder name
    first    u16      first folder
    number   u16      folders in it
    file     u16      first file
    files    u16      files in it
block files after folders repeats
    name     u32      start of name
    start    u32 from end of files   start of content
    size     u32      size of content
    mood     u16      kept { 0 calm, 1 rough }
block pool repeats
    text     text zero in utf-16-le  names
content
"""


def tree(files: Files) -> bytes:
    paths = sorted({"/".join(name.split("/")[:depth]) for name, _ in files for depth in range(name.count("/") + 1)})
    order, at = [""], 0
    while at < len(order):  # breadth first, so that the folders of a folder stand together
        below = order[at] + "/" if order[at] else ""
        order += [path for path in paths if path and path.startswith(below) and "/" not in path[len(below) :]]
        at += 1
    pool, rows, records, body = bytearray(), b"", b"", b""

    def text(name: str) -> int:
        pool.extend(name.encode("utf-16-le") + b"\0\0")
        return len(pool) - 2 * len(name) - 2

    done = 0
    for path in order:
        children = [index for index, other in enumerate(order) if other and other.rpartition("/")[0] == path]
        own = [(name, data) for name, data in files if name.rpartition("/")[0] == path]
        rows += struct.pack(
            "<IHHHH", text(path.rpartition("/")[2]), children[0] if children else 0, len(children), done, len(own)
        )
        for name, data in own:
            records += struct.pack("<IIIH", text(name.rpartition("/")[2]), len(body), len(data), done % 2)
            body += data
            done += 1
    where = 16 + len(rows) + len(records) + len(body)
    head = b"TREE" + struct.pack("<HHII", len(order), done, where, len(pool))
    return head + rows + records + body + bytes(pool)


def load_tree(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"TREE")
    folders, files, where, size = head("H"), head("H"), head("I"), head("I")
    expect(where + size, len(data))
    table = [[head("I"), *(head("H") for _ in range(4))] for _ in range(folders)]
    rows = [[head("I"), head("I"), head("I"), head("H")] for _ in range(files)]
    base, seen = head.at, 0

    def text(at: int) -> str:
        reader, units = Reader(data, where + at), b""
        while (unit := reader.take(2)) != b"\0\0":
            units += unit
        return units.decode("utf-16-le")

    def visit(row: int, before: str) -> None:
        nonlocal seen
        name, first, number, file, count = table[row]
        path = before + (text(name) + "/" if text(name) else "")
        for at, start, size, _ in rows[file : file + count]:
            found[path + text(at)] = span(data, base + start, size)
            seen += 1
        for child in range(first, first + number):
            visit(child, path)

    visit(0, "")
    expect(seen, files)
    return found


# 6, 15: a tree of folders within folders, each with its files' records inside; numbers of as many bytes as they need

NESTED = """
layout "nested" kind archive
little endian
known by "NEST" at 0
block head at 0
    mark     4 bytes  is "NEST"
    tree     u32      start of folder
block folder repeats
    name     text u8  folder name
    folders  varint   folders in it
    files    varint   count of entry
    list     bytes    records of entry
block entry repeats
    name     text u8  name
    start    varint plus 8   start of content
    size     varint big      size of content
content
"""


def leb(number: int) -> bytes:
    out = []
    while number > 127:
        out.append(number & 127 | 128)
        number >>= 7
    return bytes([*out, number])


def big_leb(number: int) -> bytes:
    out = [number & 127]
    while number := number >> 7:
        out.insert(0, number & 127 | 128)
    return bytes(out)


def short(text: str) -> bytes:
    return bytes([len(text.encode())]) + text.encode()


def nested(files: Files) -> bytes:
    body = b"".join(data for _, data in files)
    starts = {name: sum(len(data) for _, data in files[:index]) for index, (name, _) in enumerate(files)}

    def folder(path: str) -> bytes:
        below = path + "/" if path else ""
        inner = dict.fromkeys(
            name[len(below) :].split("/")[0]
            for name, _ in files
            if name.startswith(below) and "/" in name[len(below) :]
        )
        own = [(name, data) for name, data in files if name.startswith(below) and "/" not in name[len(below) :]]
        out = short(path.rpartition("/")[2]) + leb(len(inner)) + leb(len(own))
        for name, data in own:
            out += short(name.rpartition("/")[2]) + leb(starts[name]) + big_leb(len(data))
        return out + b"".join(folder(below + text) for text in inner)

    return b"NEST" + struct.pack("<I", 8 + len(body)) + body + folder("")


def load_nested(data: bytes) -> dict[str, bytes]:
    reader, found = Reader(data), {}
    expect(reader.take(4), b"NEST")
    reader.at = reader("I")

    def number(big: bool = False) -> int:
        value = place = 0
        while True:
            byte = reader("B")
            value = value << 7 | byte & 127 if big else value | (byte & 127) << 7 * place
            place += 1
            if byte < 128:
                return value

    def text() -> str:
        return reader.take(reader("B")).decode()

    def folder(before: str) -> None:
        name = text()
        path = before + (name + "/" if name else "")
        folders, files = number(), number()
        for _ in range(files):
            file, start, size = text(), number(), number(True)
            found[path + file] = span(data, 8 + start, size)
        for _ in range(folders):
            folder(path)

    folder("")
    expect(reader.at, len(data))
    return found


# 7, 8: places and sizes packed into bits, the codec a flag, both sizes only where it is set; fixed names of UTF-16

BITS = """
layout "bits" kind archive
little endian
known by "BITS" at 0
block head at 0
    mark     4 bytes  is "BITS"
    files    u16      count of table
block table at 6 repeats
    name     text 64 in utf-16-le   name
    packed   u64      described
    start    packed bits 0 to 31    start of content
    size     packed bits 32 to 59   size of content
    mood     packed bits 60 to 62   kept
    how      packed bits 63         codec of content { 0 none, 1 deflate }
    stored   u32      stored size of content  when how is 1
"""


def deflated(data: bytes) -> bytes:
    made = zlib.compressobj(9, zlib.DEFLATED, -15)
    return made.compress(data) + made.flush()


def bits(files: Files) -> bytes:
    flags = [len(data) > 100 for _, data in files]
    body, table, start = b"", b"", 6 + sum(76 if flag else 72 for flag in flags)
    for index, ((name, data), flag) in enumerate(zip(files, flags, strict=True)):
        stored = deflated(data) if flag else data
        table += name.encode("utf-16-le").ljust(64, b"\0")
        table += struct.pack("<Q", start + len(body) | len(data) << 32 | index % 8 << 60 | flag << 63)
        table += struct.pack("<I", len(stored)) if flag else b""
        body += stored
    return b"BITS" + struct.pack("<H", len(files)) + table + body


def load_bits(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"BITS")
    for _ in range(head("H")):
        name, packed = head.take(64).decode("utf-16-le").rstrip("\0"), head("Q")
        start, size, flag = packed & 0xFFFFFFFF, packed >> 32 & 0xFFFFFFF, packed >> 63
        stored = span(data, start, head("I") if flag else size)
        found[name] = zlib.decompress(stored, -15) if flag else stored
        expect(len(found[name]), size)
    return found


# 8, 4: packed where the two sizes differ; the name's length stands apart from the name, in characters of UTF-16

DIFFER = """
layout "differ" kind archive
big endian
known by "DIFF" at 0
block head at 0
    mark     4 bytes  is "DIFF"
    where    u32      start of table
block table repeats until end
    letters  u8       length of name
    start    u32      start of content
    stored   u32      stored size of content
    size     u32      size of content
    name     text of letters in utf-16-be x 2  name
    hash     u32      fnv1a of lower name
content as zstd when sizes differ
"""


def fnv1a32(data: bytes) -> int:
    state = 0x811C9DC5
    for byte in data:
        state = (state ^ byte) * 0x01000193 % (1 << 32)
    return state


def differ(files: Files) -> bytes:
    body, table = bytearray(8), b""
    for name, data in files:
        packed = zstandard.ZstdCompressor(level=5).compress(data)
        stored = packed if len(packed) < len(data) else data
        raw = name.encode("utf-16-be")
        table += (
            struct.pack(">BIII", len(name), len(body), len(stored), len(data))
            + raw
            + struct.pack(">I", fnv1a32(raw.lower()))
        )
        body += stored
    body[:8] = b"DIFF" + struct.pack(">I", len(body))
    return bytes(body) + table


def load_differ(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data, 0, ">"), {}
    expect(head.take(4), b"DIFF")
    head.at = head("I")
    while head.at < len(data):
        letters, start, stored, size = head("B"), head("I"), head("I"), head("I")
        raw = head.take(2 * letters)
        expect(head("I"), fnv1a32(raw.lower()))
        content = span(data, start, stored)
        found[raw.decode("utf-16-be")] = content if stored == size else zstandard.ZstdDecompressor().decompress(content)
        expect(len(found[raw.decode("utf-16-be")]), size)
    return found


# 8, 9: solid: all content in one stream; the directory at its end, encrypted, with a checksum over the whole of it

SOLID = """
layout "solid" kind archive
little endian
known by "SOLI" at 0
block head at 0
    mark     4 bytes  is "SOLI"
    stored   u32      stored length of data
    size     u32      length of data
    index    u32      length of index
    checksum     u32      crc32 of index
part data after head wrapped in zlib
part index after data align 4 fill 7e wrapped in rolling(key hex 4b, times 5, plus 3)
block table in index at 0 repeats until end
    name     text zero  name
    start    u32      start of content
    size     u32      size of content
content in data align 2 fill 2e
"""


def rolled(data: bytes) -> bytes:
    state, out = 0x4B, bytearray()
    for byte in data:
        out.append(byte ^ state)
        state = (state * 5 + 3) % 256
    return bytes(out)


def solid(files: Files) -> bytes:
    body, table = bytearray(), b""
    for name, data in files:
        table += name.encode() + b"\0" + struct.pack("<II", aligned(body, 2, 0x2E), len(data))
        body += data
    stored, index = zlib.compress(bytes(body), 6), rolled(table)
    head = b"SOLI" + struct.pack("<IIII", len(stored), len(body), len(index), zlib.crc32(index))
    return head + stored + b"~" * (-(len(head) + len(stored)) % 4) + index


def load_solid(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"SOLI")
    stored, size, length, checksum = head("I"), head("I"), head("I"), head("I")
    body = zlib.decompress(head.take(stored))
    expect(len(body), size)
    index = data[-length:]
    expect(head.take(-head.at % 4).strip(b"~") + index, data[len(data) - length :])
    expect(zlib.crc32(index), checksum)
    table = Reader(rolled(index))
    while table.at < length:
        name, start, size = table.zero().decode(), table("I"), table("I")
        found[name] = span(body, start, size)
    return found


# 9: the directory deflated and masked, in front of the content; content in AES, or masked by where it lies

SECRET = """
layout "secret" kind archive
little endian
known by "SECR" at 0
block head at 0
    mark     4 bytes  is "SECR"
    stored   u32      stored length of index
    size     u32      length of index
    pool     u32      start of pool
    files    u16      count of table
    checksum     u32      crc32 of index
part index after head wrapped in xor(key hex 13 57 9b), zlib
block table in index at 0 repeats
    name     u16      start of name
    start    u32      start of content
    size     u32      size of content
    check    u32      crc32 of stored content
block pool in index repeats until end
    text     text zero  names
content align 4 fill 55 wrapped in xor(key from start u32 x 3 plus 7), aes_ctr(key from md5 of name)
"""


def masked(data: bytes, key: bytes) -> bytes:
    return bytes(byte ^ key[index % len(key)] for index, byte in enumerate(data))


def counted(data: bytes, key: bytes) -> bytes:
    made = Cipher(algorithms.AES(key), modes.CTR(bytes(16))).encryptor()
    return made.update(data) + made.finalize()


def place_key(start: int) -> bytes:
    return struct.pack("<I", (start * 3 + 7) % (1 << 32))


def secret(files: Files) -> bytes:
    length = 0
    for turn in range(90):  # the directory's size decides where the content starts, which the directory tells
        out, table, pool = bytearray(22 + length) + b"U" * 4 * (turn // 10), b"", b""
        for name, data in files:
            start = aligned(out, 4, 0x55)
            stored = masked(counted(data, hashlib.md5(name.encode()).digest()), place_key(start))
            table += struct.pack("<HIII", len(pool), start, len(data), zlib.crc32(stored))
            pool += name.encode() + b"\0"
            out += stored
        index = masked(zlib.compress(table + pool, 6), b"\x13\x57\x9b")
        if len(index) == length:
            break
        length = len(index)
    head = struct.pack("<4sIIIHI", b"SECR", length, len(table) + len(pool), len(table), len(files), zlib.crc32(index))
    return head + index + bytes(out[22 + length :])


def load_secret(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"SECR")
    stored, size, where, count, checksum = head("I"), head("I"), head("I"), head("H"), head("I")
    index = head.take(stored)
    expect(zlib.crc32(index), checksum)
    inner = zlib.decompress(masked(index, b"\x13\x57\x9b"))
    expect(len(inner), size)
    table = Reader(inner)
    for _ in range(count):
        at, start, size, check = table("H"), table("I"), table("I"), table("I")
        name = Reader(inner, where + at).zero().decode()
        content = span(data, start, size)
        expect(start % 4, 0)
        expect(zlib.crc32(content), check)
        found[name] = counted(masked(content, place_key(start)), hashlib.md5(name.encode()).digest())
    return found


# 10: a sum over the whole file with its own field as zero; a digest at the tail over all before it

WHOLE = """
layout "whole" kind archive
little endian
known by "WHOL" at 0
block head at 0
    mark     4 bytes  is "WHOL"
    files    u16      count of table
    sum      u32      crc32 of file
    size     u32      length of file
block table at 14 repeats
    name     text 32 filled 20   name
    start    u32      start of content
    size     u32      size of content
"""


def whole(files: Files) -> bytes:
    table, body, start = b"", b"", 14 + 40 * len(files)
    for name, data in files:
        table += name.encode().ljust(32) + struct.pack("<II", start + len(body), len(data))
        body += data
    out = bytearray(struct.pack("<4sHII", b"WHOL", len(files), 0, start + len(body)) + table + body)
    struct.pack_into("<I", out, 6, zlib.crc32(out))
    return bytes(out)


def load_whole(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"WHOL")
    count, number, size = head("H"), head("I"), head("I")
    expect(size, len(data))
    expect(zlib.crc32(data[:6] + bytes(4) + data[10:]), number)
    for _ in range(count):
        name, start, size = head.take(32).decode().rstrip(" "), head("I"), head("I")
        found[name] = span(data, start, size)
    return found


TAILED = """
layout "tailed" kind archive
big endian
known by "TAIL" at end - 4
block foot at end - 32
    files    u32      count of table
    where    u32      start of table
    digest   20 bytes sha1 of file before foot
    mark     4 bytes  is "TAIL"
block table repeats
    name     text u16 name
    start    u32      start of content
    size     u32      size of content
"""


def tailed(files: Files) -> bytes:
    table, body = b"", b""
    for name, data in files:
        table += struct.pack(">H", len(name)) + name.encode() + struct.pack(">II", len(body), len(data))
        body += data
    return body + table + struct.pack(">II", len(files), len(body)) + hashlib.sha1(body + table).digest() + b"TAIL"


def load_tailed(data: bytes) -> dict[str, bytes]:
    foot, found = Reader(data, len(data) - 32, ">"), {}
    count, where = foot("I"), foot("I")
    expect(foot.take(20), hashlib.sha1(data[:-32]).digest())
    expect(foot.take(4), b"TAIL")
    table = Reader(data, where, ">")
    for _ in range(count):
        name, start, size = table.take(table("H")).decode(), table("I"), table("I")
        found[name] = span(data, start, size)
    expect(table.at, len(data) - 32)
    return found


# 11: a package of typed objects: types, objects with id, type, name and place, each type a record of its own

PACKAGE = """
layout "package" kind archive
little endian
known by "PACK" at 0
record lamp
    range    f32          kept
    fuel     u8           kept { 0 oil, 1 gas }
    steps    u8           kept
    table    array of steps u16  kept
record bell
    tone     f16          kept
    name     text u8      kept
block head at 0
    mark     4 bytes  is "PACK"
    types    u16      count of types
    objects  u16      count of objects
    where    u32      start of types
block types repeats
    hash     u32      kept
    name     text u8  type name
block objects after types repeats
    id       u32      id
    type     u16      type
    name     text u8  name
    start    u32      start of content
    size     u32      size of content
content align 4
content when type is 1 align 16
"""
OBJECTS: Files = (
    ("fresnel.lamp", struct.pack("<fBB3H", 14.5, 0, 3, 7, 8, 9)),
    ("harbour.bell", struct.pack("<e", 440.0) + b"\x07harbour"),
    ("argand.lamp", struct.pack("<fBB", 9.0, 1, 0)),
    ("storm.bell", struct.pack("<e", 220.5) + b"\x05storm"),
)
TYPES = ("lamp", "bell")


def package(files: Files) -> bytes:
    out, objects = bytearray(12), b""
    for number, (name, data) in enumerate(files):
        stem, _, kind = name.rpartition(".")
        start = aligned(out, 16 if kind == "bell" else 4)
        objects += (
            struct.pack("<IH", 1000 + number, TYPES.index(kind)) + short(stem) + struct.pack("<II", start, len(data))
        )
        out += data
    types = b"".join(struct.pack("<I", zlib.crc32(name.encode())) + short(name.capitalize()) for name in TYPES)
    out[:12] = b"PACK" + struct.pack("<HHI", len(TYPES), len(files), len(out))
    return bytes(out) + types + objects


def load_package(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"PACK")
    types, objects, where = head("H"), head("H"), head("I")
    table, ids = Reader(data, where), set[int]()
    names = [(table("I"), table.take(table("B")).decode().lower())[1] for _ in range(types)]
    for _ in range(objects):
        ident = table("I")
        expect(ident in ids, False)
        ids.add(ident)
        kind = names[table("H")]
        name, start, size = table.take(table("B")).decode(), table("I"), table("I")
        expect(start % (16 if kind == "bell" else 4), 0)
        found[f"{name}.{kind}"] = span(data, start, size)
    return found


# 12: one layout for several versions, whose order of bytes a mark tells

VERSIONS = """
layout "versions" kind archive
known by "VER" at 2
block head at 0
    order    2 bytes  byte order { "II" little, "MM" big }
    mark     3 bytes  is "VER"
    version  u8       kept
    files    u16      count of table
    flags    u32      kept                  when version >= 2
    narrow   u32      start of table        when version < 3
    wide     u64      start of table        when version >= 3
block note after head when head.version is 3
    text     text u8  kept
block table repeats
    name     text u8  name
    start    u32      start of content      when head.version < 3
    far      u64      start of content      when head.version >= 3
    size     u32      size of content
    date     u32      kept                  when head.version > 1
"""


def versions(version: int, order: str) -> Callable[[Files], bytes]:
    sign = "<" if order == "II" else ">"

    def make(files: Files) -> bytes:
        head = order.encode() + b"VER" + struct.pack(sign + "BH", version, len(files))
        head += struct.pack(sign + "I", 0xABCD) if version >= 2 else b""
        note = b"\x04damp" if version == 3 else b""
        start = len(head) + (8 if version == 3 else 4) + len(note)
        body, table = b"", b""
        for name, data in files:
            table += (
                short(name)
                + struct.pack(sign + ("Q" if version == 3 else "I"), start + len(body))
                + struct.pack(sign + "I", len(data))
            )
            table += struct.pack(sign + "I", 1887) if version > 1 else b""
            body += data
        return head + struct.pack(sign + ("Q" if version == 3 else "I"), start + len(body)) + note + body + table

    return make


def load_versions(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data, 5, {b"II": "<", b"MM": ">"}[data[:2]]), {}
    version, count = head("B"), head("H")
    if version >= 2:
        expect(head("I"), 0xABCD)
    head.at = head("Q" if version == 3 else "I")
    for _ in range(count):
        name, start, size = head.take(head("B")).decode(), head("Q" if version == 3 else "I"), head("I")
        if version > 1:
            expect(head("I"), 1887)
        found[name] = span(data, start, size)
    expect(head.at, len(data))
    return found


# 13, 14: folders as entries, one name twice, shared bytes; alignment and padding that differ by kind of entry

KINDS = """
layout "kinds" kind archive
little endian
known by "KIND" at 0
block head at 0
    mark     4 bytes  is "KIND"
    files    u16      count of table
block table at 6 repeats
    what     u8       file or folder { 0 file, 1 folder }
    name     text zero  name
    start    u32      start of content
    size     u32      size of content
content align 2 fill 2d
content when name ends ".png" align 32 fill ee
"""
MIXED: Files = (
    ("lamps/", b""),
    ("lamps/argand.txt", b"wick"),
    ("lamps/fresnel.png", b"\x89PNG\r\n\x1a\n" + bytes(50)),
    ("lamps/copy.png", b"\x89PNG\r\n\x1a\n" + bytes(50)),
    ("letters/", b""),
    ("tide.txt", b"2.5"),
)


def kinds(files: Files) -> bytes:
    start = 6 + sum(10 + len(name) for name, _ in files)
    out, table, places = bytearray(start), b"", dict[bytes, int]()
    for name, data in files:
        if data not in places and data:
            png = name.endswith(".png")
            places[data] = aligned(out, 32 if png else 2, 0xEE if png else 0x2D)
            out += data
        table += (
            bytes([name.endswith("/")]) + name.encode() + b"\0" + struct.pack("<II", places.get(data, 0), len(data))
        )
    out[:start] = b"KIND" + struct.pack("<H", len(files)) + table
    return bytes(out)


def load_kinds(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"KIND")
    for _ in range(head("H")):
        folder, name, start, size = head("B"), head.zero().decode(), head("I"), head("I")
        expect(bool(folder), name.endswith("/"))
        if size and name.endswith(".png"):
            expect(start % 32, 0)
        found[name] = span(data, start, size)
    return found


# 15: optional parts, arrays, records within records, choice, every width; content in LZSS; the table until the end

ODD = """
layout "odd records" kind archive
little endian
known by "ODD!" at 0
record point
    x        f16      kept
    y        f64 big  kept
record span
    start    u40      start of content
    stored   u24 big  stored size of content
    size     varint   size of content
record short_note
    text     text u8  kept
record long_note
    count    u16      kept
    lines    array of count short_note  kept
    at       point    kept
block head at 0
    mark     4 bytes  is "ODD!"
    where    u56      start of table
block table repeats until end
    name     text u16 x 1 plus 0  name
    flags    u8       kept
    corners  u8       kept
    shape    array of corners point   kept
    date     i48      kept            when flags has 1
    tag      text u8  kept            when flags has 2
    place    span     described
    kind     u8       kept { 0 short, 1 long }
    note     choice by kind { 0 short_note, 1 long_note }  kept
    pair     array of 2 i24  kept
content as lzss(window 1024, shortest 2, start 0, fill 0, order high, pair big, length high)
"""


def naive_lzss(data: bytes) -> bytes:
    """Greedy and slow: flags from the highest bit, pairs of length and place in a window of 1024 that begins at 0."""
    out, at = bytearray(), 0
    while at < len(data):
        flags, items = 0, b""
        for bit in range(7, -1, -1):
            if at >= len(data):
                break
            size, place = 0, 0
            for start in range(max(0, at - 1023), at):
                length = 0
                while length < 65 and at + length < len(data) and data[start + length] == data[at + length]:
                    length += 1
                if length > size:
                    size, place = length, start % 1024
            if size >= 3:
                items += struct.pack(">H", (size - 2) << 10 | place)
                at += size
            else:
                flags |= 1 << bit
                items += data[at : at + 1]
                at += 1
        out += bytes([flags]) + items
    return bytes(out)


def naive_unlzss(stored: bytes, size: int) -> bytes:
    window, at, out, reader = bytearray(1024), 0, bytearray(), Reader(stored, 0, ">")
    while len(out) < size:
        flags = reader("B")
        for bit in range(7, -1, -1):
            if len(out) >= size:
                break
            if flags >> bit & 1:
                run = reader.take(1)
            else:
                pair = reader("H")
                run = b""
                for step in range((pair >> 10) + 2):
                    byte = window[((pair & 1023) + step) % 1024]
                    run += bytes([byte])
                    window[at % 1024] = byte
                    at += 1
                out += run
                continue
            window[at % 1024] = run[0]
            at += 1
            out += run
    expect((len(out), reader.at), (size, len(stored)))
    return bytes(out)


def odd(files: Files) -> bytes:
    body, table = bytearray(11), b""
    for number, (name, data) in enumerate(files):
        flags, stored = number % 4, naive_lzss(data)
        table += struct.pack("<H", len(name)) + name.encode() + bytes([flags, number])
        table += b"".join(struct.pack("<e", index / 2) + struct.pack(">d", 0.1 * index) for index in range(number))
        table += (-9).to_bytes(6, "little", signed=True) if flags & 1 else b""
        table += short("salt") if flags & 2 else b""
        table += len(body).to_bytes(5, "little") + len(stored).to_bytes(3, "big") + leb(len(data)) + bytes([number % 2])
        if number % 2:
            table += (
                struct.pack("<H", 2)
                + short("one")
                + short("")
                + struct.pack("<e", 1.5)
                + struct.pack(">d", float("nan"))
            )
        else:
            table += short("note")
        table += (-1).to_bytes(3, "little", signed=True) + (number).to_bytes(3, "little")
        body += stored
    body[:11] = b"ODD!" + len(body).to_bytes(7, "little")
    return bytes(body) + table


def load_odd(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"ODD!")
    head.at = int.from_bytes(head.take(7), "little")
    while head.at < len(data):
        name, flags, corners = head.take(head("H")).decode(), head("B"), head("B")
        head.take(10 * corners)
        if flags & 1:
            expect(int.from_bytes(head.take(6), "little", signed=True), -9)
        if flags & 2:
            expect(head.take(head("B")), b"salt")
        start, stored = int.from_bytes(head.take(5), "little"), int.from_bytes(head.take(3), "big")
        size = shift = 0
        while True:
            byte = head("B")
            size |= (byte & 127) << shift
            shift += 7
            if byte < 128:
                break
        if head("B"):
            for _ in range(head("H")):
                head.take(head("B"))
            head.take(10)
        else:
            head.take(head("B"))
        expect(head.take(3), b"\xff\xff\xff")
        head.take(3)
        found[name] = naive_unlzss(span(data, start, stored), size)
    return found


# parallel arrays that are sorted by keys in one of them

SORTED = """
layout "sorted arrays" kind archive
little endian
known by "SOAR" at 0
block head at 0
    mark     4 bytes   is "SOAR"
    files    u16       count of keys
block keys after head repeats sorted by key
    key      u32       name hash
block places after keys repeats with keys
    start    u32       start of content
    size     u32       size of content
block sums after places repeats with keys
    sum      u32       adler32 of content
"""


def sorted_arrays(files: Files) -> bytes:
    ordered = sorted(files, key=lambda one: fnv1a32(one[0].encode()))
    base, body, places, sums = 6 + 16 * len(files), b"", b"", b""
    for _, data in ordered:
        places += struct.pack("<II", base + len(body), len(data))
        sums += struct.pack("<I", zlib.adler32(data))
        body += data
    keys = b"".join(struct.pack("<I", fnv1a32(name.encode())) for name, _ in ordered)
    return b"SOAR" + struct.pack("<H", len(files)) + keys + places + sums + body


def load_sorted_arrays(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"SOAR")
    count = head("H")
    keys = [head("I") for _ in range(count)]
    expect(keys, sorted(keys))
    places = [(head("I"), head("I")) for _ in range(count)]
    for key, (start, size) in zip(keys, places, strict=True):
        found[f"{key:08x}"] = span(data, start, size)
        expect(zlib.adler32(found[f"{key:08x}"]), head("I"))
    return found


# records in front of their content whose own size depends on the content's

GROWING = """
layout "growing records" kind archive
known by "GROW" at 0
block head at 0
    mark     4 bytes   is "GROW"
block entry after head repeats until end
    size     varint    size of content
    name     text zero   name
    tail     u8        kept   when size > 127
    data     bytes     content
"""


def growing(files: Files) -> bytes:
    out = b"GROW"
    for name, data in files:
        out += leb(len(data)) + name.encode() + b"\0" + (b"T" if len(data) > 127 else b"") + data
    return out


def load_growing(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"GROW")
    reader, found = Reader(data, 4), {}
    while reader.at < len(data):
        size = shift = 0
        while (byte := reader("B")) > 127:
            size |= (byte & 127) << shift
            shift += 7
        size |= byte << shift
        name = reader.zero().decode()
        if size > 127:
            reader("B")
        found[name] = reader.take(size)
    return found


# three more that nobody planned for: invented after the language was settled, and written down by the book

# chunks with a tag and a size; names of eight letters and three, filled with blanks; the size of all content told
CHUNKS = """
layout "chunks" kind archive
big endian
known by "BANK" at 0
block head at 0
    mark     4 bytes   is "BANK"
    whole    u32 plus 8  length of file
    tag      4 bytes   is "TOC "
    bytes    u32       length of table
block table after head repeats
    stem     text 8 filled 20   name
    ending   text 3 filled 20   extension
    flags    u8        kept { 0 plain, 1 lit }
    start    u32 from start of contents   start of content
    size     u32       size of content
block body after table
    tag      4 bytes   is "BODY"
    where    u32       start of contents
    size     u32       length of contents
content align 4
"""
DOTTED: Files = (
    ("argand.txt", b"The wick is trimmed."),
    ("fresnel.png", b"\x89PNG\r\n\x1a\n" + bytes(9)),
    ("tides", b"1 2.5"),
    ("empty.txt", b""),
)


def chunks(files: Files) -> bytes:
    base, out, table = 16 + 20 * len(files) + 12, bytearray(), b""
    for name, data in files:
        stem, _, ending = name.partition(".")
        start = aligned(out, 4)
        table += (
            stem.encode().ljust(8) + ending.encode().ljust(3) + struct.pack(">BII", len(data) % 2, start, len(data))
        )
        out += data
    body = b"BODY" + struct.pack(">II", base, len(out)) + bytes(out)
    return (
        b"BANK" + struct.pack(">I", 8 + len(table) + len(body)) + b"TOC " + struct.pack(">I", len(table)) + table + body
    )


def load_chunks(data: bytes) -> dict[str, bytes]:
    head, found, last = Reader(data, 0, ">"), {}, 0
    expect(head.take(4), b"BANK")
    expect(head("I") + 8, len(data))
    expect(head.take(4), b"TOC ")
    rows, table = [], Reader(head.take(head("I")), 0, ">")
    while table.at < len(table.data):
        name = ".".join(part.decode().rstrip() for part in (table.take(8), table.take(3)) if part.strip())
        table("B")
        rows.append((name, table("I"), table("I")))
    expect(head.take(4), b"BODY")
    base, size = head("I"), head("I")
    for name, start, length in rows:
        found[name] = span(data, base + start, length)
        last = max(last, base + start + length)
    expect(last, base + size)
    return found


# stored behind its own size, in two forms by a bit of the size; names with a zero that their length counts; the table
# behind a mark
MARKED = """
layout "marked sizes" kind archive
little endian
known by hex 7f 4c 31 at 0
block head at 0
    mark     3 bytes   is hex 7f 4c 31
    version  u8        kept
block foot at last "INDEX"
    mark     5 bytes   is "INDEX"
    where    u32       start of table
    number   u16       count of table
    check    u16       crc(bits 16, poly 0x8005) of table
block table repeats sorted by hash
    hash     u32       djb2(mix xor) of upper name
    name     text u8 zero   name
    start    u32       start of content
    stored   u32       stored size of content
    size     u32       described
    bare     size bits 0 to 30    size of content
    how      size bits 31         codec of content { 0 none, 1 sized(number u32_big, codec deflate) }
"""


def crc16(data: bytes) -> int:
    state = 0
    for byte in data:
        state ^= byte
        for _ in range(8):
            state = state >> 1 ^ (0xA001 if state & 1 else 0)
    return state


def shouted(name: str) -> int:
    state = 5381
    for byte in name.upper().encode():
        state = (state * 33 ^ byte) % (1 << 32)
    return state


def marked_sizes(files: Files) -> bytes:
    body, rows = bytearray(b"\x7fL1\x02"), []
    for name, data in files:
        packed = len(data) > 60
        stored = struct.pack(">I", len(data)) + deflated(data) if packed else data
        rows.append(
            struct.pack("<I", shouted(name))
            + bytes([len(name) + 1])
            + name.encode()
            + b"\0"
            + struct.pack("<III", len(body), len(stored), len(data) | packed << 31)
        )
        body += stored
    table = b"".join(sorted(rows, key=lambda row: struct.unpack_from("<I", row)))
    return bytes(body) + table + b"INDEX" + struct.pack("<IHH", len(body), len(files), crc16(table))


def load_marked_sizes(data: bytes) -> dict[str, bytes]:
    expect(data[:4], b"\x7fL1\x02")
    foot, found, before = Reader(data, data.rindex(b"INDEX") + 5), {}, -1
    where, number, check = foot("I"), foot("H"), foot("H")
    expect(crc16(data[where : data.rindex(b"INDEX")]), check)
    table = Reader(data, where)
    for _ in range(number):
        key, raw = table("I"), table.take(table("B"))
        name = raw[:-1].decode()
        expect((raw[-1:], key, key >= before), (b"\0", shouted(name), True))
        start, stored, size = table("I"), table("I"), table("I")
        content = span(data, start, stored)
        if size >> 31:
            expect(struct.unpack_from(">I", content)[0], size & 0x7FFFFFFF)
            content = zlib.decompress(content[4:], -15)
        expect(len(content), size & 0x7FFFFFFF)
        found[name], before = content, key
    return found


# each entry's record in front of its content, encrypted in blocks with a key of its name; a number of parents for
# folders behind all
PARENTS = """
layout "parents" kind archive
little endian
known by "PRNT" at 0
block head at 0
    mark     4 bytes   is "PRNT"
    files    u16       count of entry
    folders  u16       count of folders
    where    u32       start of folders
block entry after head repeats align 2
    folder   u8        folder
    name     text zero   name
    stored   u24       stored size of content
    size     u24       size of content
    data     bytes     content
block folders repeats
    parent   i8        parent folder
    name     text u8   folder name
content as zlib wrapped in xtea(key from md5 of name, tail zeros)
"""


def teased(data: bytes, key: bytes, decrypt: bool = False) -> bytes:
    """XTEA as its authors wrote it down, 32 rounds, little endian, filled up with zeros."""
    words, out = struct.unpack("<4I", key), b""
    data += bytes(-len(data) % 8)
    for at in range(0, len(data), 8):
        a, b = struct.unpack_from("<II", data, at)
        total = 0x9E3779B9 * 32 % (1 << 32) if decrypt else 0
        for _ in range(32):
            if decrypt:
                b = (b - ((a << 4 ^ a >> 5) + a ^ total + words[total >> 11 & 3])) % (1 << 32)
                total = (total - 0x9E3779B9) % (1 << 32)
                a = (a - ((b << 4 ^ b >> 5) + b ^ total + words[total & 3])) % (1 << 32)
            else:
                a = (a + ((b << 4 ^ b >> 5) + b ^ total + words[total & 3])) % (1 << 32)
                total = (total + 0x9E3779B9) % (1 << 32)
                b = (b + ((a << 4 ^ a >> 5) + a ^ total + words[total >> 11 & 3])) % (1 << 32)
        out += struct.pack("<II", a, b)
    return out


def parents(files: Files) -> bytes:
    folders = [""]
    for name, _ in files:
        parts = name.split("/")[:-1]
        folders += [path for depth in range(len(parts)) if (path := "/".join(parts[: depth + 1])) not in folders]
    out = bytearray(12)
    for name, data in files:
        folder, _, last = name.rpartition("/")
        stored = teased(zlib.compress(data), hashlib.md5(name.encode()).digest())
        aligned(out, 2)
        out += (
            bytes([folders.index(folder)])
            + last.encode()
            + b"\0"
            + len(stored).to_bytes(3, "little")
            + len(data).to_bytes(3, "little")
        )
        out += stored
    where = len(out)
    for path in folders:
        out += struct.pack("<b", folders.index(path.rpartition("/")[0]) if path else -1) + short(
            path.rpartition("/")[2]
        )
    out[:12] = b"PRNT" + struct.pack("<HHI", len(files), len(folders), where)
    return bytes(out)


def load_parents(data: bytes) -> dict[str, bytes]:
    head, found = Reader(data), {}
    expect(head.take(4), b"PRNT")
    files, number, where = head("H"), head("H"), head("I")
    table = Reader(data, where)
    rows: list[Any] = []
    for _ in range(number):
        parent = table("b")
        rows.append(
            (rows[parent] if parent >= 0 else "") + (text + "/" if (text := table.take(table("B")).decode()) else "")
        )
    expect(table.at, len(data))
    for _ in range(files):
        head.at += head.at % 2
        name = rows[head("B")] + head.zero().decode()
        stored, size = (int.from_bytes(head.take(3), "little") for _ in range(2))
        bare = zlib.decompressobj()
        found[name] = bare.decompress(teased(head.take(stored), hashlib.md5(name.encode()).digest(), True))
        expect((len(found[name]), bare.eof, bare.unused_data.strip(b"\0")), (size, True, b""))
    return found


FAMILIES: dict[str, Family] = {
    "keyed": Family(KEYED, keyed, load_keyed, f"{7:016x}", names=lambda name: f"{fnv1a64(name):016x}"),
    "split": Family(
        SPLIT,
        split,
        load_split,
        f"{zlib.crc32(b'lamps'):08x}/{7:08x}",
        names=lambda name: (
            f"{zlib.crc32(name.rpartition('/')[0].encode()):08x}/{zlib.crc32(name.rpartition('/')[2].encode()):08x}"
        ),
    ),
    "tree": Family(TREE, tree, load_tree),
    "nested": Family(NESTED, nested, load_nested),
    "bits": Family(BITS, bits, load_bits),
    "differ": Family(DIFFER, differ, load_differ),
    "solid": Family(SOLID, solid, load_solid),
    "secret": Family(SECRET, secret, load_secret),
    "whole": Family(WHOLE, whole, load_whole),
    "tailed": Family(TAILED, tailed, load_tailed),
    "package": Family(PACKAGE, package, load_package, "new.bell", OBJECTS),
    "version 1": Family(VERSIONS, versions(1, "II"), load_versions),
    "version 2": Family(VERSIONS, versions(2, "MM"), load_versions),
    "version 3": Family(VERSIONS, versions(3, "II"), load_versions),
    "kinds": Family(KINDS, kinds, load_kinds, files=MIXED),
    "odd": Family(ODD, odd, load_odd),
    "sorted arrays": Family(
        SORTED, sorted_arrays, load_sorted_arrays, f"{7:08x}", names=lambda name: f"{fnv1a32(name.encode()):08x}"
    ),
    "growing": Family(GROWING, growing, load_growing),
    "chunks": Family(CHUNKS, chunks, load_chunks, "new.txt", DOTTED),
    "marked sizes": Family(MARKED, marked_sizes, load_marked_sizes),
    "parents": Family(PARENTS, parents, load_parents),
}
