"""Codecs: one conformance kit for each family, which every codec of it must pass."""

from __future__ import annotations

import lzma
import random
import re
import shutil
import struct
import subprocess
import tracemalloc
import unittest
import zlib
from collections.abc import Callable
from pathlib import Path
from unittest.mock import patch

import xxhash

import volvex.codec
from tests.families import naive_lzss, naive_unlzss
from tests.support import ROOT
from volvex.codec import CHECKSUM, CIPHER, COMPRESS, Checksum, Cipher, Compression
from volvex.codec._inflate import inflated
from volvex.codec.parameters import parse_spec
from volvex.codec.registry import CipherStream
from volvex.errors import ContentError, UsageError, VolvexError

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
    # the catalogue of parametrised checks has these for the nine digits
    "crc(bits 8, poly 7, reflected no)": 0xF4,
    "crc(bits 16, poly 0x8005)": 0xBB3D,
    "crc(bits 16, poly 0x1021, start 0xffff, reflected no)": 0x29B1,
    "crc(poly 0x1edc6f41, start 0xffffffff, final 0xffffffff)": 0xE3069283,
    "crc(poly 0x04c11db7, start 0xffffffff, final 0xffffffff, reflected no)": 0xFC891918,
    "crc(bits 64, poly 0x42F0E1EBA9EA3693, start 0xffffffffffffffff, final 0xffffffffffffffff)": 0x995DC9BBDF1939FA,
    "fnv1": 0x24148816,
    "fnv1(bits 64)": 0xA72FFC362BF916D6,
    "fnv1a": 0xBB86B11C,
    "fnv1a(bits 64)": 0x06D5573923C6CDFC,
}


def stepped(start: int, step: Callable[[int, int], int], data: bytes = b"123456789", bits: int = 32) -> int:
    """A hash as its inventor wrote it down: one byte after another."""
    for byte in data:
        start = step(start, byte) % (1 << bits)
    return start


def jenkins(data: bytes) -> int:
    """One-at-a-time, by its author's own listing."""
    h = 0
    for byte in data:
        h = (h + byte) & 0xFFFFFFFF
        h = (h + (h << 10)) & 0xFFFFFFFF
        h ^= h >> 6
    h = (h + (h << 3)) & 0xFFFFFFFF
    h ^= h >> 11
    return (h + (h << 15)) & 0xFFFFFFFF


def appleby(data: bytes, seed: int = 0) -> int:
    """MurmurHash2 of 32 bits, by its author's own listing."""
    m, h = 0x5BD1E995, (seed ^ len(data)) & 0xFFFFFFFF
    while len(data) >= 4:
        k = struct.unpack_from("<I", data)[0] * m & 0xFFFFFFFF
        k = (k ^ k >> 24) * m & 0xFFFFFFFF
        h, data = h * m & 0xFFFFFFFF ^ k, data[4:]
    if data:
        h = (h ^ int.from_bytes(data, "little")) * m & 0xFFFFFFFF
    h = (h ^ h >> 13) * m & 0xFFFFFFFF
    return h ^ h >> 15


def appleby64(data: bytes, seed: int = 0) -> int:
    """MurmurHash64A, by its author's own listing."""
    m, mask = 0xC6A4A7935BD1E995, (1 << 64) - 1
    h = (seed ^ len(data) * m) & mask
    for at in range(0, len(data) - len(data) % 8, 8):
        k = struct.unpack_from("<Q", data, at)[0] * m & mask
        k = (k ^ k >> 47) * m & mask
        h = (h ^ k) * m & mask
    if len(data) % 8:
        h = (h ^ int.from_bytes(data[-(len(data) % 8) :], "little")) * m & mask
    h = (h ^ h >> 47) * m & mask
    return h ^ h >> 47


