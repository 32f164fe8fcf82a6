"""Pictures. Sources: PNG 1.2; BITMAPFILEHEADER; Truevision TGA 2.0; DirectDraw surfaces; KTX 1.1 and 2.0."""

from __future__ import annotations

import re
import struct

from volvex.archive.detect.types._base import FileType, Measured, riff_length, until
from volvex.source import Source

_DIB_HEADS = (12, 40, 52, 56, 64, 108, 124)
_BLOCKS = {
    b"DXT1": 8,
    b"DXT2": 16,
    b"DXT3": 16,
    b"DXT4": 16,
    b"DXT5": 16,
    b"ATI1": 8,
    b"ATI2": 16,
    b"BC4U": 8,
    b"BC4S": 8,
    b"BC5U": 16,
    b"BC5S": 16,
}
_DX10_BLOCKS = {70: 8, 71: 8, 72: 8, 79: 8, 80: 8, 81: 8} | dict.fromkeys(
    (*range(73, 79), *range(82, 85), *range(94, 100)), 16
)
_DX10_PIXELS = {2: 128, 10: 64, 11: 64, 24: 32, 28: 32, 29: 32, 87: 32, 88: 32, 91: 32, 61: 8, 49: 16, 85: 16, 86: 16}


def _png_length(source: Source, at: int) -> Measured:
    place = at + 8
    while place + 12 <= source.size:
        size, kind = struct.unpack(">I4s", source.read(place, 8))
        if size > 1 << 30 or not kind.isalpha():
            return None
        place += 12 + size
        if kind == b"IEND":
            return place - at, None
    return None


def _png_detail(head: bytes) -> str:
    colours = {0: "grey", 2: "RGB", 3: "palette", 4: "grey with alpha", 6: "RGBA"}
    return "{} x {}, {} bits, {}".format(*struct.unpack_from(">IIB", head, 16), colours[head[25]])


def _is_sgi(head: bytes) -> bool:
    """Stored plainly or in runs, 1 or 2 bytes a channel, 1 to 3 dimensions. Source: The SGI Image File Format 1.00."""
    return len(head) >= 12 and head[2] < 2 and head[3] in (1, 2) and 1 <= int.from_bytes(head[4:6], "big") <= 3


def _sgi_detail(head: bytes) -> str:
    return "{} x {}, {} channels".format(*struct.unpack_from(">3H", head, 6))


def _jpeg_length(source: Source, at: int) -> Measured:
    """To the first end of an image, unless it does not begin as they do."""
    return until(source, at, b"\xff\xd9", 2) if source.peek(at + 3, 1) in (b"\xe0", b"\xe1", b"\xdb") else None


def _gif_length(source: Source, at: int) -> Measured:
    return until(source, at, b"\0\x3b", 2) if source.peek(at + 4, 2) in (b"7a", b"9a") else None


def _gif_detail(head: bytes) -> str:
    return "{}, {} x {}".format(head[3:6].decode("ascii"), *struct.unpack_from("<HH", head, 6))


def _bmp_length(source: Source, at: int) -> Measured:
    head = source.peek(at, 30)
    if len(head) < 30 or head[6:10] != b"\0\0\0\0" or int.from_bytes(head[14:18], "little") not in _DIB_HEADS:
        return None
    size, data = struct.unpack_from("<I4xI", head, 2)
    return (size, None) if 26 <= data <= size <= source.size - at else None


def _is_bmp(head: bytes) -> bool:
    return head.startswith(b"BM") and head[6:10] == bytes(4) and int.from_bytes(head[14:18], "little") in _DIB_HEADS


def _bmp_detail(head: bytes) -> str:
    if head[14] == 12:
        return "{} x {}, {} bits".format(*struct.unpack_from("<HH2xH", head, 18))
    width, height, bits = struct.unpack_from("<ii2xH", head, 18)
    return f"version { ({40: 3, 108: 4, 124: 5}.get(head[14], 3)) }, {width} x {abs(height)}, {bits} bits"


def _tga_length(source: Source, at: int) -> Measured:
    size = _tga_size(source.peek(at, 18))
    if not size or at + size > source.size:  # one that is compressed stores its size nowhere
        return None
    footer = source.peek(at + size, 26)
    return size + (26 if footer[8:24] == b"TRUEVISION-XFILE" else 0), None


def _tga_size(head: bytes) -> int | None:
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


def _tga_detail(head: bytes) -> str:
    width, height, depth = struct.unpack_from("<HHB", head, 12)
    return f"{width} x {height}, {depth} bits" + (", run-length" if head[2] > 8 else "")


