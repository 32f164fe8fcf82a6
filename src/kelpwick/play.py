"""Loads the game as strictly as a game does, and draws the player's screens as text."""

from __future__ import annotations

import configparser
import json
import struct
import xml.etree.ElementTree as ET
from collections.abc import Iterator, Mapping
from pathlib import Path

from kelpwick import GameError, addons, almanac, holds, isles, slip
from kelpwick.almanac import rules
from kelpwick.almanac.reading import read as read_almanac
from kelpwick.almanac.reading import screens
from kelpwick.holds import belfry, birds, canvas, catches, lockers, loft, opening, shallows, signs
from kelpwick.isles import rigging, soundings
from kelpwick.pack import read_pack
from kelpwick.words import FUELS, GOODS, ISLANDS, KEEPERS, LAMPS, SEASONS

Files = Mapping[str, bytes]


def play(folder: Path, language: str | None = None, letter: str | None = None) -> str:
    """The screens of the game in `folder`; GameError when anything in it is not as it must be."""
    settings = configparser.ConfigParser()
    if not settings.read(folder / "kelpwick.ini") or "game" not in settings:
        raise GameError("kelpwick.ini is missing or has no [game]")
    kept = almanac.load(folder)
    files = with_others(folder, _main(folder), rules.read_version(kept[rules.ABOUT]))
    spoken: str = language or settings["game"].get("language", "en") or "en"
    opened: str = letter or settings["game"].get("letter", "01-arrival") or "01-arrival"
    check_references(files)
    lamps, keepers = (
        {row["id"]: row["name"] for row in load_xml(files, f"rules/{one}.xml", ("name",))}
        for one in ("lamps", "keepers")
    )
    book = read_almanac(kept, lamps, keepers, {*files, *kept})
    return "\n".join(
        [
            *lamp_room(files),
            "",
            *quay(files),
            "",
            *show_letter(files, spoken, opened),
            "",
            *around(folder / "isles"),
            "",
            *hidden(folder),
            "",
            *charted(folder),
            "",
            *aloft(folder, spoken),
            "",
            "AT THE SAILMAKER'S",
            *canvas.screen(holds.read(folder, "canvas")),
            "",
            "OVER THE ROCKS",
            *birds.screen(holds.read(folder, "birds")),
            "",
            "OVER THE DOOR",
            *signs.screen(holds.read(folder, "signs")),
            "",
            "THE CATCH",
            *catches.screen(holds.read(folder, "catches")),
            "",
            "THE OPENING",
            *opening.screen(holds.read(folder, "opening")),
            "",
            "IN THE BELFRY",
            *belfry.screen(holds.read(folder, "belfry")),
            "",
            "ON THE SLIP",
            *slip.screen(holds.read(folder, "slip"), files),
            "",
            *screens(book, lamps, keepers, spoken),
            "",
        ]
    )


def _main(folder: Path) -> Files:
    """The files of the main pack; of none, when the folder `loose` is there in its place."""
    pack = folder / "data" / "main.kwp"
    if not pack.is_file() and not (folder / "loose").is_dir():
        raise GameError("data/main.kwp is missing")
    return read_pack(pack) if pack.is_file() else {}


def with_others(folder: Path, files: Files, version: str) -> Files:
    """The files of the main pack with those of the packs `main+NAME.kwp`, which win in the order of their names, of
    add-ons, and of the folder `loose`, which win over all."""
    found = dict(files)
    for pack in sorted((folder / "data").glob("main+*.kwp")):
        found |= read_pack(pack)
    found |= addons.load(folder, version)
    loose = folder / "loose"
    for path in sorted(loose.rglob("*")) if loose.is_dir() else ():
        if path.is_file():
            found[path.relative_to(loose).as_posix()] = path.read_bytes()
    return found


