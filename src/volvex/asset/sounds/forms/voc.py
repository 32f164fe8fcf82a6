"""VOC, the voice files of early sound cards."""

from __future__ import annotations

from volvex.asset.sounds.forms import _libsndfile
from volvex.asset.sounds.sound import Sound
from volvex.source import Source

NAMES, EXTENSIONS = ("voc",), ("voc",)
ENCODINGS, HOLDS, RARE = ("pcm16", "pcm8", "mulaw", "alaw"), (), True


def read(source: Source) -> Sound:
    return _libsndfile.read_apart(source, "voc")


def write(sound: Sound) -> bytes:
    encoding = (
        sound.encoding
        if sound.encoding in ENCODINGS
        else "pcm24"
        if sound.bits > 16 and "pcm24" in ENCODINGS
        else "pcm16"
    )
    return _libsndfile.write(sound, "VOC", encoding, tags=bool(HOLDS))
