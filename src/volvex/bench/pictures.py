"""Pictures of a bench in other programs: out to the folder `open`, back into the game's own form; a user's picture in a game's place.

A picture may be open as several files: its colours and its alpha apart, single levels. All of them together are put into the base: the
game's own picture, or what was in the bench when they were opened. So blocks that nobody touched keep the game's bytes, however
often a file is saved.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.asset.picture.exchange import PARTS, TakenOver, exported, replaced, taken_over
from volvex.asset.picture.formats import form_of
from volvex.asset.picture.open import Opened as OpenPicture
from volvex.asset.picture.open import is_picture, may_be_picture, open_picture
from volvex.bench.content import Read, current_of, one_meant, original_kind, original_of
from volvex.bench.open_folder import (
    FOLDER,
    SyncResult,
    asset_of,
    counted,
    digest_of,
    is_own,
    settle_edited,
    state_of,
    write_file,
)
from volvex.bench.opened import EDITED, ORIGINAL, PICTURE, OpenedAsset
from volvex.bench.picture_files import LARGEST, picture_at, place_beside, write_files, write_picture
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError, RefusedError, UsageError, VolvexError
from volvex.source import BytesSource
from volvex.source.digest import digest_bytes, digest_file

LEVEL = re.compile(r"level ([0-9]+)")


@dataclass(frozen=True)
class Asked:
    """How a picture is opened: whole, with its channels apart, or one level of it."""

    apart: bool = False
    level: int | None = None

    @property
    def parts(self) -> tuple[str, ...]:
        """The files that are made of it, by what each holds."""
        if self.level:
            return (f"level {self.level}",)
        return PARTS if self.apart else ("",)


def open_picture_as(
    bench: Workbench, place: str, ending: str, asked: Asked, again: bool = False
) -> list[tuple[str, tuple[str, ...]]]:
    """Write a picture of the bench as files that other programs open: where, below the bench, and what each does not carry."""
    found = _opened(bench, place, current_of(bench))
    places = (place, *(place_beside(place, name) for name in found.beside))
    digest = digest_of(bench, places)
    base = ORIGINAL if all(is_own(bench, one) for one in places) else EDITED
    if not 0 <= (asked.level or 0) < found.picture.levels:
        raise UsageError(
            f"{place} has no level {asked.level}: it has {found.picture.levels}", "--level 0 for the largest"
        )
    made = []
    for part in asked.parts:
        file = f"{FOLDER}/{place}{'.' + part.replace(' ', '') if part else ''}.{ending}"
        settle_edited(bench, [file], again)
        level = LEVEL.fullmatch(part)
        out = exported(found.picture, ending, "" if level else part, int(level[1]) if level else 0)
        data = form_of(ending).write(out.picture)
        write_file(bench, bench.folder / file, data)
        if base == EDITED:
            for one in places:
                write_file(bench, _base_file(bench, one), current_of(bench)(one))
        bench.opened[file] = OpenedAsset(
            place, ending, digest_bytes(data), digest, places[1:], asset=PICTURE, base=base, part=part
        )
        made.append((file, out.notes))
    bench.save()
    return made


def _base_file(bench: Workbench, place: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(place.encode())}.picture"


def _opened(bench: Workbench, place: str, read: Read) -> OpenPicture:
    found = picture_at(bench, place, read)
    if found is None:
        raise UsageError(f"{place} is no picture", "a format for data: csv, json, po")
    return found


def sync_pictures(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    """Take over the edited ones of the files of a picture, all together. RefusedError when one does not fit in."""
    state = state_of(bench, path, files)
    if not state.edited and not state.moved:
        return []
    if not state.edited:
        return [SyncResult(path, " and ".join(state.opened), _written_again(bench, path, list(state.opened)))]
    opened = {file: asset_of(bench, file) for file in state.opened}
    first = next(iter(opened.values()))
    read = original_of(bench) if first.base == ORIGINAL else lambda one: _kept(bench, one)
    result, found = _together(bench, path, read, opened)
    with taking_over(bench, list(opened), (path, *(place_beside(path, name) for name in found.beside))):
        write_picture(bench, path, found, result.picture)
        for file, known in opened.items():
            own = digest_file(bench.folder / file)
            bench.opened[file] = replace(known, digest=own, of=digest_of(bench, (path, *known.beside)))
        bench.save()
    blocks = f", {counted(result.blocks, 'block')} made again" if result.blocks else ""
    said = f"{counted(result.pixels, 'pixel')} taken over{blocks}"
    return [SyncResult(path, " and ".join(state.edited), said, result.notes)]


def _written_again(bench: Workbench, path: str, files: Sequence[str]) -> str:
    """Write the files of a picture that was changed otherwise; what was done."""
    for file in files:
        known = asset_of(bench, file)
        level = LEVEL.fullmatch(known.part)
        asked = Asked(known.part in PARTS, int(level[1]) if level else None)
        try:
            open_picture_as(bench, path, known.extension, asked, again=True)
        except VolvexError as error:
            return f"left as it was: {error.message}"
    return "rewritten"


def _kept(bench: Workbench, place: str) -> bytes:
    """The base of a picture that was edited before it was opened; of what is none of its files what the bench has."""
    kept = _base_file(bench, place)
    return kept.read_bytes() if kept.is_file() else current_of(bench)(place)


def _together(
    bench: Workbench, place: str, read: Read, opened: Mapping[str, OpenedAsset]
) -> tuple[TakenOver, OpenPicture]:
    """The base with all that its files hold: the whole or its parts first, single levels with them."""
    found = _opened(bench, place, read)
    picture, pixels, blocks, notes = found.picture, 0, 0, list[str]()
    levels, whole = {}, list[tuple[str, OpenedAsset]]()
    for file, known in opened.items():
        level = LEVEL.fullmatch(known.part)
        if level:
            levels[int(level[1])] = _read(bench, file).picture
        else:
            whole.append((file, known))
    for number, (file, known) in enumerate(whole):
        edited = _read(bench, file).picture
        try:
            result = taken_over(
                picture,
                edited,
                known.extension,
                known.part,
                levels if number == len(whole) - 1 else None,
            )
        except VolvexError as error:
            raise RefusedError(f"{file}: {error.message}", error.hint) from error
        picture, pixels, blocks = result.picture, pixels + result.pixels, blocks + result.blocks
        notes += result.notes
    if levels and not whole:
        same = exported(picture, "png").picture
        result = taken_over(picture, same, "png", levels=levels)
        picture, blocks = result.picture, result.blocks
    return TakenOver(picture, pixels, blocks, tuple(dict.fromkeys(notes))), found


def _read(bench: Workbench, file: str) -> OpenPicture:
    source = bench.folder / file
    if source.stat().st_size > LARGEST:
        raise RefusedError(f"{file} has more than {LARGEST:,} bytes", "a smaller picture")
    data = source.read_bytes()
    found = open_picture(BytesSource(data, file))
    if found is None:
        kind = filetypes.kind_by_content(data[: filetypes.HEAD])
        raise FormatError(file, f"this is no picture, but {kind}", hint="saving it again as a picture")
    return found


@dataclass(frozen=True)
class Converted:
    """A user's picture in the form of the game's own: the bytes, what that form is, and what is to be told."""

    files: Mapping[str, bytes]  # its own under an empty name, those beside it by theirs
    form: str
    notes: tuple[str, ...]


def converted_for(
    bench: Workbench, path: str, source: Path, resize: bool, any_size: bool, recolour: bool = False
) -> Converted | None:
    """A user's file in the form of the picture that it is to replace; None when they are of one kind, or one of them is no picture.

    RefusedError for a picture of another size, unless it is to be resized or may have any.
    """
    if not source.is_file() or source.stat().st_size > LARGEST:
        return None
    with source.open("rb") as file:
        kind = filetypes.kind_by_content(file.read(filetypes.HEAD))
    if not is_picture(kind):
        return None
    place = one_meant(bench, path)
    if place is None:
        return None  # reported where it is put there
    own = original_kind(bench, place)
    if not may_be_picture(own) or (kind == own and not (resize or any_size or recolour)):
        return None
    if (bench.original_size(place) or 0) > LARGEST:
        return None
    found = picture_at(bench, place, original_of(bench))
    user = open_picture(BytesSource(source.read_bytes(), source.as_posix()))
    if found is None or user is None:
        return None
    result = replaced(found.picture, user.picture, resize, any_size, recolour)
    words = f"{found.picture.form} {found.picture.format}, {result.picture.levels} level{'s' if result.picture.levels != 1 else ''}"
    return Converted(found.files(result.picture), words, result.notes)


def put_converted(bench: Workbench, path: str, converted: Converted) -> str:
    """Put a converted picture in the place of the game's own; where it went in the bench."""
    place, _ = bench.open_for_edit(path)
    write_files(bench, place, converted.files, keep=True)
    return place
