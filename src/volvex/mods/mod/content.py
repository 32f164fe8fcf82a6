"""What a mod holds: its descriptor, and for each path of the game one part.

A part is field changes, line changes, a file (new, or in place of the game's), or a removal. None of them holds content
of the game that the author did not change, but for the values and lines that a three-way merge compares with.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from volvex.data import Change
from volvex.mods.mod.lines import Hunk

ID = re.compile(r"[a-z0-9][a-z0-9._-]{0,63}")
VERSION = re.compile(r"\d{1,9}(\.\d{1,9}){0,5}")
_REQUIREMENT = re.compile(r"([a-z0-9][a-z0-9._-]{0,63})(?:\s*(>=|==|<=|>|<)\s*(\d{1,9}(?:\.\d{1,9}){0,5}))?")


@dataclass(frozen=True)
class Requirement:
    """Another mod, perhaps of certain versions."""

    id: str
    sign: str = ""  # >=, ==, <=, >, <; empty: any version
    version: str = ""

    @classmethod
    def of(cls, text: str) -> Requirement:
        """From `id` or `id >= 1.2`; ValueError when it is neither."""
        found = _REQUIREMENT.fullmatch(text.strip())
        if found is None:
            raise ValueError(f"{text!r} is not an id, or an id with a version such as `deep-lamps >= 1.2`")
        return cls(found[1], found[2] or "", found[3] or "")

    def fits(self, version: str) -> bool:
        """Whether a version of that mod is one of those."""
        numbers, other = version_numbers(version), version_numbers(self.version)
        return {
            "": True,
            ">=": numbers >= other,
            "==": numbers == other,
            "<=": numbers <= other,
            ">": numbers > other,
            "<": numbers < other,
        }[self.sign]

    def __str__(self) -> str:
        return f"{self.id} {self.sign} {self.version}".strip()


def version_numbers(version: str) -> tuple[int, ...]:
    """A version for comparing: 1.0 equals 1."""
    numbers = [int(number) for number in version.split(".") if number]
    while numbers and not numbers[-1]:
        numbers.pop()
    return tuple(numbers)


@dataclass(frozen=True)
class Descriptor:
    """What `mod.toml` says. Titles and descriptions are by language."""

    id: str
    version: str
    game: str
    game_versions: tuple[str, ...] = ()
    titles: Mapping[str, str] = field(default_factory=dict)
    descriptions: Mapping[str, str] = field(default_factory=dict)
    author: str = ""
    licence: str = ""
    icon: str = ""  # a picture in the mod's folder
    requires: tuple[Requirement, ...] = ()
    conflicts: tuple[Requirement, ...] = ()
    after: tuple[str, ...] = ()  # mods that are loaded before this one, where they are on
    behind: Mapping[str, str] = field(default_factory=dict)  # paths of new entries, and those behind which they stand

    @property
    def title(self) -> str:
        """Its title in English, or in the first language, or its id."""
        return self.titles.get("en") or next(iter(self.titles.values()), self.id)

    @property
    def description(self) -> str:
        """Its description in English, or in the first language."""
        return self.descriptions.get("en") or next(iter(self.descriptions.values()), "")


@dataclass(frozen=True)
class FieldChanges:
    """Changes of a file of data by sheet, id and field, with the values before."""

    changes: tuple[Change, ...]
    base: str = ""  # the digest of the content that they were made for


@dataclass(frozen=True)
class LineChanges:
    """Changes of a text without fields, with the lines around them."""

    hunks: tuple[Hunk, ...]
    base: str = ""  # the digest of the content that they were made for


@dataclass(frozen=True)
class NewFile:
    """A file in place of the game's, or one that the game has not (`replaces` is None then)."""

    file: Path
    replaces: str | None  # the digest of the content that it was made for


@dataclass(frozen=True)
class Removed:
    """An entry of an archive that is left out; `replaces` is the digest of its content."""

    replaces: str


Part = FieldChanges | LineChanges | NewFile | Removed


@dataclass(frozen=True)
class Mod:
    """A mod; `parts` by path, as in a bench of the game."""

    descriptor: Descriptor
    parts: Mapping[str, Part]
    folder: Path | None = None  # where it was read from

    @property
    def id(self) -> str:
        return self.descriptor.id

    def counts(self) -> dict[str, int]:
        """How much of each kind there is: fields that are set, records that come or go, lines, files, removals."""
        found = {"fields": 0, "records": 0, "lines": 0, "files": 0, "removals": 0}
        for part in self.parts.values():
            if isinstance(part, FieldChanges):
                for change in part.changes:
                    found["fields" if change.what == "set" else "records"] += 1
            elif isinstance(part, LineChanges):
                found["lines"] += len(part.hunks)
            else:
                found["files" if isinstance(part, NewFile) else "removals"] += 1
        return found
