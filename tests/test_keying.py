"""Keys of paths: by every rule that a layout can say, in bulk as one by one, and numbers both ways."""

from __future__ import annotations

import random
import unittest
import zlib

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from tests.keyed import archive, crc_archive, fnv1a, layout
from tests.support import archive_of
from volvex.codec import CHECKSUM
from volvex.codec.bulk_hash import BulkHash, SuffixTrie, Targets, combination
from volvex.errors import LayoutError, ManyErrors, RefusedError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.layout.model import KeyRule, Place
from volvex.layout.name_hash import Keying, Numbering

PATH = "Data/Lämps/Fresnel.TBL"
HASHES = (
    "fnv1",
    "fnv1a",
    "fnv1(bits 64)",
    "fnv1a(bits 64)",
    "fnv1a(start 7)",
    "djb2",
    "djb2(bits 64, mix xor)",
    "sdbm",
    "one_at_a_time",
    "crc32",
    "crc(bits 16, poly 0x1021, start 0xffff, reflected no)",
    "crc(bits 64, poly 0x42f0e1eba9ea3693, start 1, reflected no, final 9)",
    "murmur2",
    "murmur2(bits 64, start 7)",
    "murmur3(start 9)",
    "xxh32",
    "xxh32(start 5)",
    "xxh64",
    "xxh64(start 99)",
    "adler32",
)


def keying(rules: str, *keys: tuple[str, str]) -> Keying:
    made = Keying.of(parse_layout(layout(rules, keys or [("u64", "name hash")]), "test.layout"))
    assert made is not None
    return made


