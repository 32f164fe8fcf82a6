"""What is known of all entries of an archive, as columns."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from volvex.layout.columns import Array, Texts


@dataclass(frozen=True)
class Entries:
    """The facts about all entries as columns of one length: int64 arrays, and the names.

    Where nothing stores the sizes, `sizes` finds them out by decoding all content, when somebody asks for the first
    time.
    """

    names: Texts
    start: Array
    stored: Array
    sizes: Array | Callable[[], Array]
    codec: Array  # indexes into `codecs`; -1 for a number that the layout does not know
    codecs: list[str]
    nameless: bool = False  # the names are keys in hexadecimal digits
    folders: Array | None = None  # which entries are folders
    framed: Array | None = None  # of `stored` these bytes are what stands around the content

    @property
    def bare(self) -> Array:
        """The stored bytes of each content without what stands around it, as a directory gives them."""
        return self.stored if self.framed is None else self.stored - self.framed

    @property
    def sized(self) -> bool:
        """Whether the sizes are known without decoding the content."""
        return not callable(self.sizes)

    @functools.cached_property
    def size(self) -> Array:
        """The bytes of each content."""
        return self.sizes() if callable(self.sizes) else self.sizes

    @classmethod
    def none(cls) -> Entries:
        """Of a file that has none: a table, texts, a scene."""
        nothing = np.zeros(0, np.int64)
        return cls(Texts.of([], "utf-8"), nothing, nothing, nothing, nothing, ["none"])

    def __len__(self) -> int:
        return len(self.names)
