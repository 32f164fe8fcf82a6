"""What is wrong with changed sprite sheets: a frame outside of its sheet, a picture that is gone."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence

from volvex.archive.detect import filetypes
from volvex.asset.sprite.own_layout import KINDS
from volvex.bench.changes import FileChange
from volvex.bench.sprites import LISTS, list_stems, same_stem, sheets_of
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, Problem
from volvex.data.references import Catalogue
from volvex.errors import NotFoundError, VolvexError
from volvex.source import BytesSource

LARGEST = 1 << 28  # bytes of a list of frames


def sprite_problems(
    bench: Workbench, changed: Sequence[FileChange], removed: Collection[str], after: Catalogue
) -> Iterator[Problem]:
    """The problems of sheets whose picture or list was changed, and that the game's own did not have.

    `removed`: paths that the bench leaves out. `after`: the bench's data as it is now.
    """
    reported = set()

    def current(path: str) -> bytes:
        if path in removed:
            raise NotFoundError(path)
        return bench.current(path)

    def original(path: str) -> bytes:
        data = b"".join(bench.original_content(path))
        if not data:
            raise NotFoundError(path)
        return data

    for place in _lists(bench, changed, after):
        if place in removed:
            continue
        fault = _fault(bench, current, place)
        if fault is not None and place not in reported and _fault(bench, original, place) is None:
            reported.add(place)
            yield Problem(
                ERROR, "picture frame", place, "", "", "", fault.message.removeprefix(f"{place}: "), fault.hint
            )


def _lists(bench: Workbench, changed: Sequence[FileChange], after: Catalogue) -> Iterator[str]:
    """The lists that changed files are, or that lie beside changed pictures."""
    for change in changed:
        if change.what != "removed" and after.document(change.path) is not None:
            yield change.path
        elif change.what != "added" and change.kind not in filetypes.TEXT:
            stem = change.path.rpartition(".")[0]
            for own in (stem, *list_stems(stem)):
                yield from (place for extension in LISTS if bench.original_size(place := f"{own}.{extension}"))
                yield from (one for one in same_stem(bench, own) if one != change.path and _is_list(bench, one))


def _is_list(bench: Workbench, path: str) -> bool:
    """Whether something of the game is a list of frames in a format of its own."""
    source = b"".join(bench.original_content(path)) if (bench.original_size(path) or 0) <= LARGEST else b""
    layout = bench.library.match_data(BytesSource(source, path))
    return layout is not None and layout.kind in KINDS


def _fault(bench: Workbench, read: Callable[[str], bytes], path: str) -> VolvexError | None:
    try:
        for sheet in sheets_of(bench, read, path):
            sheet.require_sound()
    except VolvexError as error:
        return error
    return None
