"""Compare measurements with earlier ones: which got worse, beyond their spread."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from benchmarks.timing import Result

WORSE = 1.15  # times the earlier ratio


def worse_than(results: Sequence[Result], earlier: Path) -> list[str]:
    """A line for each result whose ratio to the other program grew by more than 15 % and lies beyond the earlier
    spread.

    Ratios are compared, not times: another machine, or a busy one, slows both programs.
    """
    known = {one["name"]: one for one in json.loads(earlier.read_text())["results"]}
    lines = []
    for result in results:
        before = known.get(result.name)
        if before is None:
            continue
        if result.ratio > WORSE * before["ratio"] and result.low > before["high"]:
            lines.append(
                f"worse: {result.name}: ratio {before['ratio']:.2f} ({before['low']:.2f}-{before['high']:.2f}) -> "
                f"{result.ratio:.2f} ({result.low:.2f}-{result.high:.2f})"
            )
    return lines
