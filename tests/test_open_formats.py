"""ZIP, TAR, executables, single compressed files: read, proved, changed, and what we write read by others."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import random
import shutil
import struct
import subprocess
import tarfile
import unittest
import warnings
import zipfile
import zlib
from collections.abc import Callable
from typing import Any
from unittest.mock import Mock, patch

import lz4.frame
import numpy as np
import zstandard
from PIL import Image

from kelpwick import executable
from tests.support import Case
from volvex.archive import Archive, Walker, open_source
from volvex.archive.formats.zip import Zip
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.transfer.parallel import verify
from volvex.archive.transfer.unpack import unpack
from volvex.asset.picture.formats import form_of
from volvex.asset.picture.put_back import put_back
from volvex.errors import FormatError, LockedError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.layout.keyring import Key, KeyRing
from volvex.layout.language.parser import parse_layout
from volvex.layout.write.plan import BLANK, Added, Edit
from volvex.source import BytesSource, Disk, Spool

RANDOM = random.Random(11)
FILES = {
    "rules/lamps.txt": b"fresnel_3;9;2.5\n" * 300,
    "pictures/skerry.bin": RANDOM.randbytes(3000),
    "letters/\u00e9t\u00e9.txt": b"le phare",
    "stores/empty.lst": b"",
}
LIBRARY = Library()
METHODS = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA)


class Unseekable(io.RawIOBase):
    """A stream that makes zipfile write data descriptors."""

    def __init__(self) -> None:
        self.data = bytearray()

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self.data += bytes(data)
        return len(data)


def zipped(
    method: int = zipfile.ZIP_DEFLATED, files: dict[str, bytes] = FILES, wide: bool = False, stream: bool = False
) -> bytes:
    out: Any = Unseekable() if stream else io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as made:
        made.comment = b"kept" if not stream else b""
        made.mkdir("folder")
        for name, data in files.items():
            info = zipfile.ZipInfo(name, (2026, 3, 1, 12, 30, 0))
            info.compress_type, info.comment, info.extra = (
                method,
                b"about " + name[:3].encode(),
                struct.pack("<HH2s", 0x4B57, 2, b"ok"),
            )
            with made.open(info, "w", force_zip64=wide) as file:
                file.write(data)
    return bytes(out.data) if stream else out.getvalue()


def tarred(form: int = tarfile.PAX_FORMAT, files: dict[str, bytes] = FILES) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form) as made:
        for name, data in files.items():
            info = tarfile.TarInfo(name if form == tarfile.USTAR_FORMAT else "isles/" * 30 + name)
            info.size, info.mtime, info.mode = len(data), 1_760_000_000, 0o644
            made.addfile(info, io.BytesIO(data))
    return out.getvalue()


def xored(data: bytes, key: bytes) -> bytes:
    return bytes(byte ^ key[index % len(key)] for index, byte in enumerate(data))


def opened(data: bytes, name: str = "night.kpz", *keys: bytes) -> Archive:
    ring = KeyRing([Key(f"key {index}", secret) for index, secret in enumerate(keys)])
    found = open_source(BytesSource(data, name), Library(keys=ring))
    assert found is not None, "not known"
    return found


def edited(
    archive: Archive, replaced: dict[str, bytes], added: dict[str, bytes] | None = None, removed: tuple[str, ...] = ()
) -> bytes:
    """The file's bytes after an edit."""
    with Spool() as spool:
        edit = Edit(removed={archive.rows[name] for name in removed})
        for name, data in replaced.items():
            edit.replaced[archive.rows[name]] = archive.encode(spool, [data], archive.rows[name])
        for name, data in (added or {}).items():
            edit.added.append(Added(archive.encode_name(name), 1, archive.encode(spool, [data], 1)))
        made = archive.file_plan(edit)
        data = b"".join(made.chunks())
        assert len(data) == made.size
        return data


def contents(archive: Archive) -> dict[str, bytes]:
    return {name: archive.content(row) for row, name in enumerate(archive.names) if row not in archive.folders}


