"""Archives that are cut, flipped or absurd: our errors only, one line each, and nothing half-written."""

from __future__ import annotations

import random
import struct
import unittest
import zlib
from collections.abc import Callable

import numpy as np

from tests.families import FAMILIES
from tests.formats import FORMATS, PACKED, SAMPLES, ZERO, packed, zero
from tests.more_families import MORE
from tests.support import Case, archive_of, made_game, pack_layout
from volvex.archive import LayoutArchive
from volvex.archive.transfer.parallel import verify
from volvex.errors import FormatError, VolvexError
from volvex.layout.inspect.coverage import coverage
from volvex.layout.inspect.proof import prove
from volvex.layout.language.parser import parse_layout
from volvex.layout.model import Layout
from volvex.layout.read.open import read
from volvex.source import BytesSource

HEAD = struct.Struct("<4sHHIQIQI")


def exercise(layout: Layout, data: bytes) -> LayoutArchive | None:
    """All that can be done with an archive; None when it is refused. Anything but our errors is a fault."""
    try:
        archive = LayoutArchive(read(layout, BytesSource(data, "bad")))
        verify(archive, np.arange(len(archive)))
        for row in range(len(archive)):
            archive.kind(row)
        coverage(archive.reading)
        prove(archive.reading)
    except VolvexError as error:
        assert len(error.lines()) <= 2 and error.lines()[0], error
        return None
    return archive


class Cut(unittest.TestCase):
    def test_at_every_byte(self) -> None:
        for name, (text, make) in FORMATS.items():
            data = make(SAMPLES)
            layout = archive_of(text, data).layout
            # where nothing tells how long the last content is, nobody can notice that some of it is missing
            unseen = len(SAMPLES[-1][1]) if name == "next" else 0
            for size in range(len(data) - unseen):
                with self.subTest(name, size=size):
                    archive = _read_whole(layout, data[:size])
                    if archive is not None and name == "stream":  # cut between two entries it is a whole archive again
                        told = [(name, archive.content(row)) for row, name in enumerate(archive.names)]
                        self.assertEqual(told, list(SAMPLES[: len(told)]))
                        continue
                    self.assertIsNone(archive, "a part of the archive passed for the whole")

    def test_the_game_s_archive(self) -> None:
        data, layout = (made_game() / "data" / "main.kwp").read_bytes(), pack_layout()
        for size in [*range(120), *range(120, len(data), 997)]:
            with self.assertRaises(FormatError):
                read(layout, BytesSource(data[:size], "cut"))


def _read_whole(layout: Layout, data: bytes) -> LayoutArchive | None:
    """The archive when all of its entries are sound and the file ends where the layout makes it end."""
    try:
        archive = LayoutArchive(read(layout, BytesSource(data, "cut")))
    except VolvexError:
        return None
    faults = verify(archive, np.arange(len(archive)))
    return None if faults else archive


class Flipped(unittest.TestCase):
    def test_bytes_all_over_the_file(self) -> None:
        rng = random.Random(2)
        for name, (text, make) in FORMATS.items():
            data = make(SAMPLES)
            layout = archive_of(text, data).layout
            for at in range(rng.randrange(6), len(data), 6):
                with self.subTest(name, at=at):
                    broken = bytearray(data)
                    broken[at] ^= 1 << rng.randrange(8)
                    exercise(layout, bytes(broken))

    def test_every_family(self) -> None:
        """Any byte changed, or the file cut anywhere: our errors only. Here other fields are wrong than in plain
        tables."""
        rng = random.Random(5)
        for name, family in {**FAMILIES, **MORE}.items():
            data = family.make([(path, content[:90]) for path, content in family.files])
            layout = archive_of(family.layout, data).layout
            for at in range(rng.randrange(9), len(data), 9 if name in FAMILIES else 23):  # all of them: `dev.py fuzz`
                with self.subTest(name, at=at):
                    broken = bytearray(data)
                    broken[at] ^= 1 << rng.randrange(8)
                    exercise(layout, bytes(broken))
                    if at % 3 == 0:
                        exercise(layout, data[:at])

    def test_numbers_of_the_game_s_archive(self) -> None:
        data, layout = (made_game() / "data" / "main.kwp").read_bytes(), pack_layout()
        start = HEAD.unpack_from(data)[4]
        noticed = 0
        places = [*range(HEAD.size), *range(start, len(data), 13)]
        for at in places:
            broken = bytearray(data)
            broken[at] ^= 0x40
            noticed += exercise(layout, bytes(broken)) is None
        # flags are kept, whatever they are: two bytes that may change unnoticed
        self.assertEqual(noticed, len(places) - 2)

    def test_a_flipped_entry_is_told_and_the_others_are_sound(self) -> None:
        data = bytearray(packed(SAMPLES))
        archive = archive_of(PACKED, bytes(data))
        row = archive.names.index("letter.txt")
        data[int(archive.entries.start[row]) + 4] ^= 0x10
        faults = verify(archive_of(PACKED, bytes(data)), np.arange(len(archive)))
        self.assertEqual(len(faults), 1)
        self.assertIn("letter.txt", faults[0].message)


