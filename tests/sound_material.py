"""Sounds, layouts and banks that tests share: made up, small, the same each time."""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.asset.sound.formats import form_of
from volvex.asset.sound.model import Sound
from volvex.asset.sound.own_layout import LayoutSound
from volvex.codec.samples import Samples
from volvex.codec.samples.layout import sample_layout
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

ENCODINGS = (
    "pcm8",
    "pcm8_signed",
    "pcm16",
    "pcm16(endian big)",
    "pcm16(order channels)",
    "pcm16(order blocks, block 64)",
    "pcm24",
    "pcm24(endian big)",
    "pcm32",
    "float32",
    "float64(endian big)",
    "mulaw",
    "alaw(order channels)",
    "ima_adpcm",
    "ima_adpcm(block 128)",
    "ima_adpcm(nibbles high, header none, group 1)",
    "ima_adpcm(header packed, first no, block 34, order blocks)",
    "ima_adpcm(header index_predictor, endian big, block 64)",
    "ima_adpcm(steps oki, header none, nibbles high, group 1)",
    "ima_adpcm(order channels, block 36)",
    "ima_adpcm(rounding multiply, group 2, block 72)",
    "ima_adpcm(start 33000, index 20, header none)",
    "ima_adpcm(table hex 08 00 20 00 80 00 00 02 00 08 00 20, moves hex ff ff 00 00 01 01 02 02, header none)",
    "ms_adpcm(block 256)",
    "ms_adpcm(order blocks, block 70)",
    "ms_adpcm(coefficients hex 00 01 00 00 00 02 00 ff, block 128)",
)
BELL = """layout "bells"  kind sound
little endian
known by "KBEL" at 0
block head at 0
    mark      4 bytes  is "KBEL"
    rate      u16      rate
    channels  u8       channels
    coding    u8       encoding { 0 pcm16, 1 ima_adpcm, 2 ms_adpcm, 3 vorbis, 4 mp3, 5 flac(head none), 6 pcm, 7 wav(head none), 8 opus }
    bits      u8       bits
    order     u8       sample order { 0 frames, 1 channels }
    block     u16      block size
    frames    u16      frames
    begin     u32      loop start
    end       u32      loop end
    size      u32      length of data
    sum       u32      crc32 of data
block data after head repeats until end
    byte      u8       samples
"""  # noqa: E501
BANK = """layout "voices"  kind archive
little endian
known by "KVOI" at 0
block head at 0
    mark      4 bytes  is "KVOI"
    count     u32      count of voices
block voices after head repeats
    name      text u8  name
    rate      u16      rate
    channels  u8       channels
    coding    u8       encoding { 0 pcm16, 1 ima_adpcm(block 128), 2 mulaw, 3 vorbis, 4 pcm24(endian big, order channels), 5 float32, 6 pcm8 }
    start     u32      start of content
    size      u32      stored size of content
    frames    u32      frames
    begin     u32      loop start
    end       u32      loop end
    sum       u32      crc32 of stored content
content in volumes "{name}.kvd" align 16
"""  # noqa: E501
BANK_SPECS = (
    "pcm16",
    "ima_adpcm(block 128)",
    "mulaw",
    "vorbis",
    "pcm24(endian big, order channels)",
    "float32",
    "pcm8",
)
HEAD = struct.Struct("<4sHBBBBHHIII")


def tones(frames: int = 3000, channels: int = 2, rate: int = 22050, pitch: float = 440.0) -> Samples:
    """A tone in each channel, with a little noise."""
    noise = np.random.default_rng(7).normal(0, 40, (frames, channels))
    time = np.arange(frames) / rate
    made = np.stack([9000 * np.sin(2 * np.pi * (pitch + 110 * one) * time) for one in range(channels)], axis=1)
    return np.asarray((made + noise).astype(np.int16))


def sound(samples: Samples, rate: int = 22050, encoding: str = "pcm16", **more: Any) -> Sound:
    """A sound of samples that are there."""
    kind = samples.dtype.str[1:]
    return Sound(rate, samples.shape[1], len(samples), encoding, 16, kind, lambda: samples, **more)


def wav(samples: Samples, rate: int = 22050, **more: Any) -> bytes:
    """The same as a WAV file."""
    return form_of("wav").write(sound(samples, rate, **more))


def bells() -> LayoutSound:
    """The form of bells."""
    return LayoutSound(parse_layout(BELL, "bells.layout"))


def bell(
    data: bytes,
    coding: int,
    frames: int,
    channels: int = 1,
    block: int = 0,
    loop: tuple[int, int] = (0, 0),
    order: int = 0,
) -> bytes:
    """A file of bells."""
    import zlib

    head = HEAD.pack(b"KBEL", 22050, channels, coding, 16, order, block, frames, *loop, len(data))
    return head[:-4] + struct.pack("<I", len(data)) + struct.pack("<I", zlib.crc32(data)) + data


def read_bell(data: bytes) -> Sound:
    """A bell that is read."""
    return bells().read(BytesSource(data, "bell.kbl"))


def bank(change: Callable[[int], int] = lambda row: row) -> tuple[bytes, bytes]:
    """A bank with a sound of each encoding, and its streaming file."""
    import zlib

    rows, stream = [], b""
    for row, spec in enumerate(BANK_SPECS):
        coding, channels = change(row), 2 if row in (1, 4) else 1
        samples = tones(900 + row, channels)
        if spec == "vorbis":
            data = form_of("ogg").write(sound(samples, encoding="vorbis"))
        else:
            own = sample_layout(spec)
            wide = {"i4": samples.astype(np.int32) << 16, "f4": samples.astype(np.float32) / 32768}
            data = own.encode(wide.get(own.encoding.sample, samples))
        stream += bytes(-len(stream) % 16)
        loop = (100, 800) if row < 3 else (0, 0)
        facts = struct.pack(
            "<HBBIIIIII", 22050, channels, coding, len(stream), len(data), len(samples), *loop, zlib.crc32(data)
        )
        name = spec.partition("(")[0].encode() + b"%d" % row
        rows.append(bytes([len(name)]) + name + facts)
        stream += data
    return b"KVOI" + struct.pack("<I", len(rows)) + b"".join(rows), stream
