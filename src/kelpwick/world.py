"""Makes the game folder from a seed: the same bytes every time."""

from __future__ import annotations

import json
import random
import struct
from collections.abc import Iterator
from pathlib import Path

from kelpwick import addons, almanac, holds, isles, png, words
from kelpwick.isles import rigging
from kelpwick.pack import Item, write_pack

GROUPS = {
    "rules": 1,
    "tables": 2,
    "letters": 3,
    "pictures": 4,
    "bells": 5,
    "lenses": 6,
    "charts": 7,
    "logbook": 8,
    "stores": 9,
}


def make_game(folder: Path, seed: int = 7, scale: int = 1, version: int = 1) -> int:
    """Write the game into `folder`; the number of entries in its main archive.

    Scale 1 is the game itself; each further step adds 62 entries, 3.6 MB of content in a third each of text,
    picture-like and random bytes, so that benchmarks have something to chew on. Version 2 is what an update of the game
    brings: another range of a lamp, another sentence in a letter, another number of the version.
    """
    rng = random.Random(seed)
    for name in ("data", "isles", "saves", "logs"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    (folder / "kelpwick.ini").write_bytes(b"[game]\r\nlanguage = en\r\nletter = 01-arrival\r\n")
    (folder / "READ ME.txt").write_bytes(
        f"Kelpwick Light. Keep the lamps lit.\r\nThe winter post is locked: {words.PASSWORD}\r\n".encode()
    )
    (folder / "saves" / "night-01.sav").write_bytes(b"KSAV\x01" + rng.randbytes(1200))
    for name, contents in isles.FORMATS.items():
        isles.write(
            folder / "isles", name, isle_files(contents.__name__.rpartition(".")[2], random.Random(f"{seed} {name}"))
        )
    (folder / "cargo").mkdir(exist_ok=True)
    (folder / addons.MANIFEST).write_bytes(addons.EMPTY)
    holds.make(folder, seed)
    almanac.make(folder, seed, version)
    items = [Item(path, content, GROUPS[path.split("/")[0]], _method(path)) for path, content in files(rng, version)]
    rng.shuffle(items)
    return write_pack(folder / "data" / "main.kwp", _chain(items, bulk(rng, scale)), rng.randbytes(12))


def _method(path: str) -> int:
    return 0 if path.endswith((".png", ".ring")) else 1


def _chain(items: list[Item], more: Iterator[Item]) -> Iterator[Item]:
    yield from items
    yield from more


def files(rng: random.Random, version: int = 1) -> Iterator[tuple[str, bytes]]:
    """Path and content of every file of the game itself."""
    yield from rules(version)
    yield from tables(rng)
    for letter, texts in words.LETTERS.items():
        for language, text in texts.items():
            told = text.replace("sees further", "sees much further") if version > 1 else text
            yield f"letters/{language}/{letter}.txt", told.encode()
    for number, (lamp, _, _, reach, _) in enumerate(words.LAMPS):
        yield f"pictures/lamps/{lamp}.png", png.lamp(number * 37, reach)
    for number, boat in enumerate(words.BOATS):
        yield f"pictures/boats/{boat[0]}.png", png.boat(number * 53, boat[5])
    for island, _ in words.ISLANDS:
        yield f"pictures/charts/{island}.png", png.chart(rng.randbytes(256))
        yield f"charts/{island}.sdg", b"SDG1" + struct.pack("<HH", 64, 64) + _soundings(rng)
    for lamp, _, _, _, _ in words.LAMPS[6:9]:
        yield f"lenses/{lamp}.lns", b"LNS2" + rng.randbytes(900) + bytes(300)
    for number in range(1, 7):
        yield f"bells/fog-{number:02}.ring", b"RING" + rng.randbytes(2000 + 100 * number)
    for season in words.SEASONS:
        yield f"logbook/{season}.txt", logbook(rng, 40).encode()
    yield "stores/empty.lst", b""


def isle_files(what: str, rng: random.Random) -> dict[str, bytes]:
    """The files of one of the archives of the folder `isles`."""
    names = [island for island, _ in words.ISLANDS]
    made = {
        "chimes": lambda: {
            f"{name}-{hour}.chime": b"CHIM" + rng.randbytes(600 + 150 * hour)
            for name in names[:3]
            for hour in (1, 2, 3)
        },
        "journals": lambda: {
            f"{keeper[0]}/{season}.txt": logbook(rng, 12).encode()
            for keeper in words.KEEPERS
            for season in words.SEASONS[:2]
        },
        "soundings": lambda: {
            f"soundings/{name}/{half}.sdg": b"SDG1" + struct.pack("<HH", 64, 64) + _soundings(rng)
            for name in names
            for half in ("ebb", "flood")
        },
        "shores": lambda: (
            {
                f"{name}/{kind}/{number}.txt": logbook(rng, 3).encode()
                for name in names
                for kind in ("moorings", "ruins")
                for number in (1, 2)
            }
            | {"note.txt": b"Land only at slack water.\n"}
        ),
        "rigging": lambda: _rigging(rng),
        "tides": lambda: {f"{name}.csv": _tide_table(rng) for name in names},
    }
    return made[what]()


def _rigging(rng: random.Random) -> dict[str, bytes]:
    found = {}
    for number, boat in enumerate(words.BOATS):
        found[f"{boat[0]}.hull"] = rigging.hull(boat[5] / 4, boat[5] / 22, 20 + boat[5])
        found[f"{boat[0]}.sail"] = rigging.sail(
            boat[5] * 1.5, number % 3, [2.0 + reef for reef in range(rng.randint(0, 3))]
        )
    return found


def _tide_table(rng: random.Random) -> bytes:
    return "\n".join(["hour;height", *(f"{hour};{rng.uniform(0, 4.2):.2f}" for hour in range(24)), ""]).encode()


def _soundings(rng: random.Random) -> bytes:
    depth, out = 400, bytearray()
    for _ in range(64 * 64):
        depth = max(0, min(4000, depth + rng.randint(-9, 9)))
        out += struct.pack("<H", depth)
    return bytes(out)


def rules(version: int = 1) -> Iterator[tuple[str, bytes]]:
    """The XML and JSON rules."""
    lamps = tuple(words.LAMPS_2.get(lamp[0], lamp) if version > 1 else lamp for lamp in words.LAMPS)
    yield "rules/lamps.xml", _xml("lamps", "lamp", ("id", "name", "fuel", "range", "oil"), lamps)
    yield "rules/islands.xml", _xml("islands", "island", ("id", "name"), words.ISLANDS)
    yield "rules/boats.xml", _xml("boats", "boat", ("id", "name", "kind", "home", "load"), words.BOATS)
    yield "rules/keepers.xml", _xml("keepers", "keeper", ("id", "name", "mood", "lamp"), words.KEEPERS)
    yield (
        "rules/letters.json",
        _json({"letters": [{"id": name, "languages": list(words.LANGUAGES)} for name in words.LETTERS]}),
    )
    yield (
        "rules/bells.json",
        _json(
            {
                "bells": [
                    {"id": f"fog-{n:02}", "sound": f"bells/fog-{n:02}.ring", "every": 10 * n, "loud": n % 2 == 0}
                    for n in range(1, 7)
                ]
            }
        ),
    )
    yield "rules/tides.json", _json({"spring": 4.2, "neap": 1.7, "lag": {"the_pans": 35, "gannet_stack": 50}})
    yield (
        "rules/weather.json",
        _json({season: {"fog": 5 + 7 * n, "storm": 3 + 4 * n, "note": None} for n, season in enumerate(words.SEASONS)}),
    )


def _xml(root: str, element: str, names: tuple[str, ...], rows: tuple[tuple[object, ...], ...]) -> bytes:
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        "<!-- range in nautical miles, oil in litres a night -->",
        f"<{root}>",
    ]
    for row in rows:
        attributes = " ".join(f'{name}="{value}"' for name, value in zip(names, row, strict=False))
        lines.append(f"  <{element} {attributes}/>")
    return "\r\n".join([*lines, f"</{root}>", ""]).encode()


