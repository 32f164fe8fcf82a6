"""What a file is: guesses with reasons, entropy, files inside; and the survey that remembers."""

from __future__ import annotations

import gzip
import json
import os
import random
import sqlite3
import struct
import unittest
import zlib
from pathlib import Path
from unittest.mock import patch

from kelpwick import png
from tests.support import MAIN, Case, made_game
from volvex.archive.detect import survey as survey_module
from volvex.archive.detect.carve import finds
from volvex.archive.detect.identify import Identified, entropy_along, identify, text_share
from volvex.archive.detect.survey import survey
from volvex.archive.detect.survey_cache import Memory
from volvex.layout import Library
from volvex.layout.keyring import Key, KeyRing
from volvex.source import BytesSource, FileSource

RANDOM = random.Random(5)


def identified(path: Path, library: Library) -> Identified:
    """What a file on disk is."""
    with FileSource(path) as source:
        return identify(source, library, path)


class Identify(Case):
    LIBRARY = Library()

    def of(self, data: bytes, name: str = "what.dat") -> list[tuple[str, str, bool]]:
        (self.folder / name).write_bytes(data)
        return [(guess.title, guess.by, guess.opens) for guess in identified(self.folder / name, self.LIBRARY).guesses]

    def test_by_signature_structure_key_parts_and_content(self) -> None:
        from tests.test_open_formats import tarred, xored, zipped

        game = made_game()
        self.assertEqual(self.of((game / MAIN).read_bytes()), [("Kelpwick pack", "signature", True)])
        self.assertEqual(self.of(zipped())[0], ("ZIP", "structure", True))
        self.assertEqual(self.of(gzip.compress(tarred()))[0], ("TAR, gzip", "structure", True))
        self.assertEqual(self.of(xored(tarred(), b"lantern"))[0], ("TAR, xor", "key", True))
        self.assertEqual(self.of(RANDOM.randbytes(700) + tarred())[0], ("TAR at 0x2bc in it", "parts", True))
        self.assertEqual(
            self.of(RANDOM.randbytes(700) + (game / MAIN).read_bytes() + b"tail")[0][0], "Kelpwick pack at 0x2bc in it"
        )
        self.assertEqual(self.of(png.lamp(3, 9)), [("png, 64 x 48, 8 bits, RGB", "content", False)])
        self.assertEqual(self.of(RANDOM.randbytes(5000)), [])

    def test_a_layout_without_a_mark_is_tried_by_structure(self) -> None:
        (self.home / "bells.layout").write_text("""
layout "unmarked bells" kind archive
little endian
block head at 0
    count  u16   count of rows
    length u32   length of file
block rows after head repeats
    name   text u8  name
    start  u32   start of content
    size   u32   size of content
    check  u32   crc32 of content
content
""")
        row = b"\x05a.txt" + struct.pack("<III", 24, 4, zlib.crc32(b"wick"))
        (self.folder / "bells.dat").write_bytes(struct.pack("<HI", 1, 28) + row + b"wick")
        told = json.loads(self.volvex("identify", "bells.dat", "--json"))[0]["guesses"]
        self.assertEqual(
            [(one["title"], one["by"], one["entries"]) for one in told], [("unmarked bells", "structure", 1)]
        )

    def test_pieces_lead_to_the_first(self) -> None:
        folder = made_game() / "deeps"
        first, third = (identified(folder / f"deeps.kwp.00{number}", self.LIBRARY) for number in (1, 3))
        self.assertEqual((first.guesses[0].title, first.guesses[0].opens), ("Kelpwick pack, 5 pieces", True))
        self.assertEqual(third.guesses[0].title, "piece 3 of 5 of deeps.kwp.001")

    def test_a_damaged_file_is_told_with_its_fault(self) -> None:
        data = bytearray((made_game() / MAIN).read_bytes())
        data[-3] ^= 1
        (self.folder / "bad.kwp").write_bytes(data)
        done = self.run_program("identify", "bad.kwp", status=1)
        self.assertIn("but bad.kwp at", done.stdout)
        self.assertIn("checksum", done.stdout)

    def test_what_the_bytes_look_like(self) -> None:
        text = b"the lamp was lit at dusk and out at dawn\n" * 2000
        sample, values = entropy_along(BytesSource(text + RANDOM.randbytes(len(text)), "x"))
        self.assertLess(max(values[:40]), 4.5)
        self.assertGreater(min(values[-40:]), 7.9)
        self.assertEqual(text_share(text), 1.0)
        self.assertLess(text_share(sample), 0.8)
        self.assertEqual(entropy_along(BytesSource(b"", "x"))[1], [0.0])

    def test_files_inside_are_found_measured_and_taken_out(self) -> None:
        inside = {
            "png": png.lamp(40, 7),
            "gzip": gzip.compress(b"lit " * 900),
            "zlib": zlib.compress(b"dusk" * 800, 9),
            "wav": b"RIFF" + struct.pack("<I", 40) + b"WAVE" + bytes(36),
        }
        data = RANDOM.randbytes(999)
        wanted = []
        for kind, one in inside.items():
            wanted.append((len(data), kind, len(one)))
            data += one + RANDOM.randbytes(333)
        found = [(find.offset, find.kind, find.size) for find in finds(BytesSource(data, "x"))]
        self.assertEqual(found, wanted)
        (self.folder / "x.dat").write_bytes(data)
        done = self.run_program("identify", "x.dat", "--save-found", "out", "--plot", "e.png", status=1)
        self.assertIn("4 files taken out", done.stdout)
        self.assertEqual((self.folder / "out" / f"at-{wanted[0][0]:#x}.png").read_bytes(), inside["png"])
        self.assertTrue((self.folder / "e.png").read_bytes().startswith(b"\x89PNG"))
        self.assertIn("already exists", self.complaint("identify", "x.dat", "--save-found", "out", status=5))

    def test_a_bounded_amount_is_read_however_large_the_file(self) -> None:
        path = self.folder / "huge.dat"
        with path.open("wb") as file:
            file.write(RANDOM.randbytes(4000))
            file.truncate(1 << 36)
        before = _read_bytes()
        identified(path, self.LIBRARY)
        self.assertLess(_read_bytes() - before, 1 << 28)


