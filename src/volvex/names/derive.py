"""Paths that are likely because others are known: in other folders, with other numbers, sides, languages,
extensions."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

Product = tuple[Sequence[str], Sequence[str]]  # all of the first with all of the second behind

EXTENSIONS = ("png", "dds", "jpg", "tga", "xml", "json", "txt", "csv", "lua", "mesh", "wav", "ogg", "tbl", "ini", "bin")
SIDES = (
    "en",
    "de",
    "fr",
    "es",
    "it",
    "pl",
    "ru",
    "ja",
    "zh",
    "l",
    "r",
    "left",
    "right",
    "a",
    "b",
    "n",
    "s",
    "d",
    "lo",
    "hi",
    "low",
    "high",
    "lod0",
    "lod1",
    "lod2",
    "normal",
    "diffuse",
    "spec",
    "mask",
    "glow",
    "small",
    "large",
    "old",
    "new",
    "on",
    "off",
    "day",
    "night",
    "open",
    "closed",
)
ALL_DIGITS = 5  # so many digits are gone through as a whole
NEIGHBOURS = 32  # numbers tried on each side of a known one
_NUMBER = re.compile(r"\d+")
MOST = 300  # different extensions, and last words of names, that are tried


@dataclass(frozen=True)
class Parts:
    """A path taken apart."""

    folder: str  # with its slash
    stem: str
    extension: str  # with its dot

    @classmethod
    def of(cls, path: str) -> Parts:
        folder, slash, last = path.rpartition("/")
        stem, dot, extension = last.rpartition(".")
        return cls(folder + slash, stem, dot + extension) if stem else cls(folder + slash, last, "")


def plain(text: str) -> str:
    """A path as it was read, without what leads to where it starts: `./`, `../`, a slash."""
    text = re.sub(r"/{2,}", "/", text)
    while text.startswith(("./", "../", "/")):
        text = text.partition("/")[2]
    return text


def within(folder: str, text: str) -> str:
    """A path that is told from a folder (which has its slash)."""
    while text.startswith(("./", "../")):
        if text.startswith("../"):
            folder = folder.rstrip("/").rpartition("/")[0]
            folder += "/" if folder else ""
        text = text.partition("/")[2]
    return folder + text.lstrip("/")


def shorter(text: str) -> Iterator[str]:
    """A path without its first folders, as many as there are: of what the makers' own disks had."""
    while "/" in text:
        text = text.partition("/")[2]
        yield text


def roots(paths: Iterable[str]) -> list[str]:
    """The folders in which much lies: those that paths in files may leave out. With their slashes."""
    counted: Counter[str] = Counter()
    for path in paths:
        parts = path.split("/")
        counted.update("/".join(parts[:depth]) + "/" for depth in range(1, min(4, len(parts))))
    return [folder for folder, _ in counted.most_common(MOST)]


def folders(paths: Iterable[str]) -> list[str]:
    """All folders, with their slashes."""
    return list(dict.fromkeys(Parts.of(path).folder for path in paths))


def extensions(paths: Iterable[str]) -> list[str]:
    """The extensions of known paths, the most common first, and those that are common everywhere; with their dots."""
    counted = Counter(Parts.of(path).extension for path in paths)
    known = [extension for extension, _ in counted.most_common(MOST) if 1 < len(extension) < 10]
    return list(dict.fromkeys([*known, *(f".{extension}" for extension in EXTENSIONS)]))


def other_endings(new: Sequence[str], every: Sequence[str]) -> Iterator[Product]:
    """The known paths with other extensions."""
    stems = list(dict.fromkeys(parts.folder + parts.stem for parts in map(Parts.of, new)))
    yield stems, every


