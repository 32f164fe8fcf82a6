"""What could be a path, or a part of one, in any bytes: runs of the letters that paths are made of.

One compiled pass over the bytes finds runs of such letters, and leaves out what it has met before: runs with a slash
or an extension are paths; others are words, taken in binary content only where a zero or a length stands beside them.
"""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.archive.detect import filetypes
from volvex.codec.compiled import Compiled, as_array

SHORTEST, SAMPLE, MOST = 3, 1 << 12, 1 << 22
PATH_LETTER, SLASH, DOT, HIGH = 1, 2, 4, 8
# in binary content, where more would be accidents
_BARE = b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-"
_PLAIN = _BARE + b"+~()[]#!@&$%{}"
_SPACED = b" "  # letters of paths in text, where something else bounds them


@dataclass(frozen=True)
class Word:
    """Something that was read: `path` when it looks like one."""

    text: str
    path: bool


@functools.cache
def _classes(spaced: bool, high: bool) -> Any:
    made = np.zeros(256, np.uint8)
    for byte in (_PLAIN if high else _BARE) + (_SPACED if spaced else b""):
        made[byte] = PATH_LETTER
    made[ord("/")] = made[ord("\\")] = PATH_LETTER | SLASH
    made[ord(".")] = PATH_LETTER | DOT
    if high:
        made[128:] = PATH_LETTER
    return made


@Compiled
def _scan(data: Any, stride: Any, shift: Any, classes: Any, binary: Any, spaced: Any, seen: Any, out: Any) -> Any:
    """Runs of letters that were not seen before: where they start, their letters, whether they are paths."""
    found, room = 0, np.uint64(len(seen) - 1)
    start, slashes, dots, lasting, blanks, slopes, last, state = -1, 0, 0, 0, 0, 0, 0, np.uint64(0)
    size = (len(data) - shift) // stride
    for at in range(size + 1):
        kind = np.uint8(0)
        if at < size:
            byte = data[shift + at * stride]
            kind = classes[byte]
            if stride == 2 and data[shift + at * stride + 1] != 0:
                kind = np.uint8(0)
            if kind:
                if start < 0:
                    start, slashes, dots, lasting, blanks, slopes = at, 0, 0, 0, 0, 0
                    state = np.uint64(0xCBF29CE484222325)
                elif -3 <= int(byte) - last <= 3:
                    slopes += 1
                last = int(byte)
                state = (state ^ np.uint64(byte)) * np.uint64(0x100000001B3)
                if kind & 2:
                    slashes += 1
                elif kind & 4:
                    dots, lasting = dots + 1, at
                elif byte == 32:
                    blanks += 1
                continue
        if start < 0:
            continue
        length = at - start
        is_path = slashes > 0 or (dots > 0 and start < lasting < at - 1 and at - lasting <= 9)
        before = data[shift + (start - 1) * stride] if start > 0 else np.uint8(0)
        bounded = (at < size and data[shift + at * stride] == 0) or before == length or before == length + 1
        good = 3 <= length <= 255 and slashes + dots < length
        if binary and length >= 6 and 2 * slopes > length:  # a slope of a picture or a sound, not a word
            good = False
        if spaced:
            good = good and is_path and blanks > 0
        elif binary:  # a short run is an accident, unless something bounds it
            good = good and length >= 4 and (bounded or (is_path and length >= 12))
        if good:
            place = (state ^ (state >> np.uint64(32))) & room
            tries = 0
            while seen[place] != 0 and seen[place] != state and tries < 64:
                place = (place + np.uint64(1)) & room
                tries += 1
            if seen[place] != state:
                if seen[place] == 0:
                    seen[place] = state
                if found < len(out):
                    out[found, 0], out[found, 1], out[found, 2] = start, length, is_path
                found += 1
        start = -1
    return found


def words_in(data: bytes) -> Iterator[Word]:
    """What could be a path or a part of one in some content, each once, in the order in which it stands there."""
    return iter(dict.fromkeys(_words(data)))


def _words(data: bytes) -> Iterator[Word]:
    is_text, out = (
        _is_text(data),
        np.empty((min(MOST, len(data) // 4 + 1), 3), np.int64),
    )  # a run and what ends it: 4 bytes
    if is_text and data.startswith((b"\xff\xfe", b"\xfe\xff")):
        data = filetypes.decode_text(data).encode("utf-8", "replace")
    flat, seen = as_array(data), np.zeros(_room(len(data)), np.uint64)
    yield from _told(data, 1, 0, _scan(flat, 1, 0, _classes(False, is_text), not is_text, False, seen, out), out)
    if is_text:
        yield from _told(data, 1, 0, _scan(flat, 1, 0, _classes(True, True), False, True, seen, out), out)
    elif data.count(0) * 8 > len(data):  # text in UTF-16, wherever it begins
        for shift in (0, 1):
            yield from _told(data, 2, shift, _scan(flat, 2, shift, _classes(False, False), True, False, seen, out), out)


def _is_text(data: bytes) -> bool:
    """Whether content is text: at its beginning, and in its middle and at its end."""
    if not filetypes.is_text(data[:SAMPLE]) or len(data) <= SAMPLE or data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return filetypes.is_text(data[:SAMPLE])
    middle = len(data) // 2
    return not (filetypes.has_control(data[middle : middle + SAMPLE]) or filetypes.has_control(data[-SAMPLE:]))


def _room(size: int) -> int:
    """Places in the table of what was seen, a power of two."""
    return 1 << max(10, min(20, (size // 8).bit_length() + 1))


def _told(data: bytes, stride: int, shift: int, found: int, out: Any) -> Iterator[Word]:
    for start, length, is_path in out[: min(found, len(out))].tolist():
        first = shift + start * stride
        raw = data[first : first + length * stride : stride]
        text = raw.decode("utf-8", "replace").strip(" ").rstrip(".-+#")
        if len(text) >= SHORTEST and "�" not in text:
            yield Word(text.replace("\\", "/"), bool(is_path))
