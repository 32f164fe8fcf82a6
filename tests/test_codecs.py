"""Codecs: one conformance kit for each family, which every codec of it must pass."""

from __future__ import annotations

import random
import shutil
import struct
import subprocess
import tracemalloc
import unittest
import zlib
from pathlib import Path
from unittest.mock import patch

import volvex.codec
from tests.support import ROOT
from volvex.codec import COMPRESS, SEAL, Compression, Seal
from volvex.codec._inflate import inflated
from volvex.errors import ContentError, UsageError

TEXTS = (b"", b"a", b"The stair is not dry. " * 500, random.Random(4).randbytes(70_000), bytes(3_000_000))
# published check values, over the nine digits
CHECKS: dict[str, int] = {
    "adler32": 0x091E01DE,
    "crc32": 0xCBF43926,
    "md5": 0x25F9E794323B453885F5181F1B624D0B,
    "sha1": 0xF7C3BC1D808E04732ADF679965CCC34CA7AE3441,
    "sha256": 0x15E2B0D3C33891EBB0F1EF609EC419420C20E320CE94C65FBC8C3312448EB225,
    "sum8": 0xDD,
    "sum16": 0x01DD,
    "sum32": 0x000001DD,
    "xxh32": 0x937BAD67,
    "xxh64": 0x8CB841DB40E6AE83,
}
# stored bytes of "wick", made by other code: by hand where that can be done on paper (RFC 1951's bare block, an
# LZ4 block of literals alone), otherwise by the program that defines the format
STORED = {
    "none": b"wick",
    "deflate": bytes.fromhex("01 0400 fbff 7769636b"),
    "zlib": bytes.fromhex("7801 01 0400 fbff 7769636b 044c01af"),
    "gzip": bytes.fromhex("1f8b0800000000000003 01 0400 fbff 7769636b") + struct.pack("<II", zlib.crc32(b"wick"), 4),
    "lz4": bytes.fromhex("40 7769636b"),
}
PROGRAMS = {
    "bzip2": ["bzip2"],
    "xz": ["xz"],
    "lzma": ["xz", "--format=lzma"],
    "gzip": ["gzip"],
    "zstd": ["zstd", "-q"],
    "lz4frame": ["lz4", "-q"],
}


def family(name: str) -> list[str]:
    folder = Path(volvex.codec.__file__).parent / name
    return sorted(path.stem for path in folder.glob("[!_]*.py"))


def check_compression(test: unittest.TestCase, codec: Compression) -> None:
    """What any compression must do."""
    for text in TEXTS:
        stored = b"".join(codec.encode_stream(text[at : at + 9999] for at in range(0, len(text), 9999)))
        test.assertEqual(stored, b"".join(codec.encode_stream([text])), "how content is cut must not matter")
        test.assertEqual(codec.decode(stored, len(text)), text)
        for step in (1, 997, 1 << 20) if len(stored) < 10_000 else (4096,):
            pieces = codec.decode_stream((stored[at : at + step] for at in range(0, len(stored), step)), len(text))
            test.assertEqual(b"".join(pieces), text)
        if len(text) < 1_000_000:  # of a very long run of one byte a bare block shows nothing
            test.assertTrue(text.startswith(codec.decode_start(stored[:4096], 5)))
            test.assertLessEqual(len(codec.decode_start(stored, 5)), 5)
        _check_refusals(test, codec, stored, len(text))


def _check_refusals(test: unittest.TestCase, codec: Compression, stored: bytes, size: int) -> None:
    for wrong in (size + 1, *([size - 1] if size else [])):
        with test.assertRaises(ContentError):
            codec.decode(stored, wrong)
        with test.assertRaises(ContentError):
            list(codec.decode_stream([stored], wrong))
    for bad in (stored[:-1], stored + b"!"):
        if bad or size:
            with test.assertRaises(ContentError):
                codec.decode(bad, size)
            with test.assertRaises(ContentError):
                list(codec.decode_stream([bad], size))


def check_seal(test: unittest.TestCase, seal: Seal, value: int) -> None:
    """What any seal must do."""
    whole, pieces, view = seal.new(), seal.new(), seal.new()
    whole.update(b"123456789")
    for byte in b"123456789":
        pieces.update(bytes([byte]))
    view.update(memoryview(b"123456789"))
    test.assertEqual([whole.value(), pieces.value(), view.value()], [value] * 3)
    test.assertLess(value, 1 << seal.bits)
    test.assertEqual(whole.value(), value, "asking does not change it")


