"""What something of the game has in it: as the game has it, and as it is now on the bench."""

from __future__ import annotations

from collections.abc import Callable

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import quoted, shown
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.source import BytesSource, FileSource, Source

Read = Callable[[str], bytes]  # something of a bench in one of its states: as the game has it, or as it is now
LARGEST_INSIDE = 1 << 31  # bytes of an entry that is read whole


def original_of(bench: Workbench) -> Read:
    """What reads the whole original of something of the game; NotFoundError when the game does not have it."""

    def read(path: str) -> bytes:
        if bench.original_size(path) is None:
            raise NotFoundError(f"not in the game: {shown(path)}")
        return b"".join(bench.original_content(path))

    return read


def current_of(bench: Workbench) -> Read:
    """What reads something of the game as it is now: from the bench, or as the game has it; NotFoundError for what is
    left out."""
    original = original_of(bench)

    def read(path: str) -> bytes:
        if path in bench.dropped:
            raise NotFoundError(f"{shown(path)} is left out of what is built", f"`volvex undo {quoted(path)}`")
        file = bench.files / path
        return file.read_bytes() if file.is_file() else original(path)

    return read


def original_kind(bench: Workbench, path: str) -> str:
    """What the original of something is, by its beginning alone: `empty` when the game has no such thing, `?` when it
    is locked."""
    name, inner = bench.home(path)
    archive = bench.archive(name) if inner else None
    if archive is not None:
        row = bench.row(path)
        return archive.kind(row) if row is not None else "empty"
    file = bench.game.original(name)
    if file is None:
        return "empty"
    with file.open("rb") as opened:
        return filetypes.kind_by_content(opened.read(filetypes.HEAD))


def original_head(bench: Workbench, path: str, size: int) -> bytes:
    """The first bytes of the original of something; none when the game has no such thing, or it is locked."""
    name, inner = bench.home(path)
    archive = bench.archive(name) if inner else None
    if archive is not None:
        row = bench.row(path)
        try:
            return archive.beginning(row, size) if row is not None else b""
        except VolvexError:
            return b""
    file = bench.game.original(name)
    if file is None:
        return b""
    with file.open("rb") as opened:
        return opened.read(size)


def one_meant(bench: Workbench, path: str) -> str | None:
    """The one thing of the game that a path means; None when it means none or several."""
    try:
        meant = list(bench.select(path))
    except NotFoundError:
        return None
    return bench.place_of(*meant[0]) if len(meant) == 1 else None


def original_source(bench: Workbench, path: str) -> Source:
    """The original of something in the bench, read where it lies when it is a file."""
    name, inner = bench.home(path)
    file = bench.game.original(name)
    if not inner and file is not None:
        return FileSource(file, path)
    if (bench.original_size(path) or 0) > LARGEST_INSIDE:
        raise RefusedError(f"{path} has more than {LARGEST_INSIDE:,} bytes within its archive", "a file of its own")
    return BytesSource(original_of(bench)(path), path)
