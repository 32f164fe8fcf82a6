"""How far a find can be believed: how it was come by, what its content is, and how many accidents were to be expected.

A hash of `bits` bits hits one of `nameless` hashes by accident once in 2^bits / nameless tries. So among `tried` paths
tried x nameless / 2^bits hits are accidents; spread over all hits of the same kind that is the doubt of each.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum

from volvex.archive.detect import filetypes

BEYOND_DOUBT = 1e-3  # a find that is more likely than this to be an accident waits to be accepted
AGAINST = 1000.0  # how much more likely an accident is when content contradicts the extension


class EvidenceKind(IntEnum):
    """How a path was come by, the best evidence first."""

    WRITTEN = 0  # it is written in a file
    PIECED = 1  # its last part is written in a file, its folder is that of a known path
    SIBLING = 2  # it is like a known path: another number, side, language, extension
    GUESSED = 3  # somebody guessed

    @property
    def words(self) -> str:
        return ("read in a file", "pieced together", "sibling of a known name", "guessed")[self]


class Kind(IntEnum):
    """Whether content is what a path's extension says."""

    AGREES = 0
    UNTOLD = 1
    DISAGREES = 2

    @property
    def words(self) -> str:
        return ("agrees", "-", "disagrees")[self]


_SAME = {"jpeg": "jpg", "tiff": "tif", "htm": "html"}
_MARKED = frozenset(
    (
        "png",
        "jpg",
        "gif",
        "dds",
        "webp",
        "wav",
        "ogg",
        "flac",
        "mp3",
        "zip",
        "gz",
        "xz",
        "sqlite",
        "ttf",
        "otf",
        "pdf",
        "exe",
    )
)
_TEXTS = frozenset(("txt", "xml", "json", "csv", "tsv", "ini", "cfg", "lst", "lua", "js", "html", "md", "yaml", "toml"))


def kind_of(path: str, text: str) -> Kind:
    """Whether a path suits content whose own ending would be `told`."""
    extension = filetypes.kind_by_name(path)
    extension, text = _SAME.get(extension, extension), _SAME.get(text, text)
    if extension == text and text:
        return Kind.AGREES
    if extension in _TEXTS and text in ("txt", "xml", "json"):
        return Kind.AGREES if extension not in ("xml", "json") else Kind.DISAGREES
    if text in _MARKED or extension in _MARKED or (extension in _TEXTS and text):
        return Kind.DISAGREES if extension != "-" else Kind.UNTOLD
    return Kind.UNTOLD


@dataclass(frozen=True)
class Find:
    """A path that has an entry's key. `where`: the file that it was read in, or the path that it is like."""

    path: str
    archive: str  # the whole path of the archive
    key: str  # as the entry is called by it
    how: EvidenceKind
    where: str
    kind: Kind
    doubt: float = 1.0  # how likely it is an accident

    @property
    def beyond_doubt(self) -> bool:
        return self.doubt <= BEYOND_DOUBT


def expected(tried: int, nameless: int, bits: int) -> float:
    """How many accidental hits are to be expected."""
    return tried * nameless / 2.0**bits


def doubt(accidents: float, hits: int, kind: Kind, share: float) -> float:
    """How likely a hit is an accident, of `hits` among which `accidents` are expected.

    An accident agrees with its content as often as content of that kind is met: `share` of all nameless entries. That
    content is not what its extension says is seldom right: it needs keys that leave no room for accidents.
    """
    weight = {Kind.AGREES: max(share, 0.01), Kind.UNTOLD: 1.0, Kind.DISAGREES: AGAINST}[kind]
    return min(1.0, accidents / max(1, hits) * weight)


def chance(number: float) -> str:
    """An expected number of accidents, in words."""
    if number >= 10:
        return f"{number:,.0f}"
    if number >= 0.01:
        return f"{number:.2f}"
    return f"{number:.0e}".replace("e-0", "e-") if number else "0"