def _json(value: object) -> bytes:
    return (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode()


def tables(rng: random.Random) -> Iterator[tuple[str, bytes]]:
    """The tables, separated by semicolons."""
    prices = ["good;price;island"] + [
        f"{good};{rng.randint(3, 90)};{island}" for good in words.GOODS for island, _ in words.ISLANDS
    ]
    yield "tables/prices.csv", "\n".join([*prices, ""]).encode()
    supplies = ["night;good;barrels"] + [f"{n};{rng.choice(words.GOODS)};{rng.randint(1, 6)}" for n in range(1, 60)]
    yield "tables/supplies.csv", "\n".join([*supplies, ""]).encode()
    tides = ["hour;height"] + [f"{hour};{rng.uniform(0, 4.2):.2f}" for hour in range(24)]
    yield "tables/tides.csv", "\n".join([*tides, ""]).encode()


def logbook(rng: random.Random, lines: int) -> str:
    """So many lines of a keeper's log."""
    out = [
        rng.choice(words.LOG_LINES).format(
            wind=rng.randint(0, 11),
            sea=rng.choice(("calm", "short", "heavy", "confused")),
            hour=rng.randint(16, 23),
            lamp=rng.choice(words.LAMPS)[1],
            boat=rng.choice(words.BOATS)[1],
            n=rng.randint(1, 40),
        )
        for _ in range(lines)
    ]
    return "\n".join([*out, ""])


def bulk(rng: random.Random, scale: int) -> Iterator[Item]:
    """What a larger game has more of: 62 entries a step of scale above 1, 58 KB each on average."""
    if scale < 2:
        return
    pages = [logbook(rng, 12) for _ in range(3000)]
    for number in range((scale - 1) * 62):
        size = rng.randint(8_000, 108_000)
        folder = f"{number // 62:04}"
        if number % 3 == 0:
            text = "".join(rng.choice(pages) for _ in range(size // 400))[:size]
            yield Item(f"logbook/{folder}/night-{number:06}.txt", text.encode(), GROUPS["logbook"])
        elif number % 3 == 1:
            yield Item(f"charts/{folder}/depth-{number:06}.sdg", b"SDG1" + _tiles(rng, size), GROUPS["charts"])
        else:
            yield Item(f"bells/{folder}/ring-{number:06}.ring", b"RING" + rng.randbytes(size), GROUPS["bells"], 0)


def _tiles(rng: random.Random, size: int) -> bytes:
    """Picture-like bytes: slow slopes with a grain, which deflate to about half."""
    slope = bytes((x // 3) & 255 for x in range(1024))
    rows = []
    for _ in range(size // 256 + 1):
        start, grain = rng.randrange(700), rng.getrandbits(256 * 8).to_bytes(256, "little")
        rows.append(bytes(a + (b & 3) & 255 for a, b in zip(slope[start : start + 256], grain, strict=True)))
    return b"".join(rows)[:size]
