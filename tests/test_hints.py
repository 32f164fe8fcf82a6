"""Hints of a proof: layouts made wrong on purpose are noticed, each sort of evidence gives its line, and right layouts
pass."""

from __future__ import annotations

import random
import re
import struct
import unittest
import zlib
from collections.abc import Iterator

import numpy as np

from tests.more_families import MORE
from tests.support import PACK_LAYOUT, Case, archive_of, made_game
from tests.trial_families import TRIAL
from volvex.archive.access.open import open_archive
from volvex.archive.content_hints import content_hints
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.transfer.parallel import verify
from volvex.data.hash_hints import hash_hints as data_hash_hints
from volvex.data.model.layout_document import LayoutDocument
from volvex.errors import VolvexError
from volvex.layout import Library
from volvex.layout.inspect.hints import hints_of
from volvex.layout.inspect.proof import check_objects, prove
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.names.dictionary_set import DictionarySet
from volvex.names.hash_hints import hash_hints
from volvex.source import BytesSource

LAYOUTS = PACK_LAYOUT.parent
FILES = {
    "pack": "data/main.kwp",
    "loft": "loft/loft.kwa",
    "soundings": "isles/soundings.kws",
    "shores": "isles/shores.kwt",
    "journals": "isles/journals.kwj",
    "chimes": "isles/chimes.kwr",
    "tides": "isles/tides.kwv",
    "rigging": "isles/rigging.kwo",
    "lockers": "lockers/lockers.kwn",
    "speech": "speech/speech.kwl",
    "shallows": "shallows/firth.kwz",
}
DATA = {
    "lenses": "tables/lenses.kwb",
    "fittings": "tables/fittings.kwb",
    "dialogue": "texts/dialogue.kwy",
    "menu": "texts/menu.kwx",
}
# what nothing in these files shows: names that are small letters anyway, hashes of which no name is known, two unknown
# numbers,
# a multiplier of values, 64 that happen to be multiples of 32
UNSEEN = (
    "hashes by fnv1a(bits 64), backslashes, leading slash",
    "hashes by fnv1(bits 64)",
    "hashes by fnv1a(bits 32)",
    "focus u16 value",
    "content when type is 1 align 32",
    "colour u8 kept",
    "content align 64",
)
# of what stands only once in a file nobody can tell whether it is aligned
ONCE = (
    ("vault", "part", "body"),
    ("pooled", "block", "pool"),
    ("stream", "block", "pieces"),
    ("locker", "part", "body"),
    ("skerry", "file", "align"),
    ("tern", "block", "table"),
    ("slip", "block", "late"),
)
NAMES = DictionarySet()


def judged(text: str, data: bytes, file: str) -> set[str]:
    """What a strict proof says against a layout: an error, a difference, or its hints."""
    try:
        layout = parse_layout(text, str(LAYOUTS / file))
        if layout.kind != "archive":
            document = LayoutDocument(layout, BytesSource(data, file), NAMES)
            for sheet in document.sheets:
                for column in sheet.columns.values():
                    column.values  # noqa: B018
            if prove(document.reading).difference is not None:
                return {"differs"}
            return {hint.seen for hint in [*hints_of(document.reading), *data_hash_hints(document, NAMES)]}
        archive = LayoutArchive(read(layout, BytesSource(data, file)), NAMES)
        if archive.prove().difference is not None:
            return {"differs"}
        faults = verify(archive, np.arange(len(archive)))
        if faults:
            return {f"fault: {faults[0]}"}
        check_objects(archive.reading)
        return {
            hint.seen for hint in [*hints_of(archive.reading), *content_hints(archive), *hash_hints(archive, NAMES)]
        }
    except VolvexError as error:
        return {f"error: {error}"}


