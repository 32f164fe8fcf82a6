"""Make a small game and mod it, showing every command.

The game is made up and made from a seed. With DIR it is kept there, and the commands can be typed by hand: they give
the same. At the end every file of the game is compared with its original.

The game itself is `volvex demo play GAME`, which loads it and prints its screens (--text TEXT: the lines with a text);
`volvex demo make GAME` makes it, `volvex demo edit FILE ...` stands for the editor of models in the demo.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import tempfile
from pathlib import Path

from volvex.archive.safe_names import quoted
from volvex.command.ui.chapters import DemoError, Runner, chapter_names, load_chapter
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import RefusedError, Status, UsageError
from volvex.extras import require

PRIORITY = 70
JSON = False  # what it prints is for people, or for a shell
NEEDED = ("av", "imagecodecs", "pandas", "openpyxl", "lxml", "trimesh")  # what its chapters use of the extras
GAMES_OWN = ("play", "make", "edit")  # what the stand-in game does
OF_THE_GAME = {
    "text": ("TEXT", "with play: print only the lines with this text"),
    "language": ("L", "with play: the language of the game"),
    "letter": ("NAME", "with play: also print this letter"),
    "update": (None, "with make: an update, over a game that exists"),
    "scale": ("N", "with make: the size (200: about 700 MB)"),
}
EXAMPLES = (
    "volvex demo",
    "volvex demo --chapter data",
    "volvex demo practice --all",
    "volvex demo play ../game --text nm",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "words",
        nargs="*",
        metavar="DIR",
        help="a new folder, which is kept (default: a temporary one); or play, make or edit, and what they take",
    )
    for name, (metavar, said) in OF_THE_GAME.items():
        if metavar is None:
            parser.add_argument(f"--{name}", action="store_true", help=said)
        else:
            parser.add_argument(f"--{name}", metavar=metavar, help=said)
    parser.add_argument(
        "--chapter", metavar="NAME", default="first", help=f"{', '.join(chapter_names())} (default: first)"
    )
    parser.add_argument("--all", action="store_true", help="run all chapters")


def run(options: argparse.Namespace, context: Context) -> int:
    if options.words and options.words[0] in GAMES_OWN:
        return _game(options, context)
    for module in NEEDED:
        require(module, "the demo")
    if len(options.words) > 1:
        raise UsageError(f"{len(options.words)} folders", "one new folder for the demo")
    names = chapter_names() if options.all else [options.chapter]
    if options.chapter not in chapter_names():
        raise UsageError(f"no chapter {options.chapter}", f"one of {', '.join(chapter_names())}")
    if not options.words:
        with tempfile.TemporaryDirectory(prefix="volvex-demo-") as made:
            return _tell(names, Path(made).resolve(), context)
    folder = Path(options.words[0])
    if folder.exists() and any(folder.iterdir()):
        raise RefusedError(f"{folder} is not empty", "a new folder for the demo")
    folder.mkdir(parents=True, exist_ok=True)
    return _tell(names, folder.resolve(), context, kept=True)


def _game(options: argparse.Namespace, context: Context) -> int:
    """Run a part of the stand-in game, which is no part of Volvex."""
    verb, *words = options.words
    for name in OF_THE_GAME:
        value = getattr(options, name)
        words += [f"--{name}"] if value is True else [f"--{name}", value] if value else []
    with contextlib.redirect_stdout(context.out), contextlib.redirect_stderr(context.err):
        if verb == "edit":
            from kelpwick.slip.edit import main as edit

            edit(words)
            return Status.OK
        if verb == "make":
            require("av", "the movies of the stand-in game")
        from kelpwick.__main__ import main as kelpwick

        return kelpwick([verb, *words])


def _tell(names: list[str], folder: Path, context: Context, kept: bool = False) -> int:
    """Make the game and run the chapters; then compare the game with what it was."""
    from volvex.command.ui.main import main

    chapters = [load_chapter(name) for name in names]
    commands = 1 + sum(
        line.startswith("$ ") and not line.startswith("$ cd ") for chapter in chapters for line in chapter.lines
    )
    context.print(f"The demo makes a small game in {folder} and runs {count(commands, 'command')} on it.")
    if kept:
        put = "set" if os.name == "nt" else "export"
        context.print(f"To type them yourself: `{put} VOLVEX_HOME={quoted(str(folder / 'home'))}`")
    else:
        context.print("`volvex demo DIR` keeps the game and the benches, so that you can type the commands yourself.")
    runner = Runner(folder, context, main)
    runner.enter(folder)
    runner.command("volvex demo make game")
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
