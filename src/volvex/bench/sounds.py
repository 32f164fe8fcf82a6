"""Sounds of a bench in other programs: out to the folder `open`, back into the game's own form; a user's sound in a game's place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.asset.sounds.describe import format_text
from volvex.asset.sounds.exchange import differing_frames, exported, replaced, taken_over
from volvex.asset.sounds.open import Opened as OpenSound
from volvex.asset.sounds.open import is_sound, may_be_sound, open_sound
from volvex.asset.sounds.sound import LARGEST, Sound
from volvex.bench.bench_file import SOUNDS, Opened
from volvex.bench.changes import FileChange
from volvex.bench.content import Read, current_of, one_meant, original_kind, original_of
from volvex.bench.open_folder import FOLDER, replace_file, settle_edited, state_of, write_file
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError, UsageError, VolvexError
from volvex.source import BytesSource
from volvex.source.digest import digest_bytes, digest_file

OWN, EDITED = SOUNDS


@dataclass(frozen=True)
class Folded:
    """What taking over the file of a sound did: frames that differ from the base, notes, which file; or that this was written again."""

    file: str
    frames: int
    notes: tuple[str, ...] = ()
    rewritten: bool = False
    fault: str = ""  # why it was not, though the sound was changed


@dataclass(frozen=True)
class Converted:
    """A user's sound in the form of the game's own: the bytes, what that form is, and what is to be said."""

    data: bytes
    form: str
    notes: tuple[str, ...]


def sound_at(bench: Workbench, place: str, read: Read) -> OpenSound | None:
    """The sound at a place in one of its states; None when it is none."""
    return open_sound(BytesSource(read(place), place), bench.library)


def _required(bench: Workbench, place: str, read: Read) -> OpenSound:
    found = sound_at(bench, place, read)
    if found is None:
        raise UsageError(f"{place} is no sound", "a format for pictures or data: png, csv, json")
    return found


def open_sound_as(bench: Workbench, place: str, ending: str, again: bool = False) -> tuple[str, tuple[str, ...]]:
    """Write a sound of the bench as a file that other programs open; where, below the bench, and what it does not carry."""
    found, file = _required(bench, place, current_of(bench)), f"{FOLDER}/{place}.{ending}"
    settle_edited(bench, [file], again)
    data, notes = exported(found.sound, ending)
    target = bench.files / place
    taken, digest = bench.taken.get(place), digest_file(target)
    base = OWN if taken is not None and taken.digest == digest else EDITED
    write_file(bench, bench.folder / file, data)
    if base == EDITED:
        write_file(bench, _base_file(bench, place), target.read_bytes())
    bench.opened[file] = Opened(place, ending, base, "", digest_bytes(data), digest)
    bench.save()
    return file, (*found.sound.notes, *notes)


def _base_file(bench: Workbench, place: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(place.encode())}.sound"


def fold_sounds(bench: Workbench, place: str, files: Sequence[str]) -> list[Folded]:
    """Take over the edited file of a sound. RefusedError when it does not fit in, or two were edited."""
    state = state_of(bench, place, files, "sound")
    opened, edited = state.opened, state.edited
    if not edited and not state.moved:
        return []
    done = []
    if edited:
        done.append(_take_over(bench, place, edited[0], opened[edited[0]]))
    for file in set(opened) - set(edited):  # others of the same sound follow
        try:
            open_sound_as(bench, place, opened[file].ending, again=True)
            done.append(Folded(file, 0, rewritten=True))
        except VolvexError as error:
            done.append(Folded(file, 0, fault=error.message))
    bench.save()
    return done


def _take_over(bench: Workbench, place: str, file: str, known: Opened) -> Folded:
    kept = _base_file(bench, place)
    read = original_of(bench) if known.sheet == OWN else lambda one: kept.read_bytes() if one == place else b""
    base = _required(bench, place, read)
    data = (bench.folder / file).read_bytes()
    try:
        edited = open_sound(BytesSource(data, file))
        if edited is None:
            raise RefusedError(
                f"this is no sound, but {filetypes.kind_by_content(data[: filetypes.HEAD])}", "saving it again"
            )
        result = taken_over(base.sound, edited.sound, known.ending)
        written = base.form.write(result.sound)
    except VolvexError as error:
        raise RefusedError(f"{file}: {error.message}".replace(f"{file}: {file}: ", f"{file}: "), error.hint) from error
    with taking_over(bench, [file], [place]):
        write_file(bench, bench.files / place, written)
        bench.opened[file] = replace(known, digest=digest_bytes(data), of=digest_bytes(written))
        bench.save()
    return Folded(file, differing_frames(base.sound, result.sound), result.notes)


def converted_for(bench: Workbench, path: str, source: Path, loudness: bool) -> Converted | None:
    """A user's file in the form of the sound that it is to replace; None when one of them is no sound, or nothing needs to be converted."""
    if not source.is_file() or source.stat().st_size > LARGEST:
        return None
    with source.open("rb") as opened:
        kind = filetypes.kind_by_content(opened.read(filetypes.HEAD))
    if not is_sound(kind):
        return None
    place = one_meant(bench, path)
    if place is None:
        return None  # reported where it is put there
    own = original_kind(bench, place)
    if not may_be_sound(own) or (bench.original_size(place) or 0) > LARGEST:
        return None
    found = sound_at(bench, place, original_of(bench))
    user = open_sound(BytesSource(source.read_bytes(), source.as_posix()))
    if found is None or user is None or (not loudness and _is_alike(found.sound, user.sound)):
        return None
    result = replaced(found.sound, user.sound, loudness)
    data = found.form.write(result.sound)
    return Converted(data, f"{found.sound.form}: {format_text(result.sound)}", result.notes)


def _is_alike(own: Sound, user: Sound) -> bool:
    """Whether a user's sound is already as the game has its own, with the marks that this has."""
    same = all(getattr(own, name) == getattr(user, name) for name in ("form", "rate", "channels", "encoding"))
    return same and bool(user.loops or not own.loops) and bool(user.cues or not own.cues)


def put_sound(bench: Workbench, path: str, converted: Converted) -> str:
    """Put a converted sound in the place of the game's own; where it went in the bench."""
    place, _ = bench.open_for_edit(path)
    replace_file(bench, place, converted.data)
    return place


def sound_pair(bench: Workbench, change: FileChange) -> tuple[Sound, Sound] | None:
    """Both states of a changed sound; None when one is no sound, or damaged."""
    try:
        before = sound_at(bench, change.path, original_of(bench))
        data = (bench.files / change.source).read_bytes()
        after = open_sound(BytesSource(data, change.path), bench.library)
    except VolvexError:
        return None
    return (before.sound, after.sound) if before is not None and after is not None else None
