"""Open forms of sounds: one file each.

NAMES       types of files, as `identify` calls them, that it reads: the first is what it writes
EXTENSIONS  of its files
ENCODINGS   the encodings that it can hold, the best first
HOLDS       what it keeps beside samples: `loops`, `cues`, `tags`
read(source) the sound in a file, by its head; FormatError when it is damaged
write(sound) the file's bytes, in the sound's encoding if it can hold that; RefusedError for what it cannot hold
"""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Protocol

from volvex.asset.sound.model import Sound
from volvex.errors import UsageError
from volvex.registry import Registry
from volvex.source import Source


class SoundFormat(Protocol):
    NAMES: tuple[str, ...]
    EXTENSIONS: tuple[str, ...]
    ENCODINGS: tuple[str, ...]
    HOLDS: tuple[str, ...]

    def read(self, source: Source) -> Sound: ...

    def write(self, sound: Sound) -> bytes: ...


FORMS: Registry[SoundFormat] = Registry(
    "sound_format",
    __name__,
    Path(__file__).parent,
    needs=("NAMES", "EXTENSIONS", "ENCODINGS", "HOLDS", "read", "write"),
)


@functools.cache
def by_kind() -> dict[str, SoundFormat]:
    """The forms by the names of the types that they read."""
    return {name: form for form in FORMS.all() for name in form.NAMES}


@functools.cache
def by_extension() -> dict[str, SoundFormat]:
    """The forms by the extensions of their files."""
    return {extension: form for form in FORMS.all() for extension in form.EXTENSIONS}


def form_of(extension: str) -> SoundFormat:
    """The form of files with an extension; UsageError when there is none."""
    found = by_extension().get(extension.lstrip(".").lower())
    if found is None:
        raise UsageError(
            f"no format of sounds has the extension {extension}", f"one of {', '.join(sorted(by_extension()))}"
        )
    return found
