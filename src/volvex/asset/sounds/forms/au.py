"""AU, the audio files of early workstations."""

from __future__ import annotations

from volvex.asset.sounds.forms import _libsndfile
from volvex.asset.sounds.sound import Sound
from volvex.source import Source

NAMES, EXTENSIONS = (
    ("au",),
    (
        "au",
        "snd",
    ),
)
ENCODINGS, HOLDS, RARE = ("pcm16", "pcm24", "pcm32", "pcm8", "float32", "float64", "mulaw", "alaw"), (), True


def read(source: Source) -> Sound:
    return _libsndfile.read_apart(source, "au")


def write(sound: Sound) -> bytes:
    encoding = (
        sound.encoding
        if sound.encoding in ENCODINGS
        else "pcm24"
        if sound.bits > 16 and "pcm24" in ENCODINGS
        else "pcm16"
    )
    return _libsndfile.write(sound, "AU", encoding, tags=bool(HOLDS))
