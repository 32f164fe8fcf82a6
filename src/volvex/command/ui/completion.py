"""Completion of command lines by the shell: commands, options, and paths that lead into archives.

The shell code comes from `volvex completion`. It runs the program with `_ARGCOMPLETE` set and the line in `COMP_LINE`.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

import argcomplete

from volvex.command.ui.commands import COMMANDS, groups, members
from volvex.command.ui.context import Context, make_context
from volvex.command.ui.reader import open_walker
from volvex.errors import VolvexError

LARGEST = 1 << 30  # bytes of an archive that is opened while somebody waits for a completion
INSIDE = ("PATH", "ARCHIVE", "FROM")  # what arguments are called that may lead into archives


def complete() -> None:
    """Answer the shell, and exit."""
    context = make_context()
    argcomplete.autocomplete(_parser(os.environ.get("COMP_LINE", "").split(), context), always_complete_options=False)


def _parser(words: list[str], context: Context) -> argparse.ArgumentParser:
    """All commands; the options of the one in the line alone, since loading all of them takes too long."""
    parser = argparse.ArgumentParser(prog="volvex")
    commands = parser.add_subparsers()
    for name in COMMANDS.names():
        if "." not in name:
            _fill(commands.add_parser(name), name, words[1:2] == [name], context)
    for group in groups():
        verbs = commands.add_parser(group).add_subparsers()
        for name in members(group) if words[1:2] == [group] else ():
            verb = name.partition(".")[2]
            _fill(verbs.add_parser(verb), name, words[2:3] == [verb], context)
    return parser


def _fill(parser: argparse.ArgumentParser, name: str, named: bool, context: Context) -> None:
    if not named:
        return
    COMMANDS.load(name).add_arguments(parser)
    for action in parser._actions:
        if action.metavar in INSIDE:
            action.completer = lambda prefix, **_: paths_from(prefix, context)  # type: ignore[attr-defined]


def paths_from(prefix: str, context: Context) -> list[str]:
    """The paths that begin with `prefix`, up to the next slash: from the current folder, or as in the game of a
    bench."""
    folder, slash, start = prefix.replace("\\", "/").rpartition("/")
    base = _base(context, folder)
    here = base / folder
    if here.is_dir():
        found = [f"{path.name}/" if path.is_dir() else path.name for path in here.iterdir()]
    elif folder:
        found = _entries(folder, base, context)
    else:
        found = []
    return sorted(f"{folder}{slash}{name}" for name in found if name.startswith(start))


def _base(context: Context, folder: str) -> Path:
    """Where paths start: the game's folder on a bench, unless the path exists from the current folder."""
    if context.bench is not None and not (folder and (context.cwd / folder).exists()):
        from volvex.bench.bench_file import read_description

        return Path(read_description(context.bench).game)
    return context.cwd


def _entries(folder: str, base: Path, context: Context) -> list[str]:
    """The names below a folder of an archive, those of folders with a slash behind them."""
    file = next(
        (base / parent for parent in (folder, *map(str, Path(folder).parents)) if (base / parent).is_file()), None
    )
    if file is None or file.stat().st_size > LARGEST:
        return []
    options = argparse.Namespace(bench=None, layout=None, encoding=None, variant="")
    try:
        with context.library().keys.quiet(), open_walker(options, context) as walker:
            paths = [path for group in walker.find(folder).groups for path in group.paths()]
    except VolvexError:
        return []
    rest = (path.partition(f"{folder}/")[2] for path in paths)
    return sorted({name + slash for name, slash, _ in (text.partition("/") for text in rest) if name})
