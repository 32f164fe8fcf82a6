"""What cannot be taken or built: entries that are no files (links, devices, files with holes), and changes that
contradict each other.

All that is known beforehand is said before the first byte is written.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Iterator, Mapping, Sequence

from volvex.archive.safe_names import quoted, shown
from volvex.bench.changes import FileChange
from volvex.bench.content import original_kind
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError, ManyErrors, RefusedError, VolvexError

Wanted = tuple[str, int | None]  # a file of the game or an archive, and a row in it


def takeable(bench: Workbench, wanted: Iterable[Wanted]) -> tuple[list[Wanted], list[tuple[str, str]]]:
    """Of what paths mean that which can be taken, and the paths of the rest with the reasons."""
    kept, refused = list[Wanted](), list[tuple[str, str]]()
    for name, row in wanted:
        reason = bench.require_archive(name).refusal(row) if row is not None else ""
        if row is None or not reason:
            kept.append((name, row))
        else:
            refused.append((f"{name}/{bench.require_archive(name).names[row]}", reason))
    return kept, refused


def change_refusals(bench: Workbench, found: Sequence[FileChange]) -> Iterator[tuple[str, str, str]]:
    """Changes of entries that are no files: their paths, why, and what to do."""
    for change in found:
        name, inner = bench.home(change.path)
        row = bench.row(change.path) if inner and change.what == "changed" else None
        reason = bench.require_archive(name).refusal(row) if row is not None else ""
        if reason:
            yield change.path, reason, f"`volvex undo {quoted(change.path)}`: only files can be changed"


def require_buildable(bench: Workbench, by_file: Mapping[str, Sequence[FileChange]]) -> None:
    """Nothing when all changes can be made, as far as that is known before; all refusals at once when not."""
    errors: list[VolvexError] = []
    for name, some in sorted(by_file.items()):
        errors += (RefusedError(f"{shown(path)}: {why}", hint) for path, why, hint in change_refusals(bench, some))
        errors += _contradictions(bench, name, some)
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ManyErrors(errors)


def _contradictions(bench: Workbench, name: str, some: Sequence[FileChange]) -> Iterator[VolvexError]:
    whole = [change for change in some if change.path == name]
    if whole and whole[0].what == "removed" and len(some) > 1:
        other = next(change for change in some if change.path != name)
        yield RefusedError(
            f"{name} is left out, and {other.path} in it has changes",
            f"`volvex undo {quoted(name)}`, or `volvex undo {quoted(other.path)}`",
        )
    if whole:
        return
    if bench.archive(name) is None:
        yield FormatError(name, "unknown format, so its entries cannot be changed")
        return
    rows: dict[tuple[str, int], str] = {}
    for change in some:
        home, row = bench.home(change.path)[0], bench.row(change.path)
        if row is None or change.what == "removed":
            continue
        other_path = rows.setdefault((home, row), change.path)
        if other_path != change.path:
            yield RefusedError(
                f"{other_path} and {change.path} are the same entry of {home}", "keeping one of the two files"
            )


def require_droppable(bench: Workbench, path: str) -> str:
    """What is to be said when something is left out: nothing, or for a movie that the game may need it.

    RefusedError for a movie when the game's description lists those that it does without, and this is none of them.
    """
    from volvex.asset.kinds.movie import KIND
    from volvex.bench.states import original_state

    optional = bench.game.description.optional
    if any(fnmatch.fnmatchcase(path, pattern) for pattern in optional) or bench.original_size(path) is None:
        return ""
    try:
        if not KIND.may_be(original_kind(bench, path)) or original_state(bench).opened(KIND, path) is None:
            return ""
    except VolvexError:
        return ""
    blank = f"`volvex swap {quoted(path)} --blank`"
    if optional:
        said = f"{bench.game.description.name} does not start without {shown(path)}"
        raise RefusedError(said, f"{blank}, which puts a black frame there")
    return f"whether the game starts without {shown(path)} is not known: {blank} is safer"