CHECKS |= {
    "djb2": stepped(5381, lambda h, byte: h * 33 + byte),
    "djb2(mix xor)": stepped(5381, lambda h, byte: h * 33 ^ byte),
    "djb2(bits 64, start 7)": stepped(7, lambda h, byte: h * 33 + byte, bits=64),
    "sdbm": stepped(0, lambda h, byte: byte + (h << 6) + (h << 16) - h),
    "one_at_a_time": jenkins(b"123456789"),
    "murmur2": appleby(b"123456789"),
    "murmur2(start 77)": appleby(b"123456789", 77),
    "murmur2(bits 64)": appleby64(b"123456789"),
    "murmur2(bits 64, start 5)": appleby64(b"123456789", 5),
    "murmur3": 0xB4FEF382,
    "xxh32(start 1)": xxhash.xxh32_intdigest(b"123456789", 1),
    "xxh64(start 1)": xxhash.xxh64_intdigest(b"123456789", 1),
}
# stored bytes of "wick", made by other code: by hand where that can be done on paper (RFC 1951's bare block, an
# LZ4 block of literals alone), otherwise by the program that defines the format
STORED = {
    "none": b"wick",
    "deflate": bytes.fromhex("01 0400 fbff 7769636b"),
    "zlib": bytes.fromhex("7801 01 0400 fbff 7769636b 044c01af"),
    "gzip": bytes.fromhex("1f8b0800000000000003 01 0400 fbff 7769636b") + struct.pack("<II", zlib.crc32(b"wick"), 4),
    "lz4": bytes.fromhex("40 7769636b"),
    "lzma_short": lzma.compress(b"wick", lzma.FORMAT_ALONE)[:5] + lzma.compress(b"wick", lzma.FORMAT_ALONE)[13:],
    "lzma_headed": b"\x09\x14\x05\x00"
    + lzma.compress(b"wick", lzma.FORMAT_ALONE)[:5]
    + lzma.compress(b"wick", lzma.FORMAT_ALONE)[13:],
    "lzss": bytes.fromhex("0f 7769636b"),
    "lzss(order high)": bytes.fromhex("f0 7769636b"),
    "lzss(flags bytes, bare 0)": bytes.fromhex("00 77 00 69 00 63 00 6b"),
    "run_length": bytes.fromhex("03 7769636b"),
    "run_length(form high)": bytes.fromhex("03 7769636b"),
    "run_length(form marked, mark 0x69)": bytes.fromhex("77 6900 63 6b"),
    "blocks": bytes.fromhex("04000000 7769636b"),
    "sized(codec none)": bytes.fromhex("04000000 7769636b"),
    "sized(number u32_big, codec lzss)": bytes.fromhex("00000004 0f 7769636b"),
    "sized": bytes.fromhex("04000000 7801 01 0400 fbff 7769636b 044c01af"),
    "blocks(size 4096, sizes each, number u16_big, bare high)": bytes.fromhex("8004 7769636b"),
    "blocks(size 4096, bare never, codec deflate)": bytes.fromhex("09000000 01 0400 fbff 7769636b"),
}
VARIANTS = (  # more parameters for the kit
    "lzss(window 1024, shortest 2, start 0, fill 0, order high, pair big, length high)",
    "lzss(window 8192, pair little, length low, places back)",
    "lzss(window 4096, pair big, places back, nearest 0)",
    "blocks(size 1000, sizes each, number u16, codec lzss)",
    "lzma_bare(window 65536, lc 0, lp 2, pb 0)",
)
SILENT = (
    "lzma_bare",
    "lzma_short",
    "lzma_headed",
)  # a byte that is cut from their ends may be one that the decoder never needed
PROGRAMS = {
    "bzip2": ["bzip2"],
    "xz": ["xz"],
    "lzma": ["xz", "--format=lzma"],
    "gzip": ["gzip"],
    "zstd": ["zstd", "-q"],
    "lz4frame": ["lz4", "-q"],
    "lzma_bare": ["xz", "--format=raw", "--lzma1=preset=6,dict=8MiB"],
}


def spaced(name: str) -> str:
    """A codec's text with a blank between the bytes in hexadecimal digits."""
    return re.sub(r"hex ([0-9a-f]+)", lambda match: f"hex {bytes.fromhex(match[1]).hex(' ')}", name)


def family(name: str) -> list[str]:
    folder = Path(volvex.codec.__file__).parent / name
    return sorted(path.stem for path in folder.glob("[!_]*.py"))


def check_compression(test: unittest.TestCase, codec: Compression, silent: bool = False) -> None:
    """What any compression must do; a `silent` one need not notice that its last byte is missing."""
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
        _check_refusals(test, codec, stored, len(text), silent)