def around(folder: Path) -> Iterator[str]:
    """What the archives of the folder `isles` hold, each loaded whole."""
    shores, journals, depths = (isles.read(folder, name) for name in ("shores.kwt", "journals.kwj", "soundings.kws"))
    yield "AROUND THE ISLES"
    for island, name in ISLANDS:
        depth = [
            _file(depths, f"{soundings.key_of(f'soundings/{island}/{half}.sdg'):016x}") for half in ("ebb", "flood")
        ]
        lowest = min(struct.unpack("<H", data[8:10])[0] for data in depth)
        _text(shores, f"{island}/moorings/1.txt")
        yield (
            f"  {name:<16}{lowest:>6} fathoms at the mark, high water "
            f"{_highest(isles.read(folder, 'tides.kwv'), island)} m"
        )
    yield f"  {_text(shores, 'note.txt').strip()}"
    for keeper in KEEPERS:
        yield f"  {keeper[1]} writes: {_text(journals, f'{keeper[0]}/{SEASONS[0]}.txt').splitlines()[0]}"
    yield from (
        f"  {path:<20}{rigging.describe(path, data)}" for path, data in isles.read(folder, "rigging.kwo").items()
    )
    yield f"  {len(isles.read(folder, 'chimes.kwr'))} chimes"


def hidden(folder: Path) -> Iterator[str]:
    """What is locked, cut up, or within something else, each loaded whole."""
    post, engine, deeps, harbour, peal = (
        holds.read(folder, name) for name in ("post", "engine", "deeps", "harbour", "peal")
    )
    yield "IN THE HOLDS"
    for keeper in KEEPERS[:2]:
        yield f"  {_text(post, f'letters/{keeper[0]}.txt').splitlines()[0]}"
    yield f"  {_text(engine, 'notice').strip()}"
    nights = _text(engine, f"weather/{SEASONS[0]}.csv").splitlines()[1:]
    yield f"  {sum(night.endswith(';1') for night in nights)} of {len(nights)} nights with fog in {SEASONS[0]}"
    yield f"  {_text(deeps, 'soundings.txt').strip()}"
    yield f"  {_text(harbour, 'manifest.txt').strip()}; {_text(harbour, f'pages/{GOODS[0]}.txt').splitlines()[0]}"
    yield f"  {len(peal)} bells, {sum(map(len, peal.values())):,} bytes of them"


def charted(folder: Path) -> Iterator[str]:
    """What the charts of the shallows show."""
    charts = holds.read(folder, "shallows")
    yield "ON THE CHARTS"
    for isle, name in ISLANDS:
        buoys = list(shallows.buoys(_file(charts, f"{isle}/channel-buoys")))
        yield (
            f"  {name:<16}{len(buoys)} buoys, the first {buoys[0] if buoys else 'lost'}; "
            f"{len(_file(charts, f'{isle}/sunken-rocks')) // 4} rocks"
        )


def aloft(folder: Path, language: str) -> Iterator[str]:
    """What is asked for by hash, by number, and by language."""
    fitted, kept, said = (holds.read(folder, name) for name in ("loft", "lockers", "speech"))
    yield "IN THE LOFT"
    yield f"  {_start(loft.asked(fitted, loft.FITTINGS))}: {len(fitted)} things in the loft"
    for lamp in LAMPS[:4]:
        mesh = loft.asked(fitted, f"meshes/lamps/{lamp[0]}.msh")
        yield f"  {lamp[1]:<16}{len(mesh):>6} bytes of {', '.join(loft.materials(mesh))}"
    yield f"  {_start(loft.asked(fitted, 'guides/chapter_03.txt'))}"
    number = (lockers.FIRST + 2) * lockers.UNIT + 15
    yield f"  Locker {number}: {_text(kept, str(number)).splitlines()[0]}"
    yield from (f"  {_text(said, f'calls/{call}.txt {language}').strip()}" for call in ("ahoy", "fog"))


def _start(data: bytes) -> str:
    return data.decode().splitlines()[0]


def _highest(tides: Files, island: str) -> float:
    rows = [line.split(";") for line in _text(tides, f"{island}.csv").splitlines()[1:]]
    try:
        return max(float(height) for _, height in rows)
    except ValueError:
        raise GameError(f"{island}.csv: a height that is no number, or none at all") from None


def _text(files: Files, path: str) -> str:
    try:
        return _file(files, path).decode()
    except UnicodeDecodeError as error:
        raise GameError(f"{path}: not UTF-8 at byte {error.start}") from error


def load_xml(files: Files, path: str, needed: tuple[str, ...]) -> list[dict[str, str]]:
    """The attributes of each element below the root; each must have a new id and all of `needed`."""
    try:
        root = ET.fromstring(_file(files, path))
    except ET.ParseError as error:
        raise GameError(f"{path}: {error}") from error
    rows = [dict(element.attrib) for element in root]
    seen: set[str] = set()
    for row in rows:
        lacking = [name for name in ("id", *needed) if not row.get(name)]
        if lacking or row["id"] in seen:
            raise GameError(f"{path}: {row} lacks {lacking} or repeats an id")
        seen.add(row["id"])
    return rows