FIELD = re.compile(r"\s+\w+\s")
CHANGES: tuple[tuple[str, str, bool], ...] = (  # what is replaced, with what, and whether in fields only
    (r" align \d+", "", False),
    (r" sorted by \w+", "", False),
    (r"((stored )?(length|size|start|count) of .*)$", "kept", True),
    (r"((crc32|fnv1a?|md5|sha1|sum\w+)(\(.*?\))? of .*)$", "kept", True),
    (r"crc32", "adler32", True),
    (r"fnv1a", "fnv1", False),
    (r", (lower case|upper case|backslashes|leading slash)", "", False),
    (r"\{ 0 none, 1 (\w+) \}", r"{ 0 \1, 1 none }", True),
    (r"^little endian", "big endian", False),
    (r"^big endian", "little endian", False),
    (r" x \d+", "", True),
    (r" as \w+", "", False),
    (r" padded \d+( counted)?", "", True),
    (r" escape 0x\w+ u\d+", "", True),
    (r" (plus|minus) \d+", "", True),
    (r" xor 0x\w+", "", True),
    (r" without itself", "", True),
    (r" of record", " of name", True),
    (r" in order", "", False),
    (r" short\b", "", False),
    (r" except .*", "", False),
    (r" bare when equal", "", False),
    (r"cut every (\d)", r"cut every 2\1", False),
    (r"until hex 00", "until hex 01", False),
    (r"key from number", "key from start", False),
    (r"key from field \w+", "key from size", False),
    (r" as long as its records", " until end", False),
    (r" in utf-16", "", False),
)


def mutations(text: str) -> Iterator[tuple[str, str]]:
    """Wrong layouts made of a right one, with what is wrong."""
    lines = text.split("\n")
    for at, line in enumerate(lines):
        if line.lstrip().startswith("#"):
            continue
        made = [re.sub(old, new, line, count=1) for old, new, fields in CHANGES if not fields or FIELD.match(line)]
        made += [re.sub(r"( align) (\d+)", lambda match: f"{match[1]} {2 * int(match[2])}", line)]
        for other in dict.fromkeys(made):
            if other != line:
                yield f"{line.strip()} -> {other.strip()}", "\n".join([*lines[:at], other, *lines[at + 1 :]])
        pair = [re.match(r"(\s+\w+\s+(u\d+)\s+)([a-z].*)$", line) for line in lines[at : at + 2]]
        if len(pair) == 2 and pair[0] and pair[1] and pair[0][2] == pair[1][2] and not _alike(pair[0][3], pair[1][3]):
            swapped = [pair[0][1] + pair[1][3], pair[1][1] + pair[0][3]]
            yield f"{line.strip()} <-> {lines[at + 1].strip()}", "\n".join([*lines[:at], *swapped, *lines[at + 2 :]])


def _alike(text: str, other: str) -> bool:
    """Whether nothing in a file could show which of two fields is which."""
    return text.partition("{")[0].strip() == other.partition("{")[0].strip()


class Wrong(Case):
    def test_every_new_construct_made_wrong_is_noticed(self) -> None:
        rng, tried = random.Random(5), 0
        words = [
            "lamp",
            "bell",
            "fog",
            "tide",
            "oar",
            "wick",
            "sail",
            "keel",
            "mast",
            "rope",
            "buoy",
            "reef",
            "gull",
            "kelp",
            "surf",
            "dock",
        ]
        files = {
            f"{rng.choice(words)}s/{first}_{second}.{ending}": _sample(rng, ending, words)
            for first in words[:4]
            for second in words[4:12]
            for ending in ("txt", "png")
        }
        for name, family in {**MORE, **TRIAL}.items():
            data = family.make(list(files.items()))
            self.assertEqual(judged(family.layout, data, f"{name}.layout"), set(), name)
            for what, wrong in mutations(family.layout):
                if (name, *what.split()[:2]) in ONCE and " align " in what:
                    continue
                tried += 1
                with self.subTest(f"{name}: {what}"):
                    self.assertTrue(judged(wrong, data, f"{name}.layout"))
        self.assertGreater(tried, 200)

    def test_every_layout_made_wrong_is_noticed(self) -> None:
        game = made_game()
        work = {name: (game / file).read_bytes() for name, file in FILES.items()}
        almanac = open_archive(game / "data/almanac.kwp", Library())
        assert almanac is not None
        with almanac:
            work |= {name: almanac.content(almanac.rows[file]) for name, file in DATA.items()}
        tried = 0
        for name, data in work.items():
            text = (LAYOUTS / f"{name}.layout").read_text(encoding="utf-8")
            right = judged(text, data, f"{name}.layout")
            self.assertFalse([text for text in right if text.startswith(("error", "fault", "differs"))], name)
            for what, wrong in mutations(text):
                if " ".join(what.rpartition(">")[2].split()).startswith(UNSEEN) or (
                    name,
                    "<->" in what,
                    "id" in what,
                ) == ("lenses", True, True):
                    continue
                tried += 1
                with self.subTest(f"{name}: {what}"):
                    self.assertTrue(judged(wrong, data, f"{name}.layout") - right)
        self.assertGreater(tried, 140)


