"""Help: the overview of all commands, and how a command's own help is laid out."""

from __future__ import annotations

import argparse
import textwrap
from typing import NoReturn

from volvex import __version__
from volvex.command.ui.commands import COMMANDS, Command, entry_of, groups, members, summary_of_group
from volvex.command.ui.context import Context
from volvex.errors import Status, UsageError

GROUPS = {
    1: "Look",
    2: "Unpack and pack",
    3: "Work on a bench",
    4: "Install",
    5: "Describe formats",
    6: "Keys and names",
    7: "Learn",
}
STATUSES = {
    Status.OK: "done",
    Status.DIFFERS: "not found, different, or with faults",
    Status.USAGE: "wrong usage",
    Status.NOT_FOUND: "no such path",
    Status.BAD_DATA: "damaged file",
    Status.REFUSED: "refused: would overwrite or lose data",
    Status.SYSTEM: "disk full or no permission",
    Status.LOCKED: "a key is missing or wrong",
}


class Parser(argparse.ArgumentParser):
    """Reports mistakes as every other part does."""

    def error(self, message: str) -> NoReturn:
        verb = self.prog.removeprefix("volvex ")
        start = "the following arguments are required: "
        if message.startswith(start):
            names = [self._called(name) for name in message.removeprefix(start).split(", ")]
            message = f"{' and '.join(names)} {'is' if len(names) == 1 else 'are'} missing"
        raise UsageError(f"{verb}: {message}", f"`{self.prog} --help`")

    def _called(self, name: str) -> str:
        """An option with what it takes, such as `--to FILE`."""
        found = next((action for action in self._actions if name in "/".join(action.option_strings).split("/")), None)
        return f"{name} {found.metavar}" if found is not None and isinstance(found.metavar, str) else name


class Formatter(argparse.HelpFormatter):
    """Wraps paragraphs to the terminal; paragraphs with indented lines stay as they are."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        paragraphs = text.strip("\n").split("\n\n")
        return "\n\n".join(
            paragraph if "\n  " in f"\n{paragraph}" else textwrap.fill(paragraph, width) for paragraph in paragraphs
        )


def parser_of(name: str, command: Command, width: int) -> Parser:
    """The parser of a command, with its help."""
    from volvex.command.ui.report import add_reports  # only here: the overview needs no disk

    parser = Parser(
        prog=f"volvex {name.replace('.', ' ')}",
        formatter_class=lambda prog: Formatter(prog, max_help_position=28, width=min(width, 100)),
        description=command.__doc__,
        epilog=_after(command),
        allow_abbrev=False,
    )
    command.add_arguments(parser)
    add_reports(parser, command)
    common = parser.add_argument_group("all commands")
    common.add_argument(
        "-q", "--quiet", action="store_true", help="print results and errors only: no notes, no progress"
    )
    common.add_argument(
        "-v", "--verbose", action="store_true", help="also print which folders are used, and the time taken"
    )
    common.add_argument("--debug", action="store_true", help="print the traceback of an error")
    return parser


def _after(command: Command) -> str:
    """What stands below the options: examples, and the exit statuses."""
    statuses = STATUSES | getattr(command, "STATUSES", {})
    listed = ", ".join(f"{int(status)} {text}" for status, text in statuses.items())
    examples = "".join(f"\n  {line}" for line in command.EXAMPLES)
    return (f"examples:{examples}\n\n" if examples else "") + f"exit status: {listed}"


def print_overview(context: Context) -> None:
    """All commands in the order of work, a line each; those of a group on one line."""
    context.print(f"volvex {__version__}: open, edit and rebuild the archives of PC games")
    context.print("Start: `volvex survey GAME`, with the folder of a game; or `volvex demo`")
    found = {name: entry_of(name) for name in COMMANDS.names() if "." not in name}
    rows = [(entry.priority, name, entry.summary) for name, entry in found.items()]
    rows += [(entry_of(members(group)[0]).priority, group, summary_of_group(group)) for group in groups()]
    last = 0
    for priority, name, text in sorted(rows):
        if priority // 10 != last:
            last = priority // 10
            context.print(context.paint(GROUPS.get(last, "More"), "bold"))
        context.print(f"  {context.paint(name.ljust(10), 'cyan')} {text}")
    context.print("`volvex show --help`: examples; `volvex mod`: its commands; `volvex --version`")


def print_group(group: str, context: Context) -> None:
    """The commands of a group with their summaries."""
    context.print(summary_of_group(group))
    verbs = members(group)
    width = max(len(verb) for verb in verbs)
    for verb in verbs:
        context.print(
            f"{context.paint(f'volvex {verb}'.replace('.', ' ').ljust(width + 7), 'cyan')}  {entry_of(verb).summary}"
        )
    context.print(f"\n`volvex {verbs[0].replace('.', ' ')} --help` has options and examples.")
