"""Whole icons and cursors out of an executable's resources and back: the group is the directory of an ICO or CUR file,
each image a resource of its own. That of a cursor begins with its hot spot, which a CUR file has in its directory.

Source: the ICO file format; the resource formats GRPICONDIR, GRPCURSORDIR and LOCALHEADER of the PE format.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping

from volvex.errors import RefusedError

HEAD, ENTRY, IN_GROUP = struct.Struct("<HHH"), struct.Struct("<8sII"), struct.Struct("<8sIH")
ICON, CURSOR = KINDS = (1, 2)
SPOT = 4  # bytes of a hot spot


def image_ids(group: bytes) -> list[int]:
    """The numbers of a group's images; none when it is no group."""
    if len(group) < HEAD.size:
        return []
    zero, kind, count = HEAD.unpack_from(group)
    if zero or kind not in KINDS or len(group) < HEAD.size + count * IN_GROUP.size:
        return []
    return [IN_GROUP.unpack_from(group, HEAD.size + at * IN_GROUP.size)[2] for at in range(count)]


def extension(group: bytes) -> str:
    """The extension of the file that a group is."""
    return ".ico" if _kind(group) == ICON else ".cur"


def _kind(group: bytes) -> int:
    return int(HEAD.unpack_from(group)[1])


def whole_size(group: bytes, sizes: Mapping[int, int]) -> int:
    """The bytes that the ICO or CUR file of a group will have, by the sizes of its images."""
    ids, spot = image_ids(group), SPOT if _kind(group) == CURSOR else 0
    return HEAD.size + ENTRY.size * len(ids) + sum(max(0, sizes[one] - spot) for one in ids)


def whole(group: bytes, images: Mapping[int, bytes]) -> bytes:
    """The ICO or CUR file of a group and its images."""
    ids, kind = image_ids(group), _kind(group)
    at, head, body = HEAD.size + ENTRY.size * len(ids), HEAD.pack(0, kind, len(ids)), list[bytes]()
    for number, one in enumerate(ids):
        shape, image = IN_GROUP.unpack_from(group, HEAD.size + number * IN_GROUP.size)[0], images[one]
        if kind == CURSOR:
            wide, high = struct.unpack_from("<HH", shape)
            shape = bytes((wide & 255, high // 2 & 255, 0, 0)) + image[:SPOT].ljust(SPOT, b"\0")
            image = image[SPOT:]
        head += ENTRY.pack(shape, len(image), at)
        body.append(image)
        at += len(image)
    return b"".join([head, *body])


def apart(icon: bytes, group: bytes, name: str) -> tuple[bytes, dict[int, bytes]]:
    """The group and the images of an ICO or CUR file, in the numbers that the group had; RefusedError when it does not
    fit in."""
    ids, kind = image_ids(group), _kind(group)
    if len(icon) < HEAD.size or HEAD.unpack_from(icon)[:2] != (0, kind):
        what = "an icon, and this is no ICO file" if kind == ICON else "a cursor, and this is no CUR file"
        raise RefusedError(f"{name} is {what}", "`volvex swap` with a picture, which converts it")
    count = HEAD.unpack_from(icon)[2]
    if not 1 <= count <= len(ids):
        raise RefusedError(f"{name} has room for {len(ids)} images, the file has {count}", "a file with as many sizes")
    made, images = HEAD.pack(0, kind, count), dict[int, bytes]()
    for number in range(count):
        if len(icon) < HEAD.size + (number + 1) * ENTRY.size:
            raise RefusedError(f"{name}: the file is cut off", "saving it again")
        shape, size, start = ENTRY.unpack_from(icon, HEAD.size + number * ENTRY.size)
        image = icon[start : start + size]
        if kind == CURSOR:
            bits = struct.unpack_from("<H", image, 14)[0] if len(image) > 16 and image[:4] != b"\x89PNG" else 32
            image = shape[4:] + image
            shape = struct.pack("<HHHH", shape[0] or 256, 2 * (shape[1] or 256), 1, bits)
        images[ids[number]] = image
        made += IN_GROUP.pack(shape, len(image), ids[number])
    if whole(made, images) != icon:
        raise RefusedError(f"{name}: its images do not lie one behind the other", "saving it again in another program")
    return made, images