def _check_refusals(test: unittest.TestCase, codec: Compression, stored: bytes, size: int, silent: bool) -> None:
    for wrong in (size + 1, *([size - 1] if size else [])):
        with test.assertRaises(ContentError):
            codec.decode(stored, wrong)
        with test.assertRaises(ContentError):
            list(codec.decode_stream([stored], wrong))
    for bad in (stored[: len(stored) // 2] if silent else stored[:-1], stored + b"!"):
        if size > 100 or (not silent and (size or bad)):
            with test.assertRaises(ContentError):
                codec.decode(bad, size)
            with test.assertRaises(ContentError):
                list(codec.decode_stream([bad], size))


def check_checksum(test: unittest.TestCase, checksum: Checksum, value: int) -> None:
    """What any checksum must do."""
    whole, pieces, view = checksum.new(), checksum.new(), checksum.new()
    whole.update(b"123456789")
    for byte in b"123456789":
        pieces.update(bytes([byte]))
    view.update(memoryview(b"123456789"))
    test.assertEqual([whole.value(), pieces.value(), view.value()], [value] * 3)
    test.assertLess(value, 1 << checksum.bits)
    test.assertEqual(whole.value(), value, "asking does not change it")


NIST, PLAIN = "2b7e151628aed2a6abf7158809cf4f3c", "6bc1bee22e409f96e93d7e117393172a"
# bare and hidden bytes: from NIST SP 800-38A, RFC 6229 and XTEA's authors; those of one line by hand
_VECTORS = (
    (f"aes_ecb(key hex {NIST})", PLAIN, "3ad77bb40d7a3660a89ecaf32466ef97"),
    (f"aes_cbc(key hex {NIST}, iv hex {bytes(range(16)).hex()})", PLAIN, "7649abac8119b246cee98e9b12e9197d"),
    (f"aes_ctr(key hex {NIST}, iv hex {bytes(range(240, 256)).hex()})", PLAIN, "874d6191b620e3261bef6864990db6ce"),
    (
        f"aes_ctr(key hex {bytes(range(16)).hex()}, iv hex {(1).to_bytes(16, 'little').hex()}, lowest first)",
        bytes(range(40)).hex(),
        "e37dd160d97981a792f604356ced928deb9bf108b1ce8aba8f2f579c3ec96d39ac99bb37ab3a8ed8",
    ),  # each counter by AES alone
    (
        "zip_classic(key hex 6b6565706572)",
        b"the lamp was never out".hex(),
        "82ef83847ba23cb02fb38f19a580319bafe26b9f034a",
    ),  # decrypted by Python's zipfile
    ("rc4(key hex 0102030405)", "00" * 16, "b2396305f03dc027ccc3524a0a1118a8"),
    (f"xtea(key hex {bytes(range(16)).hex()}, order big)", "4142434445464748", "497df3d072612cb5"),
    ("xor(key hex 0f f0)", "000102", "0ff10d"),
    ("add(key hex 01 ff)", "00ff10", "01fe11"),
    ("rolling(key hex 05, times 3, plus 1)", "00000000", "05103194"),
    ("congruential(key hex 01000000)", "00" * 6, "c67e816b4bfb"),
    ("xorshift(key hex a2 8c d6 92)", "00" * 8, "634d1f2b7acbda94"),  # 723471715, as the paper says, and the next
    ("chained(key hex 0f)", "010203", "0e0c0f"),
    ("swap(size 2)", "0102030405", "0201040305"),
)
CIPHERED = tuple((spaced(name), bare, hidden) for name, bare, hidden in _VECTORS)


def check_cipher(test: unittest.TestCase, cipher: Cipher, bare: bytes, hidden: bytes) -> None:
    """What any cipher must do: its vector, both ways, however the bytes are cut."""
    test.assertEqual(through(cipher.encrypt(), bare, len(bare)), hidden)
    test.assertEqual(through(cipher.decrypt(), hidden, len(hidden)), bare)
    for text in TEXTS[:4]:
        whole = through(cipher.encrypt(), text, len(text) or 1)
        test.assertEqual(len(whole), len(text) if not cipher.pads else -(-len(text) // cipher.unit) * cipher.unit)
        for step in (1, 7, 4096) if len(text) < 20_000 else (9999,):
            test.assertEqual(through(cipher.encrypt(), text, step), whole)
            test.assertEqual(through(cipher.decrypt(), whole, step)[: len(text)], text)


def through(transform: CipherStream, data: bytes, step: int) -> bytes:
    return b"".join([*(transform.update(data[at : at + step]) for at in range(0, len(data), step)), transform.finish()])


class Conformance(unittest.TestCase):
    def test_every_compression(self) -> None:
        for name in family("compress"):
            with self.subTest(name):
                self.assertIn(name, {*STORED, *PROGRAMS}, "a new compression needs bytes that other code has made")
        for name in {*family("compress"), *STORED, *VARIANTS}:
            with self.subTest(name):
                check_compression(self, COMPRESS.get(name), name.partition("(")[0] in SILENT)
                if name in STORED:
                    self.assertEqual(COMPRESS.get(name).decode(STORED[name], 4), b"wick")

    def test_lzss_against_a_slow_one(self) -> None:
        codec = COMPRESS.get(VARIANTS[0])
        for text in (b"", b"ab" * 50, TEXTS[2][:3000], random.Random(1).randbytes(700) * 2):
            self.assertEqual(codec.decode(naive_lzss(text), len(text)), text)
            self.assertEqual(naive_unlzss(b"".join(codec.encode_stream([text])), len(text)), text)

    def test_run_length_by_the_published_example(self) -> None:
        stored = bytes.fromhex("fe aa 02 80 00 2a fd aa 03 80 00 2a 22 f7 aa")
        text = bytes.fromhex("aa aa aa 80 00 2a aa aa aa aa 80 00 2a 22") + b"\xaa" * 10
        self.assertEqual(COMPRESS.get("run_length").decode(stored, len(text)), text)
        self.assertEqual(b"".join(COMPRESS.get("run_length").encode_stream([text])), stored)

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

    def test_every_checksum(self) -> None:
        self.assertEqual(
            {name.partition("(")[0] for name in CHECKS}, set(family("checksum")), "a new checksum needs a check value"
        )
        for name, value in CHECKS.items():
            with self.subTest(name):
                check_checksum(self, CHECKSUM.get(name), value)

    def test_every_cipher(self) -> None:
        self.assertEqual(
            {name.partition("(")[0] for name, _, _ in CIPHERED}, set(family("cipher")), "a new cipher needs a vector"
        )
        for name, bare, hidden in CIPHERED:
            with self.subTest(name):
                check_cipher(self, CIPHER.get(name), bytes.fromhex(bare), bytes.fromhex(hidden))

    def test_every_codec_is_in_the_documentation(self) -> None:
        text = (ROOT / "docs" / "layouts.md").read_text(encoding="utf-8")
        for name in (*family("compress"), *family("checksum"), *family("cipher")):
            self.assertRegex(text, rf"`{name}[`(]")


class Streams(unittest.TestCase):
    def test_what_a_library_says_has_none_of_its_numbers(self) -> None:
        for name in ("zlib", "deflate", "gzip", "zstd", "lz4", "bzip2", "lzma"):
            with self.subTest(name), self.assertRaises(VolvexError) as caught:
                b"".join(
                    COMPRESS.get(name).decode_stream(iter([b"\x78\x9cnothing of the kind, and a little more"]), 50)
                )
            self.assertNotRegex(str(caught.exception), r"(?i)error|-\d")

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
                size, bound = (48, 40) if name == "zstd" else (16, 14) if name.startswith(("lzma", "xz")) else (8, 7)
                # MB: zstd has a window of 32, LZMA one of 8
                bomb = b"".join(COMPRESS.get(name).encode_stream(bytes(1 << 20) for _ in range(size)))
                tracemalloc.start()
                with self.assertRaises(ContentError):
                    COMPRESS.get(name).decode(bomb, 1000)
                with self.assertRaises(ContentError):
                    list(COMPRESS.get(name).decode_stream([bomb], 1000))
                peak = tracemalloc.get_traced_memory()[1]
                tracemalloc.stop()
                self.assertLess(peak, bound * 1_000_000)


class Parameters(unittest.TestCase):
    def refused(self, text: str, *words: str) -> None:
        with self.assertRaises(UsageError) as caught:
            (CIPHER if text.startswith("x") else COMPRESS).get(text)
        for word in words:
            self.assertIn(word, " ".join(caught.exception.lines()))

    def test_what_is_wrong_is_told(self) -> None:
        self.refused("zlib(level 3)", "no parameter level", "without brackets")
        self.refused("lzss(windw 3)", "no parameter windw", "window")
        self.refused("lzss(window 3)", "window cannot be 3", "256 to 32768")
        self.refused("lzss(order sideways)", "low, high")
        self.refused("xor", "needs its key")
        self.refused("xtea(key hex 01)", "16 bytes")
        self.refused("lzss(window", "a name and a value")
        self.refused("lzss)", "not a codec")

    def test_a_spec_is_told_as_it_was_written(self) -> None:
        for text in (
            "zlib",
            "lzss(window 4096, order high)",
            "blocks(size 16, codec lzss(window 512))",
            "xor(key hex 01 02)",
        ):
            self.assertEqual(str(parse_spec(text)), text)

    def test_padding_fills_the_last_unit(self) -> None:
        cipher = CIPHER.get(spaced(f"aes_cbc(key hex {NIST}, tail zeros)"))
        check_cipher(self, cipher, bytes.fromhex(PLAIN), through(cipher.encrypt(), bytes.fromhex(PLAIN), 16))
        self.assertEqual(len(through(cipher.encrypt(), b"wick", 4)), 16)


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
