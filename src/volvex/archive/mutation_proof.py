"""The harder proof of a layout: archives changed in every way, read again, and compared. Nothing is stored."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from volvex.archive.archive import Archive
from volvex.errors import FormatError, RefusedError, VolvexError
from volvex.layout.write.plan import Added, Edit, NewContent, PlannedSource
from volvex.source import Spool

SAMPLE = 200  # unchanged entries that are compared, spread over the archive
LARGEST = 1 << 24  # bytes of an entry that is chosen to be changed


@dataclass(frozen=True)
class Trial:
    """A way in which the archive was changed, and what went wrong with it, if anything."""

    what: str
    fault: VolvexError | None = None
    tried: bool = True  # False where the archive has nothing that could be changed

    @property
    def refused(self) -> bool:
        """Whether the format does not allow it, which is no fault."""
        return isinstance(self.fault, RefusedError)


def prove_harder(archive: Archive) -> Iterator[Trial]:
    """Change an archive in memory: entries grown, shrunk, emptied, removed, added, and all of these at once.

    Each result is read by the layout, compared with what it should hold, and proved.
    """
    rows = [int(row) for row in np.flatnonzero((archive.entries.size > 1) & (archive.entries.size <= LARGEST))]
    if not rows:
        yield Trial("no entry has content that could be changed", tried=False)
        return
    chosen = [rows[len(rows) * part // 5] for part in range(5)]
    with Spool() as spool:
        trials = _trials(archive, chosen, spool)
        for what, make in trials.items():
            yield Trial(what, _try(archive, [make]))
        yield Trial("all of these at once", _try(archive, list(trials.values())))


Change = Callable[[Edit, dict[int, bytes]], None]  # puts itself into an edit, and tells what entries then hold


def _trials(archive: Archive, chosen: list[int], spool: Spool) -> dict[str, Change]:
    def new(row: int, content: bytes) -> NewContent:
        return archive.encode(spool, [content], row)

    def replace(row: int, change: Callable[[bytes], bytes]) -> Change:
        def apply(edit: Edit, wanted: dict[int, bytes]) -> None:
            if row not in edit.removed:
                wanted[row] = change(archive.content(row))
                edit.replaced[row] = new(row, wanted[row])

        return apply

    def add(edit: Edit, wanted: dict[int, bytes]) -> None:
        edit.added.append(Added(archive.fresh_name(chosen[4]), chosen[4], new(chosen[4], b"new " * 500)))

    def remove(edit: Edit, wanted: dict[int, bytes]) -> None:
        if chosen[3] not in edit.replaced:
            edit.removed.add(chosen[3])

    return {
        "an entry grown": replace(chosen[0], lambda content: content * 2 + b"and more"),
        "an entry shrunk": replace(chosen[1], lambda content: content[: len(content) // 2]),
        "an entry emptied": replace(chosen[2], lambda content: b""),
        "an entry removed": remove,
        "an entry added": add,
    }


def _try(archive: Archive, changes: list[Change]) -> VolvexError | None:
    edit, wanted = Edit(), dict[int, bytes]()
    try:
        for change in changes:
            change(edit, wanted)
        _compare(archive, edit, wanted)
    except VolvexError as error:
        return error
    return None


def _compare(archive: Archive, edit: Edit, wanted: dict[int, bytes]) -> None:
    made = archive.plan(edit)
    source = PlannedSource(made, f"{archive.source.name}, changed")
    others = {name: PlannedSource(one, name) for name, one in made.others.items()}
    source.name = archive.source.name  # volumes are found by it
    again = archive.reopened(source, others.get)
    kept = [row for row in range(len(archive)) if row not in edit.removed]
    if len(again) != len(kept) + len(edit.added):
        raise FormatError(source.name, f"{len(again)} entries, there should be {len(kept) + len(edit.added)}")
    new_names = {one.name for one in edit.added}
    ordered = [row for row in range(len(again)) if again.entries.names.raw(row) not in new_names]
    step = max(1, len(kept) // SAMPLE)
    for place, (old, now) in enumerate(zip(kept, ordered, strict=True)):
        if again.entries.names.raw(now) != archive.entries.names.raw(old):
            raise FormatError(source.name, f"{again.names[now]} stands where {archive.names[old]} should")
        if (old in wanted or place % step == 0) and int(archive.entries.size[old]) <= LARGEST:
            content = wanted[old] if old in wanted else archive.content(old)
            if again.content(now) != content:
                raise FormatError(source.name, f"{archive.names[old]} does not hold what it should")
    difference = again.prove().difference
    if difference is not None:
        raise FormatError(
            source.name, "the rewritten archive differs", offset=difference.offset, field=difference.field.name
        )
