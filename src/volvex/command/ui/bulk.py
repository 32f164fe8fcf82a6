"""Many pictures, sounds or models converted by one command: what is meant, where each goes, who does it, and what
became of them."""

from __future__ import annotations

import argparse
import functools
import multiprocessing
import signal
from collections.abc import Callable
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from itertools import chain, islice
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import workers
from volvex.command.ui.bulk_state import BulkState
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import open_walker
from volvex.command.ui.table import count
from volvex.errors import NotFoundError
from volvex.extras import require

if TYPE_CHECKING:
    pass

FEW = 4  # pictures for which no process is started
TOLD = 20


def convert_assets(options: argparse.Namespace, context: Context) -> int:
    """Convert all pictures of the paths, all sounds or all models; what failed is named, and the status says so."""
    from volvex.asset.bulk import convert_all, require_form

    require_form(options.extension)  # known before anything is looked at
    context.disk.require_allowed(options.folder)
    state = _state(options)
    context.interrupted = (
        f"the files in {options.folder} are whole, the others are not there",
        "the same command with --skip-existing, which goes on from there",
    )
    with open_walker(options, context) as walker:
        jobs = state.jobs(walker, context)
        if options.rehearse:
            targets = [job.target for job in jobs]
            for target in targets[:TOLD]:
                context.print(shown(target))
            context.print(f"{count(len(targets), state.what)} to be converted")
            return note_faults([*state.faults, *walker.faults], context)
        first = list(islice(jobs, FEW))
        rest = chain(first, jobs)
        make = _executor(options, len(first) < FEW, context)
        with context.progress("converting", state.expected(options)) as on_progress:
            for outcome in convert_all(rest, make, 2 * workers() if not options.cluster else 256):
                state.take(outcome)
                on_progress(outcome.job.size)
        state.faults += walker.faults
    return state.print_summary(options, context)


def _state(options: argparse.Namespace) -> BulkState:
    """What keeps count, for models or for pictures and sounds."""
    from volvex.asset.bulk import is_model_form

    if is_model_form(options.extension):
        from volvex.command.ui.bulk_models import ModelState

        return ModelState(options)
    return BulkState(options)


def _executor(options: argparse.Namespace, few: bool, context: Context) -> Callable[[], Executor]:
    if options.cluster:
        return functools.partial(_cluster, options.cluster, context)
    if few or workers() < 2:
        return functools.partial(ThreadPoolExecutor, 1)
    spawn = multiprocessing.get_context("spawn")
    return functools.partial(ProcessPoolExecutor, workers(), spawn, _quiet)


def _quiet() -> None:
    """A worker leaves Ctrl-C to the first process, and prints nothing."""
    from volvex.apart import quiet

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    quiet()


def _cluster(address: str, context: Context) -> Executor:
    """The workers of a Dask scheduler; they must see the same files under the same names."""
    require("distributed", "--cluster")
    from distributed import Client

    try:
        client = Client(address, timeout=20)
    except (OSError, ValueError) as error:
        raise NotFoundError(
            f"no scheduler answers at {address}", "tcp://HOST:8786, as it prints it when it starts"
        ) from error
    context.held.callback(client.close)
    executor: Executor = client.get_executor(pure=False)
    return executor
