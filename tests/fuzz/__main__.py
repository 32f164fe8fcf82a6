"""Runs the modes of the fuzzer and tells what came of them."""

from __future__ import annotations

import argparse
import faulthandler
import importlib
import random
import sys
import time
import traceback
from collections import Counter
from pathlib import Path

from tests.fuzz.attempt import Attempt

MODES = (
    "archives",
    "data",
    "exchange",
    "layouts",
    "pictures",
    "sounds",
    "movies",
    "models",
    "states",
    "packs",
    "commands",
    "bombs",
    "kills",
    "full",
)
LIMIT_SECONDS, LIMIT_MEMORY = 10.0, 1 << 31
STUCK = 120  # seconds after which an attempt is taken to hang


def main() -> int:
    parser = argparse.ArgumentParser(
        prog="dev.py fuzz",
        description=sys.modules["tests.fuzz"].__doc__,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--mode", choices=(*MODES, "all"), default="all")
    parser.add_argument("--minutes", type=float, default=1.0, help="for each mode")
    parser.add_argument("--count", type=int, default=0, help="so many attempts in each mode, whatever they take")
    parser.add_argument("--only", default="", metavar="NAME", help="only samples whose name begins so")
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--faults", type=Path, default=Path("fuzz-faults"), help="where faults are written")
    options = parser.parse_args()
    options.faults.mkdir(exist_ok=True)
    _bound_memory()
    faults = 0
    for mode in MODES if options.mode == "all" else (options.mode,):
        faults += _run(mode, options)
    return 1 if faults else 0


def _bound_memory() -> None:
    """No attempt may take more memory: it gets a MemoryError, which is a fault."""
    try:
        import resource
    except ImportError:  # Windows
        return
    import numba  # noqa: F401 - what takes room once, and is none of an attempt's
    import pandas  # noqa: F401

    status = Path("/proc/self/statm")
    size = int(status.read_text().split()[0]) * resource.getpagesize() if status.exists() else 1 << 32
    resource.setrlimit(resource.RLIMIT_AS, (size + LIMIT_MEMORY, size + LIMIT_MEMORY))


def _run(mode: str, options: argparse.Namespace) -> int:
    module = importlib.import_module(f"tests.fuzz.{mode}")
    rng = random.Random(f"{options.seed} {mode}")
    until, tried, faults = time.monotonic() + options.minutes * 60, 0, 0
    kinds: Counter[str] = Counter()
    slowest = 0.0
    for attempt in module.cases(options.faults, rng, options.only):
        tried += 1
        began = time.monotonic()
        said = _tried(attempt)
        took = time.monotonic() - began
        slowest = max(slowest, took)
        kinds[attempt.name.partition(":")[0]] += 1
        if not said and took > getattr(module, "SECONDS", LIMIT_SECONDS):
            said = f"took {took:.1f} s"
        if said:
            faults += 1
            (options.faults / f"{mode}-{faults}.bin").write_bytes(attempt.data)
            print(f"FAULT {mode}, {attempt.name}, attempt {tried} of seed {options.seed}:\n{said}", flush=True)
        if tried >= options.count if options.count else time.monotonic() > until:
            break
    text = ", ".join(f"{count:,} {name}" for name, count in kinds.most_common(12))
    print(
        f"{mode}: {tried:,} tried with seed {options.seed} ({text}), the slowest {slowest:.1f} s, {faults} faults",
        flush=True,
    )
    return faults


def _tried(attempt: Attempt) -> str:
    faulthandler.dump_traceback_later(STUCK, exit=True)
    try:
        return attempt.run() or ""
    except Exception:  # whatever it is, it is what is looked for
        return traceback.format_exc()
    finally:
        faulthandler.cancel_dump_traceback_later()


if __name__ == "__main__":
    sys.exit(main())
