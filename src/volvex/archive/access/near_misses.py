"""What may have been meant by a path that means nothing."""

from __future__ import annotations

import difflib
from collections.abc import Callable

from volvex.archive.access.patterns import WILD
from volvex.archive.safe_names import quoted, shown
from volvex.errors import NotFoundError


def joined_path(name: str, part: str) -> str:
    """A path with one more component."""
    return f"{name.rstrip('/')}/{part}" if name else part


def missing_entry(names: list[str], archive: str, inner: str) -> NotFoundError:
    """The error for a path that means nothing within an archive, with what may have been meant."""
    if WILD.search(inner):
        return NotFoundError(f"nothing in {shown(archive)} matches {shown(inner)}")
    return NotFoundError(f"not in {shown(archive)}: {shown(inner)}", meant(inner, _near(inner, names), archive))


def missing_file(names: list[str], path: str, within: Callable[[str], str]) -> NotFoundError:
    """The error for a path that means no file of a game, with what may have been meant; `within` looks into its
    archives."""
    near = next((name for name in names if name.casefold() == path.casefold()), None)
    near = near or next((name for name in names if path.casefold().startswith(name.casefold() + "/")), None)
    near = near or next((name for name in _near(path, names) if name.endswith(f"/{path}")), None)
    near = near or within(path) or next(iter(difflib.get_close_matches(path, names, 1, 0.6)), None)
    return NotFoundError(
        f"not in the game: {shown(path)}", f"{quoted(near)}" if near else "`volvex list .` to list the files"
    )


def _near(inner: str, names: list[str]) -> list[str]:
    """Names worth comparing with a misspelt one, few enough to compare quickly."""
    folded, last = inner.casefold(), inner.rpartition("/")[2].casefold()
    same = [name for name in names if name.casefold() == folded]
    if same:
        return same
    ends = [name for name in names if name.casefold().endswith(last)][:50]
    start = [name for name in names if name.startswith(inner.partition("/")[0])]
    return [*ends, *(start or names)[:2000]]


def meant(part: str, names: list[str], within: str) -> str:
    for name in names:
        if name.casefold() == part.casefold():
            return quoted(joined_path(within, name))
    near = difflib.get_close_matches(part, names, 1, 0.6) or [name for name in names if name.endswith("/" + part)][:1]
    return quoted(joined_path(within, near[0])) if near else f"`volvex list {quoted(within or '.')}` to list the files"
