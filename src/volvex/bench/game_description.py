"""Game descriptions: TOML files that teach Volvex one game each."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from types import MappingProxyType

from volvex.archive.access.merged import LoadOrder
from volvex.archive.access.ties import DESCRIPTIONS, described_models, is_game
from volvex.archive.access.ties import described as described_ties
from volvex.archive.safe_names import stays_inside
from volvex.asset.picture.roles import WORDS as ROLE_WORDS
from volvex.bench.add_ons import AddOns, add_ons_of
from volvex.data import encodings
from volvex.data.meanings import Meanings, described
from volvex.errors import FormatError, UsageError, VolvexError
from volvex.shipped import GAMES
from volvex.user_files import user_files

_KEYS = {
    "name": str,
    "known": list,
    "own": list,
    "log": str,
    "start": list,
    "start_in": str,
    "errors": list,
    "warnings": list,
    "takes": list,
    "loads": list,
    "later": dict,
    "loose": dict,
    "aside": dict,
    "folder": dict,
    "list": dict,
    "lists": list,
    "optional": list,
    "keys": dict,
    "layouts": dict,
    "encodings": dict,
    "pictures": dict,
    "models": dict,
}
WAYS = ("replace", "later", "loose", "aside", "folder", "list")
_DATA = {"data": list, "references": dict, "language": str, "fonts": dict, "lengths": dict, "versions": dict}


@dataclass(frozen=True)
class GameDescription:
    """What is known about a game. Paths are relative to its folder, with forward slashes."""

    name: str
    known: tuple[str, ...] = ()
    own: tuple[str, ...] = ()  # patterns of files that the game writes itself
    log: str = ""
    start: tuple[str, ...] = ()  # the command that starts it, as words; {game} is its folder, {python} this interpreter
    start_in: str = ""  # the folder in which it runs, below its own
    errors: tuple[str, ...] = ()  # texts that mark a line of its log as an error, without regard to case
    warnings: tuple[str, ...] = ()
    takes: tuple[str, ...] = ("replace",)  # the ways in which it takes changed content, the usual one first
    loads: tuple[str, ...] = ()  # patterns of archives and folders in the order in which they are loaded: the last wins
    optional: tuple[str, ...] = ()  # patterns of movies without which it starts
    later: Mapping[str, str] = field(
        default_factory=dict
    )  # patterns of archives, and one that is loaded later and wins
    loose: Mapping[str, str] = field(
        default_factory=dict
    )  # patterns of archives, and the folder in which loose files win
    aside: Mapping[str, str] = field(
        default_factory=dict
    )  # patterns of archives, and the folder whose files count once the archive is set aside
    folder: AddOns | None = None  # where each mod is a folder or ZIP of its own
    list: AddOns | None = None  # the same, with a line for each in a list of the game's
    lists: tuple[str, ...] = ()  # addresses of lists of names, for `names update`
    file: Path | None = None  # where this was read from
    places: Mapping[str, Path] = field(default_factory=dict)  # the user's folders: home, documents, app_data
    keys: Mapping[str, str] = field(default_factory=dict)  # patterns of files, and the name of the key that each needs
    layouts: Mapping[str, str] = field(default_factory=dict)  # patterns of paths, and the titles of their layouts
    encodings: Mapping[str, str] = field(default_factory=dict)  # patterns of paths of texts, and their encodings
    pictures: Mapping[str, str] = field(
        default_factory=dict
    )  # patterns of paths, and what the channels of those pictures mean
    models: Mapping[str, tuple[str, ...]] = field(default_factory=dict)  # where textures, skeletons and so on are
    meanings: Meanings = field(default_factory=Meanings)  # what its data means

    @property
    def called(self) -> str:
        """What errors call it."""
        return f"the description of {self.name}" if self.known else "a game without a description"

    @property
    def order(self) -> LoadOrder:
        """The order in which the game loads what it is made of."""
        return LoadOrder(self.loads, self.later, self.loose, self.own)

    def is_own(self, path: str) -> bool:
        """Whether the game writes that file itself."""
        return self.order.is_own(path)


UNKNOWN = GameDescription("a game without a description")


def read_game_description(path: Path) -> GameDescription:
    """The game description in a file; FormatError when it is not one."""
    try:
        values = tomllib.loads(path.read_bytes().decode())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise FormatError(path, f"not a valid game description: {error}") from error
    known = _KEYS | _DATA
    for key, value in values.items():
        if key not in known or not isinstance(value, known[key]):
            raise FormatError(
                path, f"a game description has no {key}, or it is not of this type", hint=f"one of {', '.join(known)}"
            )
        if isinstance(value, list) and not all(isinstance(one, str) for one in value):
            raise FormatError(path, f"{key} is a list of texts")
        if key == "keys" and not all(isinstance(field, str) for field in value.values()):
            raise FormatError(path, f"{key} maps patterns of files to names of keys, as texts")
    for way in values.get("takes", ()):
        if way not in WAYS:
            raise FormatError(path, f"takes: there is no way {way!r}", hint=f"one of {', '.join(WAYS)}")
    for name in ("later", "loose", "aside"):
        if not all(isinstance(text, str) and stays_inside(text) for text in values.get(name, {}).values()):
            raise FormatError(path, f"[{name}] gives paths below the game's folder, as texts")
    for name in ("folder", "list"):
        if name in values:
            values[name] = add_ons_of(values[name], path, name)
        elif name in values.get("takes", ()):
            raise FormatError(path, f"takes has {name!r}, and there is no [{name}]", hint="docs/games.md shows one")
    if "list" in values and not values["list"].list:
        raise FormatError(path, "[list] needs `list` and `line`", hint="docs/games.md shows one")
    _check_addresses(path, values.get("lists", ()))
    described_ties(path, values)
    for name in described_ties(path, values, "encodings").values():
        try:
            encodings.named(name)
        except UsageError as error:
            raise FormatError(path, error.message, hint=error.hint) from error
    for words in described_ties(path, values, "pictures").values():
        if words not in ROLE_WORDS:
            raise FormatError(
                path, f"[pictures]: {words!r} is nothing that channels can mean", hint=f"one of {', '.join(ROLE_WORDS)}"
            )
    values["models"] = described_models(path, values)
    if not values.get("name") or not values.get("known"):
        raise FormatError(path, "a game description needs a `name` and `known` files")
    meanings = described({key: values.pop(key) for key in _DATA if key in values}, str(path))
    lists = {key: tuple(value) for key, value in values.items() if isinstance(value, list)}
    return GameDescription(**{**values, **lists}, meanings=meanings, file=path)


def _check_addresses(path: Path, addresses: Iterable[str]) -> None:
    for address in addresses:
        if not re.fullmatch(r"https?://[^\s]+", address):
            raise FormatError(path, f"lists: {address!r} is no address", hint='lists = ["https://..."]')


def missing_templates(description: GameDescription) -> list[VolvexError]:
    """The templates that a description names and that are not beside it, as errors."""
    names = [one.template for one in (description.folder, description.list) if one is not None and one.template]
    return [
        FormatError(description.file, f"there is no template {name} beside it")
        for name in names
        if description.file is not None and not (description.file.parent / name).is_file()
    ]


def descriptions(folders: Iterable[Path] = ()) -> Iterator[GameDescription]:
    """All game descriptions: the user's before those that ship."""
    for folder in (*folders, GAMES):
        if folder.is_dir():
            for file in user_files(folder, DESCRIPTIONS):
                yield read_game_description(file)


def description_for(
    game: Path, folders: Iterable[Path] = (), places: Mapping[str, Path] = MappingProxyType({})
) -> GameDescription:
    """The game description whose known files are all in the folder; `UNKNOWN` when none fits. `places` are the user's
    folders, in which games look for add-ons."""
    for description in descriptions(folders):
        if is_game(game, description.known, description.aside):
            return replace(description, places=places)
    return UNKNOWN
