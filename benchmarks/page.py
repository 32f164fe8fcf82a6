"""The figures of all measurements: kept in results.json, and shown as the table of docs/performance.md."""

from __future__ import annotations

import datetime
import json
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

from benchmarks.timing import Result

HERE = Path(__file__).parent
RESULTS, PAGE = HERE / "results.json", HERE.parent / "docs" / "performance.md"
BEGIN, END = "<!-- table: written by dev.py measure -->\n", "<!-- end of the table -->\n"


def keep(results: Sequence[Result], about: Mapping[str, Any]) -> None:
    """Put results in the place of the earlier ones of the same names, with today's date and the commit, and renew the
    page."""
    commit = subprocess.run(
        ["git", "rev-parse", "--short", "HEAD"], cwd=HERE, capture_output=True, text=True
    ).stdout.strip()
    stored = json.loads(RESULTS.read_text()) if RESULTS.is_file() else {"results": []}
    rows = {one["name"]: one for one in stored["results"]}
    for result in results:
        rows[result.name] = {**asdict(result), "date": f"{datetime.date.today()}", "commit": commit}
    RESULTS.write_text(json.dumps({**stored, **about, "results": list(rows.values())}, indent=1) + "\n")
    text = PAGE.read_text(encoding="utf-8")
    before, after = text.partition(BEGIN)[0], text.partition(END)[2]
    PAGE.write_text(before + BEGIN + table(list(rows.values())) + END + after, encoding="utf-8")


def table(rows: Sequence[Mapping[str, Any]]) -> str:
    """The rows as a table in Markdown."""
    lines = [
        "| what / against | ratio | from-to | aim | ours | theirs | our memory | theirs | measured |",
        "|---|--:|--:|--:|--:|--:|--:|--:|---|",
    ]
    for row in rows:
        ours, theirs = (
            f"{row[name]:.2f} s" if row[name] >= 0.1 else f"{row[name]:.3f} s" for name in ("ours", "theirs")
        )
        memory = " | ".join(f"{row[name] / 1e6:.0f} MB" for name in ("our_memory", "their_memory"))
        lines.append(
            f"| {row['name']} | {row['ratio']:.2f} | {row['low']:.2f}-{row['high']:.2f} | {row['aim']} | {ours} | "
            f"{theirs} | "
            f"{memory} | {row.get('date', '')} {row.get('commit', '')} |"
        )
    return "\n".join(lines) + "\n"
