"""Data to measure on: a table of a million records, a hundred megabytes of XML, two hundred thousand texts."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np

ROWS, COLUMNS, TEXTS = 1_000_000, 20, 200_000
GOODS = ("colza", "paraffin", "tallow", "gas")
TABLE = """layout "a million records" kind table
known by "MILL" at 0
block head at 0
    mark    4 bytes  is "MILL"
    count   u32      count of stock
    start   u32      start of words
    length  u32      length of words
block stock after head repeats
    id      u32      id
    good    u8       value {{ {goods} }}
    name    u32      text in words
    price   f32      value
    weight  f64      value
{numbers}
block words repeats
    word    text zero  texts
"""
SAYINGS = """layout "many texts" kind text
known by "MANY" at 0
block head at 0
    mark    4 bytes  is "MANY"
    count   u32      count of lines
block lines after head repeats
    key     text u8   id
    use     text u8   context
    en      text u16  text
    de      text u16  text
"""


def home(work: Path) -> Path:
    """A folder with the layouts, as a user has them."""
    folder = work / "home"
    folder.mkdir(parents=True, exist_ok=True)
    goods = ", ".join(f"{number} {good}" for number, good in enumerate(GOODS))
    numbers = "\n".join(f"    n{number:<7}{'i32' if number % 2 else 'u16'}      value" for number in range(COLUMNS - 5))
    (folder / "table.layout").write_text(TABLE.format(goods=goods, numbers=numbers))
    (folder / "texts.layout").write_text(SAYINGS)
    return folder


def table(work: Path, rows: int = ROWS) -> Path:
    """A binary table: 20 columns, names in a pool."""
    path = work / "stock.tbl"
    if path.exists():
        return path
    rng = np.random.default_rng(7)
    words = [f"{good} of lot {number:05}".encode() for number in range(12_500) for good in GOODS]
    starts = np.cumsum([0, *(len(word) + 1 for word in words[:-1])])
    fields = [("id", "<u4"), ("good", "u1"), ("name", "<u4"), ("price", "<f4"), ("weight", "<f8")]
    fields += [(f"n{number}", "<i4" if number % 2 else "<u2") for number in range(COLUMNS - 5)]
    made = np.zeros(rows, fields)
    made["id"], made["good"] = np.arange(rows) * 3 + 100, rng.integers(0, len(GOODS), rows)
    made["name"] = starts[rng.integers(0, len(words), rows)]
    made["price"], made["weight"] = rng.integers(1, 90_000, rows) / 100, rng.random(rows) * 1000
    for number in range(COLUMNS - 5):
        made[f"n{number}"] = rng.integers(-1000 if number % 2 else 0, 60_000, rows)
    pool = b"".join(word + b"\0" for word in words)
    body = made.tobytes()
    path.write_bytes(b"MILL" + struct.pack("<III", rows, 16 + len(body), len(pool)) + body + pool)
    return path


def rules(work: Path, megabytes: int = 100) -> Path:
    """A game of one XML file, with records three levels deep."""
    folder = work / "large-rules"
    path = folder / "stock.xml"
    if path.exists():
        return folder
    folder.mkdir(parents=True, exist_ok=True)
    with path.open("w", encoding="utf-8", newline="\r\n") as file:
        file.write('<?xml version="1.0" encoding="utf-8"?>\n<stock>\n')
        number = 0
        while file.tell() < megabytes << 20:
            file.write(f' <shed name="shed_{number // 100}">\n')
            for _ in range(100):
                file.write(
                    f'  <barrel id="barrel_{number}" good="{GOODS[number % 4]}" price="{number % 97}.50">\n'
                    f"   <stowed deck=\"{number % 5}\" row='{number % 31}'/><note>Lot {number} &amp; more</note>\n  "
                    f"</barrel>\n"
                )
                number += 1
            file.write(" </shed>\n")
        file.write("</stock>\n")
    return folder


def texts(work: Path, count: int = TEXTS) -> Path:
    """A text table of two languages."""
    path = work / "texts.many"
    if not path.exists():
        body = bytearray()
        for number in range(count):
            en, de = (
                f"Barrel {number} came in on the ebb, keeper.".encode(),
                f"Fass {number} kam mit der Ebbe, Wärter.".encode(),
            )
            key, use = f"lot.{number}".encode(), b"menu" if number % 9 else b"dialogue"
            body += (
                bytes([len(key)])
                + key
                + bytes([len(use)])
                + use
                + struct.pack("<H", len(en))
                + en
                + struct.pack("<H", len(de))
                + de
            )
        path.write_bytes(b"MANY" + struct.pack("<I", count) + body)
    return path
