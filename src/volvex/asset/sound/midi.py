"""Standard MIDI Files 1.0: tracks, length, names. They are named, not played: they hold notes, and no samples."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from volvex.errors import FRESH, FormatError
from volvex.source import Source

MOST = 1 << 26  # bytes of a file that is looked through
TEMPO, TRACK_NAME, END = 0x51, 0x03, 0x2F
USUAL = 500_000  # microseconds of a quarter note, where nothing gives it


@dataclass(frozen=True)
class Midi:
    """What a file has."""

    tracks: int
    notes: int
    seconds: float
    names: tuple[str, ...]


def read_midi(source: Source) -> Midi:
    """What is in a file; FormatError when it is damaged."""
    if source.size > MOST:
        raise FormatError(source.name, f"a MIDI file of {source.size:,} bytes", hint=FRESH)
    data = source.read(0, source.size)
    if len(data) < 14 or data[:8] != b"MThd\0\0\0\6":
        raise FormatError(source.name, "no head of a MIDI file", hint=FRESH)
    count, division = (int.from_bytes(data[at : at + 2], "big") for at in (10, 12))
    tempos, ends, notes, names, at = list[tuple[int, int]](), [0], 0, list[str](), 14
    for _ in range(count):
        size = int.from_bytes(data[at + 4 : at + 8], "big")
        if data[at : at + 4] != b"MTrk" or at + 8 + size > len(data):
            raise FormatError(source.name, "a track ends behind the file", offset=at, hint=FRESH)
        for tick, what, value in _events(data[at + 8 : at + 8 + size], source.name):
            if what == TEMPO and len(value) == 3:
                tempos.append((tick, int.from_bytes(value, "big")))
            elif what == TRACK_NAME:
                names.append(value.decode("utf-8", "replace"))
            notes += what == -1
            ends.append(tick)
        at += 8 + size
    return Midi(count, notes, _seconds(max(ends), division, sorted(tempos)), tuple(filter(None, names)))


def _events(data: bytes, name: str) -> Iterator[tuple[int, int, bytes]]:
    """When, what and with which bytes: notes that begin as -1, others by their type."""
    at, tick, status = 0, 0, 0
    try:
        while at < len(data):
            wait, at = _number(data, at)
            tick += wait
            if data[at] & 128:
                status, at = data[at], at + 1
            if status == 0xFF:
                what = data[at]
                size, at = _number(data, at + 1)
                yield tick, what, data[at : at + size]
                at += size
                if what == END:
                    return
            elif status in (0xF0, 0xF7):
                size, at = _number(data, at)
                at += size
            elif status >= 0x80:
                yield tick, -1 if status >> 4 == 9 and data[at + 1] else -2, b""
                at += 1 if status >> 4 in (12, 13) else 2
            else:
                raise IndexError
    except IndexError as error:
        raise FormatError(name, "a track of a MIDI file ends within an event", hint=FRESH) from error


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A number of seven bits a byte, and where it ends."""
    value = 0
    for place in range(at, at + 4):
        value = value << 7 | data[place] & 127
        if not data[place] & 128:
            return value, place + 1
    raise IndexError


def _seconds(ticks: int, division: int, tempos: list[tuple[int, int]]) -> float:
    """How long a number of ticks is, in seconds."""
    if division & 0x8000:
        return ticks / max(1, (256 - (division >> 8)) * (division & 255))
    total, last, tempo = 0.0, 0, USUAL
    for tick, following in [*tempos, (ticks, 0)]:
        total += (tick - last) * tempo / 1e6 / max(1, division)
        last, tempo = tick, following
    return total
