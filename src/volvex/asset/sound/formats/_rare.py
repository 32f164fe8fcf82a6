"""Forms of sounds that few write today: all of each is read and decoded in a process of its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from volvex.asset.sound.formats import _libsndfile
from volvex.asset.sound.model import Sound
from volvex.source import Source

NUMBERS = ("pcm16", "pcm24", "pcm32", "pcm8", "float32", "float64", "mulaw", "alaw")


class RareForm(NamedTuple):
    """What a form's module exports, in this order."""

    names: tuple[str, ...]
    extensions: tuple[str, ...]
    encodings: tuple[str, ...]
    holds: tuple[str, ...]
    read: Callable[[Source], Sound]
    write: Callable[[Sound], bytes]


def rare_form(
    name: str, container: str, extensions: tuple[str, ...], encodings: tuple[str, ...] = NUMBERS, tags: bool = False
) -> RareForm:
    """A form of a container that libsndfile knows; `tags`: whether it holds some."""

    def read(source: Source) -> Sound:
        return _libsndfile.read_apart(source, name)

    def write(sound: Sound) -> bytes:
        fine = "pcm24" if sound.bits > 16 and "pcm24" in encodings else "pcm16"
        encoding = sound.encoding if sound.encoding in encodings else fine
        return _libsndfile.write(sound, container, encoding, tags=tags)

    return RareForm((name,), extensions, encodings, ("tags",) if tags else (), read, write)