def same_names_elsewhere(new: Sequence[str], known: Sequence[str]) -> Iterator[Product]:
    """Files of known names in folders beside those in which they are known: new folders with all names, all folders
    with new names."""
    lasts, new_lasts = _lasts(known), _lasts(new)
    siblings, new_siblings = _siblings(known), _siblings(new)
    for above in new_siblings:
        yield list(new_siblings[above]), list(lasts[above])
        yield [text for text in siblings[above] if text not in new_siblings[above]], list(new_lasts[above])


def _lasts(paths: Sequence[str]) -> dict[str, dict[str, None]]:
    """The names of files, by the folder above their folder."""
    found: dict[str, dict[str, None]] = {}
    for path in paths:
        folder, slash, last = path.rpartition("/")
        found.setdefault(_above(folder + slash), {})[last] = None
    return found


def _siblings(paths: Sequence[str]) -> dict[str, dict[str, None]]:
    """Folders, by the folder above them."""
    found: dict[str, dict[str, None]] = {}
    for folder in folders(paths):
        found.setdefault(_above(folder), {})[folder] = None
    return found


def other_folders(new: Sequence[str], known: Sequence[str], words: Sequence[str]) -> Iterator[Product]:
    """Files of known names in folders that are called by words from files: beside `sails/patience/` may be
    `sails/marrow/`."""
    lasts = _lasts(known)
    for above in dict.fromkeys(_above(Parts.of(path).folder) for path in new if "/" in path):
        yield [f"{above}{word}/" for word in words], list(lasts[above])


def _above(folder: str) -> str:
    above = folder.rstrip("/").rpartition("/")[0]
    return f"{above}/" if above else ""


def numbered(new: Sequence[str], bears: Callable[[int], bool] = lambda size: False) -> Iterator[Product]:
    """Numbers in the place of those in known paths, up to two of each, in as many digits as they have: all of them
    where so many paths can be borne, otherwise those near by."""
    heads: dict[tuple[str, int, bool], dict[str, set[int]]] = {}
    for path in new:
        for match in list(_NUMBER.finditer(path))[-2:]:
            digits = match[0]
            if len(digits) <= 9:
                bare = len(digits) == 1 or digits[0] != "0"  # no zeros in front are needed, so there may be none
                place = heads.setdefault((path[match.end() :], len(digits), bare), {})
                place.setdefault(path[: match.start()], set()).add(int(digits) // NEIGHBOURS)
    for (tail, width, bare), mapping in heads.items():
        if width <= 2 or (width <= ALL_DIGITS and bears(2 * len(mapping) * 10**width)):
            yield list(mapping), _numbers(range(10 ** max(2, width)), width, bare, tail)
            continue
        for near in sorted({near for nears in mapping.values() for near in nears}):
            window = range(max(0, (near - 1) * NEIGHBOURS), (near + 2) * NEIGHBOURS)
            yield [head for head, nears in mapping.items() if near in nears], _numbers(window, width, bare, tail)


def _numbers(numbers: range, width: int, bare: bool, tail: str) -> list[str]:
    lines = [f"{number:0{width}}{tail}" for number in numbers] + (
        [f"{number}{tail}" for number in numbers] if bare else []
    )
    return list(dict.fromkeys(lines))


def sides(new: Sequence[str], known: Sequence[str]) -> Iterator[Product]:
    """The last word of a name put in place of another, left out, or added: `hull_left`, `hull_right`, `hull`."""
    words = Counter(stem.rpartition("_")[2] for stem in (Parts.of(path).stem for path in known) if "_" in stem)
    tails = [f"_{word}" for word in dict.fromkeys([*SIDES, *(word for word, _ in words.most_common(MOST))])]
    by_extension: dict[str, dict[str, None]] = {}
    for path in new:
        parts = Parts.of(path)
        heads = by_extension.setdefault(parts.extension, {})
        heads[parts.folder + parts.stem] = None
        if "_" in parts.stem.strip("_"):
            heads[parts.folder + parts.stem.rpartition("_")[0]] = None
    for extension, mapping in by_extension.items():
        yield list(mapping), [extension, *(tail + extension for tail in tails)]
