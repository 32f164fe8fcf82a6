"""Numbers and texts of odd shapes, many at once: stored bytes <-> values, both directions side by side."""

from __future__ import annotations

import numpy as np

from volvex.layout.model import Number, Text, Varint
from volvex.layout.records.columns import Array


def odd_numbers(values: Array, kind: Number) -> Array:
    """Numbers of 24, 40, 48 or 56 bits (as bytes) as int64."""
    parts = np.frombuffer(values.tobytes(), np.uint8).reshape(len(values), kind.size)
    whole = np.zeros((len(values), 8), np.uint8)
    if kind.big:
        parts = parts[:, ::-1]
    whole[:, : kind.size] = parts
    if kind.signed:
        whole[:, kind.size :] = np.where(parts[:, -1:] > 127, 255, 0)
    return whole.view("<i8")[:, 0]


def odd_bytes(numbers: Array, kind: Number) -> Array:
    """Numbers of a width that NumPy does not have, to rows of bytes."""
    whole = numbers.astype("<i8").reshape(-1, 1).view(np.uint8)[:, : kind.size]
    return np.frombuffer((whole[:, ::-1] if kind.big else whole).tobytes(), kind.dtype)


class LongerThanNeeded(ValueError):
    """A number in more bytes than it needs, which could not be written again as it was; `place` is in the data."""

    def __init__(self, place: int, number: int, size: int) -> None:
        super().__init__(f"{number} is written in {size} bytes, which is more than it needs")
        self.place = place


def unpacked_varints(data: bytes, starts: Array, lengths: Array, kind: Varint) -> Array:
    """Numbers of as many bytes as they need; LongerThanNeeded for one that has more."""
    flat, numbers = np.frombuffer(data, np.uint8), np.zeros(len(starts), np.int64)
    for place in range(int(lengths.max()) if len(lengths) else 0):
        there = lengths > place
        byte = flat[starts[there] + place].astype(np.int64) & 127
        numbers[there] = numbers[there] << 7 | byte if kind.big else numbers[there] | byte << 7 * place
    wrong = needed(numbers) != lengths
    if wrong.any():
        row = int(np.argmax(wrong))
        raise LongerThanNeeded(int(starts[row]), int(numbers[row]), int(lengths[row]))
    return numbers


def needed(numbers: Array) -> Array:
    """How many bytes each number takes."""
    sizes = np.ones(len(numbers), np.int64)
    for place in range(1, 9):
        sizes += numbers >= 1 << 7 * place
    return sizes


def packed_varints(numbers: Array, kind: Varint) -> list[bytes]:
    """Numbers to the bytes of varints."""
    found = []
    for number in numbers.tolist():
        parts = [number & 127]
        while number := number >> 7:
            parts.append(number & 127)
        if kind.big:
            parts.reverse()
        found.append(bytes([*(part | 128 for part in parts[:-1]), parts[-1]]))
    return found


def cut(values: Array, kind: Text) -> tuple[list[bytes], list[bytes]]:
    """Padded texts without their padding; and, when any has more than padding behind its end, what that is for each."""
    size = kind.size or 0
    if kind.filled:
        return [value.rstrip(bytes([kind.filled])) for value in _wholes(values, size)], []
    width = kind.width
    if width == 1:
        raws: list[bytes] = values.view(f"S{size}").tolist()  # without the zeros at their ends
        if not any(b"\0" in raw for raw in raws):
            return raws, []
    wholes = _wholes(values, size)
    ends = [_end(whole, width) for whole in wholes]
    texts = [whole[:end] for whole, end in zip(wholes, ends, strict=True)]
    rests = [whole[end:] for whole, end in zip(wholes, ends, strict=True)]
    return texts, rests if any(rest.strip(b"\0") for rest in rests) else []


def _wholes(values: Array, size: int) -> list[bytes]:
    data = values.tobytes()
    return [data[at : at + size] for at in range(0, len(data), size)] if size else [b""] * len(values)


def _end(whole: bytes, width: int) -> int:
    """Where a text ends: at its first zero, counted in characters."""
    end = next((at for at in range(0, len(whole), width) if not any(whole[at : at + width])), len(whole))
    return min(end, len(whole))