class Conformance(unittest.TestCase):
    def test_every_compression(self) -> None:
        for name in family("compress"):
            with self.subTest(name):
                self.assertIn(name, {*STORED, *PROGRAMS}, "a new compression needs bytes that other code has made")
                check_compression(self, COMPRESS.get(name))
                if name in STORED:
                    self.assertEqual(COMPRESS.get(name).decode(STORED[name], 4), b"wick")

    def test_the_programs_that_define_the_formats_read_ours_and_we_theirs(self) -> None:
        for name, words in PROGRAMS.items():
            if shutil.which(words[0]) is None:
                continue
            with self.subTest(name):
                for text in TEXTS:
                    stored = b"".join(COMPRESS.get(name).encode_stream([text]))
                    theirs = subprocess.run([*words, "-dc"], input=stored, capture_output=True, check=True).stdout
                    self.assertEqual(theirs, text)
                    stored = subprocess.run([*words, "-c"], input=text, capture_output=True, check=True).stdout
                    self.assertEqual(COMPRESS.get(name).decode(stored, len(text)), text)

    def test_every_seal(self) -> None:
        for name in family("seal"):
            with self.subTest(name):
                self.assertIn(name, CHECKS, "a new seal needs its published check value")
                check_seal(self, SEAL.get(name), CHECKS[name])

    def test_every_codec_is_in_the_documentation(self) -> None:
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        for name in (*family("compress"), *family("seal")):
            self.assertIn(f"`{name}`", text)


class Streams(unittest.TestCase):
    def test_any_level_is_read(self) -> None:
        for level in range(10):
            self.assertEqual(COMPRESS.get("zlib").decode(zlib.compress(TEXTS[2], level), len(TEXTS[2])), TEXTS[2])

    def test_what_is_written_does_not_depend_on_the_fast_library(self) -> None:
        stored = b"".join(COMPRESS.get("zlib").encode_stream([TEXTS[2]]))
        self.assertEqual(stored, zlib.compress(TEXTS[2], 6))

    def test_the_system_s_zlib_serves_as_well(self) -> None:
        with patch("volvex.codec._inflate.fast", zlib):
            for name in ("zlib", "gzip", "deflate"):
                check_compression(self, inflated(name))

    def test_a_broken_stream_is_content_error(self) -> None:
        stored = bytearray(zlib.compress(TEXTS[2]))
        for at in range(0, len(stored), 3):
            broken = bytearray(stored)
            broken[at] ^= 0x55
            with self.assertRaises(ContentError):
                COMPRESS.get("zlib").decode(bytes(broken), len(TEXTS[2]))

    def test_a_bomb_gives_no_more_than_was_told(self) -> None:
        given = 0
        with self.assertRaises(ContentError):
            for piece in COMPRESS.get("zlib").decode_stream([zlib.compress(bytes(1 << 27))], 1 << 22):
                given += len(piece)
        self.assertLessEqual(given, 1 << 22)

    def test_bombs_in_every_codec_are_refused_in_bounded_memory(self) -> None:
        for name in family("compress"):
            if name == "none":
                continue
            with self.subTest(name):
                bomb = b"".join(COMPRESS.get(name).encode_stream(bytes(1 << 20) for _ in range(64)))
                tracemalloc.start()
                with self.assertRaises(ContentError):
                    COMPRESS.get(name).decode(bomb, 1000)
                with self.assertRaises(ContentError):
                    list(COMPRESS.get(name).decode_stream([bomb], 1000))
                peak = tracemalloc.get_traced_memory()[1]
                tracemalloc.stop()
                self.assertLess(peak, 50_000_000)


class Registries(unittest.TestCase):
    def test_names_come_from_the_files(self) -> None:
        self.assertLessEqual(set(family("compress")), set(COMPRESS.names()))
        self.assertIn("zlib", COMPRESS)
        self.assertNotIn("../zlib", COMPRESS)

    def test_an_unknown_name_lists_the_known(self) -> None:
        with self.assertRaises(UsageError) as caught:
            COMPRESS.get("squash")
        self.assertIn("none", caught.exception.hint)
        self.assertIn("zlib", caught.exception.hint)


if __name__ == "__main__":
    unittest.main()
