"""Names that nobody may trust: shown without harm, and put on disk without escape."""

from __future__ import annotations

import unittest
from pathlib import PurePosixPath, PureWindowsPath

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.formats import PACKED, packed
from tests.support import Case
from volvex.archive.safe_names import Refusal, clean, disk_names, shown

HOSTILE = (
    "../out.txt",
    "a/../../out.txt",
    "/etc/out.txt",
    "C:/out.txt",
    "c:out.txt",
    "..\\out.txt",
    "\\\\host\\share\\out.txt",
    "a/..",
    "..",
    "",
    "/",
    "a" * 300,
)
AWKWARD = {
    "con": "%63on",
    "NUL.txt": "%4EUL.txt",
    "folder/com1.log": "folder/%63om1.log",
    "aux .txt": "%61ux .txt",
    "trailing.": "trailing%2E",
    "trailing ": "trailing%20",
    "what?.txt": "what%3F.txt",
    "a:b": None,
    "x/y:z": "x/y%3Az",
    "tab\there": "tab%09here",
    "bell\x07": "bell%07",
    "./a//b": "a/b",
    "console.txt": "console.txt",
    "Öl.txt": "Öl.txt",
    "a%2Fb": "a%2Fb",
    "\x1b[31mred": "%1B[31mred",
    "per|pipe": "per%7Cpipe",
}


class OnDisk(unittest.TestCase):
    def test_hostile_names_get_no_place(self) -> None:
        for name in HOSTILE:
            with self.subTest(name):
                place = disk_names([clean(name)])[0]
                assert isinstance(place, Refusal)
                self.assertTrue(place.reason)

    def test_awkward_names_get_one_that_every_system_takes(self) -> None:
        for name, wanted in AWKWARD.items():
            with self.subTest(name):
                place = disk_names([name])[0]
                if wanted is None:
                    self.assertIsInstance(place, Refusal)
                else:
                    self.assertEqual(place, wanted)

    def test_names_that_a_case_blind_disk_would_mix_up(self) -> None:
        self.assertEqual(
            disk_names(["Lamp.txt", "lamp.txt", "LAMP.TXT", "lamp~2.txt"]),
            ["Lamp.txt", "lamp~2.txt", "LAMP~3.TXT", "lamp~2~2.txt"],
        )
        self.assertEqual(disk_names(["é", "e\u0301"]), ["é", "e\u0301~2"])

    def test_a_file_that_has_the_name_of_a_folder(self) -> None:
        self.assertEqual(disk_names(["rules", "rules/lamps.xml", "Rules/x"]), ["rules~2", "rules/lamps.xml", "Rules/x"])

    @given(st.lists(st.text(st.characters(codec=None, exclude_categories=[]), max_size=30), max_size=20))
    @settings(max_examples=300, deadline=None)
    def test_whatever_the_names_the_places_are_safe_and_different(self, names: list[str]) -> None:
        places = disk_names([clean(name) for name in names])
        self.assertEqual(len(places), len(names))
        kept = [place for place in places if isinstance(place, str)]
        files = [place.casefold() for place in kept if not place.endswith("/")]
        self.assertEqual(len(set(files)), len(files))
        folders = {
            place.casefold().removesuffix("/") for place in kept if place.endswith("/")
        }  # entries that are folders
        self.assertFalse(folders & set(files))
        for place in kept:
            for kind in (PurePosixPath, PureWindowsPath):
                path = kind(place)
                self.assertFalse(path.is_absolute() or path.drive or ".." in path.parts, place)
            self.assertFalse(any(ord(c) < 32 for c in place))
            for part in place.removesuffix("/").split("/"):
                self.assertTrue(part and part[-1] not in ". ", place)
                self.assertFalse(PureWindowsPath(part).is_reserved(), place)

    @given(st.lists(st.text("abc./-_~nulco1\n", max_size=9), max_size=6))
    @settings(max_examples=400, deadline=None)
    def test_the_short_way_gives_what_the_long_way_gives(self, names: list[str]) -> None:
        from unittest.mock import patch

        short = disk_names(names)
        with patch("volvex.archive.safe_names._all_plain", return_value=False):
            self.assertEqual(disk_names(names), short)

    @given(st.lists(st.text(max_size=12), max_size=12))
    @settings(max_examples=100, deadline=None)
    def test_the_same_names_always_give_the_same_places(self, names: list[str]) -> None:
        self.assertEqual(disk_names(names), disk_names(list(names)))


