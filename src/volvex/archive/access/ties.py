"""What ties paths to layouts: formats that bear no signature are known by where they lie.

A tie is a pattern of paths below a folder and the layout of what it matches, in archives too: `data/*.kwz`,
`**/channel-buoys`. It comes from a game's description, from a bench or from a command line. Of several that match, the
last that was added counts.
"""

from __future__ import annotations

import fnmatch
import os
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.access.merged import LoadOrder
from volvex.archive.access.patterns import path_pattern
from volvex.archive.safe_names import shown
from volvex.errors import FormatError, NotFoundError
from volvex.layout.model import Layout
from volvex.shipped import GAMES
from volvex.user_files import user_files

DESCRIPTIONS = "game.toml"
_NUMBER = re.compile(r"~[0-9]+(?=(\.[^./]*)?(/|$))")  # of entries that share a name


@dataclass(frozen=True)
class Tie:
    """A pattern of paths below a folder, the layout of what it matches, and who says so."""

    root: str
    pattern: str
    find: Callable[[], Layout]

    def matches(self, path: str) -> bool:
        """Whether a whole path is meant; of entries that share a name all are."""
        if not path.startswith(self.root):
            return False
        match = path_pattern(self.pattern).fullmatch
        below = path[len(self.root) :]
        return below == self.pattern or match(below) is not None or match(_NUMBER.sub(r"\1", below)) is not None


class Ties:
    """The ties of one command. Relative paths are below one of the folders `bases`."""

    def __init__(self, bases: Iterable[Path], every: Callable[[], Iterator[Layout]]) -> None:
        self._bases, self._every = [base.as_posix() for base in dict.fromkeys(bases)], every
        self._ties: list[Tie] = []
        self._known: dict[str, Layout | None] = {}
        self._encodings: list[tuple[Tie, str]] = []
        self._pictures: list[tuple[Tie, str]] = []

    def add(self, root: Path, pattern: str, layout: Layout | str, why: str = "") -> None:
        """Tie a pattern of paths below `root` to a layout, or to the layout of that title."""
        self._known.clear()
        self._ties.append(Tie(_root(root), pattern.removeprefix("./"), lambda: self.named(layout, why)))

    def add_encoding(self, root: Path, pattern: str, encoding: str) -> None:
        """Tie a pattern of paths of texts to an encoding."""
        self._encodings.append((Tie(_root(root), pattern.removeprefix("./"), _none), encoding))

    def encoding(self, name: str) -> tuple[str, bool]:
        """The encoding to which a text is tied, and whether it is: empty when nothing says so."""
        found = self._told(self._encodings, name)
        return found, bool(found)

    def add_picture(self, root: Path, pattern: str, words: str) -> None:
        """Tie a pattern of paths of pictures to what their channels mean."""
        self._pictures.append((Tie(_root(root), pattern.removeprefix("./"), _none), words))

    def picture(self, name: str) -> str:
        """What the channels of a picture mean, in the words of the game's description; empty when nothing says so."""
        return self._told(self._pictures, name)

    def _told(self, ties: list[tuple[Tie, str]], name: str) -> str:
        paths = self._whole(name) if ties else []
        return next((text for tie, text in reversed(ties) if any(map(tie.matches, paths))), "")

    def named(self, layout: Layout | str, why: str = "") -> Layout:
        """The layout of a title; NotFoundError when there is none."""
        if isinstance(layout, Layout):
            return layout
        wanted = layout.casefold()
        found = next((layout for layout in self._every() if layout.title.casefold() == wanted), None)
        if found is None:
            said = f", to which {why} ties its files" if why else ""
            raise NotFoundError(
                f'there is no sound layout "{shown(layout)}"{said}', "`volvex layout list` to see which there are"
            )
        return found

    def layout(self, name: str) -> Layout | None:
        """The layout to which a file or an entry is tied, by its whole path; None when it is tied to none."""
        if not self._ties:
            return None
        if name not in self._known:
            if len(self._known) > 1 << 16:
                self._known.clear()
            paths = self._whole(name)
            tie = next((tie for tie in reversed(self._ties) if any(map(tie.matches, paths))), None)
            self._known[name] = tie.find() if tie is not None else None
        return self._known[name]

    def _whole(self, name: str) -> list[str]:
        return [os.path.normpath(os.path.join(base, name)).replace(os.sep, "/") for base in self._bases]

    @property
    def words(self) -> str:
        """All ties in words: the same for the same ties."""
        return "\n".join(f"{tie.root} {tie.pattern} {tie.find().title}" for tie in self._ties)


def _root(folder: Path) -> str:
    return os.path.normpath(folder).replace(os.sep, "/").rstrip("/") + "/"


def _none() -> Layout:
    raise NotFoundError("a tie to an encoding has no layout")


