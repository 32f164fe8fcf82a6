"""Where in a directory a new entry stands, when its author chose: behind which other entry."""

from __future__ import annotations

from volvex.archive.safe_names import quoted, shown
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, RefusedError


def found_after(bench: Workbench, path: str, other: str) -> str:
    """The entry behind which the record of a new one at `path` is to stand, as the bench calls it; empty when none was
    chosen.

    NotFoundError when the game has no such entry, RefusedError when it is of another archive.
    """
    if not other:
        return ""
    found = list(bench.select(other))
    if len(found) != 1 or found[0][1] is None:
        raise NotFoundError(
            f"{shown(other)} is not one entry of the game", f"`volvex list {quoted(other.rpartition('/')[0])}`"
        )
    if found[0][0] != bench.home(path)[0]:
        raise RefusedError(f"{shown(other)} is in {found[0][0]}, {shown(path)} is not", "an entry of the same archive")
    archive = bench.archive(found[0][0])
    if archive is None or not archive.takes_order:
        raise RefusedError(f"the place of a new entry in {found[0][0]} cannot be chosen", "leaving --after out")
    return bench.place_of(*found[0])


def place_after(bench: Workbench, path: str, other: str) -> None:
    """Remember behind which entry a new one stands; nothing chosen with an empty `other`."""
    if other:
        bench.after[path] = other
    elif bench.after.pop(path, None) is None:
        return
    bench.save()
