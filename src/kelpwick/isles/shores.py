"""What stands on the shores, as a tree: mark "KWTR", folders u16, files u16, stored length u32 and length u32 of the
content.

Folders: name (u8 length), first folder u16, folders u16, first file u16, files u16; files: name (u8 length), start u32,
size u32, counted in the content, which is one zlib stream behind them; at last "end."."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, inflate, must, span


def _named(name: str) -> bytes:
    return bytes([len(name.encode())]) + name.encode()


def _folders(files: Mapping[str, bytes]) -> list[str]:
    """All folders, level by level, so that those of one folder stand together."""
    known = sorted({"/".join(path.split("/")[:depth]) for path in files for depth in range(path.count("/") + 1)})
    order, at = [""], 0
    while at < len(order):
        below = f"{order[at]}/" if order[at] else ""
        order += [text for text in known if text and text.startswith(below) and "/" not in text[len(below) :]]
        at += 1
    return order


def write(files: Mapping[str, bytes]) -> bytes:
    order, folders, table, body, done = _folders(files), b"", b"", b"", 0
    for path in order:
        inner = [index for index, text in enumerate(order) if text and text.rpartition("/")[0] == path]
        own = [file for file in files if file.rpartition("/")[0] == path]
        folders += _named(path.rpartition("/")[2]) + struct.pack(
            "<HHHH", inner[0] if inner else 0, len(inner), done, len(own)
        )
        done += len(own)
        for text in own:
            table += _named(text.rpartition("/")[2]) + struct.pack("<II", len(body), len(files[text]))
            body += files[text]
    stored = zlib.compress(body, 9)
    return (
        b"KWTR"
        + struct.pack("<HHII", len(order), len(files), len(stored), len(body))
        + folders
        + table
        + stored
        + b"end."
    )


def read(data: bytes) -> dict[str, bytes]:
    reader, found = Reader(data), dict[str, bytes]()
    must(reader.take(4) == b"KWTR", "not a tree")
    count, number, stored, length = (reader.number(form) for form in "HHII")
    folders = [(reader.text(reader.number("B")), [reader.number("H") for _ in range(4)]) for _ in range(count)]
    files = [(reader.text(reader.number("B")), reader.number("I"), reader.number("I")) for _ in range(number)]
    body = inflate(reader.take(stored), length)
    must(reader.take(4) == b"end." and reader.at == len(data), "the end is wrong")

    def visit(row: int, before: str, depth: int) -> None:
        must(row < count and depth < 20, "folders in a circle")
        name, (first, inner, file, own) = folders[row]
        path = f"{before}{name}/" if name else before
        for text, start, size in files[file : file + own]:
            found[path + text] = span(body, start, size)
        for child in range(first, first + inner):
            visit(child, path, depth + 1)

    visit(0, "", 0)
    must(len(found) == number, f"{len(found)} files are reached, there are {number}")
    return found