def described(path: Path, value: Mapping[str, object], what: str = "layouts") -> dict[str, str]:
    """What a game's description ties: patterns of paths, and titles of layouts (or names of encodings); FormatError
    when it is not sound."""
    record = value.get(what, {})
    if not isinstance(record, dict) or not all(isinstance(one, str) for one in record.values()):
        raise FormatError(
            path,
            f"[{what}] gives a text for each pattern of paths",
            hint=f'a line such as "data/*.txt" = "..." below [{what}]',
        )
    return record


MODELS = ("textures", "skeletons", "animations", "materials")  # where a game has what its models refer to


def described_models(path: Path, value: Mapping[str, object]) -> dict[str, tuple[str, ...]]:
    """Where a game's description says that textures are looked for, and files of skeletons, animations and
    materials."""
    record = value.get("models", {})
    sound = isinstance(record, dict) and all(
        name in MODELS and isinstance(texts, list) and all(isinstance(text, str) for text in texts)
        for name, texts in record.items()
    )
    if not sound or not isinstance(record, dict):
        raise FormatError(
            path,
            f"[models] gives lists of texts for {', '.join(MODELS)}",
            hint='textures = ["textures"], and animations = ["models/{stem}_*.anim"]',
        )
    return {name: tuple(texts) for name, texts in record.items()}


def is_game(folder: Path, known: Iterable[str], aside: Mapping[str, str]) -> bool:
    """Whether a folder has the files by which a game is known. An archive that was set aside counts where the folder
    with its content is."""

    def is_there(name: str) -> bool:
        if (folder / name).exists():
            return True
        target = next((text for pattern, text in aside.items() if fnmatch.fnmatchcase(name, pattern)), None)
        return target is not None and (folder / target).is_dir()

    return all(map(is_there, known))


class Games:
    """The games whose descriptions tie paths to layouts: found by the files by which they are known."""

    def __init__(self, folders: Iterable[Path]) -> None:
        self._told: list[tuple[Path, list[str], dict[str, dict[str, str]]]] = []
        self._orders: dict[Path, LoadOrder] = {}
        self._models: dict[Path, dict[str, tuple[str, ...]]] = {}
        for folder in (*folders, GAMES):
            for file in user_files(folder, DESCRIPTIONS) if folder.is_dir() else ():
                try:
                    value = tomllib.loads(file.read_bytes().decode())
                except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError):
                    continue  # reported where a description is read as a whole
                known = value.get("known")
                if isinstance(known, list) and known and all(isinstance(one, str) for one in known):
                    tables = ("aside", "layouts", "encodings", "pictures", "later", "loose")
                    tied = {what: described(file, value, what) for what in tables}
                    self._told.append((file, known, tied))
                    self._models[file] = described_models(file, value)
                    self._orders[file] = LoadOrder(
                        *(tuple(map(str, value.get("loads", ()))), tied["later"], tied["loose"]),
                        tuple(map(str, value.get("own", ()))),
                    )

    def tie(self, ties: Ties, folder: Path) -> bool:
        """Add the ties of the game that a folder is, if it is one that is known; whether it is."""
        for file, known, told in self._told:
            if is_game(folder, known, told["aside"]):
                for pattern, title in told["layouts"].items():
                    ties.add(folder, pattern, title, f"the game's description ({file.parent.name}/{file.name})")
                for pattern, encoding in told["encodings"].items():
                    ties.add_encoding(folder, pattern, encoding)
                for pattern, words in told["pictures"].items():
                    ties.add_picture(folder, pattern, words)
                return True
        return False

    def order(self, folder: Path) -> LoadOrder:
        """The order in which the game in a folder loads its archives; that of all games when it is not known."""
        found = (file for file, known, tied in self._told if is_game(folder, known, tied["aside"]))
        return next((self._orders[file] for file in found), LoadOrder())

    def models(self, folder: Path) -> dict[str, tuple[str, ...]]:
        """Where the game in a folder has what its models refer to; nothing when it is not known."""
        found = (file for file, known, tied in self._told if is_game(folder, known, tied["aside"]))
        return next((self._models[file] for file in found), {})

    def root_of(self, path: Path) -> Path | None:
        """The folder of the game in which a path lies; None when it lies in none that is known."""
        full = Path(os.path.normpath(path.absolute()))
        return next(
            (
                folder
                for folder in (full, *full.parents)
                if any(is_game(folder, known, tied["aside"]) for _, known, tied in self._told)
            ),
            None,
        )

    def tie_around(self, ties: Ties, path: Path) -> None:
        """Add the ties of the game in which a path lies."""
        full = Path(os.path.normpath(path.absolute()))
        any(self.tie(ties, folder) for folder in (full, *full.parents))
