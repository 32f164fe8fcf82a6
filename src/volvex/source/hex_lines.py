"""Bytes as text, in one form everywhere: pairs of digits, and below each byte the character that it stands for."""

from __future__ import annotations

from collections.abc import Iterator

ROW = 16
GAP = "·"  # below a byte that is no character


def readable(data: bytes) -> str:
    """The ASCII characters of the bytes; a middle dot for any other byte."""
    return "".join(chr(byte) if 32 <= byte < 127 else GAP for byte in data)


def hex_lines(data: bytes, start: int = 0) -> Iterator[tuple[str, str]]:
    """For each 16 bytes two lines: `at 0x20  4b 57 50` and the characters below; the second is empty without letters.

    `start` is the offset of the first byte.
    """
    width = len(f"at {start + max(0, len(data) - 1):#x}")
    for at in range(0, len(data), ROW):
        row = data[at : at + ROW]
        pairs = f"{f'at {start + at:#x}'.ljust(width)}  {row.hex(' ')}"
        below = "".join(f"{character:<3}" for character in readable(row)).rstrip()
        yield pairs, f"{'':{width}}  {below}" if below.strip(GAP + " ") else ""