def load_json(files: Files, path: str) -> dict[str, list[dict[str, object]]]:
    try:
        value = json.loads(_file(files, path))
    except ValueError as error:
        raise GameError(f"{path}: {error}") from error
    if not isinstance(value, dict):
        raise GameError(f"{path}: not an object")
    return value


def _file(files: Files, path: str) -> bytes:
    if path not in files:
        raise GameError(f"{path} is not in its archive")
    return files[path]


def number(row: Mapping[str, str], name: str, low: float, high: float) -> float:
    """A number of a row, within its bounds."""
    try:
        value = float(row[name])
    except ValueError:
        raise GameError(f"{row['id']}: {name} {row[name]!r} is not a number") from None
    if not low <= value <= high:
        raise GameError(f"{row['id']}: {name} {value} is not within {low}..{high}")
    return value


def check_references(files: Files) -> None:
    """Every id that is named somewhere must exist, every picture and sound be what it claims."""
    lamps = {row["id"] for row in load_xml(files, "rules/lamps.xml", ("name", "fuel", "range", "oil"))}
    islands = {row["id"] for row in load_xml(files, "rules/islands.xml", ("name",))}
    for boat in load_xml(files, "rules/boats.xml", ("name", "kind", "home", "load")):
        if boat["home"] not in islands:
            raise GameError(f"boat {boat['id']}: no island {boat['home']}")
        _starts(files, f"pictures/boats/{boat['id']}.png", b"\x89PNG")
    for keeper in load_xml(files, "rules/keepers.xml", ("name", "mood", "lamp")):
        if keeper["lamp"] not in lamps:
            raise GameError(f"keeper {keeper['id']}: no lamp {keeper['lamp']}")
    for lamp in lamps:
        _starts(files, f"pictures/lamps/{lamp}.png", b"\x89PNG")
    for bell in load_json(files, "rules/bells.json")["bells"]:
        _starts(files, str(bell["sound"]), b"RING")
    for path in ("rules/tides.json", "rules/weather.json"):
        load_json(files, path)


def _starts(files: Files, path: str, mark: bytes) -> None:
    if not _file(files, path).startswith(mark):
        raise GameError(f"{path}: does not start with {mark!r}")


def lamp_room(files: Files) -> Iterator[str]:
    yield "THE LAMP ROOM"
    yield f"  {'lamp':<16}{'fuel':<12}{'range':>8}{'oil a night':>14}"
    for lamp in load_xml(files, "rules/lamps.xml", ("name", "fuel", "range", "oil")):
        if lamp["fuel"] not in FUELS:
            raise GameError(f"lamp {lamp['id']}: no fuel {lamp['fuel']}")
        reach, oil = number(lamp, "range", 1, 40), number(lamp, "oil", 0, 20)
        yield f"  {lamp['name']:<16}{lamp['fuel']:<12}{reach:>5.0f} nm{oil:>12.1f} l"


def quay(files: Files) -> Iterator[str]:
    islands = {row["id"]: row["name"] for row in load_xml(files, "rules/islands.xml", ("name",))}
    yield "THE QUAY"
    for boat in load_xml(files, "rules/boats.xml", ("name", "kind", "home", "load")):
        load = number(boat, "load", 1, 99)
        yield f"  {boat['name']:<16}{boat['kind']:<12}{load:>4.0f} barrels   {islands[boat['home']]}"


def show_letter(files: Files, language: str, letter: str) -> Iterator[str]:
    known = {str(entry["id"]): entry["languages"] for entry in load_json(files, "rules/letters.json")["letters"]}
    languages = known.get(letter)
    if not isinstance(languages, list) or language not in languages:
        raise GameError(f"there is no letter {letter} in {language}")
    for text, tongues in known.items():
        for tongue in tongues if isinstance(tongues, list) else ():
            path = f"letters/{tongue}/{text}.txt"
            try:
                _file(files, path).decode()
            except UnicodeDecodeError as error:
                raise GameError(f"{path}: not UTF-8 at byte {error.start}") from error
    yield f"A LETTER ({language})"
    yield from (f"  {line}".rstrip() for line in files[f"letters/{language}/{letter}.txt"].decode().splitlines())
