"""AIFF (Audio Interchange File Format, 1989; AIFF-C, 1991)."""

from __future__ import annotations

from volvex.asset.sounds.forms import _libsndfile
from volvex.asset.sounds.sound import Sound
from volvex.source import Source

NAMES, EXTENSIONS = (
    ("aiff",),
    (
        "aiff",
        "aif",
        "aifc",
    ),
)
ENCODINGS, HOLDS, RARE = ("pcm16", "pcm24", "pcm32", "pcm8", "float32", "float64", "mulaw", "alaw"), ("tags",), True


def read(source: Source) -> Sound:
    return _libsndfile.read_apart(source, "aiff")


def write(sound: Sound) -> bytes:
    encoding = (
        sound.encoding
        if sound.encoding in ENCODINGS
        else "pcm24"
        if sound.bits > 16 and "pcm24" in ENCODINGS
        else "pcm16"
    )
    return _libsndfile.write(sound, "AIFF", encoding, tags=bool(HOLDS))