def _dds_length(source: Source, at: int) -> Measured:
    head = source.peek(at, 148)
    if len(head) < 128 or head[4:8] != b"\x7c\0\0\0" or head[76:80] != b"\x20\0\0\0":
        return None
    height, width, depth, levels = struct.unpack_from("<II4xII", head, 12)
    flags, code, bits, caps = (*struct.unpack_from("<I4sI", head, 80), int.from_bytes(head[112:116], "little"))
    start, block, faces = 128, _BLOCKS.get(code, 0), 6 if caps & 0x200 else 1
    if code == b"DX10" and len(head) == 148:
        form, _, misc, count = struct.unpack_from("<IIII", head, 128)
        start, block, bits = 148, _DX10_BLOCKS.get(form, 0), _DX10_PIXELS.get(form, 0)
        faces = max(1, count) * (6 if misc & 4 else 1)
    elif flags & 4 and not block:
        return None, None
    if (not block and not bits) or not width or not height or levels > 20 or depth > 1 << 12:
        return None, None
    number = sum(
        _level(max(1, width >> level), max(1, height >> level), block, bits)
        * max(1, depth >> level if caps & 0x200000 else 1)
        for level in range(max(1, levels))
    )
    size = start + number * faces
    return (size, None) if size <= source.size - at else (None, None)


