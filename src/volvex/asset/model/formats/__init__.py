"""Open forms of models: one file each.

NAMES       types of files, as `identify` calls them, that it reads
EXTENSIONS  of its files; the first is what it writes
WRITES      whether it can be written
fits(head, name)      whether bytes that `identify` knows as text, XML or JSON, or not at all, are of this form
read(source)          the model in a file; FormatError when it is damaged
write(model, images)  the files' bytes by their extensions, its own first; `images`: the file of each texture, by the
                      game's name
"""

from __future__ import annotations

import functools
from collections.abc import Mapping
from pathlib import Path
from typing import Protocol

from volvex.asset.model.model import Model
from volvex.errors import UsageError
from volvex.registry import Registry
from volvex.source import Source

HEAD = 4096  # bytes by which forms without a signature are known


class ModelFormat(Protocol):
    NAMES: tuple[str, ...]
    EXTENSIONS: tuple[str, ...]
    WRITES: bool

    def fits(self, head: bytes, name: str) -> bool: ...

    def read(self, source: Source) -> Model: ...

    def write(self, model: Model, images: Mapping[str, str]) -> dict[str, bytes]: ...


FORMS: Registry[ModelFormat] = Registry(
    "model_format", __name__, Path(__file__).parent, needs=("NAMES", "EXTENSIONS", "WRITES", "fits", "read", "write")
)


@functools.cache
def by_kind() -> dict[str, ModelFormat]:
    """The forms by the names of the types that they read."""
    return {name: form for form in FORMS.all() for name in form.NAMES}


@functools.cache
def by_extension() -> dict[str, ModelFormat]:
    """The forms that can be written, by the extensions of their files."""
    return {extension: form for form in FORMS.all() if form.WRITES for extension in form.EXTENSIONS}


def form_of(extension: str) -> ModelFormat:
    """The form that is written with an extension; UsageError when there is none."""
    found = by_extension().get(extension.lstrip(".").lower())
    if found is None:
        raise UsageError(
            f"no format of models has the extension {extension}", f"one of {', '.join(sorted(by_extension()))}"
        )
    return found