def _sample(rng: random.Random, ending: str, words: list[str]) -> bytes:
    """Content of a kind, of some length."""
    if ending == "png":
        return b"\x89PNG\r\n\x1a\n" + rng.randbytes(rng.randrange(1, 900))
    return " ".join(rng.choice(words) for _ in range(rng.randrange(150))).encode()


HEAD = """
layout "crates"  kind archive
little endian
known by "CRAT" at 0

block head at 0
    mark   4 bytes  is "CRAT"
    count  u32      count of files
    {head}

block files after head repeats
    name    text 12  name
    start   u32      start of content
    size    u32      size of content
    {field}
"""


def crates(
    contents: list[bytes],
    head: bytes = b"",
    extra: list[bytes] | None = None,
    align: int = 1,
    fill: bytes = b"\0",
    names: list[str] | None = None,
) -> bytes:
    """An archive of that layout."""
    names = names or [f"f{number * 7 % 11:02}.bin" for number in range(len(contents))]
    more = extra or [b""] * len(contents)
    at = 8 + len(head) + sum(20 + len(data) for data in more)
    rows, body = b"", b""
    for name, content, data in zip(names, contents, more, strict=True):
        gap = -(at + len(body)) % align
        body += fill * gap
        rows += name.encode().ljust(12, b"\0") + struct.pack("<II", at + len(body), len(content)) + data
        body += content
    return b"CRAT" + struct.pack("<I", len(contents)) + head + rows + body


