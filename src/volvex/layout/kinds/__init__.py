"""The kinds of layout: one file each. It says which facts the kind has, and what a sound layout of it needs.

FACTS   fact -> the field types that may carry it
OF      fact -> whose it is, when it is not an entry's
TABLED  facts whose numbers are told in a table
WORDED  facts whose numbers may be told in one
PARTS   what of an entry a checksum may cover
NEEDS   facts that must be there
BESIDE  (of some) whose facts may lie in a file beside this one: they are read and never written
SINGLE  (of some) facts of which a file has one, in a block that does not repeat
EACH_BLOCK (of some) facts of which each block may have one
check   what else must hold: yields (place, problem, hint)
meaning (of some) the value that a phrase means, given the names of the blocks; such a kind is the object `DATA_KIND` of
  its file
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Protocol, cast

from volvex.layout.model import Layout, Place
from volvex.registry import Registry


class Kind(Protocol):
    ATTRIBUTES: Mapping[str, tuple[type, ...]]
    OF: Mapping[str, str]
    TABLED: tuple[str, ...]
    WORDED: tuple[str, ...]
    NEEDS: tuple[str, ...]
    PARTS: tuple[str, ...]

    def check(self, layout: Layout) -> Iterator[tuple[Place, str, str]]: ...


KINDS: Registry[object] = Registry("kind", __name__, Path(__file__).parent)


def kind_names() -> list[str]:
    """The names of all kinds."""
    return KINDS.names()


def kind_of(name: str) -> Kind | None:
    """The kind of that name; None when there is none."""
    if name not in KINDS:
        return None
    module = KINDS.load(name)
    return cast(Kind, getattr(module, "DATA_KIND", module))
