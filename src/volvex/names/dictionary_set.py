"""The known dictionaries: those that ship with a game's layouts, the user's, and those of a bench; all count
together."""

from __future__ import annotations

import functools
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np

from volvex.layout import Layout
from volvex.layout.columns import Array
from volvex.layout.library import SHIPPED
from volvex.layout.name_hash import KEYS, Keying
from volvex.names.dictionary import Dictionary, files

FOLDER = "names"  # in a bench, in the user's folder, beside the layouts of a game


class DictionarySet:
    """Dictionaries, each for all games or for one. What they say of an archive's keys is worked out when it is opened.

    `folders` are asked besides those that ship; below each, a folder with the name of a game is for that game only.
    `packs` are folders of game packs, each with its lists in `names`.
    """

    def __init__(self, folders: Iterable[Path] = (), memory: Path | None = None, packs: Iterable[Path] = ()) -> None:
        self._folders, self._memory, self._packs = list(folders), memory, list(packs)

    @functools.cached_property
    def dictionaries(self) -> list[Dictionary]:
        """All of them: the first folder's first, those that ship last."""
        found = []
        for folder in self._folders:
            found += [Dictionary(path, "", self._memory) for path in files(folder)]
            below = sorted(path for path in folder.iterdir() if path.is_dir()) if folder.is_dir() else []
            found += [Dictionary(path, one.name, self._memory) for one in below for path in files(one)]
        for home in (*self._packs, *SHIPPED):
            for folder in sorted(home.glob(f"*/{FOLDER}")):
                found += [Dictionary(path, folder.parent.name, self._memory) for path in files(folder)]
        return found

    def of(self, layout: Layout) -> list[Dictionary]:
        """Those for the game that a layout belongs to, and those for all."""
        game = Path(layout.file).parent.name
        return [dictionary for dictionary in self.dictionaries if dictionary.game in ("", game)]

    def match(self, layout: Layout, keying: Keying | None, keys: Sequence[Array]) -> dict[int, list[str]]:
        """The known paths for entries with these keys, by row. A key that a dictionary tells outright has no other
        path."""
        found: dict[int, dict[str, str]] = {}  # by how they are hashed: spellings of one path are one
        spelt = keying.spelt if keying is not None else str
        if not len(keys) or not len(keys[0]):
            return {}
        order = np.argsort(keys[0], kind="stable")
        decided: set[int] = set()
        for dictionary in self.of(layout):
            for row, path in _told(dictionary, keying, keys):
                found.setdefault(row, {}).setdefault(spelt(path), path)
                decided.add(row)
        for dictionary in self.of(layout) if keying is not None and keying.numbering is None else ():
            assert keying is not None
            for row, path in _hashed(dictionary, keying, keys, order):
                if row not in decided:
                    found.setdefault(row, {}).setdefault(spelt(path), path)
        return {row: list(paths.values()) for row, paths in found.items()}


def _hashed(dictionary: Dictionary, keying: Keying, keys: Sequence[Array], order: Array) -> list[tuple[int, str]]:
    """Entries whose keys are those of a dictionary's paths."""
    table = dictionary.table(keying)
    wanted = keys[0][order]  # in their order, so that the table is gone through once
    left, right = np.searchsorted(table[0], wanted, "left"), np.searchsorted(table[0], wanted, "right")
    there = np.flatnonzero(right > left)
    counts = (right - left)[there]
    rows = np.repeat(order[there], counts)
    lines = np.repeat(left[there], counts) + np.arange(len(rows)) - np.repeat(np.cumsum(counts) - counts, counts)
    for part in range(1, len(keys)):
        same = table[part][lines] == keys[part][rows]
        rows, lines = rows[same], lines[same]
    paths = dictionary.paths_at(table[-2][lines].tolist(), table[-1][lines].tolist())
    return list(zip(rows.tolist(), paths, strict=True))


def _told(dictionary: Dictionary, keying: Keying | None, keys: Sequence[Array]) -> list[tuple[int, str]]:
    """Entries whose keys a dictionary tells outright."""
    found = []
    for path, key in dictionary.told:
        wanted = _numbers(key, keying, len(keys))
        if wanted is not None:
            same = np.logical_and.reduce(
                [column == np.uint64(number) for column, number in zip(keys, wanted, strict=True)]
            )
            found += [(row, path) for row in np.flatnonzero(same).tolist()]
    return found


def _numbers(key: str, keying: Keying | None, count: int) -> list[int] | None:
    """A key as it is written, as numbers in the order of the columns; None when it is no key of that kind.

    Hexadecimal digits, with slashes between those of folder, name and extension; or for numbered entries the number, or
    its path.
    """
    if keying is not None and keying.numbering is not None:
        number = int(key) if key.isdigit() else keying.numbering.number(key)
        return None if number is None or number >= 1 << 64 else [number]
    parts = key.removeprefix("0x").split("/")
    try:
        numbers = [int(part, 16) for part in parts]
    except ValueError:
        return None
    bits = [part.bits for part in keying.in_order()] if keying is not None else [32] * count
    if len(parts) != count or any(4 * len(part) < size for part, size in zip(parts, bits, strict=True)):
        return None  # a number of another archive
    if any(not 0 <= number < 1 << 64 for number in numbers):
        return None
    if count == 1:
        return numbers
    kinds: list[str] = [part.what for part in keying.parts] if keying is not None else list(KEYS)[:count]
    lines: list[str] = [kind for kind in ("folder hash", "name hash", "extension hash") if kind in kinds]
    return [numbers[lines.index(kind)] for kind in kinds]
