"""A start for a layout, made from a file that nobody has described yet: what its first bytes may be."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from volvex.source import Source
from volvex.source.hex_lines import hex_lines, readable

LOOKED = 64  # bytes of the beginning that are told
COUNTS = 5_000_000  # a number up to this may be a count


@dataclass(frozen=True)
class Guess:
    """What a number in the head may be."""

    offset: int
    size: int  # in bytes
    value: int
    meaning: str  # a meaning of the language, or `kept`
    note: str


def start_from(source: Source, name: str) -> str:
    """The text of a layout to go on from: a head with guesses in comments. It is not sound yet: it has no directory."""
    head = source.peek(0, LOOKED)
    big = guess_big_endian(head, source.size)
    mark = _mark_size(head)
    lines = [
        f"# {name}: {source.size:,} bytes ({source.size:#x}). Its first {len(head)}:",
        *_commented(head, 0),
        f"# and its last {min(16, source.size)}:",
        *_commented(source.peek(max(0, source.size - 16), 16), max(0, source.size - 16)),
        "",
        f'layout "{name}" kind archive',
        f"{'big' if big else 'little'} endian  # likelier byte order",
    ]
    if mark:
        lines.append(f"known by {_literal(head[:mark])} at 0")
    lines += ["", "block head at 0"]
    if mark:
        lines.append(f"    mark      {mark} bytes    is {_literal(head[:mark])}")
    lines += [
        f"    {f'at_{guess.offset:02x}':<9} u{8 * guess.size:<9} {guess.meaning:<18} # {guess.note}"
        for guess in guesses(source, mark, big)
    ]
    lines += [
        "",
        "# Next: which number leads to the directory, and what does a record of it look like? Describe it, and ask",
        "# `volvex layout explain FILE --layout THIS` how much is still unexplained:",
        "# block directory repeats",
        "#     name    text u16   name",
        "#     start   u32        start of content",
        "#     size    u32        size of content",
        "",
    ]
    return "\n".join(lines)


def _commented(data: bytes, start: int) -> list[str]:
    return [f"#   {line}" for pair in hex_lines(data, start) for line in pair if line]


def _literal(data: bytes) -> str:
    plain = all(32 <= byte < 127 and byte not in b'"\\' for byte in data)
    return f'"{data.decode()}"' if plain else f"hex {data.hex(' ')}"


def _mark_size(head: bytes) -> int:
    """How many bytes of the beginning look like a mark: letters, or else the first four."""
    letters = 0
    while letters < min(8, len(head)) and (chr(head[letters]).isalnum() and head[letters] < 128):
        letters += 1
    return letters if letters >= 3 else min(4, len(head))


def guess_big_endian(head: bytes, size: int) -> bool:
    """Whether more of the head's numbers could be counts or places when their first byte is the highest."""

    def sensible(form: str) -> int:
        numbers = (struct.unpack_from(form, head, at)[0] for at in range(4, len(head) - 3, 4))
        return sum(0 < number <= size for number in numbers)

    return sensible(">I") > sensible("<I")


def guesses(source: Source, start: int, big: bool) -> Iterator[Guess]:
    """The numbers from `start` to the end of the head, and what each may be."""
    head = source.peek(0, LOOKED)
    at = start
    while at < min(len(head), 40):
        guess = _guess(source, head, at, big)
        yield guess
        at += guess.size


def _guess(source: Source, head: bytes, at: int, big: bool) -> Guess:
    def number(size: int) -> int:
        return int.from_bytes(head[at : at + size], "big" if big else "little")

    if at % 8 == 0 or number(8) == source.size:
        whole = number(8)
        if at + 8 <= len(head) and (whole == source.size or COUNTS < whole < source.size):
            return _place(source, at, 8, whole)
    if at % 4 == 0 and at + 4 <= len(head) and not _two_small(head, at, big):
        return _place(source, at, 4, number(4))
    size = 2 if at % 2 == 0 and at + 2 <= len(head) else 1
    return Guess(at, size, number(size), "kept", f"{number(size):,} ({number(size):#x})")


def _place(source: Source, at: int, size: int, value: int) -> Guess:
    """A number of 4 or 8 bytes, and what stands where it points to."""
    if value == source.size:
        return Guess(at, size, value, "length of file", "this is the size of the file")
    note = f"{value:,} ({value:#x})" + ("; a count?" if 1 < value <= COUNTS else "")
    if at + size <= value < source.size:
        there = source.peek(value, 16)
        note += f"{' or' if value <= COUNTS else ';'} a place? there stands {there[:8].hex(' ')}  {readable(there)}"
    return Guess(at, size, value, "kept", note)


def _two_small(head: bytes, at: int, big: bool) -> bool:
    """Whether four bytes look like two small numbers, such as a version and flags, rather than one large one."""
    first, second = struct.unpack_from(">HH" if big else "<HH", head, at)
    return bool(0 < first < 4096 and 0 < second < 4096)
