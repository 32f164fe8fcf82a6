"""IMA ADPCM and its relatives: differences of 4 bits, in steps that follow the sound (IMA Digital Audio Focus Group,
1992).

nibbles   which half of a byte comes first: `low` or `high`
header    what begins a block, for each channel: `predictor_index` (a sample of 16 bits, the step's number, a byte),
          `index_predictor`
          (the number and the sample, 16 bits each), `packed` (big-endian: 9 bits of a sample above 7 of the number), or
          `none`
endian    of the numbers in the header: `little` or `big`
first     whether the header's sample is itself the first of the block: `yes` or `no`
group     how many differences of one channel stand together before those of the next
steps     the table of steps: `ima` (89) or `oki` (49, samples of 12 bits)
table     a table of steps of the game's own: numbers of 16 bits, the low byte first
moves     how far each of the 8 sizes of a difference moves the step's number: 8 signed bytes
rounding  how a difference is made of a step: `shift` (by halves, as the paper has it) or `multiply`
start     the sample before the first, where no header gives it; by 32768 more than it is
index     the step's number there
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.samples import Before, Bytes, Samples
from volvex.errors import UsageError

NAMES = ("ima_adpcm",)
HEADERS = ("predictor_index", "index_predictor", "packed", "none")
SIZES = (4, 4, 2, 0)
PARAMETERS = {
    "nibbles": Parameter("low", words=("low", "high")),
    "header": Parameter("predictor_index", words=HEADERS),
    "endian": Parameter("little", words=("little", "big")),
    "first": Parameter("yes", words=("yes", "no")),
    "group": Parameter(8, numbers=(1, 1 << 12)),
    "steps": Parameter("ima", words=("ima", "oki")),
    "table": Parameter(b"", sizes=()),
    "moves": Parameter(b"", sizes=(8,)),
    "rounding": Parameter("shift", words=("shift", "multiply")),
    "start": Parameter(32768, numbers=(0, 65535)),
    "index": Parameter(0, numbers=(0, 255)),
}
IMA = np.array(
    [
        "7",
        "8",
        "9",
        "10",
        "11",
        "12",
        "13",
        "14",
        "16",
        "17",
        "19",
        "21",
        "23",
        "25",
        "28",
        "31",
        "34",
        "37",
        "41",
        "45",
        "50",
        "55",
        "60",
        "66",
        "73",
        "80",
        "88",
        "97",
        "107",
        "118",
        "130",
        "143",
        "157",
        "173",
        "190",
        "209",
        "230",
        "253",
        "279",
        "307",
        "337",
        "371",
        "408",
        "449",
        "494",
        "544",
        "598",
        "658",
        "724",
        "796",
        "876",
        "963",
        "1060",
        "1166",
        "1282",
        "1411",
        "1552",
        "1707",
        "1878",
        "2066",
        "2272",
        "2499",
        "2749",
        "3024",
        "3327",
        "3660",
        "4026",
        "4428",
        "4871",
        "5358",
        "5894",
        "6484",
        "7132",
        "7845",
        "8630",
        "9493",
        "10442",
        "11487",
        "12635",
        "13899",
        "15289",
        "16818",
        "18500",
        "20350",
        "22385",
        "24623",
        "27086",
        "29794",
        "32767",
    ],
    np.int32,
)
OKI = IMA[8:57]
MOVES = np.array([-1, -1, -1, -1, 2, 4, 6, 8], np.int32)


def _difference(step: Any, size: Any, multiply: Any) -> Any:
    """The difference that 3 bits stand for."""
    if multiply:
        return (2 * size + 1) * step >> 3
    total = step >> 3
    if size & 4:
        total += step
    if size & 2:
        total += step >> 1
    if size & 1:
        total += step >> 2
    return total


def _nibble(step: Any, wanted: Any) -> Any:
    """The 3 bits whose difference is nearest to what is wanted, as the paper finds them."""
    size, rest = 0, wanted
    if rest >= step:
        size, rest = 4, rest - step
    half = step >> 1
    if rest >= half:
        size, rest = size | 2, rest - half
    return size | 1 if rest >= half >> 1 else size


def _decode(data: Any, out: Any, block: Any, form: Any, steps: Any, moves: Any) -> Any:
    high, header, big, first, group, multiply, low, most, shift, start, index0 = form
    frames, channels = out.shape
    size = 2 if header == 2 else 0 if header == 3 else 4
    at, done = 0, 0
    while done < frames and at < len(data):
        length = min(block, len(data) - at) if block else len(data)
        body = at + size * channels
        each = max(0, (at + length - body) * 2 // channels)
        count = min(frames - done, each + first)
        for channel in range(channels):
            value, index = start, index0
            if size:
                value, index = _head(data, at + size * channel, header, big)
            index = min(max(index, 0), len(steps) - 1)
            if first and count:
                out[done, channel] = value << shift
            wide = min(group, each)
            place, whole, left = 2 * body + channel * wide, 0, wide  # counted in nibbles
            for number in range(count - first):
                if not left:
                    whole += group
                    wide = min(group, each - whole)
                    place, left = 2 * body + whole * channels + channel * wide, wide
                left -= 1
                byte = np.int64(data[place >> 1])
                code = byte >> 4 if (place & 1) != high else byte & 15
                move = _difference(steps[index], code & 7, multiply)
                value = value - move if code & 8 else value + move
                value = min(max(value, low), most)
                index = min(max(index + moves[code & 7], 0), len(steps) - 1)
                out[done + first + number, channel] = value << shift
                place += 1
        done, at = done + count, at + length
        if count <= 0:
            break
    return done


def _head(data: Any, at: Any, header: Any, big: Any) -> Any:
    """The sample and the step's number with which a block begins."""
    if header == 2:
        word = np.int64(data[at]) << 8 | np.int64(data[at + 1])
        value, index = word & 0xFF80, word & 0x7F
    else:
        words = at if header == 0 else at + 2
        one, other = np.int64(data[words]), np.int64(data[words + 1])
        value = one << 8 | other if big else other << 8 | one
        if header == 0:
            index = np.int64(data[at + 2])
        else:
            one, other = np.int64(data[at]), np.int64(data[at + 1])
            index = one << 8 | other if big else other << 8 | one
    return value - 65536 if value & 32768 else value, index


