"""How pixels are stored, and the conversion of whole surfaces both ways.

Sources: the DXGI formats (Direct3D 11), Khronos Data Format Specification 1.3 for block compression.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Pixels = NDArray[Any]  # height x width x channels
SHOWN = {"unorm": "", "snorm": " signed", "float": " float", "index": " palette"}


@dataclass(frozen=True)
class PixelFormat:
    """A way to store pixels.

    `channels`: letters in the order in which pixels are decoded (`r g b a`, `l` grey, `i` the number of a colour in the
    palette). `block`: the width and height of a block in pixels, 1 without blocks; `bits` of a block, or of a pixel.
    `sample`: the type of a decoded channel.
    """

    name: str
    channels: str
    bits: int
    sample: str = "u1"
    kind: str = "unorm"  # unorm, snorm, float, index
    block: tuple[int, int] = (1, 1)
    order: str = ""  # of stored channels, where it differs from `channels`; x is unused
    fields: tuple[tuple[str, int, int], ...] = ()  # of packed pixels: channel, lowest bit, number of bits

    @property
    def is_block(self) -> bool:
        """Whether pixels are compressed in blocks."""
        return self.block != (1, 1)

    @property
    def pixel_size(self) -> float:
        """The bytes of a pixel, on average."""
        return self.bits / 8 / (self.block[0] * self.block[1])

    def size(self, width: int, height: int) -> int:
        """The bytes of a surface without padding."""
        across, down = self.blocks(width, height)
        return (across * self.bits + 7) // 8 * down

    def blocks(self, width: int, height: int) -> tuple[int, int]:
        """How many blocks (or pixels) a surface has across and down."""
        return -(-width // self.block[0]), -(-height // self.block[1])

    def row(self, width: int) -> int:
        """The bytes of a row of blocks."""
        return (-(-width // self.block[0]) * self.bits + 7) // 8

    def unpack(self, data: bytes, width: int, height: int) -> Pixels:
        """The pixels of a surface that is not in blocks; an array of height x width x channels."""
        if self.fields:
            return self._unpacked(data, width, height)
        if self.bits < 8:
            return self._small(data, width, height)
        stored = self.order or self.channels
        pixels = np.frombuffer(data, self.sample_type, width * height * len(stored)).reshape(height, width, len(stored))
        return pixels if stored == self.channels else pixels[..., [stored.index(channel) for channel in self.channels]]

    def pack(self, pixels: Pixels) -> bytes:
        """The stored bytes of a surface; the other direction."""
        height, width = pixels.shape[:2]
        if self.fields:
            return self._packed(pixels)
        if self.bits < 8:
            flat = pixels.reshape(height, width)
            shifts = np.arange(8 - self.bits, -1, -self.bits)
            whole = np.zeros((height, self.row(width) * (8 // self.bits)), np.uint8)
            whole[:, :width] = flat
            groups = whole.reshape(height, -1, 8 // self.bits)
            return bytes(np.bitwise_or.reduce(groups << shifts, axis=2).astype(np.uint8))
        stored = self.order or self.channels
        if stored == self.channels:
            return pixels.astype(self.sample_type, copy=False).tobytes()
        out = np.zeros((height, width, len(stored)), self.sample_type)
        for place, channel in enumerate(stored):
            out[..., place] = pixels[..., self.channels.index(channel)] if channel in self.channels else self.most
        return out.tobytes()

    @property
    def sample_type(self) -> np.dtype[Any]:
        """The type of a decoded channel."""
        return np.dtype(self.sample).newbyteorder("<")

    @property
    def most(self) -> float:
        """The value of a full channel."""
        return 1 if self.kind == "float" else 127 if self.sample == "i1" else int(np.iinfo(self.sample_type).max)

    def _small(self, data: bytes, width: int, height: int) -> Pixels:
        rows = np.frombuffer(data, np.uint8, self.row(width) * height).reshape(height, -1)
        shifts = np.arange(8 - self.bits, -1, -self.bits)
        numbers = (rows[:, :, None] >> shifts & (1 << self.bits) - 1).astype(np.uint8)
        return numbers.reshape(height, -1)[:, :width, None]

    def _unpacked(self, data: bytes, width: int, height: int) -> Pixels:
        words = np.frombuffer(data, f"<u{self.bits // 8}", width * height).reshape(height, width)
        out = np.empty((height, width, len(self.channels)), self.sample_type)
        for place, channel in enumerate(self.channels):
            low, bits = next((low, bits) for name, low, bits in self.fields if name == channel)
            most = (1 << bits) - 1
            value = (words >> low & most).astype(np.uint32)
            out[..., place] = (value * int(self.most) + most // 2) // most
        return out

    def _packed(self, pixels: Pixels) -> bytes:
        words = np.zeros(pixels.shape[:2], np.uint32)
        for channel, low, bits in self.fields:
            most, full = (1 << bits) - 1, int(self.most)
            if channel in self.channels:
                value = pixels[..., self.channels.index(channel)].astype(np.uint32)
                words |= (value * most + full // 2) // full << low
            else:
                words |= np.uint32(most << low)
        return words.astype(f"<u{self.bits // 8}").tobytes()

    def __str__(self) -> str:
        return self.name


def _plain(name: str, channels: str, order: str = "") -> list[PixelFormat]:
    """The formats of the same channels in 8 and 16 bits, half and whole floats: rgba8, rgba16, rgba16f, rgba32f."""
    count = len(order or channels)
    made = [
        PixelFormat(f"{name}8", channels, 8 * count, order=order),
        PixelFormat(f"{name}16", channels, 16 * count, "u2", order=order),
    ]
    return [
        *made,
        PixelFormat(f"{name}16f", channels, 16 * count, "f2", "float", order=order),
        PixelFormat(f"{name}32f", channels, 32 * count, "f4", "float", order=order),
    ]


def _packed(name: str, channels: str, bits: int, fields: str, sample: str = "u1") -> PixelFormat:
    """A format of packed bits, the lowest first: `b5 g6 r5`."""
    told, low = list[tuple[str, int, int]](), 0
    for field in fields.split():
        told.append((field[0], low, int(field[1:])))
        low += int(field[1:])
    return PixelFormat(name, channels, bits, sample, fields=tuple(told))


# The blocks of ASTC in the order in which its formats are numbered everywhere.
ASTC = tuple(
    (int(wide), int(high))
    for wide, high in (
        one.split("x")
        for one in [
            "4x4",
            "5x4",
            "5x5",
            "6x5",
            "6x6",
            "8x5",
            "8x6",
            "8x8",
            "10x5",
            "10x6",
            "10x8",
            "10x10",
            "12x10",
            "12x12",
        ]
    )
)
ASTC_NAMES = tuple(f"astc{wide}x{high}" for wide, high in ASTC)

_ALL = (
    *_plain("r", "r"),
    *_plain("rg", "rg"),
    *_plain("rgb", "rgb"),
    *_plain("rgba", "rgba"),
    *_plain("l", "l"),
    *_plain("la", "la"),
    PixelFormat("a8", "a", 8),
    PixelFormat("bgr8", "rgb", 24, order="bgr"),
    PixelFormat("bgra8", "rgba", 32, order="bgra"),
    PixelFormat("bgrx8", "rgb", 32, order="bgrx"),
    PixelFormat("rgbx8", "rgb", 32, order="rgbx"),
    PixelFormat("argb8", "rgba", 32, order="argb"),
    PixelFormat("abgr8", "rgba", 32, order="abgr"),
    PixelFormat("bgra16", "rgba", 64, "u2", order="bgra"),
    PixelFormat("r8s", "r", 8, "i1", "snorm"),
    PixelFormat("rg8s", "rg", 16, "i1", "snorm"),
    PixelFormat("rgba8s", "rgba", 32, "i1", "snorm"),
    PixelFormat("pal8", "i", 8, kind="index"),
    PixelFormat("pal4", "i", 4, kind="index"),
    PixelFormat("pal2", "i", 2, kind="index"),
    PixelFormat("pal1", "i", 1, kind="index"),
    _packed("bgr565", "rgb", 16, "b5 g6 r5"),
    _packed("rgb565", "rgb", 16, "r5 g6 b5"),
    _packed("bgra5551", "rgba", 16, "b5 g5 r5 a1"),
    _packed("bgrx5551", "rgb", 16, "b5 g5 r5 x1"),
    _packed("rgba5551", "rgba", 16, "r5 g5 b5 a1"),
    _packed("bgra4444", "rgba", 16, "b4 g4 r4 a4"),
    _packed("rgba4444", "rgba", 16, "r4 g4 b4 a4"),
    _packed("la44", "la", 8, "l4 a4"),
    _packed("rgb332", "rgb", 8, "b2 g3 r3"),
    _packed("rgb10a2", "rgba", 32, "r10 g10 b10 a2", "u2"),
    _packed("bgr10a2", "rgba", 32, "b10 g10 r10 a2", "u2"),
    PixelFormat("bc1", "rgba", 64, block=(4, 4)),
    PixelFormat("bc2", "rgba", 128, block=(4, 4)),
    PixelFormat("bc3", "rgba", 128, block=(4, 4)),
    PixelFormat("bc4", "r", 64, block=(4, 4)),
    PixelFormat("bc4s", "r", 64, "i1", "snorm", block=(4, 4)),
    PixelFormat("bc5", "rg", 128, block=(4, 4)),
    PixelFormat("bc5s", "rg", 128, "i1", "snorm", block=(4, 4)),
    PixelFormat("bc6h", "rgb", 128, "f2", "float", block=(4, 4)),
    PixelFormat("bc6hs", "rgb", 128, "f2", "float", block=(4, 4)),
    PixelFormat("bc7", "rgba", 128, block=(4, 4)),
    *(PixelFormat(name, "rgba", 128, block=block) for name, block in zip(ASTC_NAMES, ASTC, strict=True)),
)
FORMATS: dict[str, PixelFormat] = {one.name: one for one in _ALL}
