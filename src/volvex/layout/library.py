"""The known layouts: those that ship, the user's, and those that a command names."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path

from volvex import shipped
from volvex.errors import VolvexError
from volvex.layout import cache
from volvex.layout.cache import Remembered
from volvex.layout.encoding import with_encoding
from volvex.layout.keyring import KeyRing
from volvex.layout.match import bears, head_of, may_begin
from volvex.layout.model import Layout
from volvex.layout.name_hash import Names
from volvex.layout.transforms import with_keys
from volvex.source import Disk, Source, atomic
from volvex.user_files import user_files

SHIPPED = (shipped.LAYOUTS, shipped.GAMES)
SURE = 4  # bytes of a signature that are no chance
_MADE: dict[tuple[str, Path], Remembered] = {}  # in this process, by the key of their text and their file


class Library:
    """Layouts in the order in which they are asked; a layout is read when first needed."""

    def __init__(
        self,
        folders: Iterable[Path] = (),
        first: Iterable[Layout] = (),
        memory: Path | None = None,
        keys: KeyRing | None = None,
        names: Names | None = None,
        shipped: Iterable[Path] = SHIPPED,
    ) -> None:
        self._folders = [*folders, *shipped]
        self._memory = memory  # where layouts that were read are remembered
        self._first = [Remembered.of(layout) for layout in first]
        self._read: list[Remembered] | None = None
        self._by_byte: dict[tuple[int | None, bool], list[Remembered]] = {}
        self.keys = keys or KeyRing()  # the user's, for what is locked
        self.names = names  # what knows names for entries that have only keys
        self.faults: list[VolvexError] = []  # layouts that could not be read
        self.encoded: Callable[[str], tuple[str, bool]] = (
            _unencoded  # of a text at a path its encoding, and whether it is sure
        )
        self.pictured: Callable[[str], str] = _unpictured  # what the channels of a picture at a path mean
        self.tied: Callable[[str], Layout | None] = _untied  # the layout that a path has, whatever its bytes are

    def prepared(self, layout: Layout, path: str) -> Layout:
        """The layout for the file at a path: with the user's keys, and the encoding that its texts have by the game
        description."""
        encoding = self.encoded(path)[0]
        layout = with_keys(layout, self.keys)
        return with_encoding(layout, encoding) if encoding else layout

    def layouts(self) -> Iterator[Layout]:
        """All sound layouts of archives."""
        return (layout for layout in self.every() if layout.kind == "archive")

    def every(self) -> Iterator[Layout]:
        """All sound layouts."""
        return (remembered.layout for remembered in self.remembered())

    def fitting(self, source: Source, head: bytes = b"", data: bool = False) -> Iterator[Layout]:
        """The layouts of archives (or of data) whose signature a file bears; `head` is its beginning, if known.

        Those that know their files only by name, or by few bytes, come last, and must read this one without a fault.
        """
        named = []
        for remembered in self._asked(head, data):
            if bears(remembered.known, source, head):
                if sum(min(map(len, known.values)) for known in remembered.known if not known.names) < SURE:
                    named.append(remembered)
                else:
                    yield remembered.layout
        yield from (remembered.layout for remembered in named if _is_read(remembered.layout, source))

    def _asked(self, head: bytes, data: bool) -> list[Remembered]:
        """The layouts of which one may know a file that begins with `head`: few of them begin with its first byte."""
        of = (head[0] if head else None, data)
        if of not in self._by_byte:
            self._by_byte[of] = [
                one
                for one in self.remembered()
                if one.known and (one.kind != "archive") == data and (not head or may_begin(one.known, head[0]))
            ]
        return self._by_byte[of]

    def remembered(self) -> Iterator[Remembered]:
        """All sound layouts, of which no more is made than is asked for."""
        yield from self._first
        if self._read is None:
            self._read = []
            for file in self.files():
                try:
                    self._read.append(self._layout(file))
                except VolvexError as error:
                    self.faults.append(error)
        yield from self._read

    def _layout(self, file: Path) -> Remembered:
        """A layout, from what is remembered of it when its text is the same as then."""
        key = cache.key(file.read_bytes())
        known = self._memory / f"{key}.json" if self._memory else None
        found = _MADE.get((key, file))
        if found is not None and (known is None or known.is_file()):
            return found
        there = cache.load(known.read_bytes(), file.as_posix()) if known is not None and known.is_file() else None
        if there is None:
            there = found or self._parsed(file)
            dumped = cache.dump(there.layout) if known is not None else None
            if known is not None and dumped is not None:
                with contextlib.suppress(OSError), atomic(Disk(), known, durable=False) as out:
                    out.write(dumped)
        return _MADE.setdefault((key, file), there)

    def _parsed(self, file: Path) -> Remembered:
        from volvex.layout.language.parser import read_layout  # only here: the parser takes a while to load

        return Remembered.of(read_layout(file))

    def files(self) -> Iterator[Path]:
        """The layout files of all folders, sorted within each."""
        for folder in self._folders:
            if folder.is_dir():
                yield from user_files(folder, "*.layout")

    def match(self, source: Source) -> Layout | None:
        """The layout to which its path is tied, or the first of an archive whose signature the file bears."""
        tied = self.tied(source.name)
        if tied is not None:
            return tied if tied.kind == "archive" else None
        return next(self.fitting(source, head_of(source)), None)

    def match_data(self, source: Source) -> Layout | None:
        """The same for a table, texts or a scene."""
        tied = self.tied(source.name)
        if tied is not None:
            return tied if tied.kind != "archive" else None
        return next(self.fitting(source, head_of(source), data=True), None)


def _is_read(layout: Layout, source: Source) -> bool:
    """Whether the blocks of a file are where a layout says."""
    from volvex.layout.read.locate import locate  # only here: most files are known by their bytes
    from volvex.layout.read.verify import verify_blocks

    try:
        reading = locate(layout, source)
    except VolvexError:
        return False
    try:
        verify_blocks(reading)
    except VolvexError:
        return False
    finally:
        reading.let_go()
    return True


def _unencoded(path: str) -> tuple[str, bool]:
    return "", False


def _unpictured(path: str) -> str:
    return ""


def _untied(path: str) -> Layout | None:
    return None