def _read_bytes() -> int:
    if not Path("/proc/self/io").exists():
        return 0
    return int(Path("/proc/self/io").read_text().split()[1])


class Remembered(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.memory = Memory(self.folder / "memory.sqlite")
        self.library = Library()

    def looked_at(self) -> int:
        """How many files a survey looks at."""
        counted: list[int] = []
        survey(self.source, self.library, self.memory, on_progress=counted.append)
        return sum(counted[1:])

    def test_only_what_changed_is_looked_at_again(self) -> None:
        first = survey(self.source, self.library, self.memory)
        self.assertEqual(self.looked_at(), 0)
        self.assertEqual(survey(self.source, self.library, self.memory), first)
        path = self.source / MAIN
        os.utime(path, ns=(0, path.stat().st_mtime_ns + 1))
        (self.source / "new.dat").write_bytes(b"KWPK")
        self.assertEqual(self.looked_at(), 2)
        (self.source / "new.dat").unlink()
        self.assertEqual(len(survey(self.source, self.library, self.memory)), len(first))

    def test_another_layout_or_key_means_looking_anew(self) -> None:
        survey(self.source, self.library, self.memory)
        self.library = Library([self.folder / "mine"])
        (self.folder / "mine").mkdir()
        self.assertEqual(self.looked_at(), 0)
        (self.folder / "mine" / "x.layout").write_text("layout")
        self.assertGreater(self.looked_at(), 20)

    def test_a_memory_that_is_damaged_or_of_another_version_is_made_anew(self) -> None:
        survey(self.source, self.library, self.memory)
        with sqlite3.connect(self.folder / "memory.sqlite") as base:
            base.execute("pragma user_version = 99")
        base.close()
        self.assertGreater(self.looked_at(), 20)
        self.assertEqual(self.looked_at(), 0)
        (self.folder / "memory.sqlite").write_bytes(b"SQLite format 3\0" + RANDOM.randbytes(5000))
        self.assertGreater(self.looked_at(), 20)

    def test_processes_find_what_threads_find(self) -> None:
        from tests.test_open_formats import tarred, xored

        (self.source / "odd.dat").write_bytes(xored(tarred(), b"lantern"))
        library = Library(keys=KeyRing([Key("harbour", b"the harbour is iced")]))
        in_threads = survey(self.source, library)
        with patch.object(survey_module, "FEW", 3):
            self.assertEqual(survey(self.source, library), in_threads)
        self.assertTrue(any(found.layout == "TAR, xor" for found in in_threads))

    def test_links_are_not_followed(self) -> None:
        (self.source / "loop").symlink_to(self.source)
        record = {surveyed.path: surveyed.kind for surveyed in survey(self.source, self.library, self.memory)}
        self.assertEqual([kind for path, kind in record.items() if path.endswith("/loop")], ["link"])


if __name__ == "__main__":
    unittest.main()
