"""`python -m benchmarks.formats [FIRST] [COUNT]`: so many drawn formats, and what came of each.

`mutants [FIRST] [COUNT]`: what came of wrong layouts of them. `show SEED`: the layout of one.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from benchmarks.formats.draw import drawn
from benchmarks.formats.mutants import judged, table
from benchmarks.formats.trial import tried
from benchmarks.formats.words import layout_of

FIRST, COUNT = 100_000, 1_000  # unseen seeds


def main(words: list[str]) -> int:
    if words[:1] == ["show"]:
        print(layout_of(drawn(int(words[1]))))
        return 0
    if words[:1] == ["mutants"]:
        first, count = (int(word) for word in (*words[1:], *map(str, (FIRST, COUNT)[len(words) - 1 :])))
        with ProcessPoolExecutor() as pool:
            found = pool.map(judged, range(first, first + count))
            results = [result for results in found for result in results]
        print(table(results))
        return int(any(outcome == "MISSED" for _, outcome, _ in results))
    first, count = (int(word) for word in (*words, *map(str, (FIRST, COUNT)[len(words) :])))
    began, outcomes, edits = time.monotonic(), Counter[str](), Counter[str]()
    with ProcessPoolExecutor() as pool:
        for result in pool.map(tried, range(first, first + count), chunksize=4):
            outcomes[result.outcome] += 1
            edits.update({key.partition(":")[0]: number for key, number in result.edits.items()})
            if result.outcome != "right":
                print(f"{result.seed} {result.outcome}: {result.why.strip()}")
    print(
        f"{count} formats from seed {first}: {dict(outcomes)}; edits: {dict(edits)}; {time.monotonic() - began:.0f} s"
    )
    return int(outcomes["right"] < count)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
