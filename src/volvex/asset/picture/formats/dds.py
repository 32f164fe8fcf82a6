"""DirectDraw surfaces, old headers and DX10: levels, cube maps, arrays, volumes.

Source: "Programming Guide for DDS" (Microsoft), the DXGI formats of Direct3D 11.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from volvex.asset.bounds import check_size
from volvex.asset.picture.model import LINEAR, SRGB, UNKNOWN, Picture
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.codec.pixels.format import PixelFormat
from volvex.errors import FormatError, RefusedError
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("dds",), ("dds",), ()
HEAD = struct.Struct("<4s7I44x8I4I4x")
CUBE, VOLUME = 0x200, 0x200000
ALPHA, FOURCC, RGB, GREY, SIGNED, ALPHA_ONLY = 0x1, 0x4, 0x40, 0x20000, 0x80000, 0x2
CODES = {  # of old headers
    b"DXT1": "bc1",
    b"DXT2": "bc2",
    b"DXT3": "bc2",
    b"DXT4": "bc3",
    b"DXT5": "bc3",
    b"ATI1": "bc4",
    b"BC4U": "bc4",
    b"BC4S": "bc4s",
    b"ATI2": "bc5",
    b"BC5U": "bc5",
    b"BC5S": "bc5s",
    (36).to_bytes(4, "little"): "rgba16",
    (111).to_bytes(4, "little"): "r16f",
    (112).to_bytes(4, "little"): "rg16f",
    (113).to_bytes(4, "little"): "rgba16f",
    (114).to_bytes(4, "little"): "r32f",
    (115).to_bytes(4, "little"): "rg32f",
    (116).to_bytes(4, "little"): "rgba32f",
}
MULTIPLIED = (b"DXT2", b"DXT4")
DXGI = {  # number -> format and colour space
    2: ("rgba32f", LINEAR),
    6: ("rgb32f", LINEAR),
    10: ("rgba16f", LINEAR),
    11: ("rgba16", LINEAR),
    16: ("rg32f", LINEAR),
    24: ("rgb10a2", LINEAR),
    28: ("rgba8", LINEAR),
    29: ("rgba8", SRGB),
    31: ("rgba8s", LINEAR),
    34: ("rg16f", LINEAR),
    35: ("rg16", LINEAR),
    41: ("r32f", LINEAR),
    49: ("rg8", LINEAR),
    51: ("rg8s", LINEAR),
    54: ("r16f", LINEAR),
    56: ("r16", LINEAR),
    61: ("r8", LINEAR),
    63: ("r8s", LINEAR),
    65: ("a8", LINEAR),
    71: ("bc1", LINEAR),
    72: ("bc1", SRGB),
    74: ("bc2", LINEAR),
    75: ("bc2", SRGB),
    77: ("bc3", LINEAR),
    78: ("bc3", SRGB),
    80: ("bc4", LINEAR),
    81: ("bc4s", LINEAR),
    83: ("bc5", LINEAR),
    84: ("bc5s", LINEAR),
    85: ("bgr565", LINEAR),
    86: ("bgra5551", LINEAR),
    87: ("bgra8", LINEAR),
    88: ("bgrx8", LINEAR),
    91: ("bgra8", SRGB),
    93: ("bgrx8", SRGB),
    95: ("bc6h", LINEAR),
    96: ("bc6hs", LINEAR),
    98: ("bc7", LINEAR),
    99: ("bc7", SRGB),
    115: ("bgra4444", LINEAR),
}
MASKS = {  # bits, masks of red, green, blue and alpha -> format
    (32, 0xFF0000, 0xFF00, 0xFF, 0xFF000000): "bgra8",
    (32, 0xFF0000, 0xFF00, 0xFF, 0): "bgrx8",
    (32, 0xFF, 0xFF00, 0xFF0000, 0xFF000000): "rgba8",
    (32, 0xFF, 0xFF00, 0xFF0000, 0): "rgbx8",
    (32, 0x3FF, 0xFFC00, 0x3FF00000, 0xC0000000): "rgb10a2",
    (32, 0x3FF00000, 0xFFC00, 0x3FF, 0xC0000000): "bgr10a2",
    (32, 0xFFFF, 0xFFFF0000, 0, 0): "rg16",
    (24, 0xFF0000, 0xFF00, 0xFF, 0): "bgr8",
    (24, 0xFF, 0xFF00, 0xFF0000, 0): "rgb8",
    (16, 0xF800, 0x7E0, 0x1F, 0): "bgr565",
    (16, 0x7C00, 0x3E0, 0x1F, 0x8000): "bgra5551",
    (16, 0x7C00, 0x3E0, 0x1F, 0): "bgrx5551",
    (16, 0xF00, 0xF0, 0xF, 0xF000): "bgra4444",
    (16, 0xFF, 0xFF00, 0, 0): "rg8",
    (16, 0xFFFF, 0, 0, 0): "r16",
    (8, 0xE0, 0x1C, 0x3, 0): "rgb332",
    (8, 0xFF, 0, 0, 0): "r8",
}
GREYS = {(8, 0xFF, 0): "l8", (16, 0xFFFF, 0): "l16", (16, 0xFF, 0xFF00): "la8", (8, 0xF, 0xF0): "la44"}


@dataclass(frozen=True)
class _Head:
    format: PixelFormat
    space: str
    width: int
    height: int
    depth: int
    levels: int
    layers: int
    faces: int
    start: int
    premultiplied: bool


def read(source: Source) -> Picture:
    head = _head(source)
    images, at = [], head.start
    check_size(
        source,
        head.width,
        head.height,
        head.depth * head.layers * head.faces,
        head.format.pixel_size,
    )
    for _ in range(head.layers * head.faces):
        levels = []
        for level in range(head.levels):
            width, height, depth = (max(1, size >> level) for size in (head.width, head.height, head.depth))
            size = head.format.size(width, height) * depth
            if at + size > source.size:
                raise FormatError(
                    source.name,
                    f"level {level} of {width} x {height} pixels needs {size:,} bytes, found "
                    f"{max(0, source.size - at):,}",
                    offset=at,
                    hint="a fresh copy of the file: it may be cut off",
                )
            levels.append(source.read(at, size))
            at += size
        images.append(levels)
    return Picture(
        head.width,
        head.height,
        head.format,
        images,
        head.depth,
        head.layers,
        head.faces,
        head.space,
        premultiplied=head.premultiplied,
        form="dds",
        extra={"head": source.read(0, head.start), "tail": source.read(at, source.size - at)},
    )


def _head(source: Source) -> _Head:
    data = source.peek(0, 148)
    if len(data) < 128 or data[:4] != b"DDS ":
        raise FormatError(source.name, "the header of a DDS file has 128 bytes", hint="a fresh copy of the file")
    _, size, _, height, width, _, depth, levels, form_size, flags, code, bits, *masks, _, caps2, _, _ = HEAD.unpack(
        data[:128]
    )
    if size != 124 or form_size != 32:
        raise FormatError(source.name, f"its header has {size} and {form_size} bytes, expected 124 and 32", offset=4)
    raw, layers, start, space = code.to_bytes(4, "little"), 1, 128, UNKNOWN
    faces = bin(caps2 & 0xFC00).count("1") if caps2 & CUBE else 1
    depth = max(1, depth) if caps2 & VOLUME else 1
    if flags & FOURCC and raw == b"DX10":
        if len(data) < 148:
            raise FormatError(source.name, "the second header is cut off", offset=128)
        number, _, misc, layers, _ = struct.unpack("<5I", data[128:148])
        start, layers, faces = 148, max(1, layers), 6 if misc & 4 else 1
        name, space = DXGI.get(number, ("", ""))
        what = f"DXGI format {number}"
    elif flags & FOURCC:
        name, what = CODES.get(raw, ""), f"format {raw!r}"[7:]
    elif flags & GREY:
        name, what = GREYS.get((bits, masks[0], masks[3] if flags & ALPHA else 0), ""), f"{bits} bits of grey"
    elif flags & ALPHA_ONLY:
        name, what = "a8" if bits == 8 else "", f"{bits} bits of alpha"
    else:
        key = (bits, masks[0], masks[1], masks[2], masks[3] if flags & ALPHA else 0)
        name, what = MASKS.get(key, ""), f"{bits} bits with the masks {' '.join(f'{mask:x}' for mask in masks)}"
    if flags & SIGNED and name in ("rg8", "rgba8", "r8"):
        name += "s"
    if not name:
        raise FormatError(source.name, f"pixels of an unknown format: {what}", offset=80, hint="`volvex show --hex`")
    return _Head(PIXELS[name], space, width, height, depth, max(1, levels), layers, faces, start, raw in MULTIPLIED)


FORMATS = tuple(sorted({*CODES.values(), *(name for name, _ in DXGI.values()), *MASKS.values(), *GREYS.values()}))


def write(picture: Picture) -> bytes:
    """With the header that the picture came with, when nothing in it has changed; otherwise with one of DX10."""
    head, tail = _kept(picture), picture.extra.get("tail", b"") if picture.form == "dds" else b""
    body = [bytes(level) for image in picture.surfaces for level in image]
    return b"".join([head if head is not None else _made(picture), *body, tail])


def _kept(picture: Picture) -> bytes | None:
    head = picture.extra.get("head") if picture.form == "dds" else None
    if not isinstance(head, bytes):
        return None
    height, width, depth, levels = struct.unpack_from("<II4xII", head, 12)
    same = (width, height, max(1, levels)) == (picture.width, picture.height, picture.levels)
    return (
        head
        if same and max(1, depth) >= picture.depth and picture.extra.get("format", picture.format) == picture.format
        else None
    )


def _made(picture: Picture) -> bytes:
    """A new header: the old one where it can say what the picture is, since more programs read that."""
    form = picture.format
    flags = 0x1007 | (0x80000 if form.is_block else 0x8) | (0x20000 if picture.levels > 1 else 0)
    flags |= 0x800000 if picture.depth > 1 else 0
    cube = picture.faces == 6
    caps = 0x1000 | (0x400008 if picture.levels > 1 else 0) | (0x8 if cube or picture.depth > 1 else 0)
    caps2 = (0xFE00 if cube else 0) | (VOLUME if picture.depth > 1 else 0)
    pitch = form.size(picture.width, picture.height) if form.is_block else form.row(picture.width)
    old = _old_format(picture)
    pixels = old or (FOURCC, int.from_bytes(b"DX10", "little"), 0, 0, 0, 0, 0)
    size = (picture.height, picture.width, pitch, picture.depth, picture.levels)
    head = HEAD.pack(b"DDS ", 124, flags, *size, 32, *pixels, caps, caps2, 0, 0)
    if old is not None:
        return head
    number = next(
        (
            number
            for number, (name, space) in DXGI.items()
            if name == form.name and (space == picture.colour_space or not _has_twin(name, picture.colour_space))
        ),
        None,
    )
    if number is None:
        raise RefusedError(
            f"a DDS file cannot hold {form}{' with several layers' if picture.layers > 1 else ''}", "png or ktx2"
        )
    alpha = 2 if picture.premultiplied else 0
    return head + struct.pack("<5I", number, 4 if picture.depth > 1 else 3, 4 if cube else 0, picture.layers, alpha)


def _old_format(picture: Picture) -> tuple[int, ...] | None:
    """What an old header says of pixels; None when it cannot: it knows no layers and no colour space."""
    name = picture.format.name
    if picture.layers > 1 or (picture.colour_space != UNKNOWN and any(held == name for held, _ in DXGI.values())):
        return None
    for code, held in CODES.items():
        if held == name and (code in MULTIPLIED) == picture.premultiplied:
            return FOURCC, int.from_bytes(code, "little"), 0, 0, 0, 0, 0
    for (bits, *masks), held in MASKS.items():
        if held == name:
            return RGB | (ALPHA if masks[3] else 0), 0, bits, *masks
    for (bits, grey, alpha), held in GREYS.items():
        if held == name:
            return GREY | (ALPHA if alpha else 0), 0, bits, grey, 0, 0, alpha
    return None


def _has_twin(name: str, space: str) -> bool:
    """Whether a format has a number for a colour space."""
    return any((name, space) == pair for pair in DXGI.values())
