"""Work in a process of its own, which may die of it: for decoders that few look at, on files that may be damaged on
purpose."""

from __future__ import annotations

import atexit
import multiprocessing
import os
import signal
import threading
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from typing import Any, TypeVar

from volvex.errors import FRESH, FormatError, RefusedError, VolvexError

T = TypeVar("T")
PATIENCE = 60.0  # seconds after which a decoder is taken to hang
_lock = threading.Lock()
_held: list[_Worker] = []
_lines: list[Connection] = []  # in a worker, the one that leads back


@dataclass(frozen=True)
class _Fault:
    """An error of ours, on its way back."""

    problem: str
    hint: str
    refused: bool = False


@dataclass(frozen=True)
class _Broken:
    """What went wrong that never should."""

    trace: str


@dataclass(frozen=True)
class _Done:
    """So much of the work is done."""

    amount: int


class _Worker:
    """A process that does one thing after the other."""

    def __init__(self) -> None:
        spawn = multiprocessing.get_context("spawn")
        self._ours, theirs = spawn.Pipe()
        self._process = spawn.Process(target=_serve, args=(theirs,), daemon=True)
        self._process.start()
        theirs.close()

    def ask(
        self,
        function: Callable[..., Any],
        values: tuple[Any, ...],
        patience: float,
        on_progress: Callable[[int], None],
    ) -> Any:
        """What a function gives; EOFError when the process died of it, TimeoutError when nothing is heard of it."""
        self._ours.send((function, values))
        while True:
            if not self._ours.poll(patience):
                raise TimeoutError
            result = self._ours.recv()
            if not isinstance(result, _Done):
                return result
            on_progress(result.amount)

    def stop(self) -> None:
        """End the process, whatever it does."""
        self._process.kill()
        self._process.join()
        self._ours.close()


def _end_with_parent() -> None:
    """End this process when the one that started it is gone, whatever it is at."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        wait([parent.sentinel])
        os._exit(1)


def quiet() -> None:
    """Let libraries print nothing from this process: what is wrong with a file is in the errors."""
    nothing = os.open(os.devnull, os.O_WRONLY)
    os.dup2(nothing, 2)
    os.close(nothing)


def report(amount: int) -> None:
    """From within the function: this amount more of it is done."""
    if _lines:
        _lines[0].send(_Done(amount))


def _serve(line: Connection) -> None:
    _lines.append(line)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process sees to Ctrl-C
    quiet()
    threading.Thread(target=_end_with_parent, daemon=True).start()
    while True:
        try:
            function, values = line.recv()
        except EOFError:
            return
        try:
            result = function(*values)
        except RefusedError as error:
            result = _Fault(error.message, error.hint, True)
        except VolvexError as error:
            result = _Fault(getattr(error, "problem", error.message), error.hint)
        except MemoryError:
            result = _Fault("it takes more memory than there is", FRESH)
        except Exception:  # a mistake of ours, which is to be seen as one
            result = _Broken(traceback.format_exc())
        line.send(result)


def apart(
    name: str,
    function: Callable[..., T],
    *values: Any,
    patience: float = PATIENCE,
    on_progress: Callable[[int], None] = lambda amount: None,
) -> T:
    """What a function of some module gives for values, worked out in a process of its own.

    FormatError, of the file `name`, when the process dies of it or does not end. Within a process that does nothing
    else but conversions it is worked out there.
    """
    if multiprocessing.parent_process() is not None:
        return function(*values)
    with _lock:
        worker = _held.pop() if _held else _Worker()
        try:
            result = worker.ask(function, values, patience, on_progress)
        except (EOFError, OSError, TimeoutError) as error:
            worker.stop()
            slow = isinstance(error, TimeoutError)
            said = f"its decoder did not end within {patience:.0f} s" if slow else "its decoder stopped working"
            raise FormatError(name, said, hint=FRESH) from error
        except BaseException:  # interrupted: what comes back is of no use
            worker.stop()
            raise
        _held.append(worker)
    if isinstance(result, _Broken):
        raise RuntimeError(result.trace)
    if isinstance(result, _Fault):
        raise (
            RefusedError(result.problem, result.hint)
            if result.refused
            else FormatError(name, result.problem, hint=result.hint)
        )
    return result  # type: ignore[no-any-return]


@atexit.register
def _end() -> None:
    for worker in _held:
        worker.stop()
