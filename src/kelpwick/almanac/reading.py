"""The almanac loaded as strictly as a game does it, with everything that must agree; and its screens."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from kelpwick import GameError
from kelpwick.almanac import ledgers, rules, sayings, scenes
from kelpwick.almanac.sayings import Texts
from kelpwick.isles._bytes import must


@dataclass(frozen=True)
class Almanac:
    """All of it."""

    lenses: dict[int, ledgers.Lens]
    fittings: dict[str, ledgers.Fitting]
    menu: Texts
    dialogues: Texts
    scenes: dict[str, dict[int, scenes.Thing]]
    jobs: dict[str, dict[str, str]]
    customs: Mapping[str, str]
    rations: dict[str, tuple[int, int]]


def read(files: Mapping[str, bytes], lamps: Mapping[str, str], keepers: Mapping[str, str], paths: set[str]) -> Almanac:
    """The almanac; GameError for the first thing in it that is wrong. `paths` are all that the game's packs hold."""

    def file(path: str) -> bytes:
        if path not in files:
            raise GameError(f"{path} is not in the almanac")
        return files[path]

    book = Almanac(
        ledgers.read_lenses(file(ledgers.LENSES)),
        ledgers.read_fittings(file(ledgers.FITTINGS)),
        sayings.read_menu(file(sayings.MENU)),
        sayings.read_dialogues(file(sayings.DIALOGUES)),
        {path: scenes.read(file(path), path) for path in scenes.FILES},
        rules.read_workshop(file(rules.WORKSHOP)),
        rules.read_harbour(file(rules.HARBOUR)),
        rules.read_rations(file(rules.RATIONS)),
    )
    glyphs = rules.read_glyphs(file(rules.FONT))
    for texts in (book.menu, book.dialogues):
        sayings.check(texts, glyphs)
    _check_lenses(book, lamps, keepers)
    _check_jobs(book, paths)
    for path, things in book.scenes.items():
        _check_scene(path, things, book)
    for keeper in (book.customs.get("keeper", ""), *book.rations):
        must(keeper in keepers, f"there is no keeper {keeper}")
    version, addon = rules.read_version(file(rules.ABOUT)), rules.read_addon(file(rules.ADDON))
    must(addon.get("game") == version, f"{rules.ADDON} is for {addon.get('game')}, this is {version}")
    must(addon.get("scene") in paths, f"{rules.ADDON}: there is no {addon.get('scene')}")
    return book


def _check_lenses(book: Almanac, lamps: Mapping[str, str], keepers: Mapping[str, str]) -> None:
    for lamp, one in book.fittings.items():
        must(lamp in lamps and one.keeper in keepers, f"a lens for {lamp}, kept by {one.keeper}")
        must(one.lens in book.lenses, f"{lamp} has the lens {one.lens}, which there is not")
    for key, lens in book.lenses.items():
        used = sum(fitting.lens == key for fitting in book.fittings.values())
        must(lens.fitted == used, f"the lens {key} is fitted {used} times, its record says {lens.fitted}")


def _check_jobs(book: Almanac, paths: set[str]) -> None:
    for key, job in book.jobs.items():
        fitting = book.fittings.get(job.get("lamp", ""))
        must(
            fitting is not None and str(fitting.lens) == job.get("lens"),
            f"job {key} is for another lens than its lamp has",
        )
        must("drawing" not in job or job["drawing"] in paths, f"job {key}: there is no {job.get('drawing')}")


def _check_scene(path: str, things: Mapping[int, scenes.Thing], book: Almanac) -> None:
    for key, thing in things.items():
        for name, kind in (("keeper", "keeper"), ("to", "door")):
            if name in thing.fields:
                found = things.get(int(str(thing.fields[name])))
                must(
                    found is not None and found.kind == kind,
                    f"{path}: object {key}: its {name} {thing.fields[name]} is no {kind}",
                )
        held = thing.fields.get("holds", [])
        assert isinstance(held, list)
        must(all(lens in book.lenses for lens in held), f"{path}: object {key} holds {held}")
        must(
            "says" not in thing.fields or (thing.fields["says"], "en") in book.dialogues,
            f"{path}: object {key} says {thing.fields.get('says')}",
        )


def screens(book: Almanac, lamps: Mapping[str, str], keepers: Mapping[str, str], language: str) -> Iterator[str]:
    """What the player sees of it."""
    yield "THE WORKSHOP"
    for lamp, fitting in book.fittings.items():
        lens = book.lenses[fitting.lens]
        note = f"  {fitting.note}" if fitting.note else ""
        yield (
            f"  {lamps[lamp]:<16}{lens.name:<14}{lens.reach:>3} nm  {lens.weight:>5.1f} kg  "
            f"{keepers[fitting.keeper]}{note}"
        )
    yield "THE MENU"
    yield from (f"  {text}" for (_, tongue), text in book.menu.items() if tongue == language)
    yield "TALK"
    yield from (f"  {text}" for (_, tongue), text in book.dialogues.items() if tongue == language)
    for path, things in book.scenes.items():
        yield f"SCENE {path.rpartition('/')[2].partition('.')[0]}"
        yield from (f"  {thing.name}{_told(thing)}" for thing in things.values() if not thing.hidden)


def _told(thing: scenes.Thing) -> str:
    if thing.kind == "lamp":
        return f", {'lit' if thing.fields['lit'] else 'dark'}, {thing.fields['range']:.1f} nm"
    if thing.kind == "door":
        return ", locked" if thing.fields["locked"] else ", open"
    return f", {thing.fields['barrels']} barrels" if thing.kind == "chest" else ""
