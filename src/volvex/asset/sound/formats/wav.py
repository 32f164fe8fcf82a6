"""WAV (RIFF WAVE): whole numbers of 8 to 32 bits, floats, IMA and MS ADPCM, mu-law and A-law; loops, cues, tags, and
chunks of others."""

from __future__ import annotations

import functools

import numpy as np

from volvex.asset.sound.formats import _libsndfile
from volvex.asset.sound.model import Sound, check_sound
from volvex.codec.samples import Before, Samples
from volvex.codec.samples.convert import as_type
from volvex.codec.samples.layout import SampleLayout, check_block, sample_layout
from volvex.codec.samples.riff import Wave, header, marks, read_wave
from volvex.errors import FRESH, ContentError, FormatError, RefusedError
from volvex.source import Source

NAMES, EXTENSIONS = ("wav",), ("wav",)
ENCODINGS = ("pcm16", "pcm24", "pcm32", "pcm8", "float32", "float64", "mulaw", "alaw", "ima_adpcm", "ms_adpcm")
HOLDS = ("loops", "cues", "tags")
BLOCK = 1024  # bytes of a channel's block, where nothing gives it


def read(source: Source) -> Sound:
    try:
        wave = read_wave(source.peek, source.size)
    except ContentError as error:
        raise FormatError(source.name, error.message, hint=FRESH) from error
    own = _samples_of(wave)
    if own is None:
        return _libsndfile.read(source, "wav", f"format {wave.tag:#x}")
    check_sound(source.name, wave.rate, wave.channels, 0)
    problem = check_block(own, wave.channels)
    if problem:
        raise FormatError(source.name, problem, hint=FRESH)
    frames = own.frames(wave.size, wave.channels)
    if wave.total is not None and own.encoding.blocks:
        frames = min(frames, wave.total)
    check_sound(source.name, wave.rate, wave.channels, frames, own.encoding.sample)
    return Sound(
        wave.rate,
        wave.channels,
        frames,
        own.encoding.name,
        own.encoding.bits,
        own.encoding.sample,
        functools.partial(_decoded, source, wave, own, frames),
        "wav",
        wave.loops,
        wave.cues,
        wave.tags,
        seekable=wave.ends,
        extra={"wave": wave, "layout": own, "source": source},
    )


def _samples_of(wave: Wave) -> SampleLayout | None:
    return sample_layout(wave.encoding) if wave.encoding else None


def _decoded(source: Source, wave: Wave, own: SampleLayout, frames: int) -> Samples:
    data = np.frombuffer(source.read(wave.start, wave.size), np.uint8)
    return own.decode(data, wave.channels, frames)


def write(sound: Sound) -> bytes:
    """The file; of one that was a WAV file, blocks whose samples are as they were keep their bytes, and so do chunks of
    others."""
    encoding = sound.encoding if sound.encoding in ENCODINGS else "pcm16"
    found = sound.extra.get("wave") if sound.form == "wav" else None
    was = found if isinstance(found, Wave) else None
    same = was if was is not None and _is_like(was, sound, encoding) else None
    own = sample_layout(same.encoding) if same is not None else sample_layout(encoding, block=BLOCK * sound.channels)
    samples, before = as_type(sound.samples, own.encoding.sample)[0], None
    if same is not None:
        source: Source = sound.extra["source"]
        data = np.frombuffer(source.read(same.start, same.size), np.uint8)
        before = Before(own.decode(data, same.channels, own.frames(len(data), same.channels)), data)
    try:
        stored = own.encode(samples, before)
        behind = marks(sound.loops, sound.cues, sound.tags, sound.rate, was)
        blocked = own.block if own.encoding.blocks else 0
        form = same.form if same is not None else b""
        front = header(encoding, sound.channels, sound.rate, len(stored), behind, len(samples), blocked, form)
    except ContentError as error:
        raise RefusedError(error.message, "flac") from error
    return front + stored + b"\0" * (len(stored) % 2) + behind


def _is_like(was: Wave, sound: Sound, encoding: str) -> bool:
    """Whether a sound is stored as that of a file was, so that this file's own format is right for it."""
    own = (was.encoding.partition("(")[0], was.channels, was.rate)
    return own == (encoding, sound.channels, sound.rate)
