"""Commands in messages, made so that they can be pasted where the user stands: with the bench or the game that the user
named.

A message names a command in backquotes. Where the user named a bench or a game and the command takes one, it is added.
"""

from __future__ import annotations

import argparse
import re
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive.safe_names import quoted
from volvex.command.ui.commands import COMMANDS, find_command
from volvex.errors import VolvexError

if TYPE_CHECKING:
    from volvex.command.ui.context import Context

GAME = "GAME"  # how the argument is called that names the game's folder
_COMMAND = re.compile(r"`volvex ([^`]+)`")


def advise(options: argparse.Namespace, parser: argparse.ArgumentParser, context: Context) -> Callable[[str], str]:
    """What completes the commands in a text by what the user gave: `--bench`, or the game."""
    bench = getattr(options, "bench", None)
    game = None if bench is not None else _game_of(options, parser)
    if bench is None and game is None:
        return str

    def completed(text: str) -> str:
        if "`volvex " not in text:
            return text
        return _COMMAND.sub(lambda match: f"`volvex {_with(match[1], bench, game, context.width)}`", text)

    return completed


def _game_of(options: argparse.Namespace, parser: argparse.ArgumentParser) -> Path | None:
    """The game's folder that the user gave, as an option or as an argument."""
    for action in parser._actions:
        if action.metavar == GAME or "--game" in action.option_strings:
            value = getattr(options, action.dest, None)
            if value is not None:
                return Path(value)
    return None


def _with(command: str, bench: Path | None, game: Path | None, width: int) -> str:
    from volvex.command.ui.help import parser_of  # the parsers are made when something is to be said

    words = command.split()
    try:
        name, taken = find_command(words)
        parser = parser_of(name, COMMANDS.load(name), width)
    except VolvexError:
        return command
    if name == "bench":  # makes another one
        return command
    flags = {flag for action in parser._actions for flag in action.option_strings}
    if bench is not None and "--bench" not in flags:
        game = _game_of_bench(bench)
    elif bench is not None:
        return f"{command} --bench {_path(bench)}" if "--bench" not in words else command
    if game is None or "--game" in words:
        return command
    if any(action.metavar == GAME for action in parser._actions):
        return command if _has_argument(words[taken:], parser) else f"{command} {_path(game)}"
    return f"{command} --game {_path(game)}" if "--game" in flags and "--bench" not in flags else command


def _has_argument(words: list[str], parser: argparse.ArgumentParser) -> bool:
    """Whether there is a word that is neither an option nor its value."""
    valued = {flag for action in parser._actions if action.nargs != 0 for flag in action.option_strings}
    return any(not word.startswith("-") and (not at or words[at - 1] not in valued) for at, word in enumerate(words))


def _game_of_bench(bench: Path) -> Path | None:
    """The game of a bench, for commands that are about the game alone."""
    from volvex.bench.bench_file import read_description

    try:
        return Path(read_description(bench).game)
    except VolvexError:
        return None


def _path(path: Path) -> str:
    return quoted(path.as_posix())
