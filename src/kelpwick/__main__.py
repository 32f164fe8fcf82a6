"""`python -m kelpwick make DIR` and `python -m kelpwick play DIR`."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from pathlib import Path

from kelpwick import GameError
from kelpwick.play import play
from kelpwick.world import make_game


def arguments(words: Sequence[str] | None = None) -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="kelpwick", description="A made-up lighthouse game, for trying Volvex on.")
    verbs = parser.add_subparsers(dest="verb", required=True)
    make = verbs.add_parser("make", help="write the game folder")
    make.add_argument("dir", type=Path)
    make.add_argument("--seed", type=int, default=7)
    make.add_argument("--scale", type=int, default=1, help="62 more entries, 3.6 MB, a step (200: about 700 MB)")
    make.add_argument("--update", action="store_true", help="an update, over a game that is there")
    start = verbs.add_parser("play", help="load the game strictly and print its screens")
    start.add_argument("dir", type=Path)
    start.add_argument("--language")
    start.add_argument("--letter")
    start.add_argument("--text", help="print only the lines in which this stands")
    return parser.parse_args(words)


def main(words: Sequence[str] | None = None) -> int:
    options = arguments(words)
    if options.verb == "make":
        if not options.update and (options.dir / "data" / "main.kwp").exists():
            print(f"kelpwick: there is a game in {options.dir} already", file=sys.stderr)
            return 1
        count = make_game(options.dir, options.seed, options.scale, 2 if options.update else 1)
        print(f"Kelpwick Light is in {options.dir}: {count} files in data/main.kwp")
        return 0
    return start(options)


def start(options: argparse.Namespace) -> int:
    """Load the game, write to its log, show the screens; 1 when it refuses to start."""
    log = options.dir / "logs" / "kelpwick.log"
    if not log.parent.is_dir():
        print(f"kelpwick: {options.dir} is not a Kelpwick Light folder", file=sys.stderr)
        return 1
    try:
        screens, line, status = play(options.dir, options.language, options.letter), "started", 0
    except GameError as error:
        screens, line, status = "", f"refused to start: {error}", 1
    with log.open("a", encoding="utf-8") as file:
        file.write(line + "\n")
    if status:
        print(f"kelpwick: {line} (written to {log})", file=sys.stderr)
    if options.text:
        screens = "".join(line for line in screens.splitlines(keepends=True) if options.text in line)
    sys.stdout.write(screens)
    return status


if __name__ == "__main__":
    sys.exit(main())
