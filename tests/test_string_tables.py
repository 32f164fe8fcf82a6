"""String tables as games have them: keys and texts in parallel blocks, in pools of mere bytes with lengths beside
offsets."""

from __future__ import annotations

import struct
import unittest
import zlib

from tests.families import Reader, expect, span
from volvex.data.model.layout_document import LayoutDocument
from volvex.data.model.sheet import Change
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

LAYOUT = """
layout "parallel" kind text
little endian
known by "PARA" at 0
block head at 0
    mark     4 bytes   is "PARA"
    count    u16       count of keys
    letters  u32       length of words
    sum      u32       crc32 of keys and spots and words
block keys after head repeats sorted by id
    id       u32       id
block spots after keys repeats with keys
    en       u32       text in words
    size     u16       length of en
    de       u32       text in words
    long     u16       length of de
block words after spots repeats align 4
    letter   u8        texts in cp1252
"""
Lines = dict[int, tuple[str, str]]
TEXTS: Lines = {
    7: ("Light the lamp", "Zünde die Lampe an"),
    9: ("Row", "Rudern"),
    12: ("", "Öl"),
    40: ("Lamp", "Lampe"),
}


def written(texts: Lines) -> bytes:
    """The file, by code that is not the engine's; texts that are the same share their bytes."""
    pool, keys, spots = b"", b"", b""
    for key, pair in sorted(texts.items()):
        keys += struct.pack("<I", key)
        for text in pair:
            raw = text.encode("cp1252")
            at = pool.find(raw)
            if at < 0:
                at, pool = len(pool), pool + raw
            spots += struct.pack("<IH", at, len(raw))
    gap = bytes(-(14 + len(keys) + len(spots)) % 4)
    return (
        b"PARA"
        + struct.pack("<HII", len(texts), len(pool), zlib.crc32(keys + spots + pool))
        + keys
        + spots
        + gap
        + pool
    )


def loaded(data: bytes) -> Lines:
    """The texts, as strictly as a game reads them."""
    read = Reader(data)
    expect(read.take(4), b"PARA")
    count, letters, total = read("H"), read("I"), read("I")
    keys = [read("I") for _ in range(count)]
    expect(keys, sorted(set(keys)))
    spots = [(read("I"), read("H"), read("I"), read("H")) for _ in range(count)]
    where = read.at + -read.at % 4
    pool = span(data, where, letters)
    expect(len(data), where + letters)
    expect(total, zlib.crc32(data[14 : read.at] + pool))
    return {
        key: (span(pool, a, b).decode("cp1252"), span(pool, c, d).decode("cp1252"))
        for key, (a, b, c, d) in zip(keys, spots, strict=True)
    }


class StringTables(unittest.TestCase):
    def document(self, data: bytes) -> LayoutDocument:
        return LayoutDocument(parse_layout(LAYOUT, "test.layout"), BytesSource(data, "lines.para"))

    def test_every_text_is_found_by_its_start_and_length(self) -> None:
        sheet = self.document(written(TEXTS)).sheets[0]
        found = {int(key): (sheet.record(row)["en"], sheet.record(row)["de"]) for row, key in enumerate(sheet.ids)}
        self.assertEqual(found, TEXTS)

    def test_changes_are_read_by_the_other_loader(self) -> None:
        document = self.document(written(TEXTS))
        name = document.sheets[0].name
        for key, field, text in (
            (7, "de", "Licht!"),
            (9, "en", "Row ashore, and be quick"),
            (12, "en", "Oil"),
            (40, "de", ""),
        ):
            change = Change(
                "set", name, str(key), field, document.sheets[0].record(list(TEXTS).index(key))[field], text
            )
            wanted = {**TEXTS, key: (text, TEXTS[key][1]) if field == "en" else (TEXTS[key][0], text)}
            self.assertEqual(loaded(document.written([change])), wanted)

    def test_records_come_and_go(self) -> None:
        document = self.document(written(TEXTS))
        name = document.sheets[0].name
        added = Change("add", name, "11", like="9", fields=(("id", "11"), ("en", "Bell"), ("de", "Glocke")))
        removed = Change("remove", name, "7")
        wanted = {key: pair for key, pair in TEXTS.items() if key != 7} | {11: ("Bell", "Glocke")}
        self.assertEqual(loaded(document.written([added, removed])), dict(sorted(wanted.items())))


if __name__ == "__main__":
    unittest.main()
