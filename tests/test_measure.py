"""Comparing measurements: what got worse is reported, noise is not."""

from __future__ import annotations

import json
import unittest
from dataclasses import asdict

from benchmarks.against import worse_than
from benchmarks.timing import Result

from tests.support import Case


def result(name: str, ratio: float, low: float, high: float) -> Result:
    return Result(name, 1.0, 1.0, ratio, low, high, 0, 0, "1.0")


class Against(Case):
    def test_only_what_is_worse_beyond_its_spread(self) -> None:
        earlier = [result("list", 1.0, 0.9, 1.1), result("build", 1.0, 0.9, 1.6), result("unpack", 2.0, 1.9, 2.1)]
        (self.folder / "r.json").write_text(json.dumps({"results": [asdict(result) for result in earlier]}))
        now = [
            result("list", 1.5, 1.3, 1.7),
            result("build", 1.5, 1.2, 1.7),
            result("unpack", 2.1, 2.0, 2.2),
            result("new", 9, 9, 9),
        ]
        (line,) = worse_than(now, self.folder / "r.json")
        self.assertEqual(line, "worse: list: ratio 1.00 (0.90-1.10) -> 1.50 (1.30-1.70)")


if __name__ == "__main__":
    unittest.main()
