"""The files that a picture of a bench is made of: its own, and those beside it in which some of its levels lie."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping

from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import Opened, open_picture
from volvex.bench.content import Read, current_of, original_kind, original_of
from volvex.bench.open_folder import write_file
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, VolvexError
from volvex.source import Beside, BytesSource, Source
from volvex.source.digest import digest_bytes

LARGEST = 1 << 31  # bytes of a picture


def files_of(bench: Workbench, place: str) -> list[str]:
    """The places of the files beside a picture of the game's in which some of its levels lie; none for anything else."""
    try:
        if original_kind(bench, place) != "binary" or (bench.original_size(place) or 0) > LARGEST:
            return []  # no format of the game's own
        found = picture_at(bench, place, original_of(bench))
    except VolvexError:
        return []
    return [place_beside(place, name) for name in found.beside] if found is not None else []


def place_beside(place: str, name: str) -> str:
    """The place of a file that is named from the folder of another."""
    return posixpath.normpath(posixpath.join(posixpath.dirname(place), name))


def picture_at(bench: Workbench, place: str, read: Read) -> Opened | None:
    """The picture at a place, with its levels in other files; None when it is none."""
    return picture_in(bench, place, read(place), read)


def picture_in(bench: Workbench, place: str, data: bytes, read: Read) -> Opened | None:
    """The same for bytes that the caller has already."""
    source = BytesSource(data, place)
    source.beside = _beside(place, read)
    return open_picture(source, bench.library)


def _beside(place: str, read: Read) -> Beside:
    def find(name: str) -> Source | None:
        other = place_beside(place, name)
        try:
            return BytesSource(read(other), other)
        except NotFoundError:
            return None

    return find


def write_picture(bench: Workbench, place: str, found: Opened, picture: Picture) -> None:
    """Write a picture in the place of the one that was found there."""
    write_files(bench, place, found.files(picture))


def write_files(bench: Workbench, place: str, files: Mapping[str, bytes], keep: bool = False) -> None:
    """Write the files of a picture: its own last, and of those beside it only what changes. With `keep`, edited ones are kept aside."""
    for name, data in sorted(files.items(), reverse=True):
        other = place_beside(place, name) if name else place
        if not name or current_of(bench)(other) != data:
            own, target = bench.open_for_edit(other)
            if keep:
                bench.keep_edited(own, digest_bytes(data))
            write_file(bench, target, data)
