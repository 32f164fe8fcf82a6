"""The other side of the listings: a plain loop that reads the same directory and prints the same names, with the
standard library alone."""

from __future__ import annotations

import struct
import sys
from pathlib import Path


def fixed(data: bytes) -> None:
    """`pooled.bin`: records of a fixed size that point into a pool of names."""
    _, count, pool = struct.unpack_from("<4sII", data)
    table = memoryview(data)[12 : 12 + 20 * count]
    for place, start, size, _ in struct.iter_unpack("<IQII", table):
        end = data.index(0, pool + place)
        print(size, start, data[pool + place : end].decode())


def variable(data: bytes) -> None:
    """`variable.bin`: a name after its length, then numbers."""
    _, count = struct.unpack_from("<4sI", data)
    at = 8
    for _ in range(count):
        (length,) = struct.unpack_from("<H", data, at)
        name = data[at + 2 : at + 2 + length].decode()
        start, size = struct.unpack_from("<QI", data, at + 2 + length)
        print(size, start, name)
        at += 14 + length


if __name__ == "__main__":
    {"pooled": fixed, "variable": variable}[Path(sys.argv[1]).stem](Path(sys.argv[1]).read_bytes())
