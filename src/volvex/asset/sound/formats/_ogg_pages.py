"""Pages of an Ogg stream (RFC 3533): its packets of tags put in, and the number that its writer gave it by chance taken
out."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, replace

from volvex.codec import CHECKSUM

CRC = "crc(bits 32, poly 0x04c11db7, start 0, reflected no)"
CONTINUED, FIRST = 1, 2
SERIAL = 1
MOST_LACES = 255


@dataclass(frozen=True)
class _Page:
    flags: int
    position: int
    laces: bytes
    body: bytes


def with_comments(data: bytes, comments: bytes, heads: int) -> bytes:
    """A stream of one sound with other comments, its second packet; of its packets the first `heads` describe it.

    The packets behind these begin on a page of their own, as the specifications of Vorbis and Opus have it.
    """
    pages, packets, held, at = list(_pages(data)), list[bytes](), b"", 0
    while len(packets) < heads and at < len(pages):
        done = 0
        for lace in pages[at].laces:
            held, done = held + pages[at].body[done : done + lace], done + lace
            if lace < 255:
                packets.append(held)
                held = b""
        at += 1
    packets[1] = comments
    made = [_Page(FIRST, 0, _laces(packets[0]), packets[0]), *_paged(packets[1:])]
    made += [replace(page, flags=page.flags & ~FIRST) for page in pages[at:]]
    return b"".join(_written(page, number) for number, page in enumerate(made))


def _pages(data: bytes) -> Iterator[_Page]:
    at = 0
    while at + 27 <= len(data):
        count = data[at + 26]
        laces = data[at + 27 : at + 27 + count]
        body = at + 27 + count
        yield _Page(data[at + 5], struct.unpack_from("<q", data, at + 6)[0], laces, data[body : body + sum(laces)])
        at = body + sum(laces)


def _laces(packet: bytes) -> bytes:
    """The lengths of a packet's segments: 255 of all but the last."""
    return b"\xff" * (len(packet) // 255) + bytes([len(packet) % 255])


def _paged(packets: list[bytes]) -> Iterator[_Page]:
    """Packets on as few pages as hold them; pages on which none ends have no position."""
    laces, body = b"".join(map(_laces, packets)), b"".join(packets)
    flags, done = 0, 0
    for start in range(0, len(laces), MOST_LACES):
        own = laces[start : start + MOST_LACES]
        size = sum(own)
        yield _Page(flags, -1 if all(lace == 255 for lace in own) else 0, own, body[done : done + size])
        flags, done = CONTINUED if own[-1] == 255 else 0, done + size


def _written(page: _Page, number: int) -> bytes:
    head = b"OggS" + struct.pack("<BBqII", 0, page.flags, page.position, SERIAL, number)
    rest = bytes([len(page.laces)]) + page.laces + page.body
    total = CHECKSUM.get(CRC).new()
    total.update(head + bytes(4) + rest)
    return head + struct.pack("<I", total.value()) + rest
