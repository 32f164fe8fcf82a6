"""KTX 2.0: levels, cube maps, arrays, volumes; also compressed with Zstandard or zlib. Source: "KTX File Format" 2.0
(Khronos)."""

from __future__ import annotations

import struct

from volvex.asset.bounds import DENSEST, SPARE, check_size
from volvex.asset.picture.model import LINEAR, SRGB, Picture
from volvex.codec import COMPRESS
from volvex.codec.pixels.format import ASTC_NAMES, PixelFormat
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.errors import ContentError, FormatError, RefusedError
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("ktx2",), ("ktx2",), ()
MARK = b"\xabKTX 20\xbb\r\n\x1a\n"
HEAD = struct.Struct("<12s13I2Q")
SCHEMES = {2: "zstd", 3: "zlib"}
NUMBERS = {  # VkFormat -> pixels and colour space
    4: ("bgr565", LINEAR),
    5: ("rgb565", LINEAR),
    8: ("bgra5551", LINEAR),
    9: ("r8", LINEAR),
    10: ("r8s", LINEAR),
    15: ("r8", SRGB),
    16: ("rg8", LINEAR),
    17: ("rg8s", LINEAR),
    22: ("rg8", SRGB),
    23: ("rgb8", LINEAR),
    29: ("rgb8", SRGB),
    30: ("bgr8", LINEAR),
    36: ("bgr8", SRGB),
    37: ("rgba8", LINEAR),
    38: ("rgba8s", LINEAR),
    43: ("rgba8", SRGB),
    44: ("bgra8", LINEAR),
    50: ("bgra8", SRGB),
    58: ("bgr10a2", LINEAR),
    64: ("rgb10a2", LINEAR),
    70: ("r16", LINEAR),
    76: ("r16f", LINEAR),
    77: ("rg16", LINEAR),
    83: ("rg16f", LINEAR),
    84: ("rgb16", LINEAR),
    90: ("rgb16f", LINEAR),
    91: ("rgba16", LINEAR),
    97: ("rgba16f", LINEAR),
    100: ("r32f", LINEAR),
    103: ("rg32f", LINEAR),
    106: ("rgb32f", LINEAR),
    109: ("rgba32f", LINEAR),
    131: ("bc1", LINEAR),
    132: ("bc1", SRGB),
    133: ("bc1", LINEAR),
    134: ("bc1", SRGB),
    135: ("bc2", LINEAR),
    136: ("bc2", SRGB),
    137: ("bc3", LINEAR),
    138: ("bc3", SRGB),
    139: ("bc4", LINEAR),
    140: ("bc4s", LINEAR),
    141: ("bc5", LINEAR),
    142: ("bc5s", LINEAR),
    143: ("bc6h", LINEAR),
    144: ("bc6hs", LINEAR),
    145: ("bc7", LINEAR),
    146: ("bc7", SRGB),
}
NUMBERS |= {157 + 2 * at: (name, LINEAR) for at, name in enumerate(ASTC_NAMES)}
NUMBERS |= {158 + 2 * at: (name, SRGB) for at, name in enumerate(ASTC_NAMES)}
FORMATS = tuple(sorted({name for name, _ in NUMBERS.values()}))
MODELS = {
    "bc1": 128,
    "bc2": 129,
    "bc3": 130,
    "bc4": 131,
    "bc4s": 131,
    "bc5": 132,
    "bc5s": 132,
    "bc6h": 133,
    "bc6hs": 133,
    "bc7": 134,
}
MODELS |= dict.fromkeys(ASTC_NAMES, 162)
CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 15}


def read(source: Source) -> Picture:
    data = source.peek(0, HEAD.size)
    if len(data) < HEAD.size or data[:12] != MARK:
        raise FormatError(
            source.name, f"the header of a KTX2 file has {HEAD.size} bytes", hint="a fresh copy of the file"
        )
    _, number, _, width, height, depth, layers, faces, levels, scheme, at_dfd, dfd, at_keys, keys, at_all, all_ = (
        HEAD.unpack(data)
    )
    name, space = NUMBERS.get(number, ("", ""))
    if not name or scheme not in (0, *SCHEMES):
        what = (
            f"format {number}"
            if not name
            else {1: "Basis Universal, which is not open to editing"}.get(scheme, f"scheme {scheme}")
        )
        raise FormatError(source.name, f"pixels of an unknown format: {what}", offset=12 if not name else 44)
    form, height, depth, levels = PIXELS[name], max(1, height), max(1, depth), max(1, levels)
    count = max(1, layers) * max(1, faces)
    check_size(source, width, height, count * depth, form.pixel_size)
    if levels > 32 or faces not in (1, 6):
        raise FormatError(source.name, f"{levels} levels and {faces} faces", offset=36)
    images: list[list[bytes]] = [[] for _ in range(count)]
    for level in range(levels):
        across, down, deep = (max(1, one >> level) for one in (width, height, depth))
        size = form.size(across, down) * deep
        whole = _level(source, level, scheme, size * count)
        for at, image in enumerate(images):
            image.append(whole[at * size : (at + 1) * size] if count > 1 else whole)
    extra = {
        "number": number,
        "scheme": scheme,
        "dfd": source.peek(at_dfd, min(dfd, SPARE)),
        "keys": source.peek(at_keys, min(keys, SPARE)),
        "supercompression": source.peek(at_all, min(all_, SPARE)) if all_ else b"",
    }
    return Picture(width, height, form, images, depth, max(1, layers), faces, space, form="ktx2", extra=extra)


