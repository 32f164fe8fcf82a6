"""The main program: from words to a command and its exit status; what goes wrong becomes lines."""

from __future__ import annotations

import argparse
import errno
import gc
import os
import sys
import time
import traceback
from collections.abc import Iterator, Sequence
from pathlib import Path

from volvex.command.ui.commands import COMMANDS, find_command, groups
from volvex.command.ui.context import SETTINGS, Context, make_context
from volvex.errors import Status, VolvexError
from volvex.registry import SKIPPED

HIDDEN = ".volvex"  # the folder of a game in which its originals are
COMMON = ("-q", "--quiet", "-v", "--verbose")
# characters that would steer a terminal: keys and names in files may hold them
_CONTROL = {code: f"\\x{code:02x}" for code in (*range(32), *range(127, 160))}


def main(arguments: Sequence[str], context: Context | None = None) -> int:
    """Run one command line; its exit status. Without a context it is that of this process."""
    gc.set_threshold(200_000, 20, 50)  # long columns of texts are not worth looking through again and again
    context = context or make_context()
    words = [word for word in arguments if word != "--debug"]
    context.debug = len(words) != len(arguments)
    try:
        with context.held:
            apply_settings(context)
            status = _run(words, context)
        context.out.flush()
        for note in context.keys.notes if "keys" in vars(context) else ():
            context.note(f"note: {note}")
        _note_skipped(context)
        return status
    except SystemExit as end:  # the parser has printed the help
        return int(end.code or 0)
    except VolvexError as error:
        if context.debug:
            raise
        _note_skipped(context)  # what was left out may be why
        return _tell(error.lines(context.author), int(error.status), context)
    except KeyboardInterrupt:
        what, next_step = context.interrupted
        return _tell(
            [f"interrupted: {what}", *([f"try {next_step}"] if next_step else [])], int(Status.INTERRUPTED), context
        )
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())  # nobody reads any more: no complaint at exit
        return int(Status.OK)
    except OSError as error:
        if context.debug:
            raise
        return _tell(_system_error(error), int(Status.SYSTEM), context)
    except MemoryError:
        return _tell(["out of memory", "try a smaller part of the file"], int(Status.SYSTEM), context)
    except Exception as error:  # whatever it is, it is ours, and a traceback helps nobody but us
        if context.debug:
            raise
        lines = [
            f"a fault in Volvex: {type(error).__name__}: {error}",
            "try the same with --debug, and report what it prints",
        ]
        return _tell(lines, int(Status.FAULT), context)


def _note_skipped(context: Context) -> None:
    """Name the members of other packages that were left out; with --debug why."""
    for said, error in SKIPPED.items():
        context.note(f"note: {said.translate(_CONTROL)}")
        if context.debug and error is not None:
            context.complain("".join(traceback.format_exception(error.__cause__ or error, chain=False)).rstrip())
    SKIPPED.clear()


def apply_settings(context: Context) -> None:
    """Use the user's settings: the colours and pager of the context, and the number of workers."""
    if not (context.home / SETTINGS).exists():
        return
    from volvex.command.ui.settings import read_settings  # few users have any

    settings = read_settings(context.home)
    context.pager = settings.pager
    if settings.colours != "auto":
        context.colour = settings.colours == "always"
    if settings.workers is not None:
        from volvex.archive.transfer import parallel

        parallel.set_workers(settings.workers)


def _tell(lines: list[str], status: int, context: Context) -> int:
    context.out.flush()
    for line in lines:
        mark = "" if line.startswith("try ") else context.paint("volvex: ", "red")
        context.complain(f"{mark}{line.translate(_CONTROL)}")
    return status


def _system_error(error: OSError) -> list[str]:
    where = f": {error.filename}" if error.filename else ""
    if error.errno == errno.ENOSPC:
        return [
            f"no space left on the device{where}",
            "try making room; the next command finishes or undoes this one",
        ]
    if isinstance(error, FileNotFoundError) and HIDDEN in Path(str(error.filename)).parts:
        return [f"an original is gone{where}: another volvex installs or restores now", "try the same command again"]
    lines = [f"{(error.strerror or str(error)).lower()}{where}"]
    if error.errno in (errno.EACCES, errno.EPERM):
        lines.append("try another folder, or asking for the right to write there")
    elif error.errno == errno.EROFS:
        lines.append("try another folder: this disk can only be read")
    return lines


def _run(words: list[str], context: Context) -> int:
    from volvex.command.ui import help  # nothing that a short command needs at once

    leading = next((at for at, word in enumerate(words) if word not in COMMON), len(words))
    words = [*words[leading:], *words[:leading]]  # they may stand in front of the command too
    if not words or words[0] in COMMON:
        help.print_overview(context)
        return Status.OK
    if words[0] in ("-h", "--help", "help"):
        words = [*(word for word in words[1:] if not word.startswith("-")), "--help"]
    if words[0] == "--help":
        help.print_overview(context)
        return Status.OK
    if words[0] in groups() and all(word in ("-h", "--help", *COMMON) for word in words[1:]):
        help.print_group(words[0], context)
        return Status.OK
    name, taken = find_command(words)
    return _run_command(name, words[taken:], context)


def _run_command(name: str, words: list[str], context: Context) -> int:
    # only here: the overview needs none of them
    from volvex.command.ui import help
    from volvex.command.ui.advice import advise
    from volvex.command.ui.games import refuse_in_games
    from volvex.command.ui.recovery import finish_interrupted
    from volvex.command.ui.report import run_reported
    from volvex.command.ui.streams import streams

    command = COMMANDS.load(name)
    parser = help.parser_of(name, command, context.width)
    context.author = name.startswith("layout.")
    options = parser.parse_intermixed_args(words)  # options may stand between paths
    context.quiet, context.verbose = options.quiet, options.verbose
    start = time.monotonic()
    context.held.enter_context(streams(command, options, context))
    finish_interrupted(_paths(options), context)
    context.disk.require_allowed = refuse_in_games(context)
    context.advise = advise(options, parser, context)
    status = run_reported(command, options, context)
    context.detail(
        f"settings and keys: {context.home}; bench: {context.bench or 'none'}; {time.monotonic() - start:.2f} s"
    )
    return status


def _paths(options: argparse.Namespace) -> Iterator[Path]:
    """What among the arguments may lead into a game."""
    for name, value in vars(options).items():
        if name in ("path", "archive", "dir", "file", "like"):
            yield from (Path(one).absolute() for one in (value if isinstance(value, list) else [value]) if one)
