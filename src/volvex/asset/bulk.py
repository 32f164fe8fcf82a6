"""Many pictures or sounds converted at once: one function that does one, over any `concurrent.futures.Executor`.

A job says where the bytes are (a stretch of a file, or the bytes themselves) and which file to write, so that any
process that sees the same files can do it.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from itertools import islice
from pathlib import Path

from volvex.asset.picture.exchange import exported
from volvex.asset.picture.formats import form_of
from volvex.asset.picture.open import require_picture, with_roles
from volvex.asset.picture.own_layout import LayoutForm
from volvex.errors import UsageError, VolvexError
from volvex.layout import Layout
from volvex.layout.language.parser import read_layout
from volvex.source import BytesSource, Disk, FileSource, Source, WindowSource, atomic

MakeExecutor = Callable[[], Executor]


@dataclass(frozen=True)
class Job:
    """One picture or sound to convert. `data` is None when its bytes are those of `file` from `offset` on."""

    name: str
    target: str
    extension: str
    size: int
    data: bytes | None = None
    file: str = ""
    offset: int = 0
    roles: str = ""  # what the game description says of its channels
    layout: str = ""  # the file of the layout that reads it, when it is of a game's own format
    beside: tuple[tuple[str, bytes], ...] = ()  # other files that it is made of, by their names
    tags: tuple[tuple[str, str], ...] = ()  # of a sound that has none of its own


@dataclass(frozen=True)
class Outcome:
    """What became of one: the bytes that were written, what they do not carry, or why there are none."""

    job: Job
    size: int = 0
    notes: tuple[str, ...] = ()
    fault: str = ""
    hint: str = ""


def convert(job: Job) -> Outcome:
    """Read, convert and write one picture or sound; what is wrong with it is in the outcome."""
    try:
        with _source(job) as source:
            held = dict(job.beside)
            source.beside = lambda name: BytesSource(held[name], name) if name in held else None
            layout = _layout(job.layout) if job.layout else None
            make = _sound if is_sound_form(job.extension) else _picture
            data, notes = make(source, job, layout)
        target, disk = Path(job.target), Disk()
        disk.make_folder(target.parent)
        with atomic(disk, target, durable=False) as file:
            disk.write(file, data)
    except VolvexError as error:
        return Outcome(job, fault=str(error), hint=error.hint)
    except OSError as error:
        return Outcome(job, fault=f"{job.target}: {(error.strerror or str(error)).lower()}")
    return Outcome(job, len(data), notes)


def _picture(source: Source, job: Job, layout: Layout | None) -> tuple[bytes, tuple[str, ...]]:
    picture = with_roles(require_picture(source, layout=layout).picture, job.name, job.roles)
    out = exported(picture, job.extension)
    return form_of(job.extension).write(out.picture), (*picture.notes, *out.notes)


def _sound(source: Source, job: Job, layout: Layout | None) -> tuple[bytes, tuple[str, ...]]:
    from volvex.asset.sound.exchange import exported
    from volvex.asset.sound.open import require_sound

    sound = require_sound(source, layout=layout).sound
    data, notes = exported(sound, job.extension, dict(job.tags))
    return data, (*sound.notes, *notes)


def is_sound_form(extension: str) -> bool:
    """Whether files with an extension are sounds, in which sounds are converted."""
    from volvex.asset.sound.formats import by_extension

    return extension.lstrip(".").lower() in by_extension()


def is_model_form(extension: str) -> bool:
    """Whether files with an extension are models, in which models are converted."""
    from volvex.asset.model.formats import by_extension

    return extension.lstrip(".").lower() in by_extension()


def require_form(extension: str) -> None:
    """UsageError when no form of pictures, sounds or models has an extension."""
    from volvex.asset.model.formats import by_extension as models
    from volvex.asset.picture.formats import by_extension as pictures
    from volvex.asset.sound.formats import by_extension as sounds

    if extension.lstrip(".").lower() not in {*pictures(), *sounds(), *models()}:
        raise UsageError(
            f"no format of pictures, sounds or models has the extension {extension}",
            f"one of {', '.join(sorted(pictures()))}; {', '.join(sorted(sounds()))}; {', '.join(sorted(models()))}",
        )


def layout_of(form: object) -> Layout | None:
    """The layout that reads what is of a game's own format; None for an open form."""
    layout = getattr(form, "layout", None)
    return layout if isinstance(layout, Layout) else None


def beside_of(form: object, source: Source) -> tuple[tuple[str, bytes], ...]:
    """The files beside its own that something is read from, with their bytes."""
    return form.beside(source) if isinstance(form, LayoutForm) else ()


@functools.lru_cache(64)
def _layout(file: str) -> Layout:
    return read_layout(Path(file))


class _source:
    """The bytes of a job, closed when they are done with."""

    def __init__(self, job: Job) -> None:
        self._whole: Source = (
            BytesSource(job.data, job.name) if job.data is not None else FileSource(Path(job.file), job.name)
        )
        self._own = self._whole if job.data is not None else WindowSource(self._whole, job.offset, job.size, job.name)

    def __enter__(self) -> Source:
        return self._own

    def __exit__(self, *_: object) -> None:
        self._whole.close()


def convert_all(jobs: Iterable[Job], executor: MakeExecutor, ahead: int) -> Iterator[Outcome]:
    """The outcomes of all jobs as they come; `ahead`: how many are under way at once, so that memory stays bounded.

    When a process dies of a picture, those that were under way are done once more, each by a process of its own.
    """
    source, lost = iter(jobs), list[Job]()
    with executor() as pool:
        waiting: dict[Future[Outcome], Job] = {}
        try:
            broken = False
            while True:
                for job in islice(source, 0 if broken else ahead - len(waiting)):
                    try:
                        waiting[pool.submit(convert, job)] = job
                    except BrokenProcessPool:
                        lost.append(job)
                        broken = True
                if not waiting:
                    break
                for future in wait(waiting, return_when=FIRST_COMPLETED)[0]:
                    job = waiting.pop(future)
                    try:
                        yield future.result()
                    except BrokenProcessPool:
                        lost.append(job)
                        broken = True
        finally:
            for future in waiting:
                future.cancel()
    for job in lost:
        yield _alone(job, executor)
    if lost:
        yield from convert_all(source, executor, ahead)


def _alone(job: Job, executor: MakeExecutor) -> Outcome:
    """One job by a pool of its own, which may die of it."""
    with executor() as pool:
        try:
            return pool.submit(convert, job).result()
        except BrokenProcessPool:
            return Outcome(job, fault=f"{job.name}: its decoder stopped working", hint="a fresh copy of the file")
