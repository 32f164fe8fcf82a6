"""Content that lies in files beside the one that holds the directory: volumes.

Their names come from a pattern: `{name}` is the directory's own name without its ending, `{00}` the volume's number in
at least so many digits. For reading they are joined to one source; places count within each.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from volvex.errors import FormatError
from volvex.layout.model import Layout
from volvex.source import Beside, BytesSource, JoinedSource, Source

NUMBERED = re.compile(r"\{(0+)\}")
MOST = 1000


def wrong_file(pattern: str) -> str:
    """What is wrong with the pattern of a file's name, which may lie in another folder; nothing when it can be used."""
    bare = pattern.replace("{name}", "n")
    if "{" in bare or "}" in bare:
        return "in braces there is `{name}`"
    parts = bare.split("/")
    return "" if all(parts) and "\\" not in bare and parts[-1] not in (".", "..") else "this is no path of a file"


@dataclass(frozen=True)
class Volume:
    """One of them: its number, its file's name, and where it starts in the source of all."""

    number: int
    name: str
    source: Source
    base: int


def wrong_pattern(pattern: str) -> str:
    """What is wrong with a pattern of names; nothing when it can be used."""
    bare = NUMBERED.sub("0", pattern, count=1).replace("{name}", "n")
    if "{" in bare or "}" in bare:
        return "in braces there is `{name}` or one `{00}`"
    return (
        "volumes lie in the same folder: a name without slashes"
        if "/" in bare or "\\" in bare or bare in ("", ".", "..")
        else ""
    )


def volume_name(pattern: str, own: str, number: int) -> str:
    """The name of a volume of a file called `own`."""
    stem = own.rpartition("/")[2].rpartition(".")[0] or own.rpartition("/")[2]
    return NUMBERED.sub(lambda match: f"{number:0{len(match[1])}}", pattern.replace("{name}", stem))


def names_beside(layout: Layout, own: str) -> tuple[str, ...]:
    """What files beside a picture of a layout may be called, from its folder."""
    pattern = layout.content.volumes
    numbers = range(1, 33) if NUMBERED.search(pattern) else (0,) if pattern else ()
    return (
        *(volume_name(pattern, own, number) for number in numbers),
        *(volume_name(part.file, own, 0) for part in layout.parts if part.file),
    )


def opened_beside(own: str, name: str, beside: Beside | None) -> Source:
    """A file beside another one, in which some of its content lies; FormatError when it is missing."""
    found = beside(name) if beside is not None else None
    if found is None:
        raise FormatError(
            own, f"its content lies in {name}, which is not beside it", hint="a whole copy of the game's folder"
        )
    return found


def open_volumes(
    pattern: str, source: Source, numbers: Sequence[int], beside: Beside | None
) -> tuple[list[Volume], JoinedSource]:
    """The volumes with these numbers, and all of them as one source; FormatError when one is missing."""
    if len(numbers) > MOST:
        raise FormatError(source.name, f"{len(numbers)} volumes", hint="another layout: no game has that number")
    found: list[Volume] = []
    try:
        for number in numbers:
            name = volume_name(pattern, source.name, number)
            one = opened_beside(source.name, name, beside)
            # one byte of nobody's lies between two, so that the end of one is not the start of the next
            base = found[-1].base + found[-1].source.size + 1 if found else 0
            found.append(Volume(number, name, one, base))
    except BaseException:
        for volume in found:
            volume.source.close()
        raise
    parts = [part for volume in found for part in (volume.source, BytesSource(b"\0", "between"))][:-1]
    return found, JoinedSource(parts, f"the volumes of {source.name}")
