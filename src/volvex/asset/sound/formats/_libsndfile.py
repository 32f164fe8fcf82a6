"""What the forms that libsndfile reads and writes have in common."""

from __future__ import annotations

import functools
import io
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.apart import apart
from volvex.asset.sound.model import Sound, check_sound
from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats, as_type
from volvex.errors import FRESH, FormatError, RefusedError
from volvex.library_errors import library_errors
from volvex.source import Source

STEP = 1 << 18  # frames that are decoded or encoded at once: libraries take more than they can hold
DENSEST = 1 << 16  # frames that a byte of a file can hold: silence
TAGS = ("title", "copyright", "software", "artist", "comment", "date", "album", "license", "tracknumber", "genre")
SUBTYPES = {"pcm8": "PCM_S8", "pcm16": "PCM_16", "pcm24": "PCM_24", "pcm32": "PCM_32", "float32": "FLOAT", "float64": "DOUBLE", "mulaw": "ULAW", "alaw": "ALAW", "vorbis": "VORBIS", "opus": "OPUS", "mp3": "MPEG_LAYER_III"}  # fmt: skip  # noqa: E501
NEVER_EMPTY = ("FLAC", "OGG", "MP3")
LOUDEST = 2.0  # that a lossy encoder is given; 1 is the loudest that is played
APART = ("mp3",)  # whose decoder prints what it thinks of a file
OWN = {"VOC": {"pcm8": "PCM_U8"}}
WORDS = {word: name for name, word in SUBTYPES.items()} | {"PCM_U8": "pcm8", "ALAC_16": "alac", "ALAC_24": "alac"}


def opened(data: bytes, name: str, form: str) -> Any:
    """A file as the library reads it."""
    import soundfile

    with library_errors(name, f"{form} file", FRESH):
        return soundfile.SoundFile(io.BytesIO(data))


def read(source: Source, form: str, encoding: str = "") -> Sound:
    """A sound of which the library reads the head, too."""
    data = source.read(0, source.size)
    rate, channels, frames, word, tags = _head(data, source.name, form)
    return made(source, form, (rate, channels, frames), encoding or word, tags)


def read_apart(source: Source, form: str) -> Sound:
    """The same, read and decoded in a process of its own."""
    data = source.read(0, source.size)
    rate, channels, frames, word, tags = apart(source.name, _head, data, source.name, form)
    sound = made(source, form, (rate, channels, frames), word, tags)
    return replace(sound, decode=functools.partial(samples_apart, source, form, sound.sample))


def _head(data: bytes, name: str, form: str) -> tuple[int, int, int, str, dict[str, str]]:
    with opened(data, name, form) as file:
        tags = {name: text for name, text in file.copy_metadata().items() if text}
        return file.samplerate, file.channels, file.frames, WORDS.get(file.subtype, file.subtype.lower()), tags


def made(
    source: Source,
    form: str,
    size: tuple[int, int, int],
    encoding: str,
    tags: Mapping[str, str] | None = None,
    **more: Any,
) -> Sound:
    """A sound by its head: rate, channels and frames."""
    rate, channels, frames = size
    sample = "i4" if encoding in ("pcm24", "pcm32") else "f4" if encoding in ("float32", "vorbis", "opus", "mp3") else "f8" if encoding == "float64" else "i2"  # fmt: skip  # noqa: E501
    check_sound(source.name, rate, channels, 0)
    if frames > DENSEST * source.size:
        raise FormatError(
            source.name, f"it gives {frames:,} frames, more than {source.size:,} bytes can hold", hint=FRESH
        )
    check_sound(source.name, rate, channels, frames, sample)
    digits = "".join(letter for letter in encoding if letter.isdigit())
    bits = int(digits) if encoding.startswith(("pcm", "float")) else 8 if encoding in ("mulaw", "alaw") else 0
    decode = functools.partial(samples_apart if form in APART else samples_of, source, form, sample, frames)
    return Sound(rate, channels, frames, encoding, bits, sample, decode, form, tags=tags or {}, **more)


def samples_of(source: Source, form: str, sample: str, frames: int) -> Samples:
    """All samples of a file; FormatError when they are fewer than its head gives."""
    found = decoded(source.read(0, source.size), source.name, form, sample)
    if len(found) < frames:
        said = f"it gives {frames:,} frames, {len(found):,} of them can be decoded"
        raise FormatError(source.name, said, hint=FRESH)
    return found


def samples_apart(source: Source, form: str, sample: str, frames: int = 0) -> Samples:
    """All samples of a file, as many as there are, decoded in a process of its own: heads of these forms only guess."""
    return apart(source.name, decoded, source.read(0, source.size), source.name, form, sample)


def decoded(data: bytes, name: str, form: str, sample: str) -> Samples:
    """The same of bytes."""
    kind, parts, total = {"i2": "int16", "i4": "int32", "f4": "float32", "f8": "float64"}[sample], list[Any](), 0
    with library_errors(name, f"{form} file", FRESH), opened(data, name, form) as file:
        while len(part := file.read(STEP, kind, always_2d=True)):
            parts.append(part)
            total += len(part)
            check_sound(name, file.samplerate, file.channels, total, sample)
        channels = file.channels
    return np.concatenate(parts) if parts else np.zeros((0, channels), kind)


def write(sound: Sound, container: str, encoding: str, rates: tuple[int, ...] = (), tags: bool = True) -> bytes:
    """A file of a container that the library writes; the same sound gives the same bytes but for Ogg."""
    import soundfile

    if rates and sound.rate not in rates:
        raise RefusedError(f"{container} files have no rate of {sound.rate:,}", f"one of {', '.join(map(str, rates))}")
    if not sound.frames and container in NEVER_EMPTY:
        raise RefusedError(f"a file of {container} cannot hold a sound without frames", "wav")
    subtype = OWN.get(container, {}).get(encoding) or SUBTYPES[encoding]
    samples, out = sound.samples, io.BytesIO()
    if subtype in ("VORBIS", "OPUS", "MPEG_LAYER_III", "FLOAT"):
        samples = as_floats(samples).astype(np.float32)
        if subtype != "FLOAT":  # encoders stop the whole program at what is no sound
            samples = np.clip(np.nan_to_num(samples), -LOUDEST, LOUDEST)
    elif subtype == "DOUBLE":
        samples = as_floats(samples).astype(np.float64)
    elif subtype in ("PCM_24", "PCM_32"):
        samples = as_type(samples, "i4")[0]
    else:
        samples = as_type(samples, "i2")[0]
    try:
        with soundfile.SoundFile(out, "w", sound.rate, sound.channels, subtype, format=container) as file:
            for name in TAGS if tags else ():
                if sound.tags.get(name):
                    setattr(file, name, sound.tags[name])
            for at in range(0, len(samples), STEP):
                file.write(samples[at : at + STEP])
    except (soundfile.LibsndfileError, RuntimeError, ValueError, TypeError) as error:
        said = str(error).rpartition(": ")[2] or str(error)
        raise RefusedError(
            f"a {container} file cannot hold {sound.channels} channels at {sound.rate:,} Hz: "
            f"{said.rstrip('.').lower()}",
            "wav or flac",
        ) from error
    return out.getvalue()
