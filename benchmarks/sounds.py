"""Sounds to measure on: 1,000 that are 2 GB decoded, an archive and a bank of 10,000."""

from __future__ import annotations

import struct
import zipfile
from pathlib import Path

import numpy as np

from volvex.codec.samples.layout import sample_layout
from volvex.codec.samples.riff import header

BANK = """layout "many voices"  kind archive
little endian
known by "MVOI" at 0
block head at 0
    mark      4 bytes  is "MVOI"
    count     u32      count of voices
block voices after head repeats
    name      text 12  name
    rate      u16      rate
    channels  u8       channels
    coding    u8       encoding { 0 pcm16, 1 ima_adpcm(block 256), 2 mulaw }
    start     u32      start of content
    size      u32      stored size of content
    frames    u32      frames
content in volumes "{name}.mvd" align 16
"""


def music(frames: int, channels: int, seed: int) -> np.ndarray:
    """Tones that come and go, with some noise: as hard to compress as music."""
    rng = np.random.default_rng(seed)
    time = np.arange(frames) / 44100
    made = np.zeros((frames, channels))
    for pitch in rng.uniform(80, 2000, 6):
        made += np.sin(2 * np.pi * pitch * time)[:, None] * rng.uniform(500, 3000, channels)
    made *= (0.6 + 0.4 * np.sin(time * rng.uniform(0.5, 3)))[:, None]
    return (made + rng.normal(0, 60, (frames, channels))).clip(-32000, 32000).astype(np.int16)


def wavs(folder: Path, count: int = 1000, seconds: float = 12.0) -> Path:
    """A number of WAV files, stereo, 44,100 Hz, 2 MB each: twenty that differ, and copies of them."""
    folder.mkdir(parents=True, exist_ok=True)
    first: list[bytes] = []
    for number in range(count):
        path = folder / f"tune-{number:04}.wav"
        if path.exists():
            continue
        if len(first) < 20:
            data = music(int(44100 * seconds), 2, len(first)).tobytes()
            first.append(header("pcm16", 2, 44100, len(data)) + data)
        path.write_bytes(first[number % len(first)])
    return folder


def archive(path: Path, count: int = 10_000) -> Path:
    """A ZIP of as many short sounds, stored as they are: WAV files, and some Ogg."""
    if path.exists():
        return path
    path.parent.mkdir(parents=True, exist_ok=True)
    import io

    import soundfile

    out = io.BytesIO()
    soundfile.write(out, music(4000, 1, 1), 44100, format="OGG", subtype="VORBIS")
    data = music(4000, 1, 2).tobytes()
    wav = header("pcm16", 1, 44100, len(data)) + data
    with zipfile.ZipFile(path, "w") as file:
        for number in range(count):
            ogg = number % 4 == 0
            file.writestr(
                f"sounds/{number // 100:03}/s{number:05}.{'ogg' if ogg else 'wav'}", out.getvalue() if ogg else wav
            )
    return path


def bank(folder: Path, count: int = 10_000) -> Path:
    """A bank of as many voices, its streaming file, and its layout in a home of its own."""
    path = folder / "voices.mvi"
    if path.exists():
        return path
    folder.mkdir(parents=True, exist_ok=True)
    samples = music(4000, 1, 3)
    data = [sample_layout(spec).encode(samples) for spec in ("pcm16", "ima_adpcm(block 256)", "mulaw")]
    rows, stream = [], bytearray()
    for number in range(count):
        own = data[number % 3]
        stream += bytes(-len(stream) % 16)
        name = b"v%05d" % number
        rows.append(struct.pack("<12sHBBIII", name, 22050, 1, number % 3, len(stream), len(own), 4000))
        stream += own
    (folder / "voices.mvd").write_bytes(stream)
    layouts = folder / "home" / "layouts"
    layouts.mkdir(parents=True, exist_ok=True)
    (layouts / "voices.layout").write_text(BANK)
    path.write_bytes(b"MVOI" + struct.pack("<I", count) + b"".join(rows))
    return path
