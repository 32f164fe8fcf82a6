"""Make a small game and mod it, showing every command.

The game is made up and made from a seed. The commands are real: typed by hand, they give the same. At the end every file of
the game is compared with its original.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from volvex.command.ui.chapters import DemoError, Runner, chapter_names, load_chapter
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import RefusedError, Status, UsageError

PRIORITY = 70
EXAMPLES = (
    "volvex demo",
    "volvex demo --chapter data",
    "volvex demo practice --all",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir", nargs="?", type=Path, metavar="DIR", help="a new folder for it (default: a temporary one)"
    )
    parser.add_argument(
        "--chapter", metavar="NAME", default="first", help=f"{', '.join(chapter_names())} (default: first)"
    )
    parser.add_argument("--all", action="store_true", help="run all chapters")


def run(options: argparse.Namespace, context: Context) -> int:
    names = chapter_names() if options.all else [options.chapter]
    if options.chapter not in chapter_names():
        raise UsageError(f"no chapter {options.chapter}", f"one of {', '.join(chapter_names())}")
    if options.dir is None:
        with tempfile.TemporaryDirectory(prefix="volvex-demo-") as folder:
            return _tell(names, Path(folder).resolve(), context)
    if options.dir.exists() and any(options.dir.iterdir()):
        raise RefusedError(f"{options.dir} is not empty", "a new folder for the demo")
    options.dir.mkdir(parents=True, exist_ok=True)
    return _tell(names, options.dir.resolve(), context)


def _tell(names: list[str], folder: Path, context: Context) -> int:
    """Make the game and run the chapters; then compare the game with what it was."""
    from volvex.command.ui.main import main

    chapters = [load_chapter(name) for name in names]
    commands = 1 + sum(
        line.startswith("$ ") and not line.startswith("$ cd ") for chapter in chapters for line in chapter.lines
    )
    context.print(f"The demo makes a small game in {folder} and runs {count(commands, 'command')} on it.")
    context.print(f"To type them yourself, set VOLVEX_HOME={folder / 'home'} first.")
    runner = Runner(folder, context, main)
    runner.enter(folder)
    runner.command("python -m kelpwick make game")
    before = _digests(folder / "game")
    for chapter in chapters:
        runner.play(chapter)
    if _digests(folder / "game") != before:
        raise DemoError("the game is not as it was before the demo")
    context.print(f"\nchecked: {count(len(before), 'file')} of the game have their original bytes")
    rest = [name for name in chapter_names() if name not in names]
    if rest:
        context.print(f"More: volvex demo --chapter NAME, with {', '.join(rest)}; or --all.")
    return Status.OK


def _digests(folder: Path) -> dict[str, str]:
    """Every file below a folder but the game's log, with its digest."""
    from volvex.source.digest import digest_file

    files = (path for path in folder.rglob("*") if path.is_file())
    return {
        name: digest_file(path)
        for path in files
        if not (name := path.relative_to(folder).as_posix()).startswith("logs/")
    }
