"""Damaged mods and game packs, as folders and as ZIPs: checked, shown, added, combined, exported; descriptors with
anything in them."""

from __future__ import annotations

import contextlib
import functools
import io
import random
import shutil
import zipfile
from collections.abc import Iterator
from pathlib import Path

from kelpwick.world import make_game
from tests.fuzz.attempt import Attempt, mutate_text
from volvex.command.ui.context import make_context
from volvex.command.ui.main import main
from volvex.shipped import GAMES

COMMANDS = (
    ("mod", "check", "{pack}", "--game", "{game}"),
    ("mod", "show", "{pack}"),
    ("mod", "add", "{pack}", "--game", "{game}"),
    ("mod", "list", "--game", "{game}"),
    ("install", "{game}", "--plan"),
    ("games", "add", "{pack}", "--name", "fuzzed", "--overwrite"),
    ("games", "check", "fuzzed"),
    ("survey", "{game}"),
)


def run_volvex(words: list[str], home: Path, here: Path) -> tuple[int, str]:
    """One command line in this process: its status, and all that it printed."""
    out = io.StringIO()
    with contextlib.chdir(here), contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        context = make_context()
        context.environment = {**context.environment, "VOLVEX_HOME": str(home)}
        status = main(words, context)
    return status, out.getvalue()


def bad(words: list[str], status: int, said: str) -> str | None:
    """What is wrong with how a command ended: an internal fault, or a traceback."""
    return f"{' '.join(words)}: status {status}: {said[-600:]}" if status == 70 or "Traceback" in said else None


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Mods of a bench and the pack of the stand-in game, with one or two of their files damaged."""
    work = (folder / "packs").resolve()
    shutil.rmtree(work, ignore_errors=True)
    make_game(work / "game")
    samples = {"mod": _mod(work), "game pack": GAMES / "kelpwick"}
    number = 0
    while True:
        number += 1
        kind = rng.choice([name for name in samples if name.startswith(only)])
        as_zip = rng.random() < 0.5
        place = work / ("tried.zip" if as_zip else "tried")
        data = _damaged(samples[kind], place, as_zip, rng)
        yield Attempt(f"{kind}: {'zip' if as_zip else 'folder'}", data, functools.partial(_tried, work, place))


def _mod(work: Path) -> Path:
    home, bench = work / "home", work / "bench"
    for words in (
        ["bench", str(work / "game"), str(bench)],
        ["set", "data/main.kwp/rules/lamps.xml", "--row", "fresnel_3", "range=14", "--bench", str(bench)],
        ["mod", "new", str(work / "mod"), "--bench", str(bench)],
    ):
        status, said = run_volvex(words, home, work)
        assert status == 0, said
    (work / "mod" / "files").mkdir()
    (work / "mod" / "files" / "notes.txt").write_text("a note")
    return work / "mod"


def _damaged(sample: Path, place: Path, as_zip: bool, rng: random.Random) -> bytes:
    """Write a sample with some of its files damaged; the damaged bytes."""
    files = {
        path.relative_to(sample).as_posix(): path.read_bytes() for path in sorted(sample.rglob("*")) if path.is_file()
    }
    hurt = b""
    for name in rng.sample(sorted(files), min(len(files), rng.randint(1, 2))):
        files[name] = hurt = mutate_text(rng, files[name])
    if rng.random() < 0.2:
        files[rng.choice(("../out.txt", "a/b/c.bin", "mod.toml/x", "CON", "game.toml", "names/x.txt"))] = b"x"
    shutil.rmtree(place, ignore_errors=True)
    place.unlink(missing_ok=True) if not place.is_dir() else None
    if as_zip:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in files.items():
                archive.writestr(name, data)
        data = out.getvalue()
        place.write_bytes(mutate_text(rng, data) if rng.random() < 0.3 else data)
        return place.read_bytes()
    for name, data in files.items():
        path = place / name
        if ".." in name:
            continue
        with contextlib.suppress(OSError):
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
    return hurt


def _tried(work: Path, place: Path) -> str | None:
    home = work / "tried-home"
    shutil.rmtree(home, ignore_errors=True)
    outside = work / "out.txt"
    for template in COMMANDS:
        words = [word.format(pack=place, game=work / "game") for word in template]
        status, said = run_volvex(words, home, work)
        if (fault := bad(words, status, said)) is not None:
            return fault
        if outside.exists():
            return f"{' '.join(words)} wrote {outside}"
    return None
