"""Conflicts between mods, or between a mod and the game's newer content, and what was decided about them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from volvex.source.digest import digest_bytes

GAME = "(game)"  # the side of the game's own content
ABSENT = "(absent)"


@dataclass(frozen=True)
class Side:
    """What one mod makes of it: a value in few words, and a digest of all of it."""

    mod: str
    value: str


@dataclass(frozen=True)
class Conflict:
    """Something that two mods change differently, or that is no longer as a mod found it."""

    path: str
    kind: str  # field, record, lines, file
    sides: tuple[Side, ...]
    base: str  # what it is in the game
    sheet: str = ""
    id: str = ""
    field: str = ""
    line: int = 0

    @property
    def key(self) -> str:
        """Its name, by which it is settled."""
        if self.kind == "lines":
            return f"{self.path}:{self.line}"
        return "/".join([self.path, *(part for part in (self.sheet, self.id, self.field) if part)])

    @property
    def state(self) -> str:
        """A digest of all sides: a decision counts for these only."""
        text = "\0".join([self.base, *(f"{side.mod}\0{side.value}" for side in self.sides)])
        return digest_bytes(text.encode("utf-8", "surrogatepass"))[:16]


@dataclass(frozen=True)
class Decision:
    """The mod (or the game) whose side was chosen, of sides in this state."""

    mod: str
    state: str


@dataclass(frozen=True)
class Decisions:
    """What was settled, by the key of the conflict; and mods that win wherever nothing was, the first first."""

    settled: Mapping[str, Decision]
    preferred: tuple[str, ...] = ()

    def of(self, conflict: Conflict) -> str | None:
        """The side that was chosen; None when nobody has chosen one of those there are."""
        known = self.settled.get(conflict.key)
        sides = [side.mod for side in conflict.sides]
        if known is not None and known.state == conflict.state and known.mod in (*sides, GAME):
            return known.mod
        return next((mod for mod in self.preferred if mod in (*sides, GAME)), None)
