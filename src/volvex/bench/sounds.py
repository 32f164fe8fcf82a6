"""Sounds of a bench in other programs: out to the folder `open`, back into the game's own form; a user's sound in a game's place."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.asset.sound.describe import format_text
from volvex.asset.sound.exchange import replaced
from volvex.asset.sound.model import LARGEST, Sound
from volvex.asset.sound.open import Opened as OpenSound
from volvex.asset.sound.open import is_sound, may_be_sound, open_sound
from volvex.bench.changes import FileChange
from volvex.bench.content import Read, one_meant, original_kind, original_of
from volvex.bench.open_folder import (
    replace_file,
)
from volvex.bench.workbench import Workbench
from volvex.errors import VolvexError
from volvex.source import BytesSource


@dataclass(frozen=True)
class Converted:
    """A user's sound in the form of the game's own: the bytes, what that form is, and what is to be said."""

    data: bytes
    form: str
    notes: tuple[str, ...]


def sound_at(bench: Workbench, place: str, read: Read) -> OpenSound | None:
    """The sound at a place in one of its states; None when it is none."""
    return open_sound(BytesSource(read(place), place), bench.library)


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
