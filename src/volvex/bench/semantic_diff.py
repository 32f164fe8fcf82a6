"""What a bench's changes mean: by key and field, against the game's original; and all data of the game, as it is and as
it was."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import Refusal
from volvex.bench.changes import FileChange, changes
from volvex.bench.originals import Originals
from volvex.bench.workbench import Workbench
from volvex.data import Change, Document, open_data
from volvex.data.differences import differences
from volvex.data.excerpt import excerpts
from volvex.data.path_index import PathIndex
from volvex.data.references import Catalogue
from volvex.errors import VolvexError

LINES = "lines"  # the form of plain text, whose changes are told line by line
LARGE = 1 << 24  # bytes of text from which on it is not looked at as a whole
MOST = 1 << 28  # bytes of a file whose meaning is compared


@dataclass(frozen=True)
class FileDiff:
    """A file that differs, and what differs in it; None where nothing knows what its bytes mean."""

    file: FileChange
    changes: list[Change] | None
    fault: VolvexError | None = None
    form: str = ""  # what it is, where its meaning is known
    was_sound: bool = True  # whether the original is sound data, where the bench's state is not


def semantic_diffs(bench: Workbench) -> Iterator[FileDiff]:
    """Every file of the bench that differs, by meaning where it has one."""
    for change in changes(bench):
        yield semantic_diff(bench, change)


def semantic_diff(bench: Workbench, change: FileChange) -> FileDiff:
    """What one file's change means."""
    if change.what != "changed" or max(change.after, change.before or 0) > MOST:
        return FileDiff(change, None)
    try:
        before, after = _both(bench, change)
        if before is None or after is None or before.form != after.form:
            return FileDiff(change, None)
        if before.form == LINES and [len(sheet) for sheet in before.sheets] != [len(sheet) for sheet in after.sheets]:
            return FileDiff(change, None)  # lines came or went: their numbers tell nothing any more
        return FileDiff(change, differences(before, after), form=after.form)
    except VolvexError as error:  # also where the records are read, which is when they are asked for
        return FileDiff(change, None, error, was_sound=_is_sound(bench, change))


def _is_sound(bench: Workbench, change: FileChange) -> bool:
    """Whether a file's original can be read as data."""
    try:
        document = original_document(bench, change.path)
        return document is not None and document.sheets is not None
    except VolvexError:
        return False


def _both(bench: Workbench, change: FileChange) -> tuple[Document | None, Document | None]:
    """A file before and after, as data; of large XML the part in which they differ, of other large text nothing."""
    large = change.kind in filetypes.TEXT and max(change.after, change.before or 0) > LARGE
    if not large:
        before = original_document(bench, change.path)
        return before, bench_document(bench, change.path) if before is not None else None
    if change.kind != "xml":
        return None, None
    made = excerpts(
        b"".join(bench.original_content(change.path)), (bench.files / change.path).read_bytes(), change.path
    )
    if made is None:
        return None, None
    return tuple(open_data(data, bench.library, change.path) for data in made)  # type: ignore[return-value]


def original_document(bench: Workbench, path: str) -> Document | None:
    """The game's own state of something in the bench, as data; None when it is none, or not there."""
    data = b"".join(bench.original_content(path))
    return open_data(data, bench.library, path) if data else None


def bench_document(bench: Workbench, path: str) -> Document | None:
    """The bench's state of something, as data."""
    return open_data((bench.files / path).read_bytes(), bench.library, path)


def all_paths(originals: Originals) -> list[str]:
    """Every path of the game, through its archives, as they lie on disk."""
    found = []
    for name, _ in originals.game.files():
        try:
            with originals.library.keys.quiet():
                archive = originals.archive(name)
        except VolvexError:
            archive = None
        if archive is None:
            found.append(name)
            continue
        found += [f"{name}/{place}" for place in originals.places_in(name) if not isinstance(place, Refusal)]
    return found


def game_catalogue(originals: Originals) -> Catalogue:
    """All data of a game as the game has it."""

    def read(path: str) -> Document | None:
        return open_data(content_at(originals, path), originals.library, path)

    return Catalogue(lambda: all_paths(originals), read, originals.game.description.meanings)


def content_at(originals: Originals, path: str) -> bytes:
    """The game's content at a path; nothing when there is none."""
    name, inner = originals.split(path) or (path, "")
    archive = originals.archive(name) if inner else None
    row = originals.rows_in(name).get(inner) if archive is not None else None
    if archive is not None and row is not None:
        return archive.content(row)
    original = originals.game.original(path)
    return original.read_bytes() if original is not None else b""


def catalogues(bench: Workbench) -> tuple[Catalogue, Catalogue]:
    """All data of the game: as the game has it, and as it is with the bench's changes."""
    meanings = bench.game.description.meanings
    places = set(bench.places())

    def now() -> PathIndex:
        return first.index.changed(sorted(places), bench.dropped)

    def before(path: str) -> Document | None:
        data = b"".join(bench.original_content(path))
        return open_data(data, bench.library, path) if data and not _is_large(data) else None

    def after(path: str) -> Document | None:
        if path not in places:
            return first.document(path)
        data = (bench.files / path).read_bytes()
        return open_data(data, bench.library, path) if not _is_large(data) else None

    first = Catalogue(lambda: all_paths(bench), before, meanings)
    return first, Catalogue(now, after, meanings)


def _is_large(data: bytes) -> bool:
    """Whether data is text of a size that is not looked at as a whole: its records would fill the memory."""
    return len(data) > LARGE and filetypes.kind_by_content(data[: filetypes.HEAD]) in filetypes.TEXT


def touched(catalogue: Catalogue, found: Sequence[FileChange]) -> list[str]:
    """The files to be checked: what is data by the game description, and what was changed."""
    changed = [change.path for change in found if change.what != "removed"]
    return list(dict.fromkeys([*catalogue.data(), *changed]))
