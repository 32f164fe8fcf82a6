"""The table of all kinds of assets: each file is of one kind, and what a kind can do it can do all the way."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from tests.support import Case, made_game
from volvex.archive.detect import filetypes
from volvex.archive.detect.types import all_types
from volvex.asset.kind import ASSET_KINDS, Around, AssetKind, Fault, kind_named, kind_of_layout, kind_of_type, kinds_for
from volvex.errors import UsageError
from volvex.layout import Library
from volvex.layout.kinds import kind_names
from volvex.source import BytesSource, FileSource, Source

ALL = ASSET_KINDS.all()
FILES = {  # loose files of the stand-in game, by the kind that each is of
    "picture": ("canvas/harbour_chart.kwi", "canvas/fog.dds"),
    "sound": ("belfry/fog_bell.kbl",),
    "movie": ("opening/opening.webm", "opening/makers.kwm"),
    "model": ("slip/patience.kmm", "slip/buoy.obj", "slip/patience.kms"),
}


class Table(unittest.TestCase):
    def test_each_type_and_layout_is_of_one_kind(self) -> None:
        for file_type in (kind.name for kind in all_types()):
            owners = [kind.NAME for kind in ASSET_KINDS.all() if kind.is_open(file_type)]
            self.assertLessEqual(len(owners), 1, file_type)
        for layout_kind in kind_names():
            owners = [kind.NAME for kind in ASSET_KINDS.all() if layout_kind in kind.LAYOUTS]
            self.assertLessEqual(len(owners), 1, layout_kind)

    def test_types_and_layouts_lead_to_their_kind(self) -> None:
        names = {"png": "picture", "wav": "sound", "webm": "movie", "glb": "model", "obj": "model", "midi": "midi"}
        for file_type, name in names.items():
            self.assertEqual(getattr(kind_of_type(file_type), "NAME", ""), name, file_type)
            if file_type != "obj":  # known by its text, not by its first bytes
                self.assertIn(name, [kind.NAME for kind in kinds_for(file_type)])
        layouts = {"texture": "picture", "sound": "sound", "movie": "movie", "mesh": "model", "skeleton": "model"}
        for layout_kind, name in layouts.items():
            self.assertEqual(getattr(kind_of_layout(layout_kind), "NAME", ""), name, layout_kind)
        self.assertIsNone(kind_of_type("xml"))
        self.assertIsNone(kind_named("cargo"))

    def test_what_comes_back_goes_out(self) -> None:
        for kind in ASSET_KINDS.all():
            with self.subTest(kind=kind.NAME):
                extensions = kind.extensions()
                self.assertEqual(len(extensions), len(set(extensions)))
                self.assertEqual(bool(extensions), kind.can("export"))
                if kind.takes_back:
                    self.assertTrue(extensions)
                if kind.OPTIONS:
                    self.assertTrue(kind.can("replace"))

    def test_an_extension_of_no_kind_is_refused(self) -> None:
        class Bare(AssetKind[int]):
            NAME = "buoy"

        with self.assertRaisesRegex(UsageError, r"a buoy does not become \.png"):
            Bare().export(1, ".png")


class OnFiles(Case):
    def opened(self, kind: AssetKind[Any], path: Path, library: Library) -> Any:
        """A file as a kind; None when its type or its content is of another."""
        with FileSource(path, path.name) as source:
            source.beside = lambda name: BytesSource((path.parent / name).read_bytes(), name)
            file_type = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
            return kind.opened(source, library) if kind.may_be(file_type) else None

    def test_a_file_is_of_one_kind_and_says_what_it_is(self) -> None:
        game = made_game()
        library = Library()
        for name, paths in FILES.items():
            for path in paths:
                owners = {}
                for kind in ASSET_KINDS.all():
                    asset = self.opened(kind, game / path, library)
                    if asset is not None:
                        owners[kind.NAME] = (kind, asset)
                self.assertEqual(list(owners), [name], path)
                kind, asset = owners[name]
                self.assertTrue(kind.form(asset))
                self.assertTrue(kind.brief(asset))
                self.assertTrue(all(label and text for label, text in kind.lines(asset)), path)
                kind.is_whole(asset)
                self.assertEqual(list(kind.faults(asset, asset)), [], path)

    def test_a_model_of_text_is_one_under_any_name(self) -> None:
        for name in ("buoy.obj", "buoy.txt"):
            (self.folder / name).write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
            self.assertIn("triangles  1", self.volvex("show", self.folder / name))

    def test_a_kind_whose_files_are_text_is_compared_and_checked(self) -> None:
        class Rhymes(AssetKind[list[str]]):
            NAME, PRIORITY = "rhyme", 5

            def may_be(self, file_type: str) -> bool:
                return file_type == "text"

            def opened(
                self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
            ) -> list[str] | None:
                lines = source.read(0, source.size).decode().splitlines()
                return lines if lines[:1] == ["A rhyme"] else None

            def faults(self, before: list[str] | None, after: list[str]) -> Iterator[Fault]:
                if before is not None and len(before) != len(after):
                    yield Fault("error", "length", f"it has {len(after)} lines", f"{len(before)} lines")

        game = self.folder / "game"
        game.mkdir()
        (game / "rhyme.txt").write_text("A rhyme\nof oil\n")
        with mock.patch.object(ASSET_KINDS, "all", lambda: [Rhymes(), *ALL]):
            self.volvex("bench", game, self.folder / "bench")
            on = ("--bench", self.folder / "bench")
            self.volvex("take", "rhyme.txt", *on)
            (self.folder / "bench/files/rhyme.txt").write_text("A rhyme\nof oil\nand wick\n")
            self.assertIn("it has 3 lines", self.volvex("check", *on, status=1))
        self.assertIn("no errors", self.volvex("check", *on))

    def test_text_and_nothing_are_of_no_kind(self) -> None:
        for data in (b"", b"The lamp is lit.", b"\0" * 64):
            for kind in ASSET_KINDS.all():
                self.assertIsNone(kind.opened(BytesSource(data, "a.txt"), None), (kind.NAME, data))


if __name__ == "__main__":
    unittest.main()
