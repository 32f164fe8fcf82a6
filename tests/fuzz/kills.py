"""Every command that writes, killed for good at random moments: the next command works, and nothing is lost."""

from __future__ import annotations

import contextlib
import functools
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from kelpwick.world import make_game
from tests.fuzz.attempt import Attempt
from tests.support import LAMPS, MAIN, PROGRAM, digests
from volvex.mods import restore
from volvex.source import Disk

SECONDS = 60.0
KILLS = 3  # in each attempt
COMMANDS = {
    "install": ["install"],
    "restore": ["restore"],
    "in place": ["build", "--in-place"],
    "build": ["build"],
    "take": ["take", f"{MAIN}/letters", "data/almanac.kwp/texts"],
    "set": ["set", LAMPS, "--row", "fresnel_2", "range=11"],
    "drop": ["drop", f"{MAIN}/letters/en/01-arrival.txt"],
    "swap": ["swap", "--new", "mods/note.txt", "bench.json"],
    "changes": ["changes", "--save", "saved.json"],
    "pack": ["pack", "tree", "--like", "../game/peal/peal.kpi", "--to", "out/peal.kpi"],
    "unpack": ["unpack", "../game/data/main.kwp", "--to", "fresh"],
    "convert": ["convert", f"../game/{LAMPS}", "lamps.xlsx"],
    "keys": ["keys", "add", "second"],
    "names": ["names", "add", "list.txt"],
    "mod on": ["mod", "on", "lamps", "oil"],
    "mod off": ["mod", "off", "oil"],
    "mod order": ["mod", "order", "oil", "lamps"],
    "mod add": ["mod", "add", "../lamps", "--overwrite"],
    "mod new": ["mod", "new", "fresh-mod", "--overwrite"],
    "mod bisect": ["mod", "bisect"],
    "mods": ["install", "../game"],
}


class _World:
    """A game, a bench with a build, and how long each command takes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / "kills"
        self.base = folder / "kills-base"
        shutil.rmtree(self.base, ignore_errors=True)
        make_game(self.base / "game")
        self.environment = {key: value for key, value in os.environ.items() if not key.startswith("VOLVEX")}
        self.reset()
        self.do("bench", "../game", ".", cwd=self.bench)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        for name, edit in (("lamps", "range=12"), ("oil", "oil=3")):
            self.do("bench", "../game", f"../{name}-bench")
            self.do("set", LAMPS, "--row", "gull_rock", edit, "--bench", f"../{name}-bench")
            self.do("mod", "new", f"../{name}", "--bench", f"../{name}-bench")
            self.do("mod", "add", f"../{name}")
        self.do("mod", "off", "lamps", "oil")
        self.do("unpack", "../game/peal/peal.kpi", "--to", "tree")
        self.do("keys", "add", "first", given="secret")
        (self.bench / "list.txt").write_text("a/b.txt\n")
        next(path for path in (self.bench / "tree").rglob("*") if path.is_file()).write_bytes(b"changed")
        shutil.rmtree(self.base)
        shutil.copytree(self.folder, self.base)
        self.old = self.content()
        self.durations: dict[str, float] = {}

    @property
    def bench(self) -> Path:
        return self.folder / "bench"

    @property
    def game(self) -> Path:
        return self.folder / "game"

    def reset(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)
        shutil.copytree(self.base, self.folder)
        self.bench.mkdir(exist_ok=True)

    def content(self) -> dict[str, str]:
        return {
            name: digest for name, digest in digests(self.game).items() if not name.startswith((".volvex/", "logs/"))
        }

    def start(self, *words: str, cwd: Path | None = None) -> subprocess.Popen[bytes]:
        environment = {**self.environment, "VOLVEX_HOME": str(self.folder / "home")}
        return subprocess.Popen(
            [str(PROGRAM), *words],
            cwd=cwd or self.bench,
            env=environment,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )

    def do(self, *words: str, cwd: Path | None = None, given: str = "") -> tuple[int, str]:
        running = self.start(*words, cwd=cwd)
        _, said = running.communicate(given.encode())
        return running.returncode, said.decode()


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """A few commands one after the other, each killed somewhere between its start and its end."""
    world = _World(folder)
    for name in [command for command in COMMANDS if command.startswith(only)]:
        world.reset()
        if name == "restore":
            world.do("install")
        began = time.monotonic()
        world.do(*COMMANDS[name], given="other")
        world.durations[name] = time.monotonic() - began
    while True:
        names = [rng.choice(list(world.durations)) for _ in range(KILLS)]
        moments = [world.durations[name] * (0.25 + 0.85 * rng.random()) for name in names]
        yield Attempt("kills: " + ", ".join(names), b"", functools.partial(_kills, world, names, moments))


def _kills(world: _World, names: list[str], moments: list[float]) -> str | None:
    world.reset()
    if names[0] == "restore":
        world.do("install")
    for name, moment in zip(names, moments, strict=True):
        running = world.start(*COMMANDS[name])
        assert running.stdin is not None and running.stderr is not None
        with contextlib.suppress(OSError):
            running.stdin.write(b"other")
            running.stdin.close()
        time.sleep(moment)
        running.send_signal(signal.SIGKILL if sys.platform != "win32" else signal.SIGTERM)
        running.wait()
        running.stderr.close()
    status, said = world.do("changes")
    if status != 0 or "Traceback" in said:
        return f"changes after it: {status}\n{said}"
    status, said = world.do("keys", "list")
    left = [str(path) for path in (world.folder / "home").glob("keys.json.*")]
    left += [
        str(path)
        for path in world.bench.rglob("*.volvex-part")
        if not {"fresh", "out"} & set(path.parts) and path.parent != world.bench
    ]
    if status or left:
        return f"left behind: {left}, keys list: {status}\n{said}"
    status, said = world.do("mod", "list", "--json")
    if status or "Traceback" in said:
        return f"mod list after it: {status}\n{said}"
    last = names[-1]
    if last in (
        "take",
        "set",
        "drop",
        "build",
        "names",
        "mod on",
        "mod off",
        "mod order",
        "mod add",
        "mods",
        "mod bisect",
    ):
        status, said = world.do(*COMMANDS[last])
        if status not in (0, 1) or "Traceback" in said:
            return f"{last} again: {status}\n{said}"
    done = restore(world.game, Disk())
    if done.skipped or world.content() != world.old or (world.game / ".volvex").exists():
        return f"the game is not what it was: {done.skipped}"
    return None