class OnTheTerminal(unittest.TestCase):
    def test_nothing_that_a_terminal_would_obey(self) -> None:
        self.assertEqual(shown("a\x1b[2Jb\nc\x9bd\x7f"), "a\\x1b[2Jb\\x0ac\\x9bd\\x7f")
        self.assertEqual(shown("a\u202eb"), "a\\u202eb")
        self.assertEqual(shown(b"\xff".decode("utf-8", "surrogateescape")), "\\xff")
        self.assertEqual(shown("plain Öl.txt"), "plain Öl.txt")

    @given(st.text(st.characters(codec=None, exclude_categories=[])))
    def test_what_is_shown_can_be_printed(self, text: str) -> None:
        self.assertFalse(any(ord(c) < 32 or 0x7F <= ord(c) < 0xA0 for c in shown(text)))
        shown(text).encode("utf-8")


class Program(Case):
    """An archive full of hostile names, through the commands."""

    NAMES = (
        "../up.txt",
        "/root.txt",
        "C:\\drive.txt",
        "con.txt",
        "Lamp.txt",
        "lamp.txt",
        "es\x1bcape.txt",
        "sub\\back.txt",
        "ends.",
    )

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "p.layout").write_text(PACKED, encoding="utf-8")
        self.file = self.folder / "bad.pkd"
        self.file.write_bytes(packed([(name, name.encode()) for name in self.NAMES]))

    def test_what_is_sound_comes_out_and_the_rest_is_told(self) -> None:
        out = self.folder / "deep" / "out"
        done = self.run_program("unpack", self.file, "--to", out, "--layout", "p.layout", status=5)
        files = sorted(path.relative_to(out).as_posix() for path in out.rglob("*") if path.is_file())
        self.assertEqual(files, ["%63on.txt", "Lamp.txt", "ends%2E", "es%1Bcape.txt", "lamp~2.txt", "sub/back.txt"])
        self.assertEqual(sum(line.startswith("refused: ") for line in done.stderr.splitlines()), 3)
        self.assertIn("climbs out of the folder", done.stderr)
        self.assertIn("absolute path", done.stderr)
        self.assertIn("drive letter", done.stderr)
        self.assertNotIn("\x1b", done.stderr + done.stdout)
        self.assertEqual(
            sorted(path.name for path in self.folder.iterdir() if path.name != "home"), ["bad.pkd", "deep", "p.layout"]
        )

    def test_packed_again_each_finds_its_entry(self) -> None:
        names = self.NAMES[3:]
        self.file.write_bytes(packed([(name, name.encode()) for name in names]))
        self.volvex("unpack", self.file, "--to", "out", "--layout", "p.layout")
        (self.folder / "out" / "%63on.txt").write_bytes(b"changed")
        said = self.volvex("pack", "out", "--like", self.file, "--to", "new.pkd", "--layout", "p.layout")
        self.assertIn("5 entries as in bad.pkd, 1 changed, 0 added, 0 left out", said)
        self.assertEqual(self.volvex("show", "new.pkd/con.txt", "--layout", "p.layout"), "changed\n")
        self.assertEqual(self.volvex("show", "new.pkd/sub/back.txt", "--layout", "p.layout"), "sub\\back.txt\n")

    def test_lists_show_no_control_characters(self) -> None:
        for options in ((), ("--tree",), ("--long",), ("--json",), ("--sort", "name")):
            out = self.volvex("list", self.file, "--layout", "p.layout", *options)
            self.assertNotIn("\x1b", out)
            self.assertIn("cape.txt", out)

    def test_a_link_in_the_target_is_not_followed(self) -> None:
        out = self.folder / "out"
        out.mkdir()
        (self.folder / "elsewhere").mkdir()
        (out / "sub").symlink_to(self.folder / "elsewhere", target_is_directory=True)
        self.assertIn("is a link", self.complaint("unpack", self.file, "--to", out, "--layout", "p.layout", status=5))
        self.assertEqual(list((self.folder / "elsewhere").iterdir()), [])


if __name__ == "__main__":
    unittest.main()
