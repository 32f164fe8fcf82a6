"""The manual page `volvex(1)`, made from the help of every command. Source: groff_man(7)."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Iterator
from pathlib import Path

from volvex import __version__
from volvex.command.ui.commands import COMMANDS, groups, members, summary_of, summary_of_group
from volvex.command.ui.help import GROUPS, STATUSES, parser_of

WIDTH = 80
HEAD = """\
.TH VOLVEX 1 "" "volvex {version}" "User commands"
.ad l
.nh
.SH NAME
volvex \\- open, edit and rebuild the archives of PC games
.SH SYNOPSIS
.B volvex
.I COMMAND
.RI [ OPTION ...]
.RI [ PATH ...]
.SH DESCRIPTION
Start with
.B volvex survey GAME
or
.BR "volvex demo" .
"""


def manual() -> str:
    """The page as roff text."""
    lines = [HEAD.format(version=__version__).rstrip("\n")]
    singles = [([name], COMMANDS.load(name).PRIORITY, "") for name in COMMANDS.names() if "." not in name]
    grouped = [(members(group), COMMANDS.load(members(group)[0]).PRIORITY, group) for group in groups()]
    last = 0
    for names, priority, group in sorted(singles + grouped, key=lambda row: (row[1], row[0])):
        if priority // 10 != last:
            last = priority // 10
            lines.append(f".SH {_roff(GROUPS.get(last, 'More').upper())}")
        if group:
            lines += [".PP", _roff(summary_of_group(group))]
        for name in names:
            lines += _command(name)
    lines.append(".SH EXIT STATUS")
    for status, text in STATUSES.items():
        lines += [".TP", str(int(status)), _roff(text)]
    return "\n".join(lines) + "\n"


def _command(name: str) -> Iterator[str]:
    """The part of one command: its summary, its help, its options, its examples."""
    command = COMMANDS.load(name)
    parser = parser_of(name, command, WIDTH)
    yield f".SS {_roff(parser.prog)}"
    yield _roff(summary_of(command))
    for paragraph in (command.__doc__ or "").strip().split("\n\n")[1:]:
        indented = "\n  " in f"\n{paragraph}"
        yield from (".PP", ".nf", _roff(paragraph), ".fi") if indented else (".PP", _roff(paragraph))
    for action in parser._actions:
        if action.dest not in ("help", "quiet", "verbose", "debug") and action.help != argparse.SUPPRESS:
            yield from (".TP", f".B {_roff(_called(action))}", _roff(action.help or ""))
    if command.EXAMPLES:
        yield from (".PP", "Examples:", ".PP", ".nf", *(f"    {_roff(line)}" for line in command.EXAMPLES), ".fi")


def _called(action: argparse.Action) -> str:
    """How an option or argument is written."""
    if action.choices is not None:
        takes = "|".join(map(str, action.choices))
    else:
        takes = " ".join(action.metavar) if isinstance(action.metavar, tuple) else action.metavar or action.dest.upper()
    if not action.option_strings:
        return takes
    return ", ".join(action.option_strings) + ("" if action.nargs == 0 else f" {takes}")


def _roff(text: str) -> str:
    """Text as roff takes it: no line of it is a request, and hyphens stay hyphens."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"(?m)^(?=[.'])", r"\\&", escaped)


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(manual(), encoding="utf-8")
