"""The commands there are, and which of them some words mean."""

from __future__ import annotations

import argparse
import difflib
import functools
import importlib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from volvex.errors import UsageError
from volvex.registry import Registry

if TYPE_CHECKING:
    from volvex.command.ui.context import Context

# words that people know from elsewhere -> the command that does the same here
OTHER_WORDS = {
    "add": "swap --new",
    "cat": "show",
    "copy": "take",
    "delete": "drop",
    "diff": "compare",
    "dir": "list",
    "edit": "take",
    "export": "take",
    "extract": "unpack",
    "grep": "find",
    "help": "--help",
    "import": "swap",
    "info": "identify",
    "init": "bench",
    "inspect": "identify",
    "log": "game-log",
    "ls": "list",
    "open": "bench",
    "patch": "build",
    "remove": "drop",
    "replace": "swap",
    "repack": "build",
    "revert": "undo",
    "scan": "survey",
    "search": "find",
    "tree": "list --tree",
    "uninstall": "restore",
    "validate": "check",
    "view": "show",
}


_SUMMARY = re.compile(r'"""(.*?)(?:"""|\n)')
_PRIORITY = re.compile(r"^PRIORITY = (\d+)$", re.M)


class Command(Protocol):
    """What a command's file offers. The docstring is its help; the first line of it is its summary."""

    __doc__: str
    PRIORITY: int  # its place in the overview; the tens are its group
    WRITES: bool  # only where it is true: the command writes files, and can do so as a plan
    INPUTS: tuple[str, ...]  # only where there are any: arguments that may be `-`, standard input
    OUTPUTS: dict[str, str]  # and those that may be `-`, standard output, with the extension that such a file has
    EXAMPLES: tuple[str, ...]  # command lines that work in a bench of the demo game

    def add_arguments(self, parser: argparse.ArgumentParser) -> None: ...

    def run(self, options: argparse.Namespace, context: Context) -> int: ...


COMMANDS: Registry[Command] = Registry(
    "command",
    "volvex.command",
    Path(__file__).parent.parent,
    apart=("ui",),
    hyphens=True,
    needs=("add_arguments", "run"),
)


@dataclass(frozen=True)
class Entry:
    """A command in the overview: its place in it, and what it does in a line."""

    priority: int
    summary: str


@functools.cache
def entry_of(name: str) -> Entry:
    """A command's line in the overview, read from its file: importing all commands takes longer than most of them do.

    Of one from another package that cannot be loaded, the last place and why.
    """
    file = COMMANDS.file_of(name)
    if file is None:
        try:
            command = COMMANDS.load(name)
        except UsageError as error:
            return Entry(99, f"({error.message.partition(': ')[0]})")
        return Entry(command.PRIORITY, summary_of(command))
    text = file.read_text("utf-8")
    summary, priority = _SUMMARY.match(text), _PRIORITY.search(text)
    assert summary is not None and priority is not None, file
    return Entry(int(priority[1]), summary[1])


def summary_of(command: Command) -> str:
    """The first line of a command's help."""
    return (command.__doc__ or "").strip().partition("\n")[0]


def summary_of_group(group: str) -> str:
    """The first line of a group's package; of a group from another package, its commands."""
    try:
        package = importlib.import_module(f"volvex.command.{group}")
    except ImportError:
        return ", ".join(name.partition(".")[2] for name in members(group))
    return (package.__doc__ or "").strip().partition("\n")[0]


def groups() -> list[str]:
    """The words that several commands begin with: `layout`, `names`."""
    return sorted({name.partition(".")[0] for name in COMMANDS.names() if "." in name})


def members(group: str) -> list[str]:
    """The commands of a group, in the order of their priority."""
    names = [name for name in COMMANDS.names() if name.startswith(group + ".")]
    return sorted(names, key=lambda name: (entry_of(name).priority, name))


def find_command(words: Sequence[str]) -> tuple[str, int]:
    """The command that the words begin with, and how many words name it; UsageError with what may have been meant."""
    first = words[0]
    if first in COMMANDS and "." not in first:
        return first, 1
    if first in groups() and len(words) > 1 and f"{first}.{words[1]}" in COMMANDS:
        return f"{first}.{words[1]}", 2
    raise _unknown(words)


def _unknown(words: Sequence[str]) -> UsageError:
    """The error for words that are no command."""
    first = words[0]
    if first in groups():
        verbs = [name.partition(".")[2] for name in members(first)]
        near = difflib.get_close_matches(words[1], verbs, 1) or verbs[:1]
        return UsageError(
            f"`volvex {first} {words[1]}` is not a command; {first} has {', '.join(verbs)}",
            f"`volvex {first} {near[0]}`",
        )
    known = [name.replace(".", " ") for name in COMMANDS.names()]
    near = [OTHER_WORDS[first]] if first in OTHER_WORDS else difflib.get_close_matches(first, known, 1)
    return UsageError(f"`volvex {first}` is not a command", f"`volvex {near[0]}`" if near else "`volvex --help`")
