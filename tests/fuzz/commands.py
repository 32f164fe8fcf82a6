"""Whole commands on a folder with one damaged file among others: the others are listed, found and shown all the
same."""

from __future__ import annotations

import functools
import random
import shutil
from collections.abc import Iterator
from pathlib import Path

from kelpwick.world import make_game
from tests.fuzz.attempt import Attempt, mutate
from tests.fuzz.packs import bad, run_volvex

SECONDS = 30.0
COMMANDS = (
    ["survey", "{folder}"],
    ["list", "{folder}", "--long"],
    ["list", "{folder}", "--deep"],
    ["find", "{folder}", "--text", "keeper of the light"],
    ["identify", "{file}"],
    ["show", "{file}"],
    ["picture", "{folder}", "--to", "{out}/sheet.png", "--overwrite"],
    ["convert", "{folder}", "--to", "{out}/all", "--as", "png", "--overwrite"],
)
FOLDERS = ("canvas", "birds", "belfry", "slip", "isles", "opening", "signs", "catches", "shallows")


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """A file of the stand-in game, damaged, beside three whole ones and a text."""
    work = (folder / "commands").resolve()
    shutil.rmtree(work, ignore_errors=True)
    make_game(work / "game")
    files = [
        path for name in FOLDERS for path in sorted((work / "game" / name).iterdir()) if path.name.startswith(only)
    ]
    while True:
        victim = rng.choice(files)
        others = rng.sample([path for path in files if path != victim], min(3, len(files) - 1))
        data = mutate(rng, victim.read_bytes())
        command = rng.choice(COMMANDS)
        run = functools.partial(_tried, work, victim.name, data, others, command)
        yield Attempt(f"{command[0]}: {victim.name}", data, run)


def _tried(work: Path, name: str, data: bytes, others: list[Path], command: list[str]) -> str | None:
    place, out = work / "tried", work / "out"
    for one in (place, out):
        shutil.rmtree(one, ignore_errors=True)
        one.mkdir()
    for path in others:
        shutil.copy(path, place)
    (place / name).write_bytes(data)
    (place / "note.txt").write_text("from the keeper of the light")
    words = [word.format(folder=place, file=place / name, out=out) for word in command]
    status, said = run_volvex(words, work / "home", work)
    if (fault := bad(words, status, said)) is not None or "a fault in Volvex" in said:
        return fault or said[-600:]
    if command[0] in ("survey", "list", "find") and "note.txt" not in said:
        return f"{' '.join(words)} left the other files out: {said[-600:]}"
    return None
