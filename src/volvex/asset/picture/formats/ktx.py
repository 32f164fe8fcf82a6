"""KTX 1.1: levels, cube maps, arrays, volumes. Source: "KTX File Format" 1.1 (Khronos)."""

from __future__ import annotations

import struct
from typing import Any

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.picture.model import LINEAR, SRGB, Picture
from volvex.codec.pixels.format import ASTC_NAMES, PixelFormat
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.errors import FormatError, RefusedError
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("ktx",), ("ktx",), ()
MARK = b"\xabKTX 11\xbb\r\n\x1a\n"
BGRA = 0x80E1
INTERNAL = {  # internal format -> pixels, colour space, and the type and format of uncompressed ones
    0x8229: ("r8", LINEAR, 0x1401, 0x1903),
    0x822B: ("rg8", LINEAR, 0x1401, 0x8227),
    0x8051: ("rgb8", LINEAR, 0x1401, 0x1907),
    0x8C41: ("rgb8", SRGB, 0x1401, 0x1907),
    0x8058: ("rgba8", LINEAR, 0x1401, 0x1908),
    0x8C43: ("rgba8", SRGB, 0x1401, 0x1908),
    0x8040: ("l8", LINEAR, 0x1401, 0x1909),
    0x8045: ("la8", LINEAR, 0x1401, 0x190A),
    0x803C: ("a8", LINEAR, 0x1401, 0x1906),
    0x822A: ("r16", LINEAR, 0x1403, 0x1903),
    0x822C: ("rg16", LINEAR, 0x1403, 0x8227),
    0x8054: ("rgb16", LINEAR, 0x1403, 0x1907),
    0x805B: ("rgba16", LINEAR, 0x1403, 0x1908),
    0x822D: ("r16f", LINEAR, 0x140B, 0x1903),
    0x822F: ("rg16f", LINEAR, 0x140B, 0x8227),
    0x881B: ("rgb16f", LINEAR, 0x140B, 0x1907),
    0x881A: ("rgba16f", LINEAR, 0x140B, 0x1908),
    0x822E: ("r32f", LINEAR, 0x1406, 0x1903),
    0x8230: ("rg32f", LINEAR, 0x1406, 0x8227),
    0x8815: ("rgb32f", LINEAR, 0x1406, 0x1907),
    0x8814: ("rgba32f", LINEAR, 0x1406, 0x1908),
    0x8D62: ("bgr565", LINEAR, 0x8363, 0x1907),
    0x83F0: ("bc1", LINEAR, 0, 0),
    0x83F1: ("bc1", LINEAR, 0, 0),
    0x83F2: ("bc2", LINEAR, 0, 0),
    0x83F3: ("bc3", LINEAR, 0, 0),
    0x8C4C: ("bc1", SRGB, 0, 0),
    0x8C4D: ("bc1", SRGB, 0, 0),
    0x8C4E: ("bc2", SRGB, 0, 0),
    0x8C4F: ("bc3", SRGB, 0, 0),
    0x8DBB: ("bc4", LINEAR, 0, 0),
    0x8DBC: ("bc4s", LINEAR, 0, 0),
    0x8DBD: ("bc5", LINEAR, 0, 0),
    0x8DBE: ("bc5s", LINEAR, 0, 0),
    0x8E8C: ("bc7", LINEAR, 0, 0),
    0x8E8D: ("bc7", SRGB, 0, 0),
    0x8E8E: ("bc6hs", LINEAR, 0, 0),
    0x8E8F: ("bc6h", LINEAR, 0, 0),
}
INTERNAL |= {0x93B0 + at: (name, LINEAR, 0, 0) for at, name in enumerate(ASTC_NAMES)}
INTERNAL |= {0x93D0 + at: (name, SRGB, 0, 0) for at, name in enumerate(ASTC_NAMES)}
UNSIZED = {0x1908: 0x8058, 0x1907: 0x8051, 0x1909: 0x8040, 0x190A: 0x8045, 0x1906: 0x803C, 0x1903: 0x8229, BGRA: 0x8058}
FORMATS = tuple(sorted({name for name, *_ in INTERNAL.values()} | {"bgra8"}))


