"""Run the measurements: `python3 dev.py measure [--rounds N] [NAME ...]`."""

from __future__ import annotations

import argparse
import json
import os
import platform
import shutil
import subprocess
import sys
from dataclasses import asdict
from pathlib import Path

from benchmarks.material import prepare
from benchmarks.timing import Result, compare

HERE = Path(__file__).parent
WORK = HERE / "work"
VOLVEX = str(Path(sys.executable).parent / "volvex")


def unpack(rounds: int) -> Result:
    target = WORK / "out"
    ours = [VOLVEX, "unpack", str(WORK / "game/data/main.kwp"), "--to", str(target)]
    theirs = ["unzip", "-q", str(WORK / "same.zip"), "-d", str(target)]
    result = compare("unpack 12,400 entries / unzip", ours, theirs, rounds, lambda: _clear(target), "0.25")
    _clear(target)
    return result


def build(rounds: int) -> Result:
    bench, copy = WORK / "bench", WORK / "copy.kwp"
    _clear(bench)
    for words in (["bench", str(WORK / "game"), str(bench)],
                  ["set", "data/main.kwp/rules/lamps.xml", "--row", "fresnel_3", "range=14", "oil=3.123456", "--bench", str(bench)]):  # fmt: skip
        subprocess.run([VOLVEX, *words], check=True, stdout=subprocess.DEVNULL)
    ours, theirs = [VOLVEX, "build", "--bench", str(bench)], ["cp", str(WORK / "game/data/main.kwp"), str(copy)]

    def clear() -> None:
        _clear(copy)
        _clear(bench / "built")

    result = compare("build, one entry changed / cp", ours, theirs, rounds, clear, "1.3")
    clear()
    return result


def listing(rounds: int) -> Result:
    ours, theirs = [VOLVEX, "list", str(WORK / "many.kwp")], ["unzip", "-l", str(WORK / "many.zip")]
    return compare("list 500,000 entries / unzip -l", ours, theirs, rounds, lambda: None, "1.0")


def start(rounds: int) -> Result:
    ours, theirs = [VOLVEX, "--version"], [sys.executable, "-c", "pass"]
    return compare("volvex --version / python -c pass", ours, theirs, rounds * 4, lambda: None, "0.1 s")


CASES = {"unpack": unpack, "build": build, "list": listing, "start": start}


def _clear(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path)
    path.unlink(missing_ok=True)


def main() -> int:
    parser = argparse.ArgumentParser(prog="dev.py measure", description=__doc__)
    parser.add_argument("case", nargs="*", choices=[*CASES, []], help="all of them otherwise")
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    missing = [name for name in ("unzip", "cp") if shutil.which(name) is None]
    if missing:
        raise SystemExit(f"measuring needs {', '.join(missing)} on the path")
    prepare(WORK)
    results = [CASES[name](options.rounds) for name in options.case or CASES]
    _print(results)
    if not options.case:
        _write(results)
    return 0


def _print(results: list[Result]) -> None:
    print(f"{'':<36}{'ratio':>7}{'from-to':>13}{'aim':>8}{'ours':>10}{'theirs':>10}{'memory':>9}{'theirs':>9}")
    for one in results:
        spread = f"{one.low:.2f}-{one.high:.2f}"
        print(f"{one.name:<36}{one.ratio:>7.2f}{spread:>13}{one.aim:>8}{one.ours:>8.3f} s{one.theirs:>8.3f} s"
              f"{one.our_memory / 1e6:>6.0f} MB{one.their_memory / 1e6:>6.0f} MB")  # fmt: skip


def _write(results: list[Result]) -> None:
    about = {"python": platform.python_version(), "system": platform.platform(), "cores": os.cpu_count()}
    (HERE / "results.json").write_text(
        json.dumps({**about, "results": [asdict(one) for one in results]}, indent=1) + "\n"
    )
    print(f"written to {HERE / 'results.json'}")


if __name__ == "__main__":
    sys.exit(main())
