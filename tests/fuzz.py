"""The mutation fuzzer: `python3 dev.py fuzz --minutes N`.

Takes an archive of each format that the tests know, changes some of its bytes, and does with it all that can be
done. Anything but one of our errors is a fault: it is written to a file, with how to repeat it.
"""

from __future__ import annotations

import argparse
import random
import struct
import sys
import time
import traceback
import tracemalloc
from pathlib import Path

from kelpwick.world import make_game
from tests.families import FAMILIES
from tests.formats import FORMATS, SAMPLES
from tests.support import pack_layout
from tests.test_bad_archives import exercise
from tests.test_open_formats import look, open_samples
from volvex.layout.model import Layout
from volvex.layout.syntax import parse_layout

LIMIT_SECONDS, LIMIT_BYTES = 10.0, 300_000_000
ABSURD = (0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 1 << 63, (1 << 64) - 1)


def corpus(folder: Path) -> list[tuple[str, Layout | None, bytes]]:
    """An archive of each format, and the game's own; open formats have a driver in place of a layout."""
    found: list[tuple[str, Layout | None, bytes]] = [
        (name, parse_layout(text, name), make(SAMPLES)) for name, (text, make) in sorted(FORMATS.items())
    ]
    found += [(name, parse_layout(one.layout, name), one.make(one.files)) for name, one in sorted(FAMILIES.items())]
    if not (folder / "data" / "main.kwp").exists():
        make_game(folder)
    found += [(name, None, data) for name, data in open_samples().items()]
    return [*found, ("kelpwick", pack_layout(), (folder / "data" / "main.kwp").read_bytes())]


def mutate(rng: random.Random, data: bytes) -> bytes:
    """The bytes with a few things changed: flipped, set to an absurd number, cut, doubled, swapped."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(out)) if rng.random() < 0.5 else min(len(out) - 1, int(rng.expovariate(0.03)))
        kind = rng.randrange(6)
        if kind == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            size = rng.choice((1, 2, 4, 8))
            out[at : at + size] = struct.pack(rng.choice("<>") + "Q", rng.choice(ABSURD))[:size]
        elif kind == 2:
            del out[at : at + rng.randint(1, 64)]
        elif kind == 3:
            out[at:at] = out[at : at + rng.randint(1, 64)]
        elif kind == 4:
            out[at] = rng.randrange(256)
        else:
            end = rng.randrange(len(out))
            out[at : at + 4], out[end : end + 4] = out[end : end + 4], out[at : at + 4]
        if not out:
            return b""
    return bytes(out)


def attempt(layout: Layout | None, data: bytes) -> str:
    """What went wrong, or nothing."""
    began = time.monotonic()
    tracemalloc.reset_peak()
    try:
        if layout is not None:
            exercise(layout, data)
        else:
            look(data)
    except Exception:  # whatever it is, it is what is looked for
        return traceback.format_exc()
    took, peak = time.monotonic() - began, tracemalloc.get_traced_memory()[1]
    if took > LIMIT_SECONDS:
        return f"took {took:.1f} s"
    return f"took {peak:,} bytes of memory" if peak > LIMIT_BYTES else ""


def main() -> int:
    parser = argparse.ArgumentParser(prog="dev.py fuzz", description=__doc__)
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--only", default="", metavar="NAME", help="only formats whose name begins so, such as open")
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--faults", type=Path, default=Path("fuzz-faults"), help="where faults are written")
    options = parser.parse_args()
    tracemalloc.start()
    rng, until, tried, faults = random.Random(options.seed), time.monotonic() + options.minutes * 60, 0, 0
    options.faults.mkdir(exist_ok=True)
    archives = [one for one in corpus(options.faults / "game") if one[0].startswith(options.only)]
    while time.monotonic() < until:
        name, layout, data = rng.choice(archives)
        mutated = mutate(rng, data)
        tried += 1
        fault = attempt(layout, mutated)
        if fault:
            faults += 1
            (options.faults / f"{name}-{tried}.bin").write_bytes(mutated)
            print(f"FAULT {name}, attempt {tried} of seed {options.seed}:\n{fault}", flush=True)
    print(f"{tried:,} archives tried with seed {options.seed}, {faults} faults")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