class Rules(unittest.TestCase):
    def key(self, rules: str, path: str = PATH) -> int:
        made = keying(rules)
        number = int(made.text(path), 16)
        self.assertEqual(made.columns([path, "other", path])[0].tolist(), [number, int(made.text("other"), 16), number])
        return number

    def test_letters_slashes_encoding_and_seed(self) -> None:
        for rule, hashed in (
            ("", PATH.encode()),
            (", lower case", "data/lämps/fresnel.tbl".encode()),
            (", upper case", "DATA/LäMPS/FRESNEL.TBL".encode()),
            (", backslashes", "Data\\Lämps\\Fresnel.TBL".encode()),
            (", leading slash", f"/{PATH}".encode()),
            (", leading slash, backslashes, lower case", "\\data\\lämps\\fresnel.tbl".encode()),
            (", closing slash", f"{PATH}/".encode()),
            (", without extension", "Data/Lämps/Fresnel".encode()),
            (", in cp1252", PATH.encode("cp1252")),
            (", lower case, in utf-16-le", "data/lämps/fresnel.tbl".encode("utf-16-le")),
        ):
            with self.subTest(rule):
                self.assertEqual(self.key(f"hashes by fnv1a(bits 64){rule}"), fnv1a(hashed))
        seeded = CHECKSUM.get("fnv1a(bits 64, start 99)").new()
        seeded.update(PATH.encode())
        self.assertEqual(self.key("hashes by fnv1a(bits 64, start 99)"), seeded.value())

    def test_only_letters_of_ascii_change(self) -> None:
        self.assertEqual(self.key("hashes by fnv1a(bits 64), lower case", "ÄÖA/Ł"), fnv1a("ÄÖa/Ł".encode()))
        self.assertEqual(
            self.key("hashes by fnv1a(bits 64), lower case, in utf-16-le", "AŁ"), fnv1a("aŁ".encode("utf-16-le"))
        )

    def test_folder_file_and_extension_apart(self) -> None:
        made = keying(
            "hashes by fnv1a\nhashes of folders by crc32, lower case, closing slash\nhashes of extensions by djb2",
            ("u32", "folder hash"),
            ("u32", "name hash"),
            ("u32", "extension hash"),
        )
        djb2 = CHECKSUM.get("djb2").new()
        djb2.update(b"TBL")
        wanted = (zlib.crc32("data/lämps/".encode()), fnv1a(b"Fresnel", 32), djb2.value())
        self.assertEqual(made.text(PATH), "/".join(f"{key:08x}" for key in wanted))
        self.assertEqual([int(column[0]) for column in made.columns([PATH])], [wanted[1], wanted[0], wanted[2]])
        self.assertEqual(made.bits, 96)

    def test_folder_and_file_in_the_halves_of_one_number(self) -> None:
        text = (
            layout("hashes by fnv1a", [("u64", "described")])
            .replace(
                "    start   u32",
                "    folder  packed bits 32 to 63 folder hash\n    name packed bits 0 to 31 name hash\n    start   u32",
                1,
            )
            .replace("k0      u64", "packed  u64")
            .replace(" sorted by k0", "")
        )
        number = fnv1a(b"lamps", 32) << 32 | fnv1a(b"red.txt", 32)
        made = archive_of(text, archive({(number,): b"lit"}, "Q"))
        self.assertEqual(made.entries.names.all(), [f"{fnv1a(b'lamps', 32):08x}/{fnv1a(b'red.txt', 32):08x}"])
        self.assertEqual(made.rows_of("lamps/red.txt"), [0])
        self.assertEqual(made.rows_of("lamps/green.txt"), [])

    def test_a_key_narrower_than_its_hash_is_its_lower_bits(self) -> None:
        made = keying("hashes by fnv1a(bits 64)", ("u32", "name hash"))
        self.assertEqual(made.text("a"), f"{fnv1a(b'a') & 0xFFFFFFFF:08x}")
        self.assertEqual(made.columns(["a"])[0].tolist(), [fnv1a(b"a") & 0xFFFFFFFF])

    def test_numbers_both_ways(self) -> None:
        numbering = Numbering(KeyRule("name hash", Place(1, 1), numbered="chart {000}/{00}", unit=64))
        self.assertEqual(numbering.path(9743), "chart 152/15")
        self.assertEqual(numbering.number("chart 152/15"), 9743)
        self.assertEqual(numbering.number("chart 152/15.png"), 9743)
        self.assertIsNone(numbering.number("chart 152/64"))
        self.assertIsNone(numbering.number("charts/152/15"))
        deep = Numbering(KeyRule("name hash", Place(1, 1), numbered="{0}/{00}/{00}", unit=16))
        self.assertEqual([deep.number(deep.path(number)) for number in range(2000)], list(range(2000)))
        made = keying('names numbered "{000}/{00}", 64 to a folder', ("u32", "name hash"))
        with self.assertRaisesRegex(RefusedError, "goes by numbers"):
            made.text("lamps/red.txt")

    def test_mistakes_in_rules_are_told_at_their_line(self) -> None:
        for rules, keys, said in (
            ("hashes by fnv1b", [("u32", "name hash")], "4:11: there is no checksum called fnv1b"),
            ("hashes by fnv1a", [("u64", "name hash")], "fnv1a has 32 bits, `k0` has 64"),
            (
                "hashes by fnv1a, lowercase",
                [("u32", "name hash")],
                "4:18: `lowercase` is not an option of hashes",
            ),
            ("hashes by fnv1a, lower case, upper case", [("u32", "name hash")], "either small or capital"),
            ("hashes by fnv1a, in klingon", [("u32", "name hash")], "no text encoding klingon"),
            ("hashes of folders by fnv1a", [("u32", "name hash")], "no field is a folder hash"),
            ("hashes of lamps by fnv1a", [("u32", "name hash")], "there are no hashes of lamps"),
            ("hashes by fnv1a\nhashes by crc32", [("u32", "name hash")], "given twice"),
            ('names numbered "{000}/{00}"', [("u32", "name hash")], "gives no number"),
            ('names numbered "lamp"', [("u32", "name hash")], "gives no number"),
            (
                "hashes of folders by fnv1a",
                [("u32", "folder hash"), ("u32", "name hash")],
                "no hash function of names is given",
            ),
            ("hashes by fnv1a", [("u32", "folder hash")], "and no `name hash`"),
            ("hashes by fnv1a", [("i32", "name hash")], "is a plain number"),
        ):
            with self.subTest(rules), self.assertRaises((LayoutError, ManyErrors)) as caught:
                parse_layout(layout(rules, keys), "test.layout")
            self.assertIn(said, str(caught.exception.message))

    def test_the_hint_names_what_was_meant(self) -> None:
        with self.assertRaises(LayoutError) as caught:
            parse_layout(layout("hashes by fnv1a, lowercase", [("u32", "name hash")]), "test.layout")
        self.assertEqual(caught.exception.hint, "lower case")