def read(source: Source) -> Picture:
    data = source.peek(0, 64)
    if len(data) < 64 or data[:12] != MARK or data[12:16] not in (b"\1\2\3\4", b"\4\3\2\1"):
        raise FormatError(source.name, "the header of a KTX file has 64 bytes", hint="a fresh copy of the file")
    order = "<" if data[12:16] == b"\1\2\3\4" else ">"
    kind, sample, given, internal, _, width, height, depth, layers, faces, levels, more = struct.unpack(
        f"{order}12I", data[16:64]
    )
    internal = UNSIZED.get(internal, internal)
    name, space, *_ = INTERNAL.get(internal, ("", ""))
    if name == "rgba8" and given == BGRA:
        name = "bgra8"
    if not name or (kind and kind != INTERNAL[internal][2]):
        raise FormatError(source.name, f"pixels of an unknown format: {internal:#x}, type {kind:#x}", offset=28)
    form = PIXELS[name]
    height, depth, cube = max(1, height), max(1, depth), faces == 6 and not layers
    count, levels = max(1, layers) * max(1, faces), max(1, levels)
    check_size(source, width, height, count * depth, form.pixel_size)
    if levels > 32 or faces not in (1, 6):
        raise FormatError(source.name, f"{levels} levels and {faces} faces", offset=52)
    images: list[list[bytes]] = [[] for _ in range(count)]
    at = 64 + more
    for level in range(levels):
        size = int.from_bytes(source.peek(at, 4), "little" if order == "<" else "big")
        at += 4
        across, down, deep = (max(1, one >> level) for one in (width, height, depth))
        row, rows = _row(form, across), form.blocks(across, down)[1] * deep
        if size != row * rows * (1 if cube else count) or at + row * rows * count > source.size:
            raise FormatError(
                source.name,
                f"level {level} gives its size as {size:,} bytes, {row * rows * (1 if cube else count):,} are needed "
                f"for {across} x {down}",
                offset=at - 4,
                hint="a fresh copy of the file: it may be cut off",
            )
        for image in images:
            stored = source.read(at, row * rows)
            image.append(_bare(stored, form, across, row, sample if order == ">" else 1))
            at += row * rows + (-(row * rows) % 4 if cube else 0)
        at += -at % 4
    head = {"keys": source.read(64, more) if order == "<" else b"", "internal": internal}
    return Picture(width, height, form, images, depth, max(1, layers), faces, space, form="ktx", extra=head)


def _row(form: PixelFormat, width: int) -> int:
    """The bytes of a row: a multiple of four where pixels are not in blocks."""
    row = form.row(width)
    return row if form.is_block else row + -row % 4


def _bare(data: bytes, form: PixelFormat, width: int, row: int, sample: int) -> bytes:
    """Rows without their padding, samples with the lowest byte first."""
    own = form.row(width)
    if own != row:
        data = np.frombuffer(data, np.uint8).reshape(-1, row)[:, :own].tobytes()
    return np.frombuffer(data, f">u{sample}").astype(f"<u{sample}").tobytes() if sample > 1 else data


def write(picture: Picture) -> bytes:
    form, space = picture.format, picture.colour_space
    name = "rgba8" if form.name == "bgra8" else form.name
    fitting = [(number, row) for number, row in INTERNAL.items() if row[0] == name]
    if not fitting:
        raise RefusedError(f"a KTX file cannot hold {form}", "rgba8, or bc1 to bc7")
    internal = picture.extra.get("internal") if picture.form == "ktx" else None
    number, row = next(
        (pair for pair in fitting if pair[0] == internal or (internal is None and pair[1][1] == space)), fitting[0]
    )
    kind, given = row[2], BGRA if form.name == "bgra8" else row[3]
    sample = form.sample_type.itemsize if kind and not form.fields else 2 if form.fields else 1
    keys = picture.extra.get("keys", b"") if picture.form == "ktx" else b""
    layers = picture.layers if picture.layers > 1 else 0
    base = {"r": 0x1903, "rg": 0x8227, "rgb": 0x1907, "rgba": 0x1908, "l": 0x1909, "la": 0x190A, "a": 0x1906}[
        form.channels
    ]
    numbers: list[Any] = [0x04030201, kind, sample, given, number, base, picture.width, picture.height]
    numbers += [picture.depth if picture.depth > 1 else 0, layers, picture.faces, picture.levels, len(keys)]
    out = [MARK, struct.pack("<13I", *numbers), keys]
    cube = picture.faces == 6 and not layers
    for level in range(picture.levels):
        across = picture.level_size(level)[0]
        made = [_padded(bytes(image[level]), form, across) for image in picture.surfaces]
        size = len(made[0])
        out.append(struct.pack("<I", size if cube else size * len(made)))
        out += [data + bytes(-size % 4 if cube else 0) for data in made]
        out.append(bytes(-sum(map(len, out)) % 4))
    return b"".join(out)


def _padded(data: bytes, form: PixelFormat, width: int) -> bytes:
    own, row = form.row(width), _row(form, width)
    if own == row:
        return data
    return np.pad(np.frombuffer(data, np.uint8).reshape(-1, own), ((0, 0), (0, row - own))).tobytes()