class Evidence(unittest.TestCase):
    CONTENTS = [bytes([number]) * (37 + 5 * number) for number in range(8)]

    def hints(self, data: bytes, head: str = "", field: str = "", more: str = "") -> list[tuple[str, str]]:
        archive = archive_of(HEAD.format(head=head, field=field) + more, data)
        return [(hint.seen, hint.line) for hint in [*hints_of(archive.reading), *content_hints(archive)]]

    def one(self, data: bytes, seen: str, line: str, **layout: str) -> None:
        found = [(said, hint) for said, hint in self.hints(data, **layout) if seen in said]
        self.assertEqual([hint for _, hint in found], [line], found or self.hints(data, **layout))

    def test_each_sort_gives_the_line_to_add(self) -> None:
        chunks = self.CONTENTS
        self.one(crates(chunks, align=32), "multiples of 32", "content align 32")
        self.one(crates(chunks, align=32, fill=b"\xcd"), "multiples of 32", "content align 32")
        self.one(
            crates(chunks, align=16, fill=b"\xcd"),
            "before contents",
            "content align 16 fill cd",
            more="content align 16\n",
        )
        names = sorted(f"n{number}.bin" for number in range(8))
        self.one(crates(chunks, names=names), "sorted by name", "block files ... sorted by name")
        total = len(crates(chunks, head=bytes(4)))
        self.one(
            crates(chunks, head=struct.pack("<I", total)),
            "length of file",
            "total  u32  length of file",
            head="total u32 kept",
        )
        self.one(
            crates(chunks, head=struct.pack("<I", 8)),
            "count of files",
            "again  u32  count of files",
            head="again u32 kept",
        )
        sizes = [struct.pack("<H", len(data)) for data in chunks]
        self.one(
            crates(chunks, extra=sizes),
            "size of content in all",
            "also  u16  stored size of content",
            field="also u16 kept",
        )
        sums = [struct.pack("<I", zlib.crc32(data)) for data in chunks]
        self.one(
            crates(chunks, extra=sums),
            "crc32 of stored content",
            "sum  u32  crc32 of stored content",
            field="sum u32 kept",
        )
        body = crates(chunks, head=bytes(4))[12:]
        self.one(
            crates(chunks, head=struct.pack("<I", zlib.adler32(body))),
            "adler32 of file after head",
            "sum  u32  adler32 of file after head",
            head="sum u32 kept",
        )

    def test_bytes_that_nobody_explains_are_counted(self) -> None:
        data = crates(self.CONTENTS)
        self.one(
            data + b"a tail of it",
            "12 bytes at the end",
            f"block rest at {len(data):#x}, with a field of 12 bytes kept",
        )

    def test_content_that_is_not_what_it_should_be(self) -> None:
        rng = np.random.default_rng(7)
        random = [rng.bytes(900 + number) for number in range(5)]
        self.assertIn("look compressed or encrypted", " ".join(said for said, _ in self.hints(crates(random))))
        text = [b"The lamp was lit at dusk, and nobody saw it." * 9 for _ in range(4)]
        names = [f"z{9 - number}.txt" for number in range(4)]
        turned = [bytes(byte ^ (number % 251 + 99) & 255 for number, byte in enumerate(data)) for data in text]
        self.assertIn("is text", " ".join(said for said, _ in self.hints(crates(turned, names=names))))
        self.assertEqual(self.hints(crates(text, names=names)), [])

    def test_another_checksum_and_another_codec_are_found(self) -> None:
        sums = [struct.pack("<I", zlib.adler32(content)) for content in self.CONTENTS]
        (hint,) = [
            hint
            for hint in self.hints(crates(self.CONTENTS, extra=sums), field="sum u32 crc32 of content")
            if "no crc32" in hint[0]
        ]
        self.assertEqual(hint[1], "sum  u32  adler32 of stored content")
        packed = [zlib.compress(content * 30) for content in self.CONTENTS]
        sizes = [struct.pack("<I", 30 * len(content)) for content in self.CONTENTS]
        layout = HEAD.format(head="", field="whole u32 size of content").replace(
            "size    u32      size of content", "size u32 stored size of content"
        )
        archive = archive_of(layout + "content as lz4\n", crates(packed, extra=sizes))
        self.assertEqual([hint.line for hint in content_hints(archive)], ["content as zlib"])

    def test_a_right_layout_has_no_hints(self) -> None:
        mixed = [self.CONTENTS[number] for number in (3, 0, 7, 1, 6, 2, 5, 4)]
        text = HEAD.format(head="", field="").replace("repeats\n", "repeats sorted by start\n") + "content align 32\n"
        archive = archive_of(text, crates(mixed, align=32))
        self.assertEqual([*hints_of(archive.reading), *content_hints(archive)], [])
        self.assertEqual([trial for trial in prove_harder(archive) if trial.fault and not trial.refused], [])


class Command(Case):
    def test_hints_are_counted_and_strict_fails(self) -> None:
        data = crates(Evidence.CONTENTS, align=32)
        (self.folder / "a.bin").write_bytes(data)
        (self.folder / "c.layout").write_text(HEAD.format(head="", field=""))
        words = ("layout", "prove", "a.bin", "--layout", "c.layout")
        said = self.volvex(*words)
        self.assertIn("identical, ", said)
        self.assertIn("8 entries decode; 2 hints", said)
        self.assertIn("try  content align 32", said)
        self.volvex(*words, "--strict", status=1)
        text = HEAD.format(head="", field="").replace("repeats\n", "repeats sorted by start\n")
        (self.folder / "c.layout").write_text(text + "content align 32\n")
        self.assertNotIn("hint", self.volvex(*words, "--strict"))

    def test_harder_tries_every_place_and_what_does_not_fit_is_a_refusal(self) -> None:
        (self.folder / "a.bin").write_bytes(crates(Evidence.CONTENTS))
        (self.folder / "c.layout").write_text(HEAD.format(head="", field=""))
        said = self.volvex("layout", "prove", "a.bin", "--layout", "c.layout", "--harder")
        for what in ("the first entry emptied", "the last entry removed", "all entries removed"):
            self.assertIn(f"holds: {what}", said)
        self.assertIn("cannot be: sixteen entries added", said)
        self.assertIn("do not fit into 12", said)


if __name__ == "__main__":
    unittest.main()
