"""Whole surfaces between their stored bytes and arrays of pixels, whatever their format."""

from __future__ import annotations

from volvex.codec.pixels.blocks import decode_blocks, encode_blocks
from volvex.codec.pixels.format import PixelFormat, Pixels


def decode(form: PixelFormat, data: bytes, width: int, height: int) -> Pixels:
    """The pixels of a surface: an array of height x width x channels; ContentError when its bytes are none."""
    return decode_blocks(form, data, width, height) if form.is_block else form.unpack(data, width, height)


def encode(form: PixelFormat, pixels: Pixels) -> bytes:
    """The stored bytes of a surface; RefusedError for a format that cannot be written."""
    return encode_blocks(form, pixels) if form.is_block else form.pack(pixels)
