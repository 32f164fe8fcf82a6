"""Journals and benches with anything in them: no original is lost, nothing outside of the game is touched."""

from __future__ import annotations

import json
import random
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from tests.fuzz.attempt import Attempt, mutate_text
from volvex.bench.bench_file import read_description
from volvex.bench.build import read_built
from volvex.errors import VolvexError
from volvex.mods import install, originals, recover, restore
from volvex.source import Disk
from volvex.source.digest import Fingerprint, digest_bytes

FILES = {"a.dat": b"original a" * 9, "sub/b.dat": b"original b" * 7, "c.dat": b"original c"}
ODD: tuple[Any, ...] = (
    None,
    0,
    -1,
    1.5,
    True,
    "",
    "x",
    "../victim.txt",
    "/etc/passwd",
    "a.dat",
    "sub",
    "incoming/0",
    "originals",
    [],
    {},
    [[]],
    {"a": 1},
    "\0",
    "9" * 64,
    "blocks " + "0" * 64,
    "0" * 64,
)


def _game(folder: Path) -> tuple[Path, dict[bytes, str]]:
    """A game with something installed; and its originals."""
    shutil.rmtree(folder, ignore_errors=True)
    game = folder / "game"
    for name, data in FILES.items():
        (game / name).parent.mkdir(parents=True, exist_ok=True)
        (game / name).write_bytes(data)
    (folder / "victim.txt").write_text("precious")
    mine = folder / "mine"
    mine.write_bytes(b"mine")
    names = ("a.dat", "sub/b.dat", "new/d.dat")
    bases = {name: Fingerprint.of(game / name) if (game / name).exists() else None for name in names}
    install(game, dict.fromkeys(names, mine), bases, Disk())
    return game, {data: name for name, data in FILES.items()}


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Journals, benches and lists of what was built, mutated as text and by their values."""
    base, work = folder / "state-base", folder / "state"
    game, _ = _game(base)
    journal = (game / ".volvex" / "state.json").read_bytes()
    described = json.dumps(
        {
            "bench": 1,
            "game": "/nowhere",
            "described as": "x",
            "fingerprints": {"a": {"size": 1, "sample": "x", "time": 5}},
            "taken": {"a": {"file": "a", "entry": "e", "size": 1, "digest": "0" * 64}},
            "dropped": ["x"],
            "opened": {
                "open/a": {
                    "place": "a",
                    "ending": "csv",
                    "sheet": "",
                    "language": "",
                    "digest": "0" * 64,
                    "of": "0" * 64,
                }
            },
        }
    ).encode()
    built = json.dumps(
        {"built": 1, "files": [{"path": "a", "size": 1, "changes": 1, "base": {"size": 1, "sample": "x", "time": 5}}]}
    ).encode()
    samples = [one for one in (("journal", journal), ("bench", described), ("built", built)) if one[0].startswith(only)]
    while True:
        name, data = rng.choice(samples)
        value = (
            mutate_text(rng, data)
            if rng.random() < 0.3
            else json.dumps(_changed(rng, json.loads(data)), indent=1).encode()
        )
        if name == "journal":
            if rng.random() < 0.8:
                value = _stamped(value)
            both = rng.random() < 0.6
            yield Attempt(name, value, lambda value=value, both=both: _journal(base, work, value, both))  # type: ignore[misc]
        else:
            yield Attempt(name, value, lambda name=name, value=value: _read(work, name, value))  # type: ignore[misc]


def _changed(rng: random.Random, value: Any) -> Any:
    """A JSON value with something in it changed for something odd."""
    if isinstance(value, dict) and value and rng.random() < 0.85:
        key = rng.choice(list(value))
        if rng.random() < 0.1:
            return {**{k: v for k, v in value.items() if k != key}, str(rng.choice(ODD)): value[key]}
        return {**value, key: _changed(rng, value[key])}
    if isinstance(value, list) and value and rng.random() < 0.7:
        at = rng.randrange(len(value))
        return [*value[:at], _changed(rng, value[at]), *value[at + 1 :]]
    return rng.choice(ODD)


def _stamped(data: bytes) -> bytes:
    """A journal with the checksum that it should have, as somebody makes it who knows how."""
    try:
        value = json.loads(data)
        value["checksum"] = digest_bytes(json.dumps(value["state"], indent=1).encode())
        return json.dumps(value).encode()
    except (ValueError, TypeError, KeyError, RecursionError):
        return data


def _journal(base: Path, work: Path, data: bytes, both: bool) -> str | None:
    shutil.rmtree(work, ignore_errors=True)
    shutil.copytree(base, work)
    game = work / "game"
    home = game / ".volvex"
    for name in ("state.json", "state.copy.json") if both else ("state.json",):
        (home / name).write_bytes(data)
    for use in (
        lambda: originals(game),
        lambda: recover(game, Disk()),
        lambda: restore(game, Disk()),
        lambda: restore(game, Disk(), force=["a.dat"]),
    ):
        try:
            use()
        except (VolvexError, OSError) as error:
            if isinstance(error, OSError) and not error.errno:
                return f"an error without a number: {error!r}"
    if (work / "victim.txt").read_text() != "precious":
        return "a file outside of the game was changed"
    held = {path.read_bytes() for path in game.rglob("*") if path.is_file() and not path.is_symlink()}
    lost = [name for name, content in FILES.items() if content not in held]
    return f"the original of {', '.join(lost)} is lost" if lost else None


def _read(work: Path, name: str, data: bytes) -> None:
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir(parents=True)
    (work / f"{name}.json").write_bytes(data)
    try:
        read_description(work) if name == "bench" else read_built(work)
    except VolvexError:
        pass