def _level(source: Source, level: int, scheme: int, size: int) -> bytes:
    """The bytes of a level of all images."""
    where = HEAD.size + 24 * level
    entry = source.peek(where, 24)
    start, stored, unpacked = struct.unpack("<3Q", entry) if len(entry) == 24 else (0, 0, 0)
    if start + stored > source.size or (unpacked or size) != size or (not scheme and stored != size):
        raise FormatError(
            source.name,
            f"level {level} gives its size as {unpacked or stored:,} bytes, {size:,} are needed",
            offset=where,
            hint="a fresh copy of the file: it may be cut off",
        )
    data = source.read(start, stored)
    if scheme:
        if size > DENSEST * stored + SPARE:
            raise FormatError(source.name, f"level {level} has {stored:,} bytes, too few for {size:,}", offset=where)
        try:
            data = COMPRESS.get(SCHEMES[scheme]).decode(data, size)
        except ContentError as error:
            raise FormatError(source.name, f"level {level}: {error.message}", offset=start) from error
    return data


def write(picture: Picture) -> bytes:
    """With the compression that it came with; new ones have none."""
    form, own = picture.format, picture.extra if picture.form == "ktx2" else {}
    number = own.get("number", 0)
    if NUMBERS.get(number, ("",))[0] != form.name:
        fitting = [number for number, (name, _) in NUMBERS.items() if name == form.name]
        if not fitting:
            raise RefusedError(f"a KTX2 file cannot hold {form}", "rgba8, or bc1 to bc7")
        number = next((one for one in fitting if NUMBERS[one][1] == (picture.colour_space or LINEAR)), fitting[-1])
        own = {}
    scheme, dfd, keys = (
        own.get("scheme", 0),
        own.get("dfd") or _description(form, NUMBERS[number][1], picture),
        own.get("keys", b""),
    )
    at = HEAD.size + 24 * picture.levels
    at_keys = at + len(dfd)
    place = at_keys + len(keys)
    unit = 1 if scheme else max(4, form.bits // 8 * (4 if form.bits // 8 % 4 else 1))
    index, body = list[bytes](), list[bytes]()
    for level in range(picture.levels - 1, -1, -1):  # the smallest first
        plain = b"".join(bytes(image[level]) for image in picture.surfaces)
        stored = b"".join(COMPRESS.get(SCHEMES[scheme]).encode_stream([plain])) if scheme else plain
        body.append(bytes(-place % unit) + stored)
        start = place + -place % unit
        index.append(struct.pack("<3Q", start, len(stored), len(plain)))
        place = start + len(stored)
    sample = 1 if form.is_block else form.bits // 8 if form.fields else form.sample_type.itemsize
    layers, depth = (picture.layers if picture.layers > 1 else 0), (picture.depth if picture.depth > 1 else 0)
    size = (picture.width, picture.height, depth, layers, picture.faces, picture.levels)
    head = HEAD.pack(MARK, number, sample, *size, scheme, at, len(dfd), at_keys if keys else 0, len(keys), 0, 0)
    return b"".join([head, *reversed(index), dfd, keys, *body])


def _description(form: PixelFormat, space: str, picture: Picture) -> bytes:
    """The data format descriptor (Khronos Data Format Specification 1.3, chapter 5)."""
    samples = _samples(form)
    model = MODELS.get(form.name, 1)
    basic = struct.pack(
        "<IHHBBBB4B8B",
        0,
        2,
        24 + 16 * len(samples),
        model,
        1,
        2 if space == SRGB else 1,
        int(picture.premultiplied),
        form.block[0] - 1,
        form.block[1] - 1,
        0,
        0,
        form.bits // 8,
        *[0] * 7,
    )
    body = basic + b"".join(samples)
    return struct.pack("<I", 4 + len(body)) + body


def _samples(form: PixelFormat) -> list[bytes]:
    """A description of each channel."""
    signed, float_ = (0x40 if form.kind in ("snorm", "float") else 0), (0x80 if form.kind == "float" else 0)
    if form.is_block:
        if form.name in ("bc2", "bc3"):
            parts = [(0, 64, 15), (64, 64, 0)]
        elif form.name.startswith("bc5"):
            parts = [(0, 64, 0), (64, 64, 1)]
        else:
            parts = [(0, form.bits, 0)]
        return [
            _sample(low, bits, channel, signed if form.kind == "snorm" or form.name == "bc6hs" else 0, float_)
            for low, bits, channel in parts
        ]
    if form.fields:
        fields = form.fields
    else:
        bits = form.sample_type.itemsize * 8
        fields = tuple((channel, bits * place, bits) for place, channel in enumerate(form.order or form.channels))
    return [
        _sample(low, bits, CHANNELS.get(channel, 0), signed, float_) for channel, low, bits in fields if channel != "x"
    ]


def _sample(low: int, bits: int, channel: int, signed: int, float_: int) -> bytes:
    most = 0x3F800000 if float_ else (1 << min(bits, 32) - (1 if signed else 0)) - 1
    least = 0xBF800000 if float_ else (1 << 32) - most if signed else 0
    return struct.pack("<HBB4BII", low, bits - 1, channel | signed | float_, 0, 0, 0, 0, least, most)