class Zips(Case):
    def variants(self) -> dict[str, bytes]:
        found = {f"method {method}": zipped(method) for method in METHODS}
        prefixed = b"#!/usr/bin/lamp\n" * 9 + zipped()
        return found | {
            "wide": zipped(wide=True),
            "stream": zipped(stream=True),
            "prefixed": prefixed,
            "empty": zipped(files={}),
        }

    def test_each_form_is_read_proved_and_changed_in_every_way(self) -> None:
        for name, data in self.variants().items():
            with self.subTest(name):
                archive = opened(data)
                self.assertEqual(contents(archive), {} if name == "empty" else FILES)
                self.assertIsNone(archive.prove().difference)
                self.assertEqual(b"".join(archive.file_plan(Edit()).chunks()), data)
                self.assertEqual([trial for trial in prove_harder(archive, ["first"]) if trial.fault], [])

    def test_others_read_what_we_write_and_nothing_else_has_changed(self) -> None:
        for name, data in self.variants().items():
            if name == "empty":
                continue
            with self.subTest(name):
                new = {"rules/lamps.txt": b"new " * 5000, "stores/empty.lst": b"full"}
                made = edited(opened(data), new, {"letters/\u00fcber.txt": b"added"}, ("pictures/skerry.bin",))
                path = self.folder / "made.zip"
                path.write_bytes(made)
                with zipfile.ZipFile(path) as theirs:
                    self.assertIsNone(theirs.testzip())
                    record = {info.filename: info for info in theirs.infolist()}
                    self.assertEqual(theirs.read("rules/lamps.txt"), new["rules/lamps.txt"])
                    self.assertEqual(theirs.read("letters/\u00fcber.txt"), b"added")
                    self.assertNotIn("pictures/skerry.bin", record)
                    before = {info.filename: info for info in zipfile.ZipFile(io.BytesIO(data)).infolist()}
                    for kept in ("letters/\u00e9t\u00e9.txt", "rules/lamps.txt"):
                        self.assertEqual(
                            (record[kept].comment, record[kept].date_time),
                            (before[kept].comment, before[kept].date_time),
                        )
                    self.assertIn(b"WK\x02\0ok", record["rules/lamps.txt"].extra)
                if shutil.which("unzip") and name != "method 14":  # which unzip does not know
                    done = subprocess.run(["unzip", "-t", path], capture_output=True, text=True)
                    self.assertIn(done.returncode, (0, 1) if name == "prefixed" else (0,), done.stdout)

    def test_stored_bytes_of_what_stays_are_the_same(self) -> None:
        data = zipped()
        kept = opened(data)
        row = kept.rows["pictures/skerry.bin"]
        start, stored = kept.place(row)
        again = opened(edited(kept, {"rules/lamps.txt": b"-"}))
        begins, size = again.place(again.rows["pictures/skerry.bin"])
        self.assertEqual(again.source.read(begins, size), data[start : start + stored])

    def test_zstd_and_xz_inside(self) -> None:
        for method, encode in ((93, zstandard.compress), (95, lzma.compress)):
            data = bytearray(zipped(zipfile.ZIP_STORED, {"a.txt": encode(FILES["rules/lamps.txt"])}))
            for mark, at in ((b"PK\x03\x04", 8), (b"PK\x01\x02", 10)):
                place = data.rindex(mark)
                struct.pack_into("<H", data, place + at, method)
                plain = FILES["rules/lamps.txt"]
                struct.pack_into("<I", data, place + at + 6, zlib.crc32(plain))
                struct.pack_into("<I", data, place + at + 14, len(plain))
            archive = opened(bytes(data))
            self.assertEqual(archive.content(1), FILES["rules/lamps.txt"])
            self.assertEqual(opened(edited(archive, {"a.txt": b"wick" * 50})).content(1), b"wick" * 50)

    def test_an_empty_archive_takes_new_entries(self) -> None:
        made = io.BytesIO()
        zipfile.ZipFile(made, "w").close()
        archive = opened(made.getvalue(), "empty.kpz")
        with Spool() as spool:
            content = archive.encode(spool, [b"A long letter. " * 20], BLANK)
            edit = Edit(added=[Added("letters/öl.txt".encode(), BLANK, content)])
            data = b"".join(archive.plan(edit).chunks())
        with zipfile.ZipFile(io.BytesIO(data)) as found:
            self.assertIsNone(found.testzip())
            self.assertEqual(found.read("letters/öl.txt"), b"A long letter. " * 20)
            self.assertEqual(found.infolist()[0].compress_type, zipfile.ZIP_DEFLATED)

    def test_names_of_old_code_pages(self) -> None:
        data = zipped(files={"xxx.txt": b"1"}).replace(b"xxx.txt", b"\x81ber.tx"[:7])
        self.assertIn("\u00fcber.tx", opened(data).names)

    def test_sixty_four_bits(self) -> None:
        """A directory of more than 65,535 entries, and places beyond four gigabytes."""
        many = {f"n/{number:05}": b"" for number in range(65_600)}
        archive = opened(zipped(zipfile.ZIP_STORED, many))
        self.assertEqual(len(archive), 65_601)
        self.assertIsNone(archive.prove().difference)
        again = zipfile.ZipFile(io.BytesIO(edited(archive, {"n/00077": b"lamp"})))
        self.assertEqual((len(again.infolist()), again.read("n/00077")), (65_601, b"lamp"))
        far = Far(zipped(files={"near.txt": b"near"}), 5 << 30)
        archive = Zip(far, KeyRing())
        row = archive.rows["near.txt"]
        self.assertEqual((archive.content(row), int(archive.entries.start[row]) > 5 << 30), (b"near", True))
        with Spool() as spool:
            plan = archive.plan(Edit(added=[Added(b"new.txt", row, archive.encode(spool, [b"new"], row))]))
            tail = b"".join(piece.data for piece in plan.pieces if piece.source is None)
            self.assertIn(b"PK\x06\x06", tail)
            self.assertIn((int(archive.entries.start[0])).to_bytes(8, "little"), tail)


