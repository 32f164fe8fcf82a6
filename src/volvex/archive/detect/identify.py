"""What a file is: by the marks of all layouts, by structure, by content; and what its bytes look like.

Guesses come with their reasons, the surest first. However large the file, a bounded amount of it is read.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from volvex.archive.access import pieces
from volvex.archive.access.open import open_source
from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.carve import Find, finds
from volvex.archive.detect.embedded import find_archives
from volvex.archive.detect.evidence import ENOUGH, evidence
from volvex.archive.detect.xor import open_betrayed, telling_keys
from volvex.archive.formats import FORMATS
from volvex.archive.layout_archive import LayoutArchive
from volvex.errors import FormatError, LockedError, VolvexError
from volvex.layout import Layout, Library
from volvex.layout.columns import Array
from volvex.layout.match import fits
from volvex.layout.model import rows_of_layout
from volvex.layout.read.open import read
from volvex.layout.transforms import with_keys
from volvex.shipped import GAMES
from volvex.source import Source, WindowSource

WINDOWS, WINDOW = 96, 4096  # places at which the entropy is taken, bytes at each
HEAD = 256
MOST_TEXT = 0.75  # share of printable bytes from which on a file is not taken for encrypted text
TIED, MARK, STRUCTURE, KEY, PARTS, CONTENT, NEAR = 110, 100, 80, 70, 60, 50, 20  # how sure


@dataclass(frozen=True)
class Guess:
    """Something that a file may be."""

    title: str
    by: str  # path, signature, structure, key, parts, content
    why: str
    sure: int  # of 100
    opens: bool
    entries: int | None = None
    fault: str = ""


@dataclass
class Identified:
    """What was found out about a file. Entropy in bits a byte, at even distances."""

    path: str
    size: int
    guesses: list[Guess]
    head: bytes = b""
    text: float = 0.0  # share of bytes that are printable text
    entropy: list[float] = field(default_factory=list)
    finds: list[Find] = field(default_factory=list)
    keys: list[bytes] = field(default_factory=list)

    @property
    def known(self) -> bool:
        """Whether something opens it, or it is a well-known kind of file."""
        return any(guess.opens or guess.by in ("content", "parts", "structure") for guess in self.guesses)


def identify(source: Source, library: Library, path: Path | None = None, inside: bool = False) -> Identified:
    """What some bytes are; `path` is where they are on disk, if they are a file of their own. VolvexError only when
    they cannot be read.

    What lies inside is looked for in what nothing knows, and with `inside` in everything.
    """
    guesses = [
        *by_tie(source, library),
        *by_marks(source, library),
        *by_drivers(source, library),
        *by_data(source, library),
    ]
    if not any(guess.opens for guess in guesses):
        guesses += by_structure(source, library)
        guesses += by_pieces(path, source, library) if path is not None else ()
        guesses += by_bytes(source, library)
    kind = filetypes.kind_by_more(source.peek(0, filetypes.LATE))
    if kind == "empty":
        guesses = [Guess("an empty file", "content", "no bytes", CONTENT, False)]
    elif kind != "binary" and not any(guess.opens for guess in guesses):
        text = filetypes.detail(kind, source.peek(0, HEAD))
        guesses.append(Guess(f"{kind}, {text}" if text else kind, "content", "its first bytes", CONTENT, False))
    found = Identified(source.name, source.size, sorted(guesses, key=lambda guess: -guess.sure))
    look(source, found, library, all_of_it=inside or not found.known)
    return found


def look(source: Source, found: Identified, library: Library, all_of_it: bool) -> None:
    """What the bytes look like; for what nothing knows also what lies inside, and a likely key."""
    found.head = source.peek(0, HEAD)
    sample, found.entropy = entropy_along(source)
    found.text = text_share(sample)
    if all_of_it:
        found.finds = list(finds(source))
        found.keys = telling_keys(source, library) if found.text < MOST_TEXT else []


def entropy_along(source: Source, windows: int = WINDOWS) -> tuple[bytes, list[float]]:
    """Some bytes of all of the file, and their entropy: bits a byte in each of the windows spread over it."""
    count = max(1, min(windows, source.size // 256))
    length = min(WINDOW, max(1, source.size // count))
    last = max(0, source.size - length)
    starts = [last * index // max(1, count - 1) for index in range(count)]
    parts = [source.peek(start, length) for start in starts]
    return b"".join(parts), [entropy(np.frombuffer(part, np.uint8)) for part in parts]


def entropy(data: Array) -> float:
    """The entropy of bytes, in bits a byte, with the first-order correction for what a short stretch cannot show."""
    if not len(data):
        return 0.0
    counts = np.bincount(data, minlength=256)
    shares = counts[counts > 0] / len(data)
    missing = (len(shares) - 1) / (2 * len(data) * np.log(2))
    return min(8.0, float(-(shares * np.log2(shares)).sum()) + float(missing))


def text_share(sample: bytes) -> float:
    """The share of bytes that are printable ASCII, blanks or line ends."""
    if not sample:
        return 0.0
    data = np.frombuffer(sample, np.uint8)
    return float((((data >= 32) & (data < 127)) | np.isin(data, (9, 10, 13))).mean())


# guesses


def by_marks(source: Source, library: Library) -> Iterator[Guess]:
    """Layouts whose marks the file bears, all or some of them."""
    for layout in library.layouts():
        if not layout.known:
            continue
        why = ", ".join(map(str, layout.known))
        if fits(layout, source):
            by = "name" if all(known.names for known in layout.known) else "signature"
            yield _tried(layout, source, library, by, why, MARK)


def by_tie(source: Source, library: Library) -> Iterator[Guess]:
    """The layout to which its path is tied."""
    layout = library.tied(source.name)
    if layout is None:
        return
    if layout.kind == "archive":
        yield _tried(layout, source, library, "path", "its path is tied to that layout", TIED)
    else:
        yield _as_data(layout, source, library, "path", "its path is tied to that layout", TIED)


def by_structure(source: Source, library: Library) -> Iterator[Guess]:
    """Layouts without a signature that read the file from end to end, where that says enough against chance.

    Those of games that ship are for these games' folders, where their paths are tied.
    """
    for layout in library.layouts():
        if layout.known or Path(layout.file).is_relative_to(GAMES):
            continue
        try:
            with LayoutArchive(read(with_keys(layout, library.keys.silent()), _lent(source))) as archive:
                bits = evidence(archive)
                entries = len(archive)
        except VolvexError:
            continue
        if bits >= ENOUGH:
            why = f"counts, offsets and names fit, {bits:,.0f} bits against chance; no signature, so --layout names it"
            yield Guess(layout.title, "structure", why, STRUCTURE, False, entries)


def by_data(source: Source, library: Library) -> Iterator[Guess]:
    """The layout of a table, of texts or of a scene whose marks the file bears."""
    layout = library.match_data(source)
    if layout is None or library.tied(source.name) is not None:
        return
    why = ", ".join(map(str, layout.known))
    yield _as_data(layout, source, library, "signature", why, MARK)


def _as_data(layout: Layout, source: Source, library: Library, by: str, why: str, sure: int) -> Guess:
    title = f"{layout.title}, a {layout.kind}"
    try:
        reading = read(with_keys(layout, library.keys.silent()), source)
    except VolvexError as error:
        return Guess(title, by, why, sure - 60, False, fault=error.message)
    records = sum(len(reading.blocks[block.name].starts) for block in rows_of_layout(layout) if not block.along)
    return Guess(title, by, why, sure, True, records)


def _tried(layout: Layout, source: Source, library: Library, by: str, why: str, sure: int) -> Guess:
    try:
        with LayoutArchive(read(with_keys(layout, library.keys.silent()), _lent(source))) as archive:
            return Guess(layout.title, by, why, sure, True, len(archive))
    except LockedError as error:
        return Guess(layout.title, by, why, sure - 5, False, fault=error.message)
    except VolvexError as error:
        return Guess(layout.title, by, why, sure - 60, False, fault=error.message)


def _lent(source: Source) -> Source:
    """A source that stays open when what was opened with it is closed."""
    lent = WindowSource(source, 0, source.size, source.name)
    lent.beside = source.beside
    return lent


def by_drivers(source: Source, library: Library) -> Iterator[Guess]:
    """Open formats."""
    for archive_format in FORMATS.all():
        if not archive_format.knows(source):
            continue
        try:
            with archive_format.opened(_lent(source), library.keys.silent()) as archive:
                guess = Guess(
                    archive.called,
                    "structure",
                    archive_format.WHY,
                    MARK - archive_format.PRIORITY // 10,
                    True,
                    len(archive),
                )
            yield guess
        except VolvexError as error:
            yield Guess(archive_format.TITLE, "structure", archive_format.WHY, NEAR, False, fault=error.message)


def by_pieces(path: Path, source: Source, library: Library) -> Iterator[Guess]:
    """A piece of an archive: the first opens with the others, a later one leads to the first."""
    archive = pieces.open_pieces(path, source, lambda whole: open_source(whole, library, None, False))
    if archive is not None and archive.cut is not None:
        why = f"{len(archive.cut.names)} pieces of {archive.cut.size:,} bytes side by side"
        guess = Guess(archive.called, "parts", why, PARTS + 20, True, len(archive))
        for part in archive.parts[1:]:  # the first is the caller's
            part.close()
        yield guess
        return
    first = pieces.first_of(path.name, lambda name: path.with_name(name).is_file())
    found = pieces.pieces_of(first, path.with_name(first), pieces.beside(path)) if first is not None else []
    names = [name for name, _ in found]
    if path.name in names and _is_piece_name(path.name):
        yield Guess(
            f"piece {names.index(path.name) + 1} of {len(names)} of {first}",
            "parts",
            "its name and its size",
            PARTS,
            False,
        )


def _is_piece_name(name: str) -> bool:
    """Whether a name is that of a piece beyond doubt, though the pieces do not open: files are numbered for other
    reasons as well."""
    digits = name.rpartition(".")[2]
    return digits.isdigit() and len(digits) >= 3


def by_bytes(source: Source, library: Library) -> Iterator[Guess]:
    """Archives behind a repeating key, and archives at any offset."""
    archive: Archive | None = open_betrayed(_lent(source), library, open_source)
    if archive is not None:
        with archive:
            guess = Guess(archive.called, "key", "an archive opens behind a repeating XOR key", KEY, True, len(archive))
        yield guess
        return
    for part in find_archives(source, library, open_source):
        try:
            yield Guess(
                f"{part.title} at {part.start:#x} in it",
                "parts",
                f"{part.end - part.start:,} bytes that open from there",
                PARTS,
                True,
            )
        except FormatError:
            continue
