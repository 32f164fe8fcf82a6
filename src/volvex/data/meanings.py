"""What a game description says of the fields of a game's data: which refer to records, which are paths, how long a text
may be.

Files are patterns on the end of a path; a sheet or field may be `*`.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from volvex.data.path_index import fits
from volvex.errors import FormatError

if TYPE_CHECKING:
    from volvex.data.model.sheet import Sheet

PATH = "path"
EXAMPLE = '"rules/keepers.xml keeper lamp" = "rules/lamps.xml lamp"'


@dataclass(frozen=True)
class Spot:
    """Fields, or (without a field) records: patterns of file, sheet and field."""

    file: str
    sheet: str = "*"
    field: str = ""

    @classmethod
    def of(cls, text: str, parts: int, where: str) -> Spot:
        """A spot from its words; FormatError when there are others than `parts`."""
        words = text.split()
        if len(words) != parts:
            raise FormatError(
                where,
                f"{text!r} has {len(words)} words, this needs {parts}: a file, a sheet"
                + (", a field" if parts > 2 else ""),
                hint=EXAMPLE,
            )
        return cls(*words)

    def is_file(self, path: str) -> bool:
        """Whether a path is meant."""
        return fits(path, self.file)

    def is_sheet(self, sheet: Sheet) -> bool:
        """Whether a sheet is meant, by its name or that of its group."""
        return any(fnmatch.fnmatchcase(text, self.sheet) for text in (sheet.name, sheet.group))

    def fields(self, sheet: Sheet) -> list[str]:
        """The fields of a sheet that are meant."""
        return [name for name in sheet.columns if fnmatch.fnmatchcase(name, self.field)]


@dataclass(frozen=True)
class Reference:
    """Fields that hold ids: of the records in `target`, or (none) paths of files."""

    source: Spot
    target: Spot | None


@dataclass
class Meanings:
    """What a game description says of a game's data."""

    data: tuple[str, ...] = ()  # patterns of the files that are data
    references: tuple[Reference, ...] = ()
    language: str = ""  # that in which texts are written first
    fonts: tuple[
        tuple[str, Spot], ...
    ] = ()  # patterns of files, and the fields that hold all characters that there are
    lengths: tuple[tuple[Spot, int], ...] = ()  # characters that a text may have where it is shown
    versions: tuple[tuple[Spot, Spot], ...] = ()  # fields that hold the same version as other ones


def described(values: Mapping[str, object], file: str) -> Meanings:
    """What a game description's tables say; FormatError when one is not as it should be."""

    def table(name: str) -> Mapping[str, object]:
        found = values.get(name, {})
        if not isinstance(found, dict):
            raise FormatError(file, f"[{name}] is a table")
        return found

    def texts(name: str) -> Iterator[tuple[str, str]]:
        for row_id, value in table(name).items():
            if not isinstance(value, str):
                raise FormatError(file, f"[{name}] has a text for {row_id!r}", hint=EXAMPLE)
            yield row_id, value

    references = [
        Reference(Spot.of(row_id, 3, file), None if value == PATH else Spot.of(value, 2, file))
        for row_id, value in texts("references")
    ]
    lengths = []
    for row_id, most in table("lengths").items():
        if not isinstance(most, int) or most < 1:
            raise FormatError(
                file, f"[lengths] has a number of characters for {row_id!r}", hint='"texts/menu.txl texts *" = 24'
            )
        lengths.append((Spot.of(row_id, 3, file), most))
    return Meanings(
        tuple(values.get("data", ())),  # type: ignore[arg-type]
        tuple(references),
        str(values.get("language", "")),
        tuple((row_id, Spot.of(value, 3, file)) for row_id, value in texts("fonts")),
        tuple(lengths),
        tuple((Spot.of(row_id, 3, file), Spot.of(value, 3, file)) for row_id, value in texts("versions")),
    )
