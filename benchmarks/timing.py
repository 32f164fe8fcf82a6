"""Timing whole processes in turn: wall time and peak memory, as the system accounts for them."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

Command = Sequence[str]
LAUNCH = (sys.executable, "-I", "-S", str(Path(__file__).with_name("launch.py")))


@dataclass
class Side:
    """One command's runs: seconds, and peak memory in bytes."""

    command: Command
    seconds: list[float] = field(default_factory=list)
    memory: list[int] = field(default_factory=list)

    def run(self) -> None:
        done = subprocess.run([*LAUNCH, *self.command], stdout=subprocess.PIPE, text=True, check=True)
        seconds, peak, status = done.stdout.split()
        self.seconds.append(float(seconds))
        self.memory.append(int(peak) * (1 if sys.platform == "darwin" else 1024))
        if int(status):
            raise SystemExit(f"{' '.join(self.command)} ended with status {status}")


@dataclass(frozen=True)
class Result:
    """Medians of both sides and of the ratios of neighbouring runs."""

    name: str
    ours: float
    theirs: float
    ratio: float
    low: float
    high: float
    our_memory: int
    their_memory: int
    aim: str


def compare(name: str, ours: Command, theirs: Command, rounds: int, before: Callable[[], None], aim: str) -> Result:
    """Both commands in turn, after a round that does not count; `before` clears what a run left."""
    sides = Side(ours), Side(theirs)
    for number in range(rounds + 1):
        for side in sides:
            before()
            os.sync()  # what the last run left to be written is not this run's
            side.run()
        if number == 0:
            for side in sides:
                side.seconds.clear()
    mine, other = sides
    ratios = [a / b for a, b in zip(mine.seconds, other.seconds, strict=True)]
    return Result(
        name,
        statistics.median(mine.seconds),
        statistics.median(other.seconds),
        statistics.median(ratios),
        min(ratios),
        max(ratios),
        max(mine.memory),
        max(other.memory),
        aim,
    )


def fastest(work: Callable[[], object]) -> float:
    """Seconds of some work within this process: the best of three after one that does not count."""
    work()
    best = 1e9
    for _ in range(3):
        began = time.perf_counter()
        work()
        best = min(best, time.perf_counter() - began)
    return best
