"""Block compression: 4 x 4 pixels in 8 or 16 bytes (BC1 to BC7), 4 x 4 to 12 x 12 in 16 (ASTC), by packages that do
nothing else.

Where a package has no encoder, ours is plain: alpha of BC2 is stored as it is, BC1 blocks with transparent pixels get
their own colours. BC6H is read only. Source: Khronos Data Format Specification 1.3, chapters 18 to 23.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.codec.pixels.format import ASTC_NAMES, PixelFormat, Pixels
from volvex.errors import ContentError, RefusedError
from volvex.extras import require

NUMBERS = {"bc1": 1, "bc2": 2, "bc3": 3, "bc4": 4, "bc4s": 4, "bc5": 5, "bc5s": 5, "bc6h": 6, "bc6hs": -6, "bc7": 7}
STRIP = 1 << 12  # blocks in a row when single blocks are encoded
HALVES = {"bc2": ("a", "rgb"), "bc3": ("a", "rgb"), "bc5": ("r", "g")}  # the channels of each 8 bytes of a block
WRITTEN = ("bc1", "bc2", "bc3", "bc4", "bc5", "bc7", *ASTC_NAMES)
QUALITY = 60  # of ASTC, from 0 to 100: its encoder's own medium


def decode_blocks(form: PixelFormat, data: bytes, width: int, height: int) -> Pixels:
    """The pixels of a surface; ContentError when its bytes are none."""
    across, down = form.blocks(width, height)
    whole = (down * form.block[1], across * form.block[0])
    size = across * down * form.bits // 8
    try:
        pixels = (_astc if form.name in ASTC_NAMES else _bcn)(form, data[:size], whole)
    except (ValueError, RuntimeError, MemoryError) as error:
        raise ContentError(f"blocks of {form.name} that cannot be decoded: {error}") from error
    return pixels[:height, :width]


def _bcn(form: PixelFormat, data: bytes, whole: tuple[int, int]) -> Pixels:
    require("imagecodecs", "textures in blocks")
    import imagecodecs

    count = len(form.channels)
    shape = whole if count == 1 else (*whole, count)
    decoded: Any = imagecodecs.bcn_decode(data, NUMBERS[form.name], shape=shape)
    pixels: Pixels = decoded.reshape(*whole, count)
    return pixels.view(np.int8) if form.kind == "snorm" else pixels


def _astc(form: PixelFormat, data: bytes, whole: tuple[int, int]) -> Pixels:
    astc, context = _astc_context(form.block)
    image = astc.ASTCImage(astc.ASTCType.U8, whole[1], whole[0])
    try:
        context.decompress(data, image, astc.ASTCSwizzle.from_str("RGBA"))
    except astc.ASTCError as error:
        raise ContentError(f"blocks of {form.name} that cannot be decoded: {error}") from error
    return np.frombuffer(image.data, np.uint8).reshape(*whole, 4)


@functools.lru_cache(8)
def _astc_context(block: tuple[int, int]) -> tuple[Any, Any]:
    """The package for ASTC, and what it needs for blocks of a size."""
    require("astc_encoder", "ASTC textures")
    import astc_encoder

    config = astc_encoder.ASTCConfig(astc_encoder.ASTCProfile.LDR, *block, 1, QUALITY)
    return astc_encoder, astc_encoder.ASTCContext(config)


def _astc_encoded(block: tuple[int, int], pixels: Pixels) -> bytes:
    astc, context = _astc_context(block)
    image = astc.ASTCImage(
        astc.ASTCType.U8, pixels.shape[1], pixels.shape[0], 1, np.ascontiguousarray(pixels).tobytes()
    )
    return bytes(context.compress(image, astc.ASTCSwizzle.from_str("RGBA")))


def can_encode(form: PixelFormat) -> bool:
    """Whether pixels can be stored in a format."""
    return not form.is_block or form.name in WRITTEN


def encode_blocks(form: PixelFormat, pixels: Pixels) -> bytes:
    """The stored bytes of a surface; RefusedError for a format that cannot be written."""
    return _encoder(form)(rgba_of(_padded(form, pixels), form.channels))


def _padded(form: PixelFormat, pixels: Pixels) -> Pixels:
    """Pixels of whole blocks: the last ones repeated."""
    height, width = pixels.shape[:2]
    (wide, high), (across, down) = form.block, form.blocks(width, height)
    return np.pad(pixels, ((0, down * high - height), (0, across * wide - width), (0, 0)), mode="edge")


def encode_some(form: PixelFormat, pixels: Pixels, data: bytes, changed: Any) -> bytes:
    """A surface's bytes with some of its blocks encoded again; `changed`: which channels of which pixels.

    Halves of a block that store channels by themselves (alpha in BC3) are made again only when these have changed.
    """
    chosen = by_blocks(form, changed.any(axis=2))
    height, width = pixels.shape[:2]
    across, down = form.blocks(width, height)
    rows, columns = np.nonzero(chosen)
    if not len(rows):
        return bytes(data)
    wide, high = form.block
    cut = _padded(form, pixels).reshape(down, high, across, wide, -1)[
        rows, :, columns
    ]  # blocks x high x wide x channels
    size, encode = form.bits // 8, _encoder(form)
    blocks = np.frombuffer(bytes(data), np.uint8).reshape(down * across, size).copy()
    for at in range(0, len(rows), STRIP):
        part = cut[at : at + STRIP]
        strip = part.transpose(1, 0, 2, 3).reshape(high, -1, pixels.shape[2])
        made = np.frombuffer(encode(rgba_of(strip, form.channels)), np.uint8).reshape(-1, size).copy()
        places = rows[at : at + STRIP] * across + columns[at : at + STRIP]
        for half, channels in enumerate(HALVES.get(form.name, ())):
            own = by_blocks(form, changed[..., [form.channels.index(channel) for channel in channels]].any(axis=2))
            kept = ~own[rows[at : at + STRIP], columns[at : at + STRIP]]
            made[kept, 8 * half : 8 * half + 8] = blocks[places[kept], 8 * half : 8 * half + 8]
        blocks[places] = made
    return blocks.tobytes()


def by_blocks(form: PixelFormat, mask: Any) -> Any:
    """In which blocks any pixel of a mask is set."""
    height, width = mask.shape
    across, down = form.blocks(width, height)
    wide, high = form.block
    padded = np.zeros((down * high, across * wide), bool)
    padded[:height, :width] = mask
    return padded.reshape(down, high, across, wide).any(axis=(1, 3))


def rgba_of(pixels: Pixels, channels: str) -> Pixels:
    """Pixels of some channels as red, green, blue and alpha, the missing ones empty, alpha full."""
    out = np.zeros((*pixels.shape[:2], 4), np.uint8)
    out[..., 3] = 255
    for place, channel in enumerate(channels):
        out[..., "rgba".index(channel)] = pixels[..., place]
    return out


def _encoder(form: PixelFormat) -> Callable[[Pixels], bytes]:
    """What makes blocks of red, green, blue and alpha."""
    if form.name not in WRITTEN:
        raise RefusedError(f"no package writes {form.name}", "another format: rgba16f holds the same values")
    if form.name in ASTC_NAMES:
        return functools.partial(_astc_encoded, form.block)
    require("etcpak", "textures in blocks")
    import etcpak

    own = {"bc1": _bc1, "bc2": _bc2}
    if form.name in own:
        return own[form.name]
    function = getattr(etcpak, f"compress_{form.name}")
    return lambda pixels: bytes(function(np.ascontiguousarray(pixels).tobytes(), pixels.shape[1], pixels.shape[0]))


def _bc1(pixels: Pixels) -> bytes:
    """BC1: blocks with pixels that are more transparent than not store three colours and the absence of one."""
    require("etcpak", "textures in blocks")
    import etcpak

    height, width = pixels.shape[:2]
    data = bytes(etcpak.compress_bc1(np.ascontiguousarray(pixels).tobytes(), width, height))
    cut = pixels.reshape(height // 4, 4, width // 4, 4, 4).transpose(0, 2, 1, 3, 4).reshape(-1, 16, 4)
    clear = cut[..., 3] < 128
    some = np.flatnonzero(clear.any(axis=1))
    if not len(some):
        return data
    blocks = np.frombuffer(data, np.uint8).reshape(-1, 8).copy()
    blocks[some] = _three_colours(cut[some], clear[some])
    return blocks.tobytes()


def _three_colours(cut: Pixels, clear: Any) -> Pixels:
    """Blocks of BC1 in which some pixels are not there: the ends of the others' range, and the colour between them."""
    weights = np.where(clear[..., None], 0, 1)
    low = np.where(weights, cut[..., :3], 255).min(axis=1)
    high = np.where(weights, cut[..., :3], 0).max(axis=1)
    gone = clear.all(axis=1)
    low[gone] = high[gone] = 0
    first, second = (_as_565(ends) for ends in (low, high))
    first, second = np.minimum(first, second), np.maximum(first, second)  # in this order there are three colours
    ends = [_from_565(word) for word in (first, second)]
    palette = np.stack([ends[0], ends[1], (ends[0] + ends[1]) // 2], axis=1)  # blocks x 3 x rgb
    distance = ((cut[:, :, None, :3].astype(np.int32) - palette[:, None]) ** 2).sum(axis=3)
    index = np.where(clear, 3, distance.argmin(axis=2)).astype(np.uint32)
    bits = np.bitwise_or.reduce(index << (2 * np.arange(16, dtype=np.uint32)), axis=1)
    out = np.empty((len(cut), 8), np.uint8)
    out[:, 0:2] = first.astype("<u2").reshape(-1, 1).view(np.uint8)
    out[:, 2:4] = second.astype("<u2").reshape(-1, 1).view(np.uint8)
    out[:, 4:8] = bits.astype("<u4").reshape(-1, 1).view(np.uint8)
    return out


def _as_565(colours: Pixels) -> Any:
    red, green, blue = (colours[:, at].astype(np.uint32) for at in range(3))
    return (red * 31 + 127) // 255 << 11 | (green * 63 + 127) // 255 << 5 | (blue * 31 + 127) // 255


def _from_565(words: Any) -> Pixels:
    parts = [(words >> 11 & 31, 31), (words >> 5 & 63, 63), (words & 31, 31)]
    return np.stack([(value.astype(np.int32) * 255 + most // 2) // most for value, most in parts], axis=1)


def _bc2(pixels: Pixels) -> bytes:
    """BC2: four bits of alpha for each pixel, and colours as those of BC1."""
    require("etcpak", "textures in blocks")
    import etcpak

    height, width = pixels.shape[:2]
    colours = pixels.copy()
    colours[..., 3] = 255
    data = etcpak.compress_bc1(np.ascontiguousarray(colours).tobytes(), width, height)
    blocks = np.zeros((height * width // 16, 16), np.uint8)
    blocks[:, 8:] = np.frombuffer(bytes(data), np.uint8).reshape(-1, 8)
    cut = pixels[..., 3].reshape(height // 4, 4, width // 4, 4).transpose(0, 2, 1, 3).reshape(-1, 16)
    alpha = ((cut.astype(np.uint16) * 15 + 127) // 255).astype(np.uint8)
    blocks[:, :8] = alpha[:, ::2] | alpha[:, 1::2] << 4
    first, second = blocks[:, 8:10].copy().view("<u2"), blocks[:, 10:12].copy().view("<u2")
    swapped = np.flatnonzero((first <= second)[:, 0])  # BC2 has four colours in any order; BC1 has three then
    if len(swapped):
        blocks[swapped] = _four_colours(blocks[swapped])
    return blocks.tobytes()


def _four_colours(blocks: Pixels) -> Pixels:
    """Blocks whose colours stand in the order of three: the same indexes, as far as they mean the same in the order of
    four."""
    out = blocks.copy()
    equal = (out[:, 8:10] == out[:, 10:12]).all(axis=1)
    out[equal, 12:] = 0
    return out
