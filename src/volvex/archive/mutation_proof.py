"""The harder proof of a layout: archives changed in every way, read again, and compared. Nothing is stored."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass

import numpy as np

from volvex.archive.archive import Archive
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.variation import EMPTIED, GROWN, NEW, SHRUNK
from volvex.errors import CapacityError, FormatError, NotFoundError, RefusedError, VolvexError
from volvex.layout.inspect.equal import equals, stale
from volvex.layout.write.plan import BLANK, Added, Edit, PlannedSource
from volvex.source import Spool

SAMPLE = 200  # unchanged entries that are compared, spread over the archive
MOST_REVERSED = 400  # entries that are written again in another order
REFILLED = 40  # entries that are put back into an archive from which all were removed
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
        return isinstance(self.fault, RefusedError | CapacityError | NotFoundError)  # no such folder


PLACES = ("first", "middle", "last")  # entries that are changed


def prove_harder(archive: Archive, places: Collection[str] = PLACES) -> Iterator[Trial]:
    """Change an archive in memory: the first, middle and last entries grown, shrunk, emptied and removed; entries
    added, under names of many lengths and in a new folder; all of it at once; everything removed, and put back.

    Each result is read by the layout, compared with what it should hold, and proved.
    """
    rows = [int(row) for row in np.flatnonzero((archive.entries.size > 1) & (archive.entries.size <= LARGEST))]
    if not rows:
        yield Trial("no entry has content that could be changed", tried=False)
        return
    with Spool() as spool:
        trials = _trials(archive, rows, places, spool)
        for what, make in trials.items():
            yield Trial(what, _try(archive, [make]))
        chosen = [rows[len(rows) * part // 5] for part in range(5)]
        changes = _Changes(archive, spool)
        at_once = [
            changes.grow(chosen[0]),
            changes.shrink(chosen[1]),
            changes.empty(chosen[2]),
            changes.remove(chosen[3]),
            changes.add(chosen[4]),
        ]
        yield Trial("all of these at once", _try(archive, at_once))
        if int(archive.entries.size.sum()) <= LARGEST:
            yield Trial("all entries in another order", _reversed(archive, spool))
            what = "all entries removed, and put back" if archive.takes_blank else "all entries removed"
            yield Trial(what, _emptied(archive, spool))


Change = Callable[[Edit, dict[int, bytes]], None]  # puts itself into an edit, and tells what entries then hold


class _Changes:
    """Changes of an archive's entries, one each."""

    def __init__(self, archive: Archive, spool: Spool) -> None:
        self.archive, self.spool = archive, spool

    def _replace(self, row: int, how: str) -> Change:
        def apply(edit: Edit, wanted: dict[int, bytes]) -> None:
            if row not in edit.removed:
                content = self.archive.varied(row, how)
                edit.replaced[row] = self.archive.encode(self.spool, [content], row)
                wanted[row] = self.archive.as_read_back(content, row)

        return apply

    def grow(self, row: int) -> Change:
        return self._replace(row, GROWN)

    def shrink(self, row: int) -> Change:
        return self._replace(row, SHRUNK)

    def empty(self, row: int) -> Change:
        return self._replace(row, EMPTIED)

    def remove(self, row: int) -> Change:
        def apply(edit: Edit, wanted: dict[int, bytes]) -> None:
            if row not in edit.replaced:
                edit.removed.add(row)

        return apply

    def add(self, like: int, renamed: Callable[[bytes, int], bytes] = lambda name, _: name, count: int = 1) -> Change:
        """Entries like one; `renamed` makes of a free name another, by its number."""

        def apply(edit: Edit, wanted: dict[int, bytes]) -> None:
            for number in range(count):
                name = renamed(self.archive.fresh_name(like), number)
                content = self.archive.varied(like, NEW, number)
                edit.added.append(Added(name, like, self.archive.encode(self.spool, [content], like)))

        return apply


