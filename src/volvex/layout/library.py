"""The layouts at hand: those that ship, the user's, and those that a command names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from volvex.errors import RefusedError, VolvexError
from volvex.layout import check
from volvex.layout.model import Layout
from volvex.layout.reading import fits
from volvex.layout.syntax import read_layout
from volvex.source import Source

SHIPPED = (Path(__file__).parent.parent / "layouts", Path(__file__).parent.parent / "games")


class Library:
    """Layouts in the order in which they are asked; a layout is read when first needed."""

    def __init__(self, folders: Iterable[Path] = (), first: Iterable[Layout] = ()) -> None:
        self._folders = [*folders, *SHIPPED]
        self._first = list(first)
        self._read: list[Layout] | None = None
        self.faults: list[VolvexError] = []  # layouts that could not be read

    def layouts(self) -> Iterator[Layout]:
        """All sound layouts."""
        yield from self._first
        if self._read is None:
            self._read = []
            for file in self.files():
                try:
                    self._read.append(read_layout(file))
                except VolvexError as error:
                    self.faults.append(error)
        yield from self._read

    def files(self) -> Iterator[Path]:
        """The layout files of all folders, sorted within each."""
        for folder in self._folders:
            if folder.is_dir():
                yield from sorted(folder.rglob("*.layout"))

    def match(self, source: Source) -> Layout | None:
        """The first layout whose marks the file bears."""
        return next((layout for layout in self.layouts() if fits(layout, source)), None)


def require_writable(layout: Layout) -> None:
    """Nothing when files can be written by this layout; RefusedError with the lines and reasons otherwise."""
    reasons = check.unwritable(layout)
    if reasons:
        told = "; ".join(f"line {place.line}: {reason}" for place, reason in reasons)
        raise RefusedError(f"{layout.file}: archives of this layout can be read but not written: {told}")
