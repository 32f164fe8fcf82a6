"""More families: what real archives needed besides the first. A layout, a writer and a strict loader each, in plain Python."""

from __future__ import annotations

import struct
import zlib

from tests.families import Family, Files, Reader, aligned, expect, span

# texts filled up to a multiple, sizes with an escape, ends in place of sizes, numbers in digits; conditions of several tests;
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
content align 16 fill 2d
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


MORE: dict[str, Family] = {
    "ledger": Family(LEDGER, ledger, load_ledger),
}
