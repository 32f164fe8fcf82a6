"""What is shown before the game: a movie in an open container, and one in a container of the game's own.

opening/opening.webm   VP8 and Opus: the light turns over the water; without it the game begins at once
opening/makers.kwm     KWM1: width, height, frames, frames a second as a fraction, codecs, rate, channels, number of
                       packets; an index
                       (stream, key frame, start, size), CRC-32 of the index; the packets: pictures as JPEG, sound as
                       plain samples

The game refuses a wrong checksum, packets that lie elsewhere than the index gives, pictures of another size than the
head gives, and a makers' movie that is missing.
"""

from __future__ import annotations

import hashlib
import io
import math
import random
import struct
import zlib
from collections.abc import Iterator, Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

from kelpwick import GameError

FOLDER, OPEN, OWN = "opening", "opening.webm", "makers.kwm"
HEAD, ROW = struct.Struct("<4sHHIHHBBIBxH"), struct.Struct("<BB2xII")
SIZE, RATE, SECONDS, SOUND_RATE = (64, 36), 10, 2, 11025
PICTURES, SOUND = 0, 1  # streams
JPEG, NO_SOUND, PLAIN = 1, 0, 1  # codecs


def write(folder: Path, rng: random.Random) -> None:
    home = folder / FOLDER
    home.mkdir(exist_ok=True)
    (home / OPEN).write_bytes(_webm())
    (home / OWN).write_bytes(_own())


def _frame(number: int, count: int, warm: bool) -> Any:
    """The light at a moment: a beam that turns over the water."""
    import numpy as np

    wide, high = SIZE
    y, x = np.mgrid[0:high, 0:wide]
    angle, turn = np.arctan2(y - high * 0.4, x - wide * 0.5), 2 * math.pi * number / count - math.pi
    beam = np.clip(1 - np.abs(np.angle(np.exp(1j * (angle - turn)))) * 3, 0, 1)
    sky = np.where(y > high * 0.6, 30 + 20 * np.sin(x / 5 + number / 2), 12.0)
    colour = (1.0, 0.85, 0.5) if warm else (0.6, 0.8, 1.0)
    return np.stack([np.clip(sky + beam * 220 * part, 0, 255) for part in colour], axis=2).astype(np.uint8)


def _hum(pitch: float) -> Any:
    import numpy as np

    time = np.arange(SOUND_RATE * SECONDS) / SOUND_RATE
    return np.rint(6000 * np.sin(2 * np.pi * pitch * time) * np.minimum(1, 4 * time)).astype(np.int16)


def _webm() -> bytes:
    """Pictures and sound by the library that the game plays them with."""
    import av
    import numpy as np

    out = io.BytesIO()
    with av.open(out, "w", format="webm", options={"fflags": "+bitexact"}) as made:
        video: Any = made.add_stream("libvpx", rate=RATE)
        video.width, video.height, video.pix_fmt, video.bit_rate = *SIZE, "yuv420p", 200_000
        sound: Any = made.add_stream("libopus", rate=48000)
        sound.layout = "mono"
        for stream in (video, sound):
            stream.codec_context.flags |= av.codec.context.Flags.bitexact
        video.codec_context.thread_count = 1
        count = RATE * SECONDS
        for number in range(count):
            frame = av.VideoFrame.from_ndarray(_frame(number, count, True), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1, RATE)
            made.mux(video.encode(frame))
        made.mux(video.encode(None))
        time = np.arange(48000 * SECONDS) / 48000
        tone = np.rint(6000 * np.sin(2 * np.pi * 110 * time)).astype(np.int16)
        for at in range(0, len(tone), 960):
            part = av.AudioFrame.from_ndarray(tone[None, at : at + 960], format="s16", layout="mono")
            part.sample_rate, part.pts, part.time_base = 48000, at, Fraction(1, 48000)
            made.mux(sound.encode(part))
        made.mux(sound.encode(None))
    return out.getvalue()


def _own() -> bytes:
    """The game's own container: a picture, then the samples that are heard with it."""
    from PIL import Image

    count, tone, packets = RATE * SECONDS, _hum(147.0), list[tuple[int, bytes]]()
    each = SOUND_RATE // RATE  # what is left over at the end is not heard
    for number in range(count):
        picture = io.BytesIO()
        Image.fromarray(_frame(number, count, False)).save(picture, "JPEG", quality=80)
        packets.append((PICTURES, picture.getvalue()))
        packets.append((SOUND, tone[number * each : (number + 1) * each].astype("<i2").tobytes()))
    start, rows = HEAD.size + len(packets) * ROW.size + 4, []
    for stream, data in packets:
        rows.append(ROW.pack(stream, 1, start, len(data)))
        start += len(data)
    index = b"".join(rows)
    head = HEAD.pack(b"KWM1", *SIZE, count, RATE, 1, JPEG, PLAIN, SOUND_RATE, 1, len(packets))
    return head + index + struct.pack("<I", zlib.crc32(index)) + b"".join(data for _, data in packets)


