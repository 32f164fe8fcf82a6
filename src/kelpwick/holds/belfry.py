"""Bells, a shanty and voices: sounds in three forms of the game's own, and a bank with a streaming file.

belfry/*.kbl        KBL1: number of the rate, channels, frames, loop, CRC-32; 16 bits a sample, channel after channel
belfry/*.kba        KBA1, big endian: rate, bytes of a block, frames, length; steps of 4 bits, each block with its own
                    start
belfry/*.kbs        KBS1: rate, channels, bits, frames, loop, length, Adler-32; a FLAC stream of blocks of 4096 without
                    its head
belfry/chorus.kbi   KBI1: a record a voice, sorted by name: rate, channels, coding, start, size, frames; CRC-32 of the
                    records
belfry/chorus.kbd   the voices' samples, each at a multiple of 64: plain, mu-law, or steps of 4 bits

The game refuses a wrong checksum, a length that is not that of the samples, a loop behind the end, and sounds that are
missing.
"""

from __future__ import annotations

import hashlib
import io
import math
import random
import struct
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from kelpwick import GameError

FOLDER = "belfry"
RATES = {1: 11025, 2: 22050}
BELLS = {"dawn_bell": (2, 2, 440.0), "fog_bell": (1, 1, 180.0)}  # number of the rate, channels, pitch
TIDE = ("tide_bell", 11025, 260, 320.0)  # rate, bytes of a block, pitch
SHANTY = ("shanty", 22050, 2)
VOICES = {"bass": (0, 147.0), "mate": (1, 196.0), "cook": (2, 247.0), "boy": (0, 392.0)}  # coding, pitch
VOICE_RATE, VOICE_BLOCK, ALIGN = 11025, 132, 64
KBL, KBA, KBS = struct.Struct("<4sBBHIIII"), struct.Struct(">4sHHII"), struct.Struct("<4sIBBHIIIII")
RECORD = struct.Struct("<12sHBBIII")
STEPS = [7, 8, 9, 10, 11, 12, 13, 14, 16, 17, 19, 21, 23, 25, 28, 31, 34, 37, 41, 45, 50, 55, 60, 66, 73, 80, 88, 97, 107, 118, 130, 143, 157, 173, 190, 209, 230, 253, 279, 307, 337, 371, 408, 449, 494, 544, 598, 658, 724, 796, 876, 963, 1060, 1166, 1282, 1411, 1552, 1707, 1878, 2066, 2272, 2499, 2749, 3024, 3327, 3660, 4026, 4428, 4871, 5358, 5894, 6484, 7132, 7845, 8630, 9493, 10442, 11487, 12635, 13899, 15289, 16818, 18500, 20350, 22385, 24623, 27086, 29794, 32767]  # fmt: skip  # noqa: E501
MOVES = (-1, -1, -1, -1, 2, 4, 6, 8)
Samples = Any  # frames x channels, int16


@dataclass(frozen=True)
class Sound:
    """A sound as it is played."""

    rate: int
    samples: Samples
    loop: tuple[int, int] = (0, 0)


