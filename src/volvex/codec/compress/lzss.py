"""LZSS (Storer and Szymanski, 1982): bytes, and pairs of a place in a window and a length, told apart by flags.

window    bytes of the window, a power of two
shortest  the length that a pair's smallest number means; the greatest follows from the bits that are left
start     where in the window the first byte goes; by default the window's size less the longest length
fill      what the window holds at first
flags     `bits`: eight in a byte before their eight items; `bytes`: one byte before each item
order     which bit of a flag byte comes first: `low` or `high`
bare      the flag of a byte that stands for itself: 1 or 0
pair      the 16 bits of a pair: `split` (place's low byte; then its high bits above the length), `little`, `big`
length    in which bits of a `little` or `big` pair the length is: `low` or `high`
places    `window`: a place in the window; `back`: how far back, 1 less or not by `back` itself counting from `nearest`
nearest   what a distance of 0 means
"""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled, as_array
from volvex.codec.parameters import Parameter
from volvex.codec.whole import WholeContent

PARAMETERS = {
    "window": Parameter(4096, numbers=(256, 32768)),
    "shortest": Parameter(3, numbers=(1, 64)),
    "start": Parameter(-1, numbers=(0, 32767)),
    "fill": Parameter(0x20, numbers=(0, 255)),
    "flags": Parameter("bits", words=("bits", "bytes")),
    "order": Parameter("low", words=("low", "high")),
    "bare": Parameter(1, numbers=(0, 1)),
    "pair": Parameter("split", words=("split", "little", "big")),
    "length": Parameter("low", words=("low", "high")),
    "places": Parameter("window", words=("window", "back")),
    "nearest": Parameter(1, numbers=(0, 1)),
}
SEARCHED = 64  # earlier places that are tried for a longer match


@Compiled
def _decode(data: Any, out: Any, form: Any) -> Any:
    window, bits, shortest, start, fill, single, high_first, bare, pair, length_high, back, nearest = form
    length_mask, place_mask = (1 << (16 - bits)) - 1, window - 1
    at, made, left = 0, 0, 0
    flags: Any = 0
    while made < len(out):
        if left == 0:
            if at >= len(data):
                break
            flags, left = np.int64(data[at]), 1 if single else 8
            at += 1
        if single:
            flag = 1 if flags else 0
        elif high_first:
            flag = (flags >> 7) & 1
            flags = (flags << 1) & 255
        else:
            flag = flags & 1
            flags >>= 1
        left -= 1
        if flag == bare:
            if at >= len(data):
                break
            out[made] = data[at]
            at, made = at + 1, made + 1
            continue
        if at + 2 > len(data):
            break
        first, second = np.int64(data[at]), np.int64(data[at + 1])
        at += 2
        if pair == 0:
            place = first | ((second >> (16 - bits)) << 8)
            length = second & length_mask
        else:
            both = first | (second << 8) if pair == 1 else (first << 8) | second
            if length_high:
                place, length = both & place_mask, both >> bits
            else:
                place, length = both >> (16 - bits), both & length_mask
        if back:
            distance = place + nearest
        else:
            distance = (start + made - place) & place_mask
        if distance == 0:
            distance = window
        for _ in range(length + shortest):
            if made >= len(out):
                return -1, at  # more than the size says
            out[made] = out[made - distance] if made >= distance else fill
            made += 1
    return made, at


@Compiled
def _encode(data: Any, out: Any, form: Any, searched: int) -> int:
    window, bits, shortest, start, _, single, high_first, bare, pair, length_high, back, nearest = form
    longest = ((1 << (16 - bits)) - 1) + shortest
    farthest = min(window - 1, window - 1 + nearest) if back else window - 1
    least = max(shortest, 3)
    head, before = np.full(1 << 15, -1, np.int64), np.full(len(data), -1, np.int64)
    at = made = count = 0
    flag_at = 0
    while at < len(data):
        if single or count % 8 == 0:
            flag_at = made
            out[made] = 0
            made += 1
        best, distance = 0, 0
        if at + 3 <= len(data):
            key = ((np.int64(data[at]) << 10) ^ (np.int64(data[at + 1]) << 5) ^ np.int64(data[at + 2])) & 32767
            candidate, tries, room = head[key], searched, min(longest, len(data) - at)
            while candidate >= 0 and at - candidate <= farthest and tries > 0:
                size = 0
                while size < room and data[candidate + size] == data[at + size]:
                    size += 1
                if size > best:
                    best, distance = size, at - candidate
                    if size == room:
                        break
                candidate, tries = before[candidate], tries - 1
        flag = bare
        if best >= least:
            flag = 1 - bare
            place = distance - nearest if back else (start + at - distance) & (window - 1)
            length = best - shortest
            if pair == 0:
                out[made], out[made + 1] = place & 255, ((place >> 8) << (16 - bits)) | length
            else:
                both = (length << bits) | place if length_high else (place << (16 - bits)) | length
                if pair == 1:
                    out[made], out[made + 1] = both & 255, both >> 8
                else:
                    out[made], out[made + 1] = both >> 8, both & 255
            made += 2
        else:
            best = 1
            out[made] = data[at]
            made += 1
        if flag:
            place = count % 8
            out[flag_at] |= 1 if single else (128 >> place if high_first else 1 << place)
        count += 1
        for _ in range(best):
            if at + 3 <= len(data):
                key = ((np.int64(data[at]) << 10) ^ (np.int64(data[at + 1]) << 5) ^ np.int64(data[at + 2])) & 32767
                before[at] = head[key]
                head[key] = at
            at += 1
    return made


def make(
    window: int,
    shortest: int,
    start: int,
    fill: int,
    flags: str,
    order: str,
    bare: int,
    pair: str,
    length: str,
    places: str,
    nearest: int,
) -> WholeContent:
    bits = window.bit_length() - 1
    longest = (1 << (16 - bits)) - 1 + shortest
    form = (
        window,
        bits,
        shortest,
        start if start >= 0 else window - longest,
        fill,
        int(flags == "bytes"),
        int(order == "high"),
        bare,
        ("split", "little", "big").index(pair),
        int(length == "high"),
        int(places == "back"),
        nearest,
    )

    def decode(stored: bytes, size: int) -> tuple[bytes, int]:
        out = np.empty(min(size, len(stored) * longest), np.uint8)
        made, used = _decode(as_array(stored), out, form)
        return (b"", 0) if made < 0 else (out[:made].tobytes(), used)

    def encode(content: bytes) -> bytes:
        out = np.zeros(len(content) * 2 + 1, np.uint8)
        return out[: _encode(as_array(content), out, form, SEARCHED)].tobytes()

    return WholeContent("LZSS stream", decode, encode)