def _trials(archive: Archive, rows: list[int], wanted: Collection[str], spool: Spool) -> dict[str, Change]:
    changes, places = _Changes(archive, spool), {"first": rows[0], "middle": rows[len(rows) // 2], "last": rows[-1]}
    found: dict[str, Change] = {}
    chosen = [(where, row) for where, row in places.items() if where in wanted]
    for where, row in chosen if len(rows) > 2 else [("only", rows[0])]:
        for what, change in (
            ("grown", changes.grow),
            ("shrunk", changes.shrink),
            ("emptied", changes.empty),
            ("removed", changes.remove),
        ):
            found[f"the {where} entry {what}"] = change(row)
    found["an entry added"] = changes.add(rows[-1])
    if not archive.entries.nameless:
        slash, folder = (text.encode(archive.entries.names.encoding) for text in ("/", "volvex_new/"))
        found["sixteen entries added, with names of every length"] = changes.add(rows[-1], _longer, 16)
        if any(slash in raw for raw in archive.entries.names.raws()):
            found["an entry added in a new folder"] = changes.add(
                rows[0], lambda name, _: folder + name.rpartition(slash)[2]
            )
    return found


def _longer(name: bytes, number: int) -> bytes:
    """A name with so many more characters before its extension, in whichever encoding."""
    wide = 2 if b"\0" in name else 1
    stem, dot, extension = name.rpartition(b".")
    filling = (b"x\0" if wide == 2 else b"x") * (number + 1)
    return stem + filling + dot + extension if dot and wide == 1 else name + filling


def _emptied(archive: Archive, spool: Spool) -> VolvexError | None:
    """What goes wrong when all entries are removed, and put back into what is left."""
    try:
        rows = [row for row in range(len(archive)) if row not in archive.folders]
        made = archive.plan(Edit(removed=set(rows)))
        source = PlannedSource(made, archive.source.name)
        others = {name: PlannedSource(plan, name) for name, plan in made.others.items()}
        empty = archive.reopened(source, others.get)
        if len(empty) != len(archive) - len(rows):
            raise FormatError(archive.source.name, f"{len(empty)} entries are left, there should be none")
        if not empty.takes_blank:
            return None
        back = _of_one_name(archive)
        back = back[:: max(1, len(back) // REFILLED)]
        names, edit = archive.entries.names, Edit()
        for row in back:
            edit.added.append(Added(names.raw(row), BLANK, empty.encode(spool, [archive.content(row)], BLANK)))
        refilled = empty.reopened(PlannedSource(empty.plan(edit), archive.source.name))
        there = {refilled.entries.names.raw(row): refilled.content(row) for row in range(len(refilled))}
        for row in back:
            if there.get(names.raw(row)) != archive.content(row):
                raise FormatError(archive.source.name, f"{archive.names[row]} was put back, and is not what it was")
    except VolvexError as error:
        return error
    return None


def _of_one_name(archive: Archive) -> list[int]:
    """The entries that are no folders, and whose name no other has."""
    raws = archive.entries.names.raws()
    counts = Counter(raws)
    return [row for row, raw in enumerate(raws) if counts[raw] == 1 and row not in archive.folders]


def _reversed(archive: Archive, spool: Spool) -> VolvexError | None:
    """What goes wrong when all entries are written again, the last first; those whose name others have too stay."""
    rows = _of_one_name(archive)
    if len(rows) > MOST_REVERSED:
        rows = rows[:: len(rows) // MOST_REVERSED]
    names, edit = archive.entries.names, Edit(removed=set(rows))
    try:
        for row in reversed(rows):
            edit.added.append(Added(names.raw(row), row, archive.encode(spool, [archive.content(row)], row)))
        made = archive.plan(edit)
        others = {name: PlannedSource(plan, name) for name, plan in made.others.items()}
        again = archive.reopened(PlannedSource(made, archive.source.name), others.get)
        there = {again.entries.names.raw(row): row for row in range(len(again))}
        for row in rows:
            found = there.get(names.raw(row))
            if found is None or again.content(found) != archive.content(row):
                raise FormatError(archive.source.name, f"{archive.names[row]} is not what it was, in another order")
    except VolvexError as error:
        return error
    return None


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
    others = {name: PlannedSource(plan, name) for name, plan in made.others.items()}
    source.name = archive.source.name  # volumes are found by it
    again = archive.reopened(source, others.get)
    kept = [row for row in range(len(archive)) if row not in edit.removed]
    if len(again) != len(kept) + len(edit.added):
        raise FormatError(source.name, f"{len(again)} entries, there should be {len(kept) + len(edit.added)}")
    new_names = {added.name for added in edit.added}
    ordered = [row for row in range(len(again)) if again.entries.names.raw(row) not in new_names]
    step = max(1, len(kept) // SAMPLE)
    for place, (old, now) in enumerate(zip(kept, ordered, strict=True)):
        if again.entries.names.raw(now) != archive.entries.names.raw(old):
            raise FormatError(source.name, f"{again.names[now]} stands where {archive.names[old]} should")
        if (old in wanted or place % step == 0) and int(archive.entries.size[old]) <= LARGEST:
            content = wanted[old] if old in wanted else archive.content(old)
            if again.content(now) != content:
                raise FormatError(source.name, f"{archive.names[old]} does not hold what it should")
    _judge(archive, again)
    difference = again.prove().difference
    if difference is not None:
        raise FormatError(
            source.name, "the rewritten archive differs", offset=difference.offset, field=difference.field.name
        )


def _judge(archive: Archive, again: Archive) -> None:
    """FormatError for a kept number that equalled something before the change, and does not after it."""
    if not isinstance(archive, LayoutArchive) or not isinstance(again, LayoutArchive):
        return
    found = stale(equals(archive.reading), again.reading)
    if found is not None:
        raise FormatError(
            archive.source.name,
            f"stale: it was the {found.form.words}, {found.value:,}, and has stayed so while that has changed",
            field=found.where,
            hint=f"`is {found.form.words}` in place of `kept`",
        )