class Far(BytesSource):
    """A ZIP archive with gigabytes of nothing in front of it, which its places count."""

    def __init__(self, data: bytes, gap: int) -> None:
        super().__init__(data, "far.zip")
        end = data.rindex(b"PK\x05\x06")
        start = int.from_bytes(data[end + 16 : end + 20], "little")
        out, at = bytearray(data[:start]), start
        count, size = int.from_bytes(data[end + 10 : end + 12], "little"), 0
        for _ in range(count):
            name, extra, comment = struct.unpack_from("<HHH", data, at + 28)
            record = bytearray(data[at : at + 46 + name + extra + comment])
            place = int.from_bytes(record[42:46], "little") + gap
            wide = struct.pack("<HHQ", 1, 8, place)
            record[42:46], record[30:32] = b"\xff" * 4, (extra + len(wide)).to_bytes(2, "little")
            record[46 + name + extra : 46 + name + extra] = wide
            out += record
            at, size = at + 46 + name + extra + comment, size + len(record)
        out += struct.pack("<4sQHHIIQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, size, start + gap)
        out += struct.pack("<4sIQI", b"PK\x06\x07", 0, start + gap + size, 1)
        out += data[end : end + 16] + b"\xff" * 4 + data[end + 20 :]
        self.data, self.gap, self.size = bytes(out), gap, gap + len(out)

    def _read(self, offset: int, size: int) -> bytes:
        before = max(0, min(size, self.gap - offset))
        start = max(0, offset - self.gap)
        return bytes(before) + self.data[start : start + size - before]


class Locked(Case):
    def aes(self, password: bytes, bits: int = 256) -> bytes:
        import pyzipper

        out = io.BytesIO()
        with pyzipper.AESZipFile(out, "w", compression=pyzipper.ZIP_DEFLATED) as made:
            made.setpassword(password)
            made.setencryption(pyzipper.WZ_AES, nbits=bits)
            for name, data in FILES.items():
                made.writestr(name, data)
        return out.getvalue()

    def classic(self, password: str) -> bytes:
        if shutil.which("zip") is None:
            self.skipTest("the program `zip` is not here")
        for name, data in FILES.items():
            path = self.folder / "in" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(data)
        subprocess.run(["zip", "-q", "-r", "-P", password, "../made.zip", "."], cwd=self.folder / "in", check=True)
        return (self.folder / "made.zip").read_bytes()

    def test_aes_is_read_changed_and_read_by_others(self) -> None:
        import pyzipper

        for bits in (128, 192, 256):
            with self.subTest(bits):
                archive = opened(self.aes(b"wreckers", bits), "post.kpz", b"wrong", b"wreckers")
                self.assertEqual(contents(archive), FILES)
                self.assertIn("aes, deflate", archive.codec_labels[int(archive.entries.codec[0])])
                made = edited(archive, {"rules/lamps.txt": b"new " * 999}, {"more.txt": b"added"})
                self.assertEqual(made, edited(archive, {"rules/lamps.txt": b"new " * 999}, {"more.txt": b"added"}))
                with pyzipper.AESZipFile(io.BytesIO(made)) as theirs:
                    theirs.setpassword(b"wreckers")
                    self.assertIsNone(theirs.testzip())
                    self.assertEqual(
                        (theirs.read("rules/lamps.txt"), theirs.read("more.txt")), (b"new " * 999, b"added")
                    )
                self.assertIsNone(opened(made, "post.kpz", b"wreckers").prove().difference)

    def test_the_traditional_cipher_is_read_changed_and_read_by_others(self) -> None:
        archive = opened(self.classic("wreckers"), "post.kpz", b"wrong", b"wreckers")
        self.assertEqual(contents(archive), FILES)
        made = edited(archive, {"rules/lamps.txt": b"new " * 999})
        with zipfile.ZipFile(io.BytesIO(made)) as theirs:
            theirs.setpassword(b"wreckers")
            self.assertIsNone(theirs.testzip())
            self.assertEqual(theirs.read("rules/lamps.txt"), b"new " * 999)
            self.assertEqual(theirs.read("pictures/skerry.bin"), FILES["pictures/skerry.bin"])

    def test_a_wrong_key_is_told_apart_from_damage(self) -> None:
        for data in (self.aes(b"wreckers"), self.classic("wreckers")):
            with self.assertRaises(LockedError) as caught:
                contents(opened(data, "post.kpz", b"wrong", b"also wrong"))
            self.assertIn("none of your 2 keys", caught.exception.message)
            self.assertNotIn("wrong", caught.exception.message)
            archive = opened(data, "post.kpz", b"wreckers")
            start, stored = archive.place(archive.rows["pictures/skerry.bin"])
            hurt = bytearray(data)
            hurt[start + stored // 2] ^= 4
            with self.assertRaises(FormatError) as damaged:
                contents(opened(bytes(hurt), "post.kpz", b"wreckers"))
            self.assertIn("pictures/skerry.bin", damaged.exception.message)

    def test_a_stray_blank_is_noticed(self) -> None:
        ring = KeyRing([Key("post", b" wreckers\r\n")])
        archive = open_source(BytesSource(self.aes(b"wreckers"), "post.kpz"), Library(keys=ring))
        assert archive is not None
        self.assertEqual(contents(archive), FILES)
        self.assertEqual(ring.notes, ["the key post has white space around it; without that it opens post.kpz"])

    def test_a_right_key_comes_first_the_next_time_and_one_is_asked_for_when_none_is(self) -> None:
        used: list[str] = []
        asked: list[str] = []

        def ask(what: str) -> bytes:
            asked.append(what)
            return b"wreckers"

        ring = KeyRing([Key("a", b"1"), Key("b", b"wreckers")], ask, used.append)
        archive = open_source(BytesSource(self.aes(b"wreckers"), "post.kpz"), Library(keys=ring))
        assert archive is not None
        contents(archive)
        self.assertEqual((ring.names(), used, asked), (["b", "a"], ["b"], []))
        ring = KeyRing([], lambda what: asked.append(what) or b"wreckers")  # type: ignore[func-returns-value]
        archive = open_source(BytesSource(self.aes(b"wreckers"), "post.kpz"), Library(keys=ring))
        assert archive is not None
        self.assertEqual(contents(archive), FILES)
        self.assertEqual(asked, ["post.kpz"])
        self.assertNotIn("wreckers", repr(ring.all()))


class Hostile(Case):
    """What is refused is refused entry by entry, and what is sound still comes out."""

    def test_overlapping_entries(self) -> None:
        data = bytearray(zipped(zipfile.ZIP_STORED, {"a": b"A" * 500, "b": b"B" * 500, "c": b"C" * 500}))
        at = data.index(b"PK\x01\x02", data.index(b"PK\x01\x02", data.index(b"PK\x01\x02") + 1) + 1)
        start = int.from_bytes(data[at + 42 : at + 46], "little")
        struct.pack_into("<I", data, at + 42, start - 200)
        archive = opened(bytes(data))
        self.assertEqual(archive.content(archive.rows["c"]), b"C" * 500)
        for name in ("a", "b"):
            self.assertIn("overlap", archive.refusal(archive.rows[name]))
            with self.assertRaises(FormatError):
                archive.content(archive.rows[name])
        with self.assertRaises(RefusedError):
            edited(archive, {"c": b"x"})

    def test_lying_sizes_bombs_and_foreign_headers(self) -> None:
        def spoil(change: Callable[[bytearray, int], None]) -> Archive:
            data = bytearray(zipped(files={"lamp.txt": b"wick" * 400, "sound.txt": b"sound" * 100}))
            change(data, data.index(b"PK\x01\x02", data.index(b"PK\x01\x02") + 1))
            return opened(bytes(data))

        cases: dict[str, Callable[[bytearray, int], None]] = {
            "larger than a deflate stream": lambda data, at: struct.pack_into("<I", data, at + 24, 1 << 30),
            "reaches into the directory": lambda data, at: struct.pack_into("<I", data, at + 20, 1 << 20),
            "1601": lambda data, at: struct.pack_into("<I", data, at + 24, 1601),
            "more than 1599 bytes": lambda data, at: struct.pack_into("<I", data, at + 24, 1599),
            "another entry": lambda data, at: data.__setitem__(slice(at + 46, at + 54), b"boat.txt"),
        }
        for reason, change in cases.items():
            with self.subTest(reason):
                archive = spoil(change)
                self.assertEqual(archive.content(archive.rows["sound.txt"]), b"sound" * 100)
                with self.assertRaises(VolvexError) as caught:
                    archive.content(1)
                self.assertIn(reason, caught.exception.message)

    def test_names_and_links_that_lead_out(self) -> None:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as made, warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of the name that comes twice
            for name in ("../up.txt", "/root.txt", "C:/drive.txt", "good.txt", "good.txt", "aux.txt"):
                made.writestr(name, name)
            link = zipfile.ZipInfo("link")
            link.create_system, link.external_attr = 3, 0o120777 << 16
            made.writestr(link, "/etc/passwd")
        (self.folder / "hostile.kpz").write_bytes(out.getvalue())
        done = self.run_program("unpack", "hostile.kpz", "--to", "out", status=5)
        for reason in ("climbs out", "absolute path", "drive letter", "is a link"):
            self.assertIn(reason, done.stderr)
        self.assertEqual(
            sorted(path.name for path in (self.folder / "out").iterdir()), ["%61ux.txt", "good.txt", "good~2.txt"]
        )

    def test_more_than_the_disk_can_hold_is_refused_before_anything_is_written(self) -> None:
        block = b"\0" * (1 << 16)
        packer = zlib.compressobj(9, zlib.DEFLATED, -15)
        data = b"".join(packer.compress(block) for _ in range(64)) + packer.flush()
        made = bytearray(zipped(zipfile.ZIP_STORED, {"bomb": data}))
        for mark, at in ((b"PK\x03\x04", 8), (b"PK\x01\x02", 10)):
            struct.pack_into("<H", made, made.rindex(mark) + at, 93)  # a method without a bound
            struct.pack_into("<I", made, made.rindex(mark) + at + 14, 0xFFFFFFF0)
        (self.folder / "bomb.kpz").write_bytes(made)
        row = opened(bytes(made)).rows["bomb"]
        with self.assertRaises(RefusedError):
            opened(bytes(made)).content(row)
        with patch("shutil.disk_usage", return_value=Mock(free=1 << 30)), Walker(Library()) as walker:
            groups = walker.find(str(self.folder / "bomb.kpz")).groups
            with self.assertRaises(RefusedError) as caught:
                unpack(groups, self.folder / "out", Disk())
        self.assertIn("there is room for 1,073,741,824", caught.exception.message)
        self.assertFalse((self.folder / "out").exists())

    def test_cut_and_flipped_at_every_byte_gives_our_errors_only(self) -> None:
        for name, data in open_samples().items():
            step = max(1, len(data) // 60)
            with self.subTest(name):
                for at in range(0, len(data), step):
                    look(data[:at])
                    for bit in (1, 0x80):
                        hurt = bytearray(data)
                        hurt[at] ^= bit
                        look(bytes(hurt))


def open_samples() -> dict[str, bytes]:
    """A small file of each open format, for whoever damages them."""
    few = {"a.txt": b"lamp" * 30, "b.bin": b"\x01\x02"}
    bare = {f"open {form} tar": tarred(form, few) for form in Tars.FORMS}
    return bare | {
        "open zip": zipped(files=few),
        "open wide zip": zipped(zipfile.ZIP_LZMA, few, wide=True),
        "open stream zip": zipped(files=few, stream=True),
        "open hidden zip": xored(zipped(files=few), b"\x5a\x13"),
        "open gzip": gzip.compress(b"lamp" * 30, mtime=0),
        "open tgz": gzip.compress(tarred(files=few), mtime=0),
        "open xz": lzma.compress(b"lamp" * 30),
        "open executable": executable.make(zipped(files=few), {(10, 1): b"lamp" * 9}),
        "open host": bytes(range(256)) + zipped(files=few) + bytes(range(99)),
    }


def look(data: bytes) -> None:
    """Open, list, read, prove and change everything: anything but our errors is a fault."""
    try:
        archive = open_source(BytesSource(data, "hurt"), LIBRARY)
        if archive is None:
            return
        with archive:
            verify(archive, np.arange(len(archive)))
            for row in range(len(archive)):
                archive.kind(row)
                archive.refusal(row)
            archive.prove()
            if len(archive):
                name = archive.names[len(archive) // 2]
                reread = archive.reread(BytesSource(edited(archive, {name: b"new"}), "changed"))
                reread.content(reread.rows[name])
    except VolvexError:
        return


class Tars(Case):
    FORMS = (tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT)
    AROUND: dict[str, Callable[[bytes], bytes]] = {
        "bare": bytes,
        "gzip": gzip.compress,
        "bzip2": bz2.compress,
        "xz": lzma.compress,
        "zstd": zstandard.compress,
    }

    def test_every_form_behind_every_compression(self) -> None:
        for form in self.FORMS:
            for around, transform in self.AROUND.items():
                with self.subTest(f"{form} {around}"):
                    archive = opened(transform(tarred(form)), "stores.kst")
                    self.assertEqual(
                        {name.replace("isles/" * 30, ""): data for name, data in contents(archive).items()}, FILES
                    )
                    self.assertIsNone(archive.prove().difference)
                    self.assertEqual([trial for trial in prove_harder(archive, ["first"]) if trial.fault], [])
                    name = next(name for name in archive.names if name.endswith("lamps.txt"))
                    made = edited(archive, {name: b"new " * 700}, {"long/" * 40 + "n.txt": b"added"})
                    with tarfile.open(fileobj=io.BytesIO(_unwrapped(made, around))) as theirs:
                        record = {getmember.name: getmember for getmember in theirs.getmembers()}
                        for wanted, data in ((name, b"new " * 700), ("long/" * 40 + "n.txt", b"added")):
                            file = theirs.extractfile(record[wanted])
                            assert file is not None
                            self.assertEqual(file.read(), data)
                        self.assertEqual(record[name].mtime, 1_760_000_000)
                    if shutil.which("tar") and around in ("bare", "gzip"):
                        (self.folder / "made.tar").write_bytes(made)
                        subprocess.run(["tar", "-tf", "made.tar"], cwd=self.folder, check=True, capture_output=True)

    def test_links_and_devices_are_refused_and_the_rest_comes_out(self) -> None:
        out = io.BytesIO()
        with tarfile.open(fileobj=out, mode="w") as made:
            for name, kind in (
                ("a.txt", tarfile.REGTYPE),
                ("hard", tarfile.LNKTYPE),
                ("soft", tarfile.SYMTYPE),
                ("pipe", tarfile.FIFOTYPE),
            ):
                info = tarfile.TarInfo(name)
                info.type, info.linkname = kind, "/etc/passwd" if kind != tarfile.REGTYPE else ""
                made.addfile(info)
        (self.folder / "t.bin").write_bytes(out.getvalue())
        done = self.run_program("unpack", "t.bin", "--to", "out", status=5)
        self.assertIn("t.bin/soft: it is a link to /etc/passwd", done.stderr)
        self.assertEqual([path.name for path in (self.folder / "out").iterdir()], ["a.txt"])


def _unwrapped(data: bytes, around: str) -> bytes:
    undo: dict[str, Callable[[bytes], bytes]] = {
        "bare": bytes,
        "gzip": gzip.decompress,
        "bzip2": bz2.decompress,
        "xz": lzma.decompress,
        "zstd": lambda data: zstandard.ZstdDecompressor().decompressobj().decompress(data),
    }
    return undo[around](data)


WRAPPER = """
layout "a wrapper" kind archive
little endian
known by "KWW1" at 0
block wrapped at 0 repeats until end
    mark    4 bytes  is "KWW1"
    size    u32      size of content
    stored  u32      stored size of content
    data    bytes    content
content as zlib
"""


class Singles(unittest.TestCase):
    def test_a_compressed_file_is_a_folder_of_one(self) -> None:
        text = b"the lamp was lit at dusk\n" * 40
        for name, data, told in (
            ("log.txt.gz", gzip.compress(text), "log.txt"),
            ("log.txt.xz", lzma.compress(text), "log.txt"),
            ("log.bz2", bz2.compress(text), "log"),
            ("night.kz", zlib.compress(text), "night.txt"),
            ("night.lz4", lz4.frame.compress(text), "night"),
            ("a.zst", zstandard.compress(text), "a"),
            ("two.txt.gz", gzip.compress(text[:100]) + gzip.compress(text[100:]), "two.txt"),
        ):
            with self.subTest(name):
                archive = opened(data, f"logs/{name}")
                self.assertEqual(
                    (archive.names, archive.content(0), int(archive.entries.size[0])), ([told], text, len(text))
                )
                made = edited(archive, {told: b"dawn" * 100})
                self.assertEqual(opened(made, f"logs/{name}").content(0), b"dawn" * 100)
                with self.assertRaises(RefusedError):
                    edited(archive, {}, removed=(told,))

    def test_a_bomb_is_refused_while_it_is_decoded(self) -> None:
        for data in (
            zstandard.compress(bytes(200_000_000)),
            zstandard.compress(tarred(files={"a.bin": bytes(200_000_000)})),
        ):
            with self.assertRaises(FormatError) as caught:
                opened(data, "bomb.zst")
            self.assertIn("refused as a possible bomb", caught.exception.message)

    def test_a_wrapper_of_a_game_s_own_is_a_folder_of_one(self) -> None:
        layout = parse_layout(WRAPPER, "wrapper.layout")
        data = b"KWW1" + struct.pack("<II", 900, len(packed := zlib.compress(b"lit" * 300))) + packed
        library = Library(first=[layout])
        archive = open_source(BytesSource(data, "night.kww"), library)
        assert archive is not None
        self.assertEqual((archive.names, archive.content(0)), (["unnamed/0000.txt"], b"lit" * 300))
        self.assertIsNone(archive.prove().difference)
        self.assertEqual([trial.what for trial in prove_harder(archive) if trial.fault and not trial.refused], [])
        again = open_source(BytesSource(edited(archive, {"unnamed/0000.txt": b"dusk" * 99}), "night.kww"), library)
        assert again is not None
        self.assertEqual(again.content(0), b"dusk" * 99)
        with self.assertRaises(RefusedError) as caught:
            edited(archive, {}, removed=("unnamed/0000.txt",))
        self.assertIn("none can be added or left out", caught.exception.message)

    def test_a_name_that_gzip_tells(self) -> None:
        out = io.BytesIO()
        with gzip.GzipFile("../../logs/dusk.log", "wb", fileobj=out, mtime=0) as made:
            made.write(b"lit")
        self.assertEqual(opened(out.getvalue(), "x.bin").names, ["dusk.log"])


class Betrayed(unittest.TestCase):
    def test_a_key_that_the_file_itself_betrays(self) -> None:
        many = {f"rules/{number}.txt": FILES["rules/lamps.txt"] for number in range(12)}
        for key in (b"\x5a", b"\x11\x99\x42lamp", bytes(range(3, 19))):
            for make, data in (("ZIP", zipped(files=many)), ("TAR", tarred(tarfile.USTAR_FORMAT, many))):
                with self.subTest(f"{make} {len(key)}"):
                    archive = opened(xored(data, key), "x.dat")
                    self.assertEqual((archive.called, contents(archive)), (f"{make}, xor", many))
                    made = edited(archive, {"rules/3.txt": b"new " * 50})
                    self.assertEqual(contents(opened(xored(made, key)))["rules/3.txt"], b"new " * 50)

    def test_a_key_of_the_user_s(self) -> None:
        data = xored(zipped(zipfile.ZIP_STORED, {"a.bin": RANDOM.randbytes(9000)}), key := RANDOM.randbytes(200))
        self.assertIsNone(open_source(BytesSource(data, "x.dat"), Library()))
        self.assertEqual(opened(data, "x.dat", b"wrong", key).names, ["folder/", "a.bin"])


class Embedded(unittest.TestCase):
    def test_an_archive_at_any_offset(self) -> None:
        data = RANDOM.randbytes(5000) + tarred() + RANDOM.randbytes(700)
        archive = opened(data, "host.bin")
        self.assertEqual(len(archive), 3)
        inner = opened(archive.content(1))
        self.assertEqual(inner.called, "TAR")
        self.assertIsNone(archive.prove().difference)
        with self.assertRaises(RefusedError) as caught:
            edited(archive, {archive.names[1]: b"shorter"})
        self.assertIn("other parts follow it", caught.exception.message)
        last = opened(data[:-700], "host.bin")
        longer = edited(opened(last.content(1)), {next(iter(inner.names)): b"long " * 9000})
        self.assertEqual(opened(edited(last, {last.names[1]: longer}), "host.bin").content(0), data[:5000])


def icon_image(side: int, colour: int) -> bytes:
    """A bare image of an icon, with its mask."""
    head = struct.pack("<IiiHHIIiiII", 40, side, 2 * side, 1, 32, 0, 0, 0, 0, 0, 0)
    return head + bytes([colour]) * (4 * side * side) + bytes(side * 4)


def icon_group(sides: tuple[int, ...]) -> executable.Table:
    """The resources of an icon."""
    images = {(3, number): icon_image(side, 7) for number, side in enumerate(sides, 1)}
    group = struct.pack("<HHH", 0, 1, len(sides))
    for number, side in enumerate(sides, 1):
        group += struct.pack("<BBBBHHIH", side, side, 0, 0, 1, 32, len(images[3, number]), number)
    return {**images, (14, 1): group}


class Executables(unittest.TestCase):
    TAIL = zipped(files={"rules/a.txt": b"wick" * 300})
    RESOURCES = {(10, 1): b"a chart of the skerries" * 20, (24, 1): b"<assembly/>", (10, 2): b"<a/>"}

    def test_tail_and_resources_are_a_folder(self) -> None:
        data = executable.make(self.TAIL, self.RESOURCES)
        archive = opened(data, "kelpwick.exe")
        self.assertEqual(
            sorted(archive.names),
            ["resources/data/1-0", "resources/data/2-0", "resources/manifest/1-0.xml", "tail"],
        )
        self.assertEqual(archive.content(archive.rows["tail"]), self.TAIL)
        self.assertEqual(archive.content(archive.rows["resources/data/1-0"]), self.RESOURCES[10, 1])
        self.assertIsNone(archive.prove().difference)

    def test_a_changed_tail_leaves_headers_and_sections_as_they_are(self) -> None:
        data = executable.make(self.TAIL, self.RESOURCES)
        made = edited(opened(data), {"tail": b"another tail"})
        end = len(data) - len(self.TAIL)
        self.assertEqual(made, data[:end] + b"another tail")
        self.assertEqual(executable.load(made)[0], b"another tail")

    def test_a_resource_grows_and_the_executable_still_loads(self) -> None:
        data = executable.make(self.TAIL, self.RESOURCES)
        for new in (b"small", b"a larger chart" * 300):
            made = edited(opened(data), {"resources/data/1-0": new})
            tail, resources = executable.load(made)
            self.assertEqual((tail, resources), (self.TAIL, {**self.RESOURCES, (10, 1): new}))
            again = opened(made)
            self.assertEqual(again.content(again.rows["resources/data/1-0"]), new)

    def test_whole_icons_out_and_back(self) -> None:
        icons = icon_group((32, 16))
        two, resources = icons[3, 2], {**self.RESOURCES, **icons}
        archive = opened(executable.make(self.TAIL, resources))
        name = "resources/icon-groups/1-0.ico"
        icon = archive.content(archive.rows[name])
        with Image.open(io.BytesIO(icon)) as file:
            self.assertEqual(file.info["sizes"], {(32, 32), (16, 16)})
        self.assertIsNone(archive.prove().difference)
        picture = form_of("ico").read(BytesSource(icon, "x.ico"))
        pixels = picture.pixels().copy()
        pixels[:8] = [1, 2, 3, 255]
        again = form_of("ico").write(put_back(picture, {0: pixels}).picture)
        made = edited(archive, {name: again})
        after = executable.load(made)[1]
        self.assertEqual({key: after[key] for key in self.RESOURCES}, self.RESOURCES)
        for number in (1, 2):  # each image has its mask, and the size that the group says
            wide, high, size = struct.unpack_from("<BB6xI", after[14, 1], 6 + 14 * (number - 1))
            self.assertEqual((size, size), (len(after[3, number]), 40 + 4 * wide * high + high * 4))
        back = opened(made)
        self.assertEqual(back.content(back.rows[name]), again)
        single = icon[:4] + b"\1\0" + struct.pack("<8sII", icon[6:14], len(two), 22) + two
        fewer = executable.load(edited(archive, {name: single}))[1]
        self.assertEqual((fewer[14, 1][4], fewer[3, 1]), (1, two))
        for wrong, says in (
            (b"no icon", "no ICO file"),
            (icon[:20], "cut off"),
            (icon[:4] + b"\3\0" + icon[6:], "room for 2"),
        ):
            with self.assertRaisesRegex(RefusedError, says):
                edited(archive, {name: wrong})
        with self.assertRaisesRegex(RefusedError, "and its images"):
            edited(archive, {name: again, "resources/icons/1-0": b"other"})

    def test_a_group_with_an_image_twice_or_of_another_icon_stays_a_group(self) -> None:
        icons = icon_group((32, 16))
        first, both = icons[14, 1], icons[14, 1][:20] + icons[14, 1][6:20]
        archive = opened(executable.make(b"", {**icons, (14, 2): first, (14, 3): both}))
        groups = [name for name in archive.names if "groups" in name]
        self.assertEqual([name.rpartition("/")[2] for name in groups], ["1-0.ico", "2-0", "3-0"])
        self.assertEqual(archive.content(archive.rows[groups[2]]), both)

    def test_whole_cursors_out_and_back(self) -> None:
        spot, image = b"\5\0\7\0", icon_image(32, 9)
        group = struct.pack("<HHH", 0, 2, 1) + struct.pack("<HHHHIH", 32, 64, 1, 32, len(image) + 4, 1)
        resources = {**self.RESOURCES, (1, 1): spot + image, (12, 1): group}
        archive, name = opened(executable.make(self.TAIL, resources)), "resources/cursor-groups/1-0.cur"
        cursor = archive.content(archive.rows[name])
        self.assertEqual(cursor, struct.pack("<HHHBBBB4sII", 0, 2, 1, 32, 32, 0, 0, spot, len(image), 22) + image)
        other = cursor.replace(spot, b"\1\0\2\0").replace(b"\t" * 64, b"\x0b" * 64)
        after = executable.load(edited(archive, {name: other}))[1]
        self.assertEqual((after[12, 1], after[1, 1][:4], after[1, 1][4:]), (group, b"\1\0\2\0", other[22:]))
        with self.assertRaisesRegex(RefusedError, "no CUR file"):
            edited(archive, {name: cursor.replace(b"\2\0\1\0", b"\1\0\1\0", 1)})

    def test_nothing_can_be_added(self) -> None:
        with self.assertRaises(RefusedError):
            edited(opened(executable.make(self.TAIL, self.RESOURCES)), {}, {"new.txt": b""})


if __name__ == "__main__":
    unittest.main()
