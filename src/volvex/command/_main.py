"""From words to a command: finds its file, parses, runs, and turns what went wrong into lines and a status."""

from __future__ import annotations

import argparse
import ast
import difflib
import errno
import gc
import importlib
import os
import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NoReturn, Protocol, cast

from volvex import __version__
from volvex.command._bench import finish_interrupted
from volvex.command._context import Context, make_context
from volvex.errors import Status, UsageError, VolvexError

FOLDER = Path(__file__).parent
GROUPS = {
    1: "look",
    2: "take out and put in",
    3: "work on a bench",
    4: "into the game and back",
    5: "formats and keys",
    6: "names",
    7: "learn",
}


# characters that would steer a terminal: keys and names in files may hold them
_CONTROL = {code: f"\\x{code:02x}" for code in (*range(32), *range(127, 160))}


class Command(Protocol):
    """What a command's file offers."""

    __doc__: str

    def add_arguments(self, parser: argparse.ArgumentParser) -> None: ...

    def run(self, options: argparse.Namespace, context: Context) -> int: ...


@dataclass(frozen=True)
class Listed:
    """A command as its file describes it, read without being imported."""

    words: tuple[str, ...]
    summary: str
    place: int


def commands(folder: Path = FOLDER, before: tuple[str, ...] = ()) -> Iterator[Listed]:
    """Every command, from the files there are."""
    for path in sorted(folder.iterdir()):
        if path.name.startswith("_"):
            continue
        if path.is_dir():
            yield from commands(path, (*before, path.name))
        elif path.suffix == ".py":
            tree = ast.parse(path.read_text(encoding="utf-8"))
            place = next((node.value.value for node in tree.body if isinstance(node, ast.Assign)
                          and isinstance(node.value, ast.Constant) and getattr(node.targets[0], "id", "") == "PLACE"), 99)  # fmt: skip
            yield Listed(
                (*before, path.stem.rstrip("_")), (ast.get_docstring(tree) or "").partition("\n")[0], int(str(place))
            )


class Parser(argparse.ArgumentParser):
    """Reports mistakes as every other part does."""

    def error(self, message: str) -> NoReturn:
        raise UsageError(f"{self.prog}: {message}", f"`{self.prog} --help`")


def main(arguments: Sequence[str]) -> int:
    """Run one command line; its exit status."""
    gc.set_threshold(200_000, 20, 50)  # long columns of texts are not worth looking through again and again
    context = make_context()
    words = [word for word in arguments if word != "--debug"]
    context.debug = len(words) != len(arguments)
    try:
        with context.held:
            status = _run(words, context)
        context.out.flush()
        for note in context.keys.notes if "keys" in vars(context) else ():
            context.note(f"note: {note}")
        return status
    except VolvexError as error:
        if context.debug:
            raise
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


def _tell(lines: list[str], status: int, context: Context) -> int:
    context.out.flush()
    for line in lines:
        mark = "" if line.startswith("try ") else context.paint("volvex: ", "red")
        context.note(f"{mark}{line.translate(_CONTROL)}")
    return status


def _system_error(error: OSError) -> list[str]:
    where = f": {error.filename}" if error.filename else ""
    if error.errno == errno.ENOSPC:
        return [
            f"no space left on the device{where}",
            "try making room: what was begun is undone, or finished by the next command",
        ]
    lines = [f"{(error.strerror or str(error)).lower()}{where}"]
    if error.errno in (errno.EACCES, errno.EPERM):
        lines.append("try `ls -l` on it: you need the right to write there (`chmod u+w`), or another folder")
    elif error.errno == errno.EROFS:
        lines.append("try another folder: this disk can only be read")
    return lines


def _run(words: list[str], context: Context) -> int:
    if not words or words[0] in ("-h", "--help", "help"):
        _overview(context)
        return Status.OK
    module, taken = _find(words)
    parser = Parser(prog="volvex " + " ".join(words[:taken]), formatter_class=argparse.RawDescriptionHelpFormatter)
    command = cast(Command, importlib.import_module(f"volvex.command.{module}"))
    parser.description = command.__doc__
    command.add_arguments(parser)
    parser.add_argument("--debug", action="store_true", help="show where in Volvex an error arose")
    context.author = module.startswith("layout.")
    options = parser.parse_intermixed_args(words[taken:])  # options may stand between paths
    finish_interrupted(_paths(options), context)
    return command.run(options, context)


def _paths(options: argparse.Namespace) -> Iterator[Path]:
    """What among the arguments may lead into a game."""
    for name, value in vars(options).items():
        if name in ("path", "archive", "dir", "file", "like"):
            yield from (Path(one).absolute() for one in (value if isinstance(value, list) else [value]) if one)


def _find(words: list[str]) -> tuple[str, int]:
    """The module of the command that the words begin with, and how many words name it."""
    folder, module = FOLDER, list[str]()
    for count, word in enumerate(words, 1):
        if word.startswith("_") or not word.isidentifier():
            break
        for name in (word, word + "_"):
            if (folder / f"{name}.py").is_file():
                return ".".join([*module, name]), count
        if not (folder / word).is_dir():
            break
        folder, module = folder / word, [*module, word]
    known = [" ".join(one.words) for one in commands()]
    said = " ".join(words[: len(module) + 1])
    verbs = [name for name in known if module and name.startswith(" ".join(module) + " ")]
    if verbs:
        raise UsageError(
            f"`volvex {said}` is not a command; {' '.join(module)} has {', '.join(v.split()[-1] for v in verbs)}",
            f"`volvex {verbs[0]}`",
        )
    near = difflib.get_close_matches(said, known, 1)
    raise UsageError(f"`volvex {said}` is not a command", f"`volvex {near[0]}`" if near else "`volvex --help`")


def _overview(context: Context) -> None:
    context.print(f"volvex {__version__}: open, edit and rebuild the archives of PC games\n")
    listed = sorted(commands(), key=lambda one: (one.place, one.words))
    width = max(len(" ".join(one.words)) for one in listed)
    group = 0
    for one in listed:
        if one.place // 10 != group:
            group = one.place // 10
            context.print(context.paint(GROUPS.get(group, "more"), "bold"))
        context.print(f"  {context.paint(' '.join(one.words).ljust(width), 'cyan')}  {one.summary}")
    context.print("\n`volvex COMMAND --help` says more. A path reaches into archives: game/data/main.kwp/rules/*.xml")
