"""How long open files are that lie in other bytes, by what their heads store. A function a kind.

Each takes a source and the offset of a signature, and returns the size in bytes (None where the head does not store it), and nothing
when it is no such file after all. Sources: Standard MIDI Files 1.0; ISO/IEC 11172-3 and 13818-3 (MPEG audio); the headers of
bitmaps (BITMAPFILEHEADER), Truevision TGA 2.0, DirectDraw surfaces, KTX 1.1 and 2.0; OpenType 1.9; GNU gettext (.mo).
"""

from __future__ import annotations

import struct

from volvex.source import Source

Measured = tuple[int | None, int | None] | None  # size, what it holds; None when it is no such file after all

RATES = {3: (44100, 48000, 32000), 2: (22050, 24000, 16000), 0: (11025, 12000, 8000)}  # of MPEG 1, 2 and 2.5
BITRATES = {
    3: (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    2: (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
LEAST_FRAMES, MOST_FRAMES = 6, 1 << 16
DIB_HEADS = (12, 40, 52, 56, 64, 108, 124)
BLOCKS = {
    b"DXT1": 8, b"DXT2": 16, b"DXT3": 16, b"DXT4": 16, b"DXT5": 16, b"ATI1": 8, b"ATI2": 16, b"BC4U": 8, b"BC4S": 8, b"BC5U": 16, b"BC5S": 16,
}  # fmt: skip
DX10_BLOCKS = {70: 8, 71: 8, 72: 8, 79: 8, 80: 8, 81: 8} | dict.fromkeys(
    (*range(73, 79), *range(82, 85), *range(94, 100)), 16
)
DX10_PIXELS = {2: 128, 10: 64, 11: 64, 24: 32, 28: 32, 29: 32, 87: 32, 88: 32, 91: 32, 61: 8, 49: 16, 85: 16, 86: 16}


def midi(source: Source, at: int) -> Measured:
    head = source.peek(at, 14)
    if len(head) < 14 or head[4:8] != b"\0\0\0\6":
        return None
    place, tracks = at + 14, int.from_bytes(head[10:12], "big")
    for _ in range(tracks):
        chunk = source.peek(place, 8)
        if chunk[:4] != b"MTrk":
            return None
        place += 8 + int.from_bytes(chunk[4:8], "big")
    return (place - at, None) if tracks and place <= source.size else None


def frame_size(head: bytes) -> int:
    """The bytes of a frame of MPEG audio, layer III; 0 when its head is none."""
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE6 != 0xE2:
        return 0
    version, rate, bits = head[1] >> 3 & 3, head[2] >> 2 & 3, head[2] >> 4
    if version == 1 or rate == 3 or bits in (0, 15):
        return 0
    kilobits = BITRATES[3 if version == 3 else 2][bits - 1]
    return (144 if version == 3 else 72) * kilobits * 1000 // RATES[version][rate] + (head[2] >> 1 & 1)


def mp3(source: Source, at: int) -> Measured:
    place = at
    head = source.peek(at, 10)
    if head[:3] == b"ID3":
        if head[3] not in (2, 3, 4) or any(byte & 0x80 for byte in head[6:10]):
            return None
        place += 10 + sum((byte & 0x7F) << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))
    frames = 0
    while frames < MOST_FRAMES and (size := frame_size(source.peek(place, 4))) and place + size <= source.size:
        place, frames = place + size, frames + 1
    if frames < LEAST_FRAMES:
        return None
    return place + (128 if source.peek(place, 3) == b"TAG" else 0) - at, None


def bmp(source: Source, at: int) -> Measured:
    head = source.peek(at, 30)
    if len(head) < 30 or head[6:10] != b"\0\0\0\0" or int.from_bytes(head[14:18], "little") not in DIB_HEADS:
        return None
    size, data = struct.unpack_from("<I4xI", head, 2)
    return (size, None) if 26 <= data <= size <= source.size - at else None


def tga_size(head: bytes) -> int | None:
    """The least bytes of a TGA file, without its footer; 0 when it is compressed; None when the head is none."""
    if len(head) < 18:
        return None
    ident, mapped, kind, first, length, bits, x, y, width, height, depth, shape = struct.unpack_from(
        "<BBBHHBHHHHBB", head
    )
    if (
        kind not in (1, 2, 3, 9, 10, 11)
        or depth not in (8, 15, 16, 24, 32)
        or not width
        or not height
        or shape & 0xD0
        or x
        or y not in (0, height)
    ):
        return None
    if (
        mapped != (kind in (1, 9))
        or (not mapped and (first or length or bits))
        or (mapped and (not length or bits not in (15, 16, 24, 32)))
    ):
        return None
    if (kind in (3, 11) and depth not in (8, 16)) or (kind in (2, 10) and depth == 8):
        return None
    return 0 if kind > 8 else 18 + ident + length * ((bits + 7) // 8) + width * height * ((depth + 7) // 8)


def tga(source: Source, at: int) -> Measured:
    size = tga_size(source.peek(at, 18))
    if not size or at + size > source.size:  # one that is compressed stores its size nowhere
        return None
    footer = source.peek(at + size, 26)
    return size + (26 if footer[8:24] == b"TRUEVISION-XFILE" else 0), None


def dds(source: Source, at: int) -> Measured:
    head = source.peek(at, 148)
    if len(head) < 128 or head[4:8] != b"\x7c\0\0\0" or head[76:80] != b"\x20\0\0\0":
        return None
    height, width, depth, levels = struct.unpack_from("<II4xII", head, 12)
    flags, code, bits, caps = (*struct.unpack_from("<I4sI", head, 80), int.from_bytes(head[112:116], "little"))
    start, block, faces = 128, BLOCKS.get(code, 0), 6 if caps & 0x200 else 1
    if code == b"DX10" and len(head) == 148:
        form, _, misc, count = struct.unpack_from("<IIII", head, 128)
        start, block, bits = 148, DX10_BLOCKS.get(form, 0), DX10_PIXELS.get(form, 0)
        faces = max(1, count) * (6 if misc & 4 else 1)
    elif flags & 4 and not block:
        return None, None
    if (not block and not bits) or not width or not height or levels > 20 or depth > 1 << 12:
        return None, None
    one = sum(
        _level(max(1, width >> level), max(1, height >> level), block, bits) * max(1, depth >> level if caps & 0x200000 else 1)
        for level in range(max(1, levels))
    )  # fmt: skip
    size = start + one * faces
    return (size, None) if size <= source.size - at else (None, None)


def _level(width: int, height: int, block: int, bits: int) -> int:
    return -(-width // 4) * -(-height // 4) * block if block else (width * bits + 7) // 8 * height


def ktx(source: Source, at: int) -> Measured:
    head = source.peek(at, 80)
    if len(head) < 80:
        return None
    if head[5:7] == b"20":
        levels = max(1, int.from_bytes(head[40:44], "little"))
        index = source.peek(at + 80, 24 * levels)
        ends = [sum(struct.unpack_from("<QQ", index, 24 * level)) for level in range(len(index) // 24)]
        return (max(ends), None) if levels <= 32 and len(ends) == levels and 0 < max(ends) <= source.size - at else None
    order = "<" if head[12:16] == b"\1\2\3\4" else ">"
    faces, levels, extra = struct.unpack_from(f"{order}3I", head, 52)
    place = at + 64 + extra
    for _ in range(max(1, min(levels, 32))):
        told = source.peek(place, 4)
        if len(told) < 4:
            return None
        size = struct.unpack(f"{order}I", told)[0]
        array = int.from_bytes(head[48:52], "little" if order == "<" else "big")
        place += 4 + -(-size // 4) * 4 * (faces if faces == 6 and not array else 1)
    return (place - at, None) if place <= source.size else None


def sfnt(source: Source, at: int, origin: int | None = None) -> Measured:
    count = int.from_bytes(source.peek(at + 4, 2), "big")
    table = source.peek(at + 12, 16 * count)
    if not 4 <= count <= 64 or len(table) < 16 * count:
        return None
    ends = []
    for place in range(0, len(table), 16):
        tag, start, size = struct.unpack_from(">4s4xII", table, place)
        if not all(32 <= byte < 127 for byte in tag):
            return None
        ends.append(start + size)
    size = max(ends)
    size += min(-size % 4, max(0, source.size - at - size))  # tables are filled up to four bytes, the last as well
    end = (at if origin is None else origin) + size
    return (size, None) if end <= source.size and size > 12 + len(table) else None


def ttc(source: Source, at: int) -> Measured:
    head = source.peek(at, 12)
    count = int.from_bytes(head[8:12], "big")
    fonts = source.peek(at + 12, 4 * count) if head[4:8] in (b"\0\1\0\0", b"\0\2\0\0") and 0 < count <= 256 else b""
    ends = [sfnt(source, at + int.from_bytes(fonts[place : place + 4], "big"), at) for place in range(0, len(fonts), 4)]
    sizes = [end[0] for end in ends if end is not None and end[0] is not None]
    return (max(sizes), None) if sizes and len(sizes) == count else None


def woff(source: Source, at: int) -> Measured:
    size = int.from_bytes(source.peek(at + 8, 4), "big")
    return (size, None) if 44 <= size <= source.size - at else None


def mo(source: Source, at: int) -> Measured:
    head = source.peek(at, 28)
    if len(head) < 28:
        return None
    order = "<" if head[0] == 0xDE else ">"
    revision, count, first, second = struct.unpack_from(f"{order}4I", head, 4)
    if revision >> 16 > 1 or not 0 < count < 1 << 20 or min(first, second) < 28:
        return None
    ends = [28]
    for table in (first, second):
        data = source.peek(at + table, 8 * count)
        if len(data) < 8 * count:
            return None
        ends += [size + start + 1 for size, start in struct.iter_unpack(f"{order}2I", data)]
    return (max(ends), None) if max(ends) <= source.size - at else None
