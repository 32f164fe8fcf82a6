"""Pictures of a bench in other programs: out to the folder `open`, back into the game's own form; a user's picture in a game's place.

A picture may be open as several files: its colours and its alpha apart, single levels. All of them together are put into the base: the
game's own picture, or what was in the bench when they were opened. So blocks that nobody touched keep the game's bytes, however
often a file is saved.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import quoted
from volvex.asset.exchange import PARTS, TakenOver, exported, replaced, taken_over
from volvex.asset.forms import form_of
from volvex.asset.open import Opened as OpenPicture
from volvex.asset.open import is_picture, may_be_picture, open_picture
from volvex.bench.bench_file import PICTURES, Opened
from volvex.bench.open_folder import FOLDER, is_edited, require_unedited, write_file
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError, NotFoundError, RefusedError, UsageError, VolvexError
from volvex.source import BytesSource
from volvex.source.digest import digest_bytes, digest_file

OWN, EDITED = PICTURES
LEVEL = re.compile(r"level ([0-9]+)")
LARGEST = 1 << 31  # bytes of a picture


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


@dataclass(frozen=True)
class Folded:
    """What taking over the files of a picture did: pixels that differ from the base, blocks made again, notes, and which files; or
    that these were written again, since the picture was changed otherwise."""

    pixels: int
    blocks: int
    notes: tuple[str, ...]
    files: tuple[str, ...]
    rewritten: bool = False


def open_picture_as(
    bench: Workbench, place: str, ending: str, asked: Asked, again: bool = False
) -> list[tuple[str, tuple[str, ...]]]:
    """Write a picture of the bench as files that other programs open: where, below the bench, and what each does not carry."""
    target, own = bench.files / place, bench.taken.get(place)
    digest = digest_file(target)
    base = OWN if own is not None and own.digest == digest else EDITED
    found = _opened(bench, place, target.read_bytes())
    if not 0 <= (asked.level or 0) < found.picture.levels:
        raise UsageError(
            f"{place} has no level {asked.level}: it has {found.picture.levels}", "--level 0 for the largest"
        )
    made = []
    for part in asked.parts:
        file = f"{FOLDER}/{place}{'.' + part.replace(' ', '') if part else ''}.{ending}"
        if not again:
            require_unedited(bench, [file])
        level = LEVEL.fullmatch(part)
        out = exported(found.picture, ending, "" if level else part, int(level[1]) if level else 0)
        data = form_of(ending).write(out.picture)
        write_file(bench, bench.folder / file, data)
        if base == EDITED:
            _keep_base(bench, place, target.read_bytes())
        bench.opened[file] = Opened(place, ending, base, part, digest_bytes(data), digest)
        made.append((file, out.notes))
    bench.save()
    return made


def _base_file(bench: Workbench, place: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(place.encode())}.picture"


def _keep_base(bench: Workbench, place: str, data: bytes) -> None:
    write_file(bench, _base_file(bench, place), data)


def _opened(bench: Workbench, place: str, data: bytes) -> OpenPicture:
    found = open_picture(BytesSource(data, place), bench.library)
    if found is None:
        raise UsageError(f"{place} is no picture", "a form for data: csv, json, po")
    return found


def fold_pictures(bench: Workbench, place: str, files: Sequence[str]) -> Folded | None:
    """Take over the edited ones of the files of a picture; None when none was. RefusedError when one does not fit in."""
    opened = {file: bench.opened[file] for file in files if (bench.folder / file).is_file()}
    for file in set(files) - set(opened):
        del bench.opened[file]
    target = bench.files / place
    edited = [file for file in opened if is_edited(bench, file)]
    moved = target.is_file() and any(digest_file(target) != known.of for known in opened.values())
    if not edited and not moved:
        return None
    if not edited:
        for known in opened.values():
            level = LEVEL.fullmatch(known.language)
            asked = Asked(known.language in PARTS, int(level[1]) if level else None)
            open_picture_as(bench, place, known.ending, asked, again=True)
        return Folded(0, 0, (), tuple(opened), rewritten=True)
    if not target.is_file():
        raise NotFoundError(
            f"{edited[0]} belongs to {place}, which is no longer on the bench",
            f"`volvex take {quoted(place)}`, or removing {edited[0]}",
        )
    if moved:
        raise RefusedError(
            f"{edited[0]} and {place} were both edited",
            f"removing {edited[0]}, or `volvex take --refresh {quoted(place)}`",
        )
    first = next(iter(opened.values()))
    base = b"".join(bench.original_content(place)) if first.sheet == OWN else _base_file(bench, place).read_bytes()
    result, found = _together(bench, place, base, opened)
    write_file(bench, target, found.form.write(result.picture))
    digest = digest_file(target)
    for file, known in opened.items():
        bench.opened[file] = Opened(
            place, known.ending, known.sheet, known.language, digest_file(bench.folder / file), digest
        )
    bench.save()
    return Folded(result.pixels, result.blocks, result.notes, tuple(edited))


def _together(bench: Workbench, place: str, base: bytes, opened: Mapping[str, Opened]) -> tuple[TakenOver, OpenPicture]:
    """The base with all that its files hold: the whole or its parts first, single levels with them."""
    found = _opened(bench, place, base)
    picture, pixels, blocks, notes = found.picture, 0, 0, list[str]()
    levels, whole = {}, list[tuple[str, Opened]]()
    for file, known in opened.items():
        level = LEVEL.fullmatch(known.language)
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
                known.ending,
                known.language,
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

    data: bytes
    form: str
    notes: tuple[str, ...]


def converted_for(bench: Workbench, path: str, source: Path, resize: bool, any_size: bool) -> Converted | None:
    """A user's file in the form of the picture that it is to replace; None when they are of one kind, or one of them is no picture.

    RefusedError for a picture of another size, unless it is to be resized or may have any.
    """
    if not source.is_file() or source.stat().st_size > LARGEST:
        return None
    with source.open("rb") as file:
        kind = filetypes.kind_by_content(file.read(filetypes.HEAD))
    if not is_picture(kind):
        return None
    try:
        meant = list(bench.select(path))
    except NotFoundError:
        return None  # told where it is put there
    if len(meant) != 1:
        return None
    place = bench.place_of(*meant[0])
    own = filetypes.kind_by_content(next(bench.original_content(place), b"")[: filetypes.HEAD])
    if not may_be_picture(own) or (kind == own and not (resize or any_size)):
        return None
    if (bench.original_size(place) or 0) > LARGEST:
        return None
    original = b"".join(bench.original_content(place))
    found = open_picture(BytesSource(original, place), bench.library)
    user = open_picture(BytesSource(source.read_bytes(), source.as_posix()))
    if found is None or user is None:
        return None
    result = replaced(found.picture, user.picture, resize, any_size)
    words = f"{found.picture.form} {found.picture.format}, {result.picture.levels} level{'s' if result.picture.levels != 1 else ''}"
    return Converted(found.form.write(result.picture), words, result.notes)


def put_converted(bench: Workbench, path: str, converted: Converted) -> str:
    """Put a converted picture in the place of the game's own; where it went in the bench."""
    place, target = bench.open_for_edit(path)
    write_file(bench, target, converted.data)
    return place
