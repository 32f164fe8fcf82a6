"""Disks that get full at any byte: install, in-place changes and restore on one that counts; every writing command on a
small one."""

from __future__ import annotations

import random
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

from tests.fuzz.attempt import Attempt
from tests.fuzz.kills import COMMANDS, _World
from tests.test_safety import FullDisk, SmallDisk
from volvex.mods import patch, restore

SECONDS = 60.0


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """In the process on a counted disk; where one can be mounted, programs on a file system of a few hundred
    kilobytes."""
    case = FullDisk("test_what_is_written_is_what_was_planned")
    case.setUp()
    small = _mounted(folder / "small")
    world = _World(folder) if small is not None else None
    names = [name for name in COMMANDS if name != "keys"]
    try:
        while True:
            if world is not None and small is not None and rng.random() < 0.5:
                name, room = rng.choice(names), rng.randrange(0, 400) * 1024
                yield Attempt(f"mounted: {name}", b"", lambda name=name, room=room: _on_small(world, small, name, room))  # type: ignore[misc]
            else:
                free, place = rng.randrange(0, 150_000), rng.random() < 0.5
                yield Attempt("counted", str(free).encode(), lambda free=free, place=place: _counted(case, free, place))  # type: ignore[misc]
    finally:
        case.doCleanups()
        if small is not None:
            subprocess.run(["umount", str(small)], check=False)


def _mounted(folder: Path) -> Path | None:
    """A file system in memory; None where none can be mounted."""
    folder.mkdir(parents=True, exist_ok=True)
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=16m", "volvex-small", str(folder)], capture_output=True, check=False
    )
    return folder if done.returncode == 0 else None


def _counted(case: FullDisk, free: int, place: bool) -> str | None:
    case.make()
    disk = SmallDisk(free)
    try:
        if place:
            patch(case.source, case.patches(), disk)
        else:
            case.install(disk)
    except OSError:
        if case.content() != case.old:
            return "neither all nor nothing"
    disk.free = 0
    restore(case.source, disk)
    return None if case.content() == case.old else "restore did not bring it back"


def _on_small(world: _World, small: Path, name: str, room: int) -> str | None:
    """A command whose game and bench lie on a disk with little room."""
    for path in small.iterdir():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    shutil.copytree(world.base, small / "w")
    kept, world.folder = world.folder, small / "w"
    try:
        if name == "restore":
            world.do("install", "--game", "../game")
        filler = small / "filler"
        left = shutil.disk_usage(small).free - room
        filler.write_bytes(bytes(max(0, left)))
        status, said = world.do(*COMMANDS[name], *(["--game", "../game"] if name in ("install", "in place") else []))
        if "Traceback" in said or status == 70:
            return said
        again, text = world.do("restore", "../game")  # with whatever room there is
        if again or world.content() != world.old:
            return f"{name} with {room:,} bytes: {status} {said}\nrestore: {again} {text}"
        filler.unlink()
        status, said = world.do("changes")
        return None if not status else f"changes after {name} with {room:,} bytes: {said}"
    finally:
        world.folder = kept
