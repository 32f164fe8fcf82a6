"""Open forms of pictures: one file each.

NAMES       types of files, as `identify` calls them, that it reads: the first is what it writes
EXTENSIONS  of its files
FORMATS     the pixel formats that it can hold as they are; empty: any
read(source) the picture in a file; FormatError when it is damaged
write(picture) the file's bytes; RefusedError for what it cannot hold

What a form leaves out of a picture (levels, a palette) is in its `LIMITS`: `levels`, `images`, `depth` for what it has
one of.
"""

from __future__ import annotations

import functools
from pathlib import Path
from typing import Protocol

from volvex.asset.picture.model import Picture
from volvex.errors import UsageError
from volvex.registry import Registry
from volvex.source import Source


class PictureFormat(Protocol):
    NAMES: tuple[str, ...]
    EXTENSIONS: tuple[str, ...]
    FORMATS: tuple[str, ...]
    LIMITS: tuple[str, ...]

    def read(self, source: Source) -> Picture: ...

    def write(self, picture: Picture) -> bytes: ...


FORMS: Registry[PictureFormat] = Registry(
    "picture_format",
    __name__,
    Path(__file__).parent,
    needs=("NAMES", "EXTENSIONS", "FORMATS", "LIMITS", "read", "write"),
)


@functools.cache
def by_kind() -> dict[str, PictureFormat]:
    """The forms by the names of the types that they read."""
    return {name: form for form in FORMS.all() for name in form.NAMES}


@functools.cache
def by_extension() -> dict[str, PictureFormat]:
    """The forms by the extensions of their files."""
    return {extension: form for form in FORMS.all() for extension in form.EXTENSIONS}


def form_of(extension: str) -> PictureFormat:
    """The form of files with an extension; UsageError when there is none."""
    found = by_extension().get(extension.lstrip(".").lower())
    if found is None:
        raise UsageError(
            f"no format of pictures has the extension {extension}", f"one of {', '.join(sorted(by_extension()))}"
        )
    return found