def read(folder: Path) -> Mapping[str, bytes]:
    """Both movies, each checked; GameError for the first that the game would not play."""
    found = {path.name: path.read_bytes() for path in sorted((folder / FOLDER).glob("*"))}
    list(screen(found))
    return found


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """What the player would see and hear: size, frames, duration, level, and what all pictures and samples are."""
    if OWN not in files:
        raise GameError(f"{FOLDER}/{OWN} is missing")
    if OPEN in files:
        yield _line(OPEN, *_played(files[OPEN]))
    else:
        yield f"  {OPEN:<16}left out: the game begins at once"
    yield _line(OWN, *_unpacked(files[OWN]))


def _line(name: str, rate: Fraction, frames: list[Any], sound_rate: int, samples: Any) -> str:
    import numpy as np

    digest = hashlib.blake2b(digest_size=4)
    for frame in frames:
        digest.update(frame.tobytes())
    digest.update(samples.astype("<i2").tobytes())
    high, wide = frames[0].shape[:2]
    level = math.sqrt(float(np.mean(samples.astype(np.float64) ** 2))) if samples.size else 0.0
    loud = f"{20 * math.log10(level / 32768):.1f} dB" if level >= 1 else "silent"
    dark = ", black" if all(frame.max() < 32 for frame in frames) else ""
    seconds = len(frames) / float(rate)
    return (
        f"  {name:<16}{wide} x {high}, {len(frames)} frame{'' if len(frames) == 1 else 's'}, {seconds:.2f} s, "
        f"{sound_rate} Hz {loud}, {digest.hexdigest()}{dark}"
    )


def _played(data: bytes) -> tuple[Fraction, list[Any], int, Any]:
    """The frames and samples of the open movie."""
    import av
    import numpy as np

    try:
        movie: Any
        with av.open(io.BytesIO(data)) as movie:
            video, sound = movie.streams.video[0], movie.streams.audio[0]
            codecs = (video.codec_context.name, sound.codec_context.name)
            rate, sound_rate = video.average_rate, sound.codec_context.sample_rate
            frames, parts = list[Any](), list[Any]()
            resampler = av.AudioResampler("s16", "mono", sound_rate)
            frame: Any
            for frame in movie.decode(video, sound):
                if isinstance(frame, av.VideoFrame):
                    frames.append(frame.to_ndarray(format="rgb24"))
                else:
                    parts += [one.to_ndarray()[0] for one in resampler.resample(frame)]
    except (av.FFmpegError, IndexError) as error:
        raise GameError(f"{FOLDER}/{OPEN} cannot be played: {error}") from error
    if codecs != ("vp8", "opus") or not frames or rate != RATE or frames[0].shape[:2] != SIZE[::-1]:
        raise GameError(f"{FOLDER}/{OPEN} is no movie of VP8 and Opus, {SIZE[0]} x {SIZE[1]}, {RATE} frames a second")
    return Fraction(rate), frames, sound_rate, np.concatenate(parts) if parts else np.zeros(0, np.int16)


def _unpacked(data: bytes) -> tuple[Fraction, list[Any], int, Any]:
    """The frames and samples of the game's own movie."""
    import numpy as np
    from PIL import Image

    name = f"{FOLDER}/{OWN}"
    try:
        mark, wide, high, count, rate, base, codec, sound, sound_rate, _, rows = HEAD.unpack_from(data)
    except struct.error as error:
        raise GameError(f"{name} is cut off") from error
    index = data[HEAD.size : HEAD.size + rows * ROW.size]
    start = HEAD.size + rows * ROW.size + 4
    if mark != b"KWM1" or codec != JPEG or sound not in (NO_SOUND, PLAIN) or not rate or not base:
        raise GameError(f"{name} is no movie that the game can play")
    if len(index) != rows * ROW.size or data[start - 4 : start] != struct.pack("<I", zlib.crc32(index)):
        raise GameError(f"{name}: its index is damaged")
    frames, parts = list[Any](), list[bytes]()
    for stream, key, at, size in ROW.iter_unpack(index):
        if at != start or at + size > len(data) or key != 1 or stream not in (PICTURES, SOUND):
            raise GameError(f"{name}: a packet is not where the index gives it")
        start += size
        if stream == SOUND:
            parts.append(data[at : at + size])
            continue
        try:
            picture = Image.open(io.BytesIO(data[at : at + size]), formats=("JPEG",)).convert("RGB")
        except OSError as error:
            raise GameError(f"{name}: a picture cannot be shown: {error}") from error
        if picture.size != (wide, high):
            raise GameError(
                f"{name}: a picture of {picture.size[0]} x {picture.size[1]}, the head gives {wide} x {high}"
            )
        frames.append(np.asarray(picture))
    if start != len(data) or len(frames) != count or not frames:
        raise GameError(f"{name} gives {count} frames, it has {len(frames)}, or bytes behind the last packet")
    return Fraction(rate, base), frames, sound_rate, np.frombuffer(b"".join(parts), "<i2")
