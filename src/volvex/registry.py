"""One registry for everything that is a file each: codecs, kinds of layout, formats, commands.

A family is a package. Each module of it whose name has no underscore in front is one member and declares everything
about itself: the names that the family's protocol lists. A module is imported when it is first asked for, and nothing
else has to be changed to add one. Other packages add members through the entry point group `volvex.FAMILY`; the name of
the entry point is the member's name, and its object offers what a module would offer.

A member of another package never stands in the way of ours: one that cannot be loaded is left out, one with the name of
ours is not taken, and `SKIPPED` has both.
"""

from __future__ import annotations

import contextlib
import functools
import importlib
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar, cast

from volvex.errors import UsageError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

T = TypeVar("T")
SKIPPED: dict[str, Exception | None] = {}  # members of other packages that were left out: what is to be said, and why
LONGEST = 64  # letters of a name; longer ones come from files that nobody may trust


class Registry(Generic[T]):
    """The members of one family, by name."""

    def __init__(
        self,
        family: str,
        package: str,
        folder: Path,
        apart: tuple[str, ...] = (),
        hyphens: bool = False,
        needs: tuple[str, ...] = (),
        member: str = "",
    ) -> None:
        """`folder` holds the files of `package`; sub-packages count too (`names.add`), but for those in `apart`. With
        `hyphens` a file `game_log.py` is the member `game-log`. `needs`: what a member of another package must have to
        be taken. `member`: what of its file one of ours is; the file itself where it is empty.
        """
        self._needs, self._member = needs, member
        self._hyphens = hyphens
        self.family = family
        self._package, self._folder, self._apart = package, folder, apart
        self._loaded: dict[str, T] = {}

    def names(self) -> list[str]:
        """All names, sorted; those of sub-packages with a dot."""
        return sorted({*self._own, *self._others})

    def __contains__(self, name: object) -> bool:
        return isinstance(name, str) and len(name) <= LONGEST and (name in self._own or name in self._others)

    def file_of(self, name: str) -> Path | None:
        """The file of one of our own members; None for another package's."""
        if name not in self._own:
            return None
        inner = name.replace("-", "_") if self._hyphens else name
        return self._folder / f"{inner.replace('.', '/')}.py"

    def load(self, name: str) -> T:
        """The member of that name; UsageError when there is none, or when another package's cannot be loaded."""
        if name not in self._loaded:
            self._loaded[name] = cast(T, self._import(name))
        return self._loaded[name]

    def all(self) -> list[T]:
        """All members in the order of their `PRIORITY`, then of their names."""
        return self._ordered

    @functools.cached_property
    def _ordered(self) -> list[T]:
        loaded = []
        for name in self.names():
            try:
                loaded.append((int(getattr(self.load(name), "PRIORITY", 0)), name))
            except UsageError as error:
                SKIPPED[f"{error.message}; left out"] = error
        return [self.load(name) for _, name in sorted(loaded)]

    def _import(self, name: str) -> Any:
        if len(name) <= LONGEST and name in self._own:
            module = importlib.import_module(f"{self._package}.{name.replace('-', '_') if self._hyphens else name}")
            return getattr(module, self._member) if self._member else module
        point = self._others.get(name) if len(name) <= LONGEST else None
        if point is None:
            raise UsageError(f"there is no {self.family} called {name[:LONGEST]}", f"one of {', '.join(self.names())}")
        try:
            return self._complete(point.load())
        except Exception as error:  # another package's fault, whatever it is
            raise UsageError(
                f"the {self.family} {name} of {point.value} cannot be loaded: {type(error).__name__}: {error}",
                "updating or removing the package that it comes from",
            ) from error

    def _complete(self, member: Any) -> Any:
        """A member of another package; AttributeError when it lacks something that all of the family have."""
        lacking = [name for name in self._needs if not hasattr(member, name)]
        if lacking:
            raise AttributeError(f"it has no {' and no '.join(lacking)}")
        return member

    @functools.cached_property
    def _own(self) -> frozenset[str]:
        names = _modules(self._folder, self._apart)
        return frozenset(name.replace("_", "-") if self._hyphens else name for name in names)

    @functools.cached_property
    def _others(self) -> dict[str, EntryPoint]:
        if not _extended():
            return {}
        from importlib.metadata import entry_points

        points = {point.name: point for point in entry_points(group=f"volvex.{self.family}")}
        for name in points.keys() & self._own:
            said = f"the {self.family} {name} of {points[name].value} has the name of a built-in one; left out"
            SKIPPED[said] = None
        return {name: point for name, point in points.items() if name not in self._own}


@functools.cache
def _extended() -> bool:
    """Whether an installed package may add members. Asking `importlib.metadata` takes longer than a short command."""
    for entry in sys.path:
        folder = Path(entry)
        if folder.is_file():  # a zipped path, which has to be asked
            return True
        for pattern in ("*.dist-info/entry_points.txt", "*.egg-info/entry_points.txt"):
            for file in folder.glob(pattern) if folder.is_dir() else ():
                with contextlib.suppress(OSError):
                    if b"[volvex." in file.read_bytes():
                        return True
    return False


def _modules(folder: Path, apart: tuple[str, ...], before: str = "") -> Iterator[str]:
    for path in folder.iterdir():
        if path.name.startswith(("_", ".")) or path.name in apart:
            continue
        if path.suffix == ".py":
            yield before + path.stem
        elif path.is_dir():
            yield from _modules(path, (), f"{before}{path.name}.")