def _alike(samples: Any, old: Any, done: Any, there: Any) -> Any:
    """How many frames from a place on are as they were."""
    same = 0
    while same < there and done + same < len(old):
        for channel in range(samples.shape[1]):
            if samples[done + same, channel] != old[done + same, channel]:
                return same
        same += 1
    return same


def _chosen(samples: Any, done: Any, there: Any, channel: Any, shift: Any, steps: Any) -> Any:
    """The sample with which a block begins, and the number of a step that reaches what follows."""
    if not there:
        return 0, 0
    reach, index = 0, 0
    for number in range(1, min(there, 9)):
        reach = max(reach, abs(samples[done + number, channel] - samples[done + number - 1, channel]))
    while index < len(steps) - 1 and steps[index] * 7 >> 2 < reach >> shift:
        index += 1
    return samples[done, channel] >> shift, index


def _encode(samples: Any, old: Any, data: Any, out: Any, block: Any, form: Any, steps: Any, moves: Any) -> Any:
    """Fill `out`; blocks whose samples are those of `old` are those of `data`, and so is of others what is before the
    first that differs."""
    high, header, big, first, group, multiply, low, most, shift, start, index0 = form
    frames, channels = samples.shape
    size = 2 if header == 2 else 0 if header == 3 else 4
    at, done = 0, 0
    while at < len(out):
        length = min(block, len(out) - at) if block else len(out)
        body = at + size * channels
        each = max(0, (at + length - body) * 2 // channels)
        there = max(0, min(each + first, frames - done))
        same = _alike(samples, old, done, there)
        was = at + length <= len(data) or (not block and len(data) >= body)
        if was and same == there and at + length <= len(data) and done + there <= len(old):
            out[at : at + length] = data[at : at + length]
            at, done = at + length, done + each + first
            continue
        for channel in range(channels):
            kept = was and same > first
            value, index = start, index0
            if size:
                place = at + size * channel
                value, index = (
                    _head(data, place, header, big) if kept else _chosen(samples, done, there, channel, shift, steps)
                )
                index = min(max(index, 0), len(steps) - 1)
                value = min(value + 64, 32767) & ~0x7F if header == 2 and not kept else value
                _put_head(out, place, header, big, value, index)
            wide = min(group, each)
            place, whole, left = 2 * body + channel * wide, 0, wide
            for number in range(each):
                if not left:
                    whole += group
                    wide = min(group, each - whole)
                    place, left = 2 * body + whole * channels + channel * wide, wide
                left -= 1
                code: Any = 0
                if kept and first + number < same and place >> 1 < len(data):
                    byte = np.int64(data[place >> 1])
                    code = byte >> 4 if (place & 1) != high else byte & 15
                else:
                    sounds = first + number < there
                    wanted = samples[done + first + number, channel] >> shift if sounds else value
                    code = _nibble(steps[index], abs(wanted - value)) | (8 if wanted < value else 0)
                move = _difference(steps[index], code & 7, multiply)
                value = min(max(value - move if code & 8 else value + move, low), most)
                index = min(max(index + moves[code & 7], 0), len(steps) - 1)
                out[place >> 1] |= code << 4 if (place & 1) != high else code
                place += 1
        at, done = at + length, done + each + first
    return done


def _put_head(out: Any, at: Any, header: Any, big: Any, value: Any, index: Any) -> Any:
    word = value & 0xFFFF
    if header == 2:
        word = word & 0xFF80 | index
        out[at], out[at + 1] = word >> 8, word & 255
    else:
        words = at if header == 0 else at + 2
        out[words], out[words + 1] = (word >> 8, word & 255) if big else (word & 255, word >> 8)
        if header == 0:
            out[at + 2] = index
        else:
            out[at], out[at + 1] = (index >> 8, index & 255) if big else (index & 255, index >> 8)
    return 0


_DECODE = Compiled(_decode, _difference=_difference, _head=_head)
_ENCODE = Compiled(
    _encode, _alike=_alike, _chosen=_chosen, _difference=_difference, _nibble=_nibble, _head=_head, _put_head=_put_head
)


@dataclass(frozen=True)
class ImaAdpcm:
    """Blocks of differences; `form`: what the loops need to know."""

    first: int
    header: int  # of one channel, in bytes
    form: tuple[int, ...]
    steps: Any
    moves: Any
    name: str = "ima_adpcm"
    bits: int = 4
    sample: str = "i2"
    blocks: bool = True

    def _held(self, size: int, channels: int) -> int:
        """The frames in a block of some bytes."""
        body = size - self.header * channels
        return self.first + body * 2 // channels if body >= 0 else 0

    def frames(self, size: int, channels: int, block: int) -> int:
        if not block:
            return self._held(size, channels) if size else 0
        return size // block * self._held(block, channels) + (self._held(size % block, channels) if size % block else 0)

    def size(self, frames: int, channels: int, block: int) -> int:
        if not block:
            return self.header * channels + (max(0, frames - self.first) * channels + 1) // 2
        return -(-frames // max(1, self._held(block, channels))) * block

    def decode(self, data: Bytes, channels: int, block: int, frames: int) -> Samples:
        out = np.zeros((min(frames, self.frames(len(data), channels, block)), channels), np.int16)
        done = _DECODE(data, out, block, self.form, self.steps, self.moves)
        return out[:done]

    def encode(self, samples: Samples, channels: int, block: int, before: Before | None) -> bytes:
        out = np.zeros(self.size(len(samples), channels, block), np.uint8)
        old = before.samples.astype(np.int32) if before is not None else np.zeros((0, channels), np.int32)
        data = before.data if before is not None else np.zeros(0, np.uint8)
        _ENCODE(samples.astype(np.int32), old, data, out, block, self.form, self.steps, self.moves)
        return bytes(out.tobytes())


def make(name: str, **values: Any) -> ImaAdpcm:
    raw = np.frombuffer(values["table"], "<u2") if len(values["table"]) % 2 == 0 else None
    if raw is None or len(raw) > 128:
        raise UsageError(f"{name}: a table of steps is at most 128 numbers of 16 bits", "two bytes for each")
    oki = values["steps"] == "oki"
    steps = raw.astype(np.int32) if len(raw) else OKI if oki else IMA
    moves = np.frombuffer(values["moves"], np.int8).astype(np.int32) if values["moves"] else MOVES
    if values["group"] % 2 and values["group"] != 1:
        raise UsageError(f"{name}: a group of {values['group']} differences ends within a byte", "an even number, or 1")
    header = HEADERS.index(values["header"])
    first = int(values["first"] == "yes" and header != 3)
    low, shift = (-2048, 4) if oki else (-32768, 0)
    form = (
        int(values["nibbles"] == "high"),
        header,
        int(values["endian"] == "big"),
        first,
        values["group"],
        int(values["rounding"] == "multiply"),
        low,
        -low - 1,
        shift,
        values["start"] - 32768 >> shift,
        values["index"],
    )
    return ImaAdpcm(first, SIZES[header], form, steps, moves)
