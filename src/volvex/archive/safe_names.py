"""Names from archives, which nobody may trust: shown without harm, and put on disk without escape.

`shown` makes any name safe for a terminal. `disk_names` gives every entry a relative path that works on
Windows, macOS and Linux alike, or the reason why it gets none. It is the same on every system and depends
on the archive alone, so that a packed folder finds its way back to the entries.
"""

from __future__ import annotations

import os
import re
import shlex
import unicodedata
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from volvex.source.disk import PART, is_leftover

_UNSEEN = re.compile("[\x00-\x1f\x7f-\xa0\u2000-\u200f\u2028-\u202f\u2060-\u2069\ufeff\ud800-\udfff]")
_UNFIT = re.compile('[\x00-\x1f\x7f-\x9f<>:"|?*\ud800-\udfff]|[. ]$')
_DEVICE = re.compile(r"(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])(?=[. ]*$|\s*\.)", re.I)
_DRIVE = re.compile(r"[A-Za-z]:")
_PLAIN = re.compile(r"[a-z0-9_][a-z0-9_-]*(?:[./][a-z0-9_][a-z0-9_-]*)*", re.A)
_NOT_PLAIN = re.compile(
    r"[^a-z0-9_./\n-]|(?:^|/)(?:[./-]|$)|[./](?:/|$)|(?:^|/)(?:con|prn|aux|nul|com[0-9]|lpt[0-9])(?:[./]|$)", re.M
)
LONGEST = 240  # bytes of one component, as most disks allow


def shown(name: str) -> str:
    """The name with what a terminal would not show, or would obey, as escapes."""
    return _UNSEEN.sub(lambda match: _escape(match[0]), name)


def _escape(character: str) -> str:
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:  # an undecodable byte
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}"


def quoted(name: str) -> str:
    """A name in a command that is to be pasted into a shell: shown, and in quotes where it needs them."""
    plain = shown(name)
    if os.name == "nt":
        return f'"{plain}"' if re.search(r"[\s&()^;,='`%!]", plain) else plain
    return shlex.quote(plain)


def clean(name: str) -> str:
    """A name as a path: forward slashes."""
    return name.replace("\\", "/")


def stays_inside(path: str) -> bool:
    """Whether a relative path with forward slashes leads nowhere but below the folder that it is put behind."""
    return bool(path) and not path.startswith("/") and not _DRIVE.match(path) and ".." not in clean(path).split("/")


@dataclass(frozen=True)
class Refusal:
    """Why an entry gets no place on disk."""

    reason: str


def _place(name: str) -> str | Refusal:
    if name.startswith("/"):
        return Refusal("its name is an absolute path")
    if _DRIVE.match(name):
        return Refusal("its name starts with a drive letter")
    if name.endswith("/"):  # a folder as an entry of its own
        inner = _place(name.rstrip("/"))
        return inner if isinstance(inner, Refusal) else inner + "/"
    parts = [part for part in name.split("/") if part not in ("", ".")]
    if ".." in parts:
        return Refusal("its name climbs out of the folder")
    if not parts:
        return Refusal("it has no name")
    fitting = [_fit(part) for part in parts]
    if any(len(part.encode("utf-8", "surrogatepass")) > LONGEST for part in fitting):
        return Refusal(f"a part of its name is longer than {LONGEST} bytes")
    return "/".join(fitting)


def _fit(part: str) -> str:
    """A component that every disk takes: what some disk would not is written as %XX."""
    part = _UNFIT.sub(lambda match: "".join(f"%{byte:02X}" for byte in match[0].encode("utf-8", "surrogatepass")), part)
    if is_leftover(part):  # it would be taken for a temporary file of ours
        return f"{part[:-1]}%{ord(part[-1]):02X}"
    return f"%{ord(part[0]):02X}{part[1:]}" if _DEVICE.match(part) else part


def disk_names(names: Sequence[str]) -> list[str | Refusal]:
    """Where each entry goes on disk; names that would fall together are told apart by ~2, ~3 ..."""
    if _all_plain(names):
        return list(names)
    places = [name if _is_plain(name) else _place(name) for name in names]
    taken: set[str] = set()
    numbers: dict[str, int] = {}  # the last one that a name got, so that the next is found at once
    folders = _folders(places)
    for index, place in enumerate(places):
        if isinstance(place, Refusal) or place.endswith("/"):
            continue
        free, key = place, _fold(place)
        folded, number = key, numbers.get(key, 1)
        while folded in taken or folded in folders:
            number += 1
            free = _numbered(place, number)
            folded = _fold(free)
        numbers[key] = number
        taken.add(folded)
        places[index] = free
    return places


def distinct_paths(names: list[str], identity: Callable[[str], str]) -> list[str]:
    """Names of which none is there twice: of equal ones the first stays, the others get ~2, ~3 ... that no other name
    has.

    Names that are equal for `identity` count as the same. Folders, which end with a slash, stay as they are.
    """
    wanted = list(map(identity, names))
    taken = set(wanted)
    if len(taken) == len(names):
        return names
    met: set[str] = set()
    numbers: dict[str, int] = {}
    found = list(names)
    for row, (name, key) in enumerate(zip(names, wanted, strict=True)):
        if key not in met or name.endswith("/"):
            met.add(key)
            continue
        number, free = numbers.get(key, 1), key
        while free in taken:
            number += 1
            free = _numbered(key, number)
        numbers[key] = number
        taken.add(free)
        found[row] = free + name[len(key) :] if name != key else free
    return found


def _all_plain(names: Sequence[str]) -> bool:
    """Whether all names can stay as they are, found out for all at once: most archives have only such names."""
    text = "\n".join(names)
    if (
        not text
        or text.count("\n") != len(names) - 1
        or _NOT_PLAIN.search(text)
        or max(map(len, names)) >= LONGEST
        or len(set(names)) < len(names)
        or PART in text
    ):
        return False
    return not (_folders(sorted({name.rpartition("/")[0] + "/" for name in names})) & set(names))


def _is_plain(name: str) -> bool:
    return (
        _PLAIN.fullmatch(name) is not None
        and not any(_DEVICE.match(part) for part in name.split("/"))
        and len(name) < LONGEST
        and not is_leftover(name)
    )


def _folders(places: Sequence[str | Refusal]) -> set[str]:
    """Every folder that some entry needs: no file can have its name."""
    found: set[str] = set()
    for place in places:
        if isinstance(place, str):
            for folder in _above(_fold(place)):
                if folder in found:
                    break
                found.add(folder)
    return found


def _above(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def _fold(path: str) -> str:
    """What a case-blind disk makes of a path."""
    return path if path.isascii() and path.islower() else unicodedata.normalize("NFC", path).casefold()


def _numbered(path: str, number: int) -> str:
    folder, slash, name = path.rpartition("/")
    stem, dot, extension = name.rpartition(".")
    return f"{folder}{slash}{stem}~{number}{dot}{extension}" if stem else f"{folder}{slash}{name}~{number}"
