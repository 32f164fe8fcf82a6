"""Work on many entries at once: the decoders and the system let go of the interpreter, so threads help."""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, ThreadPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from itertools import chain, islice
from typing import Any, TypeVar

import numpy as np

from volvex.archive.archive import Archive
from volvex.errors import VolvexError
from volvex.layout.columns import Array

T = TypeVar("T")
R = TypeVar("R")
OnProgress = Callable[[int], None]
BATCH_BYTES = 1 << 22
_workers = min(8, os.cpu_count() or 1)


def workers() -> int:
    """How many threads work at once."""
    return _workers


def set_workers(count: int) -> None:
    """Change how many threads work at once, for all work that starts later."""
    global _workers
    _workers = count


def no_progress(size: int) -> None:
    """Ignore progress."""


def parallel(task: Callable[[T], R], items: Iterable[T]) -> Iterator[R]:
    """Results of `task` as they come; never more than a few items ahead, so that memory stays bounded."""
    source = iter(items)
    first = list(islice(source, 2))
    if len(first) < 2:  # a single piece of work is not worth a thread
        yield from map(task, first)
        return
    source = chain(first, source)
    waiting: set[Future[R]] = set()
    with ThreadPoolExecutor(_workers) as pool:
        try:
            waiting.update(pool.submit(task, item) for item in islice(source, _workers * 2))
            while waiting:
                done, waiting = wait(waiting, return_when=FIRST_COMPLETED)
                waiting.update(pool.submit(task, item) for item in islice(source, len(done)))
                for future in done:
                    yield future.result()
        finally:
            for future in waiting:
                future.cancel()


def in_processes(task: Callable[[T], R], items: Iterable[T]) -> Iterator[R]:
    """The same in processes, for a task that is work for the interpreter alone and can be pickled.

    Where no process can be started, threads do it.
    """
    if _workers < 2:
        yield from map(task, items)
        return
    done = 0
    items = list(items)
    try:
        with ProcessPoolExecutor(_workers, multiprocessing.get_context("spawn"), _set_task, (task,)) as pool:
            for result in pool.map(_run_task, items, chunksize=4):
                done += 1
                yield result
    except (BrokenProcessPool, OSError):
        yield from parallel(task, items[done:])


_task: Any = None  # of this process, when it is one of those


def _set_task(task: Callable[[Any], Any]) -> None:
    global _task
    _task = task
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the first process ends the others


def _run_task(item: Any) -> Any:
    return _task(item)


def batches(archive: Archive, rows: Array) -> list[list[int]]:
    """Rows in the order in which their content lies, in batches of a few megabytes."""
    rows = rows[np.argsort(archive.entries.start[rows], kind="stable")]
    sizes = np.cumsum(archive.entries.size[rows] + 4096)
    cuts = np.flatnonzero(np.diff(sizes // BATCH_BYTES)) + 1
    return [part.tolist() for part in np.split(rows, cuts) if len(part)]


def verify(archive: Archive, rows: Array, on_progress: OnProgress = no_progress) -> list[VolvexError]:
    """Decode entries and check their sizes and checksums; what is wrong with them."""

    def check(batch: Sequence[int]) -> list[VolvexError]:
        faults: list[VolvexError] = []
        for row in batch:
            try:
                for chunk in archive.chunks(row):
                    on_progress(len(chunk))
            except VolvexError as error:
                faults.append(error)
        return faults

    return [fault for faults in parallel(check, batches(archive, rows)) for fault in faults]