def _level(width: int, height: int, block: int, bits: int) -> int:
    return -(-width // 4) * -(-height // 4) * block if block else (width * bits + 7) // 8 * height


def _dds_detail(head: bytes) -> str:
    height, width, levels = struct.unpack_from("<II8xI", head, 12)
    code = head[84:88].rstrip(b"\0").decode("ascii")
    form = (
        f"DX10, format {int.from_bytes(head[128:132], 'little')}"
        if code == "DX10"
        else code or f"{int.from_bytes(head[88:92], 'little')} bits"
    )
    return f"{width} x {height}, {form}, {max(1, levels)} mip levels"


def _ktx_length(source: Source, at: int) -> Measured:
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
        data = source.peek(place, 4)
        if len(data) < 4:
            return None
        size = struct.unpack(f"{order}I", data)[0]
        array = int.from_bytes(head[48:52], "little" if order == "<" else "big")
        place += 4 + -(-size // 4) * 4 * (faces if faces == 6 and not array else 1)
    return (place - at, None) if place <= source.size else None


def _ktx_detail(head: bytes) -> str:
    order = "<" if head[12:16] == b"\1\2\3\4" else ">"
    form, width, height, levels = struct.unpack_from(f"{order}I4x2I", head, 28)[:1] + struct.unpack_from(
        f"{order}2I12xI", head, 36
    )
    return f"version 1.1, {width} x {height}, internal format {form:#x}, {max(1, levels)} mip levels"


def _ktx2_detail(head: bytes) -> str:
    form, width, height, levels = struct.unpack_from("<I4x2I12xI", head, 12)
    return f"version 2.0, {width} x {height}, format {form}, {max(1, levels)} mip levels"


def _jpeg_detail(head: bytes) -> str:
    """From the frame header, when that is near the beginning."""
    at = 2
    while at + 9 < len(head) and head[at] == 0xFF:
        if 0xC0 <= head[at + 1] <= 0xCF and head[at + 1] not in (0xC4, 0xC8, 0xCC):
            height, width = struct.unpack_from(">HH", head, at + 5)
            return f"{width} x {height}, {'grey' if head[at + 9] == 1 else 'colour'}"
        at += 2 + int.from_bytes(head[at + 2 : at + 4], "big")
    return ""


def _webp_detail(head: bytes) -> str:
    if head[12:16] == b"VP8X":
        return f"{int.from_bytes(head[24:27], 'little') + 1} x {int.from_bytes(head[27:30], 'little') + 1}"
    if head[12:16] == b"VP8L":
        bits = int.from_bytes(head[21:25], "little")
        return f"{(bits & 0x3FFF) + 1} x {(bits >> 14 & 0x3FFF) + 1}, without loss"
    width, height = struct.unpack_from("<HH", head, 26)
    return f"{width & 0x3FFF} x {height & 0x3FFF}"


def _is_pcx(head: bytes) -> bool:
    if len(head) < 64 or head[1] not in (0, 2, 3, 4, 5) or head[2] != 1 or head[3] not in (1, 2, 4, 8):
        return False
    left, top, right, bottom = struct.unpack_from("<4H", head, 4)
    return bool(left <= right < 0x8000 and top <= bottom < 0x8000)


def _pcx_detail(head: bytes) -> str:
    left, top, right, bottom = struct.unpack_from("<4H", head, 4)
    return f"{right - left + 1} x {bottom - top + 1}, {head[3] * (head[65] if len(head) > 65 else 1)} bits, run-length"


def _pnm_size(head: bytes) -> tuple[int, int] | None:
    match = re.match(rb"P[1-6Ff][ \t\r\n]+(?:#[^\n]*\n\s*)*([0-9]{1,6})\s+([0-9]{1,6})\s", head)
    return (int(match[1]), int(match[2])) if match else None


def _pnm_detail(head: bytes) -> str:
    size = _pnm_size(head)
    return "{} x {}".format(*size) if size else ""


def _ico_detail(head: bytes) -> str:
    count = int.from_bytes(head[4:6], "little")
    sizes = sorted(
        {(head[6 + 16 * at] or 256, head[7 + 16 * at] or 256) for at in range(count) if 7 + 16 * at < len(head)}
    )
    return ", ".join(f"{wide} x {high}" for wide, high in sizes)


def _is_cur(head: bytes) -> bool:
    return 0 < int.from_bytes(head[4:6], "little") <= 64 and len(head) > 21 and not head[9]


def _is_ico(head: bytes) -> bool:
    count, first = int.from_bytes(head[4:6], "little"), int.from_bytes(head[18:22], "little")
    return 0 < count <= 64 and len(head) > 21 and not head[9] and head[10] < 2 and first == 6 + 16 * count


TYPES = (
    FileType("xpm", ((b"/* XPM */", 0), (b"! XPM2", 0))),
    FileType(
        "png", ((b"\x89PNG\r\n\x1a\n", 0),), detail=_png_detail, embedded=rb"\x89PNG\r\n\x1a\n", measure=_png_length
    ),
    FileType(
        "jpeg",
        ((b"\xff\xd8\xff", 0),),
        detail=_jpeg_detail,
        embedded=rb"\xff\xd8\xff",
        measure=_jpeg_length,
        extension="jpg",
    ),
    FileType("gif", ((b"GIF8", 0),), detail=_gif_detail, embedded=rb"GIF8", measure=_gif_length),
    FileType("bmp", fits=_is_bmp, detail=_bmp_detail, embedded=rb"BM.{4}\0\0\0\0", measure=_bmp_length, holds=True),
    FileType(
        "tga",
        fits=lambda head: _tga_size(head) is not None,
        detail=_tga_detail,
        embedded=rb"\0[\0\x01][\x01-\x03]\0\0",
        measure=_tga_length,
        holds=True,
    ),
    FileType("dds", ((b"DDS ", 0),), detail=_dds_detail, embedded=rb"DDS \x7c\0\0\0", measure=_dds_length),
    FileType(
        "ktx",
        ((b"\xabKTX 11\xbb\r\n\x1a\n", 0),),
        detail=_ktx_detail,
        embedded=rb"\xabKTX 11\xbb\r\n\x1a\n",
        measure=_ktx_length,
    ),
    FileType(
        "ktx2",
        ((b"\xabKTX 20\xbb\r\n\x1a\n", 0),),
        detail=_ktx2_detail,
        embedded=rb"\xabKTX 20\xbb\r\n\x1a\n",
        measure=_ktx_length,
    ),
    FileType("webp", ((b"WEBP", 8),), b"RIFF", detail=_webp_detail, embedded=rb"RIFF.{4}WEBP", measure=riff_length),
    FileType("tiff", ((b"II*\0", 0), (b"MM\0*", 0))),
    FileType("ico", ((b"\0\0\1\0", 0),), fits=_is_ico, detail=_ico_detail, holds=True),
    FileType("cur", ((b"\0\0\2\0", 0),), fits=_is_cur, detail=_ico_detail, holds=True),
    FileType("pcx", ((b"\n", 0),), fits=_is_pcx, detail=_pcx_detail, holds=True),
    FileType("pnm", ((b"P", 0),), fits=lambda head: _pnm_size(head) is not None, detail=_pnm_detail, holds=True),
    FileType("qoi", ((b"qoif", 0),)),
    FileType("sgi", ((b"\x01\xda", 0),), fits=_is_sgi, detail=_sgi_detail, holds=True),
    FileType("jp2", ((b"\0\0\0\x0cjP  \r\n\x87\n", 0),)),
    FileType("j2k", ((b"\xff\x4f\xff\x51\0", 0),)),
    FileType("icns", ((b"icns", 0),), fits=lambda head: int.from_bytes(head[4:8], "big") >= 8, holds=True),
)