class Bounded(unittest.TestCase):
    """A record or a directory without an end is refused before it takes the memory that the file has bytes."""

    def test_a_name_without_an_end(self) -> None:
        class Endless(BytesSource):
            most = 0

            def __init__(self) -> None:
                super().__init__(zero(SAMPLES)[:20].ljust(400, b"x"), "endless")
                self.head, self.size = self.data, 1 << 40

            def _read(self, offset: int, size: int) -> bytes:
                Endless.most = max(Endless.most, size)
                return self.head[offset : offset + size].ljust(size, b"x")

        text = ZERO.replace("total   u32           length of file", "total   u32           kept").replace(
            "own     u32           crc32 of head", "own u32 kept"
        )
        with self.assertRaises(FormatError) as caught:
            read(parse_layout(text, "z"), Endless())
        self.assertIn("no end within 16 MB", caught.exception.message)
        self.assertLess(Endless.most, 100_000_000)


class Absurd(Case):
    """Numbers that no sane file holds, through the program."""

    def setUp(self) -> None:
        super().setUp()
        self.data = bytearray((made_game() / "data" / "main.kwp").read_bytes())
        self.file = self.folder / "bad.kwp"

    def renew_checksum(self) -> None:
        _, _, _, _, start, length, _, _ = HEAD.unpack_from(self.data)
        struct.pack_into("<I", self.data, 32, zlib.crc32(self.data[start : start + length]))

    def refused(self, says: str, field: str, change: Callable[[bytearray], None], *command: str) -> None:
        """The program refuses the changed archive with one line that names the field."""
        change(self.data)
        self.renew_checksum()
        self.file.write_bytes(self.data)
        words = command or ("list", str(self.file))
        said = self.complaint(*words, status=4)
        self.assertIn(says, said)
        self.assertIn(f"field {field}", said)
        self.assertIn("bad.kwp", said)

    def record(self, name: bytes) -> int:
        """Where the numbers of an entry's record start."""
        return self.data.index(struct.pack("<H", len(name)) + name, HEAD.unpack_from(self.data)[4]) + 2 + len(name)

    def test_a_count_of_four_thousand_million(self) -> None:
        self.refused(
            "4294967295 records of at least 20 bytes do not fit",
            "directory",
            lambda d: struct.pack_into("<I", d, 8, 2**32 - 1),
        )

    def test_a_count_that_is_one_too_small(self) -> None:
        self.refused("its records end after", "directory", lambda d: struct.pack_into("<I", d, 8, 66))

    def test_a_directory_past_the_end(self) -> None:
        with self.subTest("place"):
            self.data[12:20] = struct.pack("<Q", 2**40)
            self.file.write_bytes(self.data)
            self.assertIn("directory would reach past the end", self.complaint("list", self.file, status=4))

    def test_a_place_beyond_all_sense(self) -> None:
        self.data[12:20] = struct.pack("<Q", 2**64 - 5)
        self.file.write_bytes(self.data)
        self.assertIn("larger than any file", self.complaint("list", self.file, status=4))

    def test_a_size_past_the_end(self) -> None:
        at = self.record(b"rules/lamps.xml")
        self.refused(
            "reach past the end of the file", "directory[", lambda d: struct.pack_into("<I", d, at + 4, 2**32 - 1)
        )

    def test_a_place_in_the_head(self) -> None:
        at = self.record(b"rules/lamps.xml")
        self.refused("overlaps head", "directory[", lambda d: struct.pack_into("<I", d, at, 0))

    def test_a_place_in_another_entry(self) -> None:
        at = self.record(b"bells/fog-01.ring")
        other = struct.unpack_from("<I", self.data, self.record(b"bells/fog-02.ring"))[0]
        struct.pack_into("<I", self.data, at, other + 1)
        self.renew_checksum()
        self.file.write_bytes(self.data)
        self.assertIn(
            "overlaps what lies before it", self.complaint("unpack", self.file, "--to", self.folder / "out", status=4)
        )
        self.assertFalse((self.folder / "out").exists())

    def test_an_unknown_codec_is_told_when_the_entry_is_wanted(self) -> None:
        at = self.record(b"rules/lamps.xml")
        struct.pack_into("<B", self.data, at + 12, 9)
        self.renew_checksum()
        self.file.write_bytes(self.data)
        self.assertIn("?", self.volvex("list", self.file))
        self.assertIn(
            "9 is not a codec of the layout", self.complaint("show", f"{self.file}/rules/lamps.xml", status=4)
        )

    def test_a_bomb_stops_at_the_size_that_was_told(self) -> None:
        bomb = zlib.compress(bytes(1 << 26))
        data = packed((("bomb", b"x"),), (0,))
        archive = archive_of(PACKED, data)
        head, place = data[:16], int(archive.entries.start[0])
        table = b"\x04bomb" + struct.pack("<IIIBI", place // 16, len(bomb), 100, 8, 0)
        body = head[:place] + bomb
        body += bytes(-len(body) % 16)
        made = struct.pack("<3sBII", b"PKD", 1, len(table), len(body) // 16) + body[12:] + table
        with self.assertRaises(FormatError) as caught:
            archive_of(PACKED, made).content(0)
        self.assertIn("more than 100 bytes", caught.exception.message)

    def test_a_cut_and_a_flipped_archive_each_give_one_line(self) -> None:
        self.file.write_bytes(self.data[:50_000])
        self.assertIn("directory would reach past the end", self.complaint("list", self.file, status=4))
        self.data[-30] ^= 4
        self.file.write_bytes(self.data)
        said = self.complaint("list", self.file, status=4)
        self.assertIn("crc32 of directory", said)
        self.assertIn("at 0x20, field head.checksum", said)

    def test_an_empty_file_is_no_archive(self) -> None:
        self.file.write_bytes(b"")
        self.assertEqual(self.records("list", self.file)[0]["type"], "empty")

    def test_a_damaged_entry_does_not_keep_the_rest_from_coming_out(self) -> None:
        start = struct.unpack_from("<I", self.data, self.record(b"rules/lamps.xml"))[0] * 64
        self.data[start + 9] ^= 1
        self.file.write_bytes(self.data)
        done = self.run_program("unpack", self.file, "--to", self.folder / "out", status=4)
        self.assertIn("rules/lamps.xml", done.stderr)
        self.assertIn("66 files", done.stdout)
        self.assertFalse((self.folder / "out" / "rules" / "lamps.xml").exists())
        self.assertEqual([path.name for path in (self.folder / "out").rglob("*part*")], [])

    def test_a_survey_tells_the_damaged_and_goes_on(self) -> None:
        game = self.game()
        (game / "data" / "cut.kwp").write_bytes(self.data[:999])
        done = self.run_program("survey", game, status=4)
        self.assertIn("damaged", done.stdout)
        self.assertIn("Kelpwick pack", done.stdout)


if __name__ == "__main__":
    unittest.main()