class Bulk(unittest.TestCase):
    RANDOM = random.Random(3)
    TEXTS = tuple(random.Random(3).randbytes(size) for size in (*range(70), 200, 255))

    def test_every_hash_in_bulk_is_what_it_is_one_by_one(self) -> None:
        for name in HASHES:
            with self.subTest(name):
                made = BulkHash(name)
                self.assertEqual(made.of_texts(self.TEXTS).tolist(), [made.one(text) for text in self.TEXTS])

    def test_every_hash_finds_its_texts_in_a_product(self) -> None:
        tails = SuffixTrie((b"a", b"b", b"c.png", b"x"), (0, 1, 1, 0), (False, True, True, True))
        parts = [[b"boats/"], [b"0", b"1", b"22"], [b"p", b"qq"]]
        for name in HASHES:
            with self.subTest(name):
                made = BulkHash(name)
                wanted = {b"boats/22qqac.png", b"boats/0px", b"boats/1qqab"}
                hits = made.walk(parts, 0, 6, tails, Targets([made.one(text) for text in (*wanted, b"elsewhere")]))
                self.assertEqual({combination(parts, run) + tails.text(node) for run, node in hits} & wanted, wanted)
                self.assertEqual(len(hits), len({combination(parts, run) + tails.text(node) for run, node in hits}))
                later = made.walk(parts, 4, 2, tails, Targets([made.one(b"boats/22qqac.png"), made.one(b"boats/0px")]))
                self.assertEqual(
                    [combination(parts, run) + tails.text(node) for run, node in later], [b"boats/22qqac.png"]
                )

    def test_a_walk_loses_no_hit_when_nearly_all_are_hits(self) -> None:
        digits = [b"%d" % number for number in range(10)]
        tails = SuffixTrie(tuple(digits), (0,) * 10, (True,) * 10)
        hits = BulkHash("fnv1a").walk([digits] * 4, 0, 10_000, tails, Targets(range(256)), bits=8)
        self.assertEqual(len(hits), 100_000)

    @given(st.lists(st.integers(0, (1 << 64) - 1), min_size=1, max_size=300))
    def test_targets_lose_none(self, keys: list[int]) -> None:
        targets = Targets(np.array(keys, np.uint64))
        self.assertEqual(sorted(set(keys)), targets.keys.tolist())
        low = targets.keys & np.uint64(8 * len(targets.sieve) - 1)
        self.assertTrue(
            ((targets.sieve[(low >> np.uint64(3)).astype(np.int64)] >> (low & np.uint64(7)).astype(np.uint8)) & 1).all()
        )


class Entries(unittest.TestCase):
    FILES = {"lamps/red.txt": b"lit", "lamps/green.png": b"\x89PNG\r\n\x1a\n1234", "note": b""}

    def test_an_entry_is_reached_by_a_path_that_nobody_listed(self) -> None:
        made = archive_of(layout("hashes by crc32", [("u32", "name hash")]), crc_archive(self.FILES))
        self.assertTrue(all(name.startswith("unnamed/") for name in made.names))
        for path, content in self.FILES.items():
            (row,) = made.rows_of(path)
            self.assertEqual(made.content(row), content)
            self.assertEqual(made.rows_of(made.names[row]), [row])
            self.assertEqual(made.encode_name(path), made.entries.names.raw(row))
        self.assertEqual(made.rows_of("lamps/blue.txt"), [])
        self.assertEqual(made.rows_of("unnamed/ffffffff.png"), [])

    def test_without_a_rule_a_path_has_no_key(self) -> None:
        made = archive_of(layout("", [("u32", "name hash")]), crc_archive(self.FILES))
        self.assertEqual(made.rows_of("lamps/red.txt"), [])
        self.assertIsNone(made.keying)
        with self.assertRaises(VolvexError):
            made.plan(_added(b"lamps/new.txt"))


def _added(name: bytes):  # type: ignore[no-untyped-def]
    from volvex.layout.write.plan import Added, Edit, NewContent
    from volvex.source import BytesSource

    return Edit(added=[Added(name, 0, NewContent(BytesSource(b"x", "x"), 0, 1, 1, "none", {}))])


if __name__ == "__main__":
    unittest.main()
