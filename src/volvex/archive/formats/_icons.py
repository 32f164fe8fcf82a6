"""Whole icons out of an executable's resources and back: the group is the directory of an ICO file, each image a resource of its own.

Source: the ICO file format; the resource formats GRPICONDIR and GRPICONDIRENTRY of the PE format.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from volvex.errors import RefusedError

HEAD, ENTRY, IN_GROUP = struct.Struct("<HHH"), struct.Struct("<8sII"), struct.Struct("<8sIH")
ICON = 1  # not a cursor


def image_ids(group: bytes) -> list[int]:
    """The numbers of a group's images; none when it is no group of icons."""
    if len(group) < HEAD.size:
        return []
    zero, kind, count = HEAD.unpack_from(group)
    if zero or kind != ICON or len(group) < HEAD.size + count * IN_GROUP.size:
        return []
    return [IN_GROUP.unpack_from(group, HEAD.size + at * IN_GROUP.size)[2] for at in range(count)]


def whole(group: bytes, images: Mapping[int, bytes]) -> bytes:
    """The ICO file of a group and its images."""
    ids = image_ids(group)
    at, head, body = HEAD.size + ENTRY.size * len(ids), HEAD.pack(0, ICON, len(ids)), b""
    for number, image in enumerate(ids):
        shape = IN_GROUP.unpack_from(group, HEAD.size + number * IN_GROUP.size)[0]
        head += ENTRY.pack(shape, len(images[image]), at + len(body))
        body += images[image]
    return head + body


def apart(icon: bytes, group: bytes, name: str) -> tuple[bytes, dict[int, bytes]]:
    """The group and the images of an ICO file, in the numbers that the group had; RefusedError when it does not fit in."""
    ids = image_ids(group)
    hint = "a file with the icon in as many sizes"
    if len(icon) < HEAD.size or HEAD.unpack_from(icon)[:2] != (0, ICON):
        raise RefusedError(
            f"{name} is an icon, and this is no ICO file", "`volvex swap` with a picture, which converts it"
        )
    count = HEAD.unpack_from(icon)[2]
    if not 1 <= count <= len(ids):
        raise RefusedError(f"{name} has room for {len(ids)} images, the icon has {count}", hint)
    made, images = HEAD.pack(0, ICON, count), dict[int, bytes]()
    for number in range(count):
        if len(icon) < HEAD.size + (number + 1) * ENTRY.size:
            raise RefusedError(f"{name}: the icon is cut off", "saving it again")
        shape, size, start = ENTRY.unpack_from(icon, HEAD.size + number * ENTRY.size)
        images[ids[number]] = icon[start : start + size]
        made += IN_GROUP.pack(shape, size, ids[number])
    if whole(made, images) != icon:
        raise RefusedError(f"{name}: the images of the icon do not lie one behind the other", "saving it again as ICO")
    return made, images