def write(folder: Path, rng: random.Random) -> None:
    home = folder / FOLDER
    home.mkdir(exist_ok=True)
    for name, (number, channels, pitch) in BELLS.items():
        rate = RATES[number]
        samples = _struck(rate, 0.8 / channels, pitch, channels)
        data = samples.T.astype("<i2").tobytes()
        loop = (rate // 10, rate // 2) if name == "fog_bell" else (0, 0)
        head = KBL.pack(b"KBL1", number, channels, 0, len(samples), *loop, zlib.crc32(data))
        (home / f"{name}.kbl").write_bytes(head + data)
    name, rate, block, pitch = TIDE
    samples = _struck(rate, 0.6, pitch, 1)
    data = _in_steps(samples[:, 0].tolist(), block)
    (home / f"{name}.kba").write_bytes(KBA.pack(b"KBA1", rate, block, len(samples), len(data)) + data)
    _write_shanty(home, rng)
    _write_chorus(home)


def _struck(rate: int, seconds: float, pitch: float, channels: int) -> Samples:
    """A bell: partials that fade, a little later in each channel."""
    time = np.arange(int(rate * seconds)) / rate
    made = []
    for channel in range(channels):
        late = np.maximum(0, time - 0.004 * channel)
        tones = sum(np.sin(2 * np.pi * pitch * part * late) / part for part in (1, 2.4, 3.9))
        made.append(np.rint(9000 * tones * np.exp(-4 * late)))
    return np.stack(made, axis=1).astype(np.int16)


def _write_shanty(home: Path, rng: random.Random) -> None:
    import soundfile

    name, rate, channels = SHANTY
    tune = [rng.choice((196.0, 220.0, 247.0, 294.0, 330.0)) for _ in range(8)]
    samples = np.concatenate([_struck(rate, 0.25, pitch, channels) for pitch in tune])
    out = io.BytesIO()
    soundfile.write(out, samples, rate, format="FLAC", subtype="PCM_16")
    stream = _without_head(out.getvalue())
    head = KBS.pack(
        b"KBS1", rate, channels, 16, 0, len(samples), rate // 4, len(samples), len(stream), zlib.adler32(stream)
    )
    (home / f"{name}.kbs").write_bytes(head + stream)


def _without_head(data: bytes) -> bytes:
    at = 4
    while True:
        last, size = data[at] & 128, int.from_bytes(data[at + 1 : at + 4], "big")
        at += 4 + size
        if last:
            return data[at:]


def _write_chorus(home: Path) -> None:
    stream, records = bytearray(), []
    for name, (coding, pitch) in sorted(VOICES.items()):
        samples = _struck(VOICE_RATE, 0.4, pitch, 1)
        data = _coded(samples, coding)
        stream += bytes(-len(stream) % ALIGN)
        records.append(RECORD.pack(name.encode(), VOICE_RATE, 1, coding, len(stream), len(data), len(samples)))
        stream += data
    table = b"".join(records)
    head = b"KBI1" + struct.pack("<H", len(records))
    (home / "chorus.kbi").write_bytes(head + table + struct.pack("<I", zlib.crc32(table)))
    (home / "chorus.kbd").write_bytes(bytes(stream))


def _coded(samples: Samples, coding: int) -> bytes:
    if coding == 0:
        return bytes(samples.astype("<i2").tobytes())
    if coding == 1:
        return bytes(_mulaw(sample) for sample in samples[:, 0].tolist())
    return _in_steps(samples[:, 0].tolist(), VOICE_BLOCK)


def _mulaw(sample: int) -> int:
    sign, size = (0x80, -sample) if sample < 0 else (0, sample)
    size = min(size, 32635) + 132
    exponent = size.bit_length() - 8
    return ~(sign | exponent << 4 | size >> exponent + 3 & 15) & 255


def _from_mulaw(byte: int) -> int:
    byte = ~byte & 255
    size = ((byte & 15) << 3) + 132 << (byte >> 4 & 7)
    return 132 - size if byte & 0x80 else size - 132


def _step(value: int, index: int, code: int) -> tuple[int, int]:
    """The sample and the step's number behind a code of 4 bits."""
    step = STEPS[index]
    move = (step >> 3) + (step if code & 4 else 0) + (step >> 1 if code & 2 else 0) + (step >> 2 if code & 1 else 0)
    value = max(-32768, min(32767, value - move if code & 8 else value + move))
    return value, max(0, min(88, index + MOVES[code & 7]))


def _in_steps(samples: list[int], block: int) -> bytes:
    """Blocks: the step's number and the sample before the first, then codes, the high half of a byte first."""
    out, value, index, each = bytearray(), 0, 0, (block - 4) * 2
    for at in range(0, len(samples), each):
        out += struct.pack(">Hh", index, value)
        codes = []
        for sample in [*samples[at : at + each], *[0] * (each - len(samples[at : at + each]))]:
            code = min(7, abs(sample - value) * 4 // STEPS[index]) | (8 if sample < value else 0)
            value, index = _step(value, index, code)
            codes.append(code)
        out += bytes(high << 4 | low for high, low in zip(codes[::2], codes[1::2], strict=True))
    return bytes(out)


def _from_steps(data: bytes, block: int, frames: int, name: str) -> Samples:
    found: list[int] = []
    for at in range(0, len(data), block):
        index, value = struct.unpack_from(">Hh", data, at)
        if index > 88:
            raise GameError(f"{name}: a block begins with step {index}")
        for byte in data[at + 4 : at + block]:
            for code in (byte >> 4, byte & 15):
                value, index = _step(value, index, code)
                found.append(value)
    if not 0 <= len(found) - frames < (block - 4) * 2:
        raise GameError(f"{name} gives {frames} frames, its blocks have {len(found)}")
    return np.array(found[:frames], np.int16)[:, None]


# reading


def read(folder: Path) -> Mapping[str, bytes]:
    """All files, each checked; GameError for the first that the game would not play."""
    found = {path.name: path.read_bytes() for path in sorted((folder / FOLDER).glob("*"))}
    list(sounds(found))
    return found


def sounds(files: Mapping[str, bytes]) -> Iterator[tuple[str, Sound]]:
    """Every sound, decoded."""
    wanted = [*(f"{name}.kbl" for name in BELLS), f"{TIDE[0]}.kba", f"{SHANTY[0]}.kbs", "chorus.kbi", "chorus.kbd"]
    if missing := next((name for name in wanted if name not in files), None):
        raise GameError(f"{FOLDER}/{missing} is missing")
    forms = {"kbl": _bell, "kba": _tide, "kbs": _shanty}
    for name, data in files.items():
        form = forms.get(name.rpartition(".")[2])
        if form is not None:
            try:
                sound = form(data, f"{FOLDER}/{name}")
            except struct.error as error:
                raise GameError(f"{FOLDER}/{name} is cut off") from error
            _require_loop(sound, name)
            yield name, sound
    yield from _chorus(files["chorus.kbi"], files["chorus.kbd"])


def _require_loop(sound: Sound, name: str) -> None:
    start, end = sound.loop
    if (start, end) != (0, 0) and not 0 <= start < end <= len(sound.samples):
        raise GameError(f"{FOLDER}/{name}: a loop from {start} to {end} of {len(sound.samples)} frames")


def _bell(data: bytes, name: str) -> Sound:
    mark, number, channels, zero, frames, start, end, checksum = KBL.unpack_from(data)
    body = data[KBL.size :]
    if mark != b"KBL1" or zero or number not in RATES or channels not in (1, 2):
        raise GameError(f"{name} is no bell")
    if len(body) != frames * channels * 2 or zlib.crc32(body) != checksum:
        raise GameError(f"{name}: its samples are not those that its head gives")
    return Sound(RATES[number], np.frombuffer(body, "<i2").reshape(channels, frames).T, (start, end))


def _tide(data: bytes, name: str) -> Sound:
    mark, rate, block, frames, size = KBA.unpack_from(data)
    if mark != b"KBA1" or rate != TIDE[1] or block != TIDE[2] or len(data) != KBA.size + size or size % block:
        raise GameError(f"{name} is no bell of the tide")
    return Sound(rate, _from_steps(data[KBA.size :], block, frames, name))


def _shanty(data: bytes, name: str) -> Sound:
    import soundfile

    mark, rate, channels, bits, zero, frames, start, end, size, checksum = KBS.unpack_from(data)
    stream = data[KBS.size :]
    if (mark, rate, channels, bits, zero) != (b"KBS1", *SHANTY[1:], 16, 0):
        raise GameError(f"{name} is no shanty")
    if len(stream) != size or zlib.adler32(stream) != checksum:
        raise GameError(f"{name}: its stream is not that which its head gives")
    word = rate << 44 | channels - 1 << 41 | bits - 1 << 36 | frames
    info = struct.pack(">HH6xQ16x", 4096, 4096, word)
    try:
        samples, _ = soundfile.read(io.BytesIO(b"fLaC\x80\0\0\x22" + info + stream), dtype="int16", always_2d=True)
    except RuntimeError as error:
        raise GameError(f"{name}: its stream cannot be played: {error}") from error
    if samples.shape != (frames, channels):
        raise GameError(f"{name} gives {frames} frames, its stream has {len(samples)}")
    return Sound(rate, samples, (start, end))


def _chorus(index: bytes, stream: bytes) -> Iterator[tuple[str, Sound]]:
    name = f"{FOLDER}/chorus.kbi"
    count = struct.unpack_from("<H", index, 4)[0]
    table = index[6 : 6 + count * RECORD.size]
    if index[:4] != b"KBI1" or len(index) != 6 + len(table) + 4 or index[-4:] != struct.pack("<I", zlib.crc32(table)):
        raise GameError(f"{name}: its checksum is wrong")
    last, found = b"", set[str]()
    for raw, rate, channels, coding, start, size, frames in RECORD.iter_unpack(table):
        voice = raw.rstrip(b"\0").decode("ascii", "replace")
        if raw <= last or rate != VOICE_RATE or channels != 1 or start % ALIGN or start + size > len(stream):
            raise GameError(f"{name}: the voice {voice} is out of order, or not in the stream")
        data = stream[start : start + size]
        if coding == 0:
            samples = np.frombuffer(data, "<i2")[:, None]
        elif coding == 1:
            samples = np.array([_from_mulaw(byte) for byte in data], np.int16)[:, None]
        else:
            samples = _from_steps(data, VOICE_BLOCK, frames, f"{name}: {voice}")
        if len(samples) != frames:
            raise GameError(f"{name}: {voice} gives {frames} frames, it has {len(samples)}")
        last = raw
        found.add(voice)
        yield f"chorus/{voice}", Sound(rate, samples)
    if missing := set(VOICES) - found:
        raise GameError(f"{name} has no voice {min(missing)}")


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """What the player would hear: how long, how it is played, how loud, and what its samples are."""
    for name, sound in sounds(files):
        samples = sound.samples
        level = math.sqrt(float(np.mean(samples.astype(np.float64) ** 2))) if len(samples) else 0.0
        loud = f"{20 * math.log10(level / 32768):.1f} dB" if level else "silent"
        digest = hashlib.blake2b(samples.astype("<i2").tobytes(), digest_size=4).hexdigest()
        loop = f", loop {sound.loop[0]} to {sound.loop[1]}" if sound.loop != (0, 0) else ""
        channels = ("mono", "stereo")[samples.shape[1] - 1]
        yield (
            f"  {name:<16}{len(samples) / sound.rate:>7.3f} s  {sound.rate} Hz {channels:<6}  {loud:>8}  {digest}{loop}"
        )
