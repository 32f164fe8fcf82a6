"""What is called across the water, in several languages: one path, stored once for each.

Mark "KWSP", entries u16; records sorted by path and language: path (32 bytes, filled with zeros), language u8 (0 none,
1 en, 2 de, 3 fr), start u32, size u16, CRC-32 u32; then the contents.
"""

from __future__ import annotations

import random
import struct
import zlib
from pathlib import Path

from kelpwick.isles._bytes import must, span
from kelpwick.words import CALLS

NAME, TONGUES, RECORD = "speech/speech.kwl", ("", "en", "de", "fr"), struct.Struct("<32sBIHI")


def write(folder: Path, rng: random.Random) -> None:
    said = {
        (f"calls/{name}.txt", TONGUES.index(tongue)): text.encode()
        for name, texts in CALLS.items()
        for tongue, text in texts.items()
    }
    said["calls/horn.ring", 0] = b"RING" + rng.randbytes(400)
    rows, at = [], 6 + RECORD.size * len(said)
    for (path, tongue), text in sorted(said.items()):
        rows.append(RECORD.pack(path.encode(), tongue, at, len(text), zlib.crc32(text)))
        at += len(text)
    (folder / NAME).parent.mkdir(exist_ok=True)
    data = b"".join([b"KWSP", struct.pack("<H", len(rows)), *rows, *(text for _, text in sorted(said.items()))])
    (folder / NAME).write_bytes(data)


def read(folder: Path) -> dict[str, bytes]:
    """The content by path and language, with a blank between."""
    data, found = (folder / NAME).read_bytes(), dict[str, bytes]()
    must(data[:4] == b"KWSP", f"{NAME}: nothing that is said")
    table = span(data, 6, RECORD.size * struct.unpack_from("<H", data, 4)[0])
    before = (b"", -1)
    for path, tongue, start, size, checksum in RECORD.iter_unpack(table):
        must((path, tongue) > before and tongue < len(TONGUES), f"{NAME}: {path!r} is out of order, or in no language")
        text = span(data, start, size)
        must(zlib.crc32(text) == checksum, f"{NAME}: {path!r} is damaged")
        found[f"{path.rstrip(bytes(1)).decode()} {TONGUES[tongue]}".strip()] = text
        before = (path, tongue)
    return found
