"""Codecs: one conformance kit for each family, which every codec of it must pass."""

from __future__ import annotations

import random
import unittest
import zlib
from pathlib import Path

import volvex.codec
from tests.support import ROOT
from volvex.codec import COMPRESS, SEAL, Compression, Seal
from volvex.errors import ContentError, UsageError

TEXTS = (b"", b"a", b"The stair is not dry. " * 500, random.Random(4).randbytes(70_000), bytes(3_000_000))
# published check values, over the nine digits
CHECKS = {"crc32": 0xCBF43926, "adler32": 0x091E01DE}
# stored bytes put together by hand: RFC 1950's head, RFC 1951's bare block, the Adler-32 summed on paper
STORED = {"none": b"wick", "zlib": bytes.fromhex("7801 01 0400 fbff 7769636b 044c01af")}


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
        test.assertEqual(codec.decode_start(stored[:4096], 5), text[:5])
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
    test.assertEqual(seal.update(seal.start(), b"123456789"), value)
    state = seal.start()
    for byte in b"123456789":
        state = seal.update(state, bytes([byte]))
    test.assertEqual(state, value)
    test.assertEqual(seal.update(seal.start(), memoryview(b"123456789")), value)
    test.assertLess(state, 1 << seal.bits)


class Conformance(unittest.TestCase):
    def test_every_compression(self) -> None:
        for name in family("compress"):
            with self.subTest(name):
                self.assertIn(name, STORED, "a new compression needs bytes that other code has made")
                check_compression(self, COMPRESS.get(name))
                self.assertEqual(COMPRESS.get(name).decode(STORED[name], 4), b"wick")

    def test_every_seal(self) -> None:
        for name in family("seal"):
            with self.subTest(name):
                self.assertIn(name, CHECKS, "a new seal needs its published check value")
                check_seal(self, SEAL.get(name), CHECKS[name])

    def test_every_codec_is_in_the_documentation(self) -> None:
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        for name in (*family("compress"), *family("seal")):
            self.assertIn(f"`{name}`", text)


class Zlib(unittest.TestCase):
    def test_any_level_is_read(self) -> None:
        for level in range(10):
            self.assertEqual(COMPRESS.get("zlib").decode(zlib.compress(TEXTS[2], level), len(TEXTS[2])), TEXTS[2])

    def test_what_is_written_does_not_depend_on_the_fast_library(self) -> None:
        stored = b"".join(COMPRESS.get("zlib").encode_stream([TEXTS[2]]))
        self.assertEqual(stored, zlib.compress(TEXTS[2], 6))

    def test_the_system_s_zlib_serves_as_well(self) -> None:
        module = COMPRESS.get("zlib")
        fast = module.fast  # type: ignore[attr-defined]
        try:
            module.fast = zlib  # type: ignore[attr-defined]
            check_compression(self, module)
        finally:
            module.fast = fast  # type: ignore[attr-defined]

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


class Registries(unittest.TestCase):
    def test_names_come_from_the_files(self) -> None:
        self.assertLessEqual(set(family("compress")), set(COMPRESS.names()))
        self.assertIn("zlib", COMPRESS)
        self.assertNotIn("../zlib", COMPRESS)

    def test_an_unknown_name_lists_the_known(self) -> None:
        with self.assertRaises(UsageError) as caught:
            COMPRESS.get("squash")
        self.assertIn("none, zlib", caught.exception.hint)


if __name__ == "__main__":
    unittest.main()
