"""What a user made is never destroyed, and what cannot be is refused: swap, take --overwrite, undo, mod new, mod
export."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from tests.support import LAMPS, Case

LENSES = "data/almanac.kwp/tables/lenses.kwb"
SAIL = "canvas/patience_sail.kwi"
PNG = b"\x89PNG\r\n\x1a\nab"  # the first bytes of one


class Bench(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def run_(self, *words: object, status: int | None = 0) -> str:
        done = self.run_program(*words, cwd=self.work, status=status)
        return done.stdout + done.stderr

    def file(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path


class Kept(Bench):
    def edit(self, path: str = LAMPS) -> bytes:
        self.run_("take", path)
        file = self.work / "files" / path
        file.write_bytes(file.read_bytes() + b"\n")
        return file.read_bytes()

    def undone(self, path: str) -> bytes:
        return (self.work / "undone" / path).read_bytes()

    def test_what_replaces_an_edited_file_keeps_it_and_says_so(self) -> None:
        mine = self.edit()
        said = self.run_("swap", LAMPS, self.file("new.xml", b"<lamps/>"))
        self.assertIn(f"{LAMPS} was edited; your file is kept in undone/{LAMPS}", said)
        self.assertEqual(self.undone(LAMPS), mine)
        self.assertIn("kept in undone", self.run_("take", "--overwrite", LAMPS))
        self.assertEqual(self.undone(LAMPS.replace(".xml", "~2.xml")), b"<lamps/>")
        self.assertNotIn("kept", self.run_("take", "--overwrite", LAMPS))  # it is the original now

    def test_the_same_content_again_is_not_kept_twice(self) -> None:
        new = self.file("new.xml", b"<lamps/>")
        self.run_("swap", LAMPS, new)
        self.assertNotIn("kept", self.run_("swap", LAMPS, new))

    def test_converted_assets_keep_what_was_there(self) -> None:
        for path, ending in ((SAIL, "png"), ("belfry/fog_bell.kbl", "wav"), ("slip/patience.kmm", "glb")):
            with self.subTest(path):
                mine = self.edit(path)
                self.run_("convert", self.source / path, self.folder / f"own.{ending}")
                self.run_("swap", path, self.folder / "own.png" if ending == "png" else self.source / path)
                self.assertEqual(self.undone(path), mine)

    def test_an_edited_opened_file_is_kept_when_it_is_written_again(self) -> None:
        self.run_("take", LENSES, "--as", "csv")
        file = self.work / "open" / f"{LENSES}.csv"
        file.write_text("mine")
        self.assertIn("--overwrite", self.run_("take", LENSES, "--as", "csv", status=5))
        self.assertIn(f"kept in undone/open/{LENSES}.csv", self.run_("take", LENSES, "--as", "csv", "--overwrite"))
        self.assertEqual(self.undone(f"open/{LENSES}.csv"), b"mine")


class Unfit(Bench):
    def test_content_of_another_kind_or_damaged_is_refused_and_as_is_puts_it_in(self) -> None:
        table, ten = self.file("x.csv", b"a,b\n1,2\n"), self.file("ten.png", PNG)
        dds = self.file("ten.dds", (self.source / "canvas/fog.dds").read_bytes()[:10])
        cases = (
            (SAIL, table, "a picture (Kelpwick canvas)"),
            (SAIL, ten, "not a valid PNG"),
            ("canvas/fog.dds", self.work / "bench.json", "the game's own is dds"),
            ("canvas/fog.dds", dds, "128 bytes"),
            ("belfry/fog_bell.kbl", table, "a sound (Kelpwick bell)"),
            ("belfry/fog_bell.kbl", self.file("ten", b"KWBL123456"), "ten"),
            ("slip/patience.kmm", self.file("mesh", (self.source / "slip/patience.kmm").read_bytes()[:10]), "mesh"),
            ("slip/patience.kmm", table, "a model (Kelpwick boat)"),
            ("slip/buoy.obj", table, "no obj model"),
            ("opening/opening.webm", table, "the game's own is webm"),
            (LENSES, table, "take data/almanac.kwp/tables/lenses.kwb --as csv"),
            (LAMPS, table, "the game's own is xml"),
        )
        for path, file, said in cases:
            with self.subTest(path=path, file=file.name):
                text = self.run_("swap", path, file, status=None)
                self.assertIn(said, text)
        self.assertEqual(self.run_("changes"), "no changes\n")
        self.run_("swap", SAIL, table, "--as-is")
        self.assertIn("this is plain text, the game's own is a picture", self.run_("check", status=1))
        self.run_("build", status=5)

    def test_text_that_is_no_longer_xml_is_the_first_and_only_error(self) -> None:
        self.run_("swap", LAMPS, self.file("x.csv", b"a,b\n"), "--as-is")
        found = json.loads(self.run_("check", "--json", status=1))
        self.assertEqual([one["kind"] for one in found if one["level"] == "error"], ["kind"])
        self.assertIn("16 references into this file", found[0]["message"])

    def test_undo_works_whatever_lies_opened(self) -> None:
        table = self.file("x.csv", b"a,b\n")
        for path, ending in ((SAIL, "png"), (LENSES, "csv")):
            self.run_("take", path, "--as", ending)
            self.run_("swap", path, table, "--as-is")
            (self.work / "open" / f"{path}.{ending}").write_bytes(b"edited too")
        said = self.run_("check", status=5)
        self.assertIn("were both edited", said)
        self.assertIn("volvex undo open/", said)
        said = self.run_("undo", ".")
        self.assertIn(f"your file is in undone/{SAIL}", said)
        self.assertEqual((self.work / "undone" / "open" / f"{LENSES}.csv").read_bytes(), b"edited too")
        self.assertIn("no changes", self.run_("changes"))
        self.assertEqual((self.work / "open" / f"{SAIL}.png").read_bytes()[:4], PNG[:4])  # written again

    def test_one_opened_file_is_undone_and_the_other_edit_stays(self) -> None:
        self.run_("take", LENSES, "--as", "csv")
        (self.work / "open" / f"{LENSES}.csv").write_text("no table")
        self.run_("changes", status=None)
        self.assertIn("edit not taken over", self.run_("undo", f"open/{LENSES}.csv"))
        self.assertIn("no changes", self.run_("changes"))


class Mods(Bench):
    def setUp(self) -> None:
        super().setUp()
        self.run_("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.made = self.folder / "made"

    def test_broken_content_is_refused_when_a_mod_is_made_or_exported(self) -> None:
        (self.work / "files" / LAMPS).write_text("<broken")
        self.assertIn("unclosed token", self.run_("mod", "new", self.made, status=5))
        self.assertFalse(self.made.exists())
        self.run_("mod", "new", self.made, "--anyway")
        self.assertIn("unclosed token", self.run_("mod", "export", self.made, self.folder / "m.zip", status=4))
        self.assertFalse((self.folder / "m.zip").exists())
        self.run_("mod", "export", self.made, self.folder / "m.zip", "--anyway")

    def test_a_mod_that_is_written_again_keeps_comments_and_what_its_author_put_there(self) -> None:
        self.run_("mod", "new", self.made)
        descriptor = self.made / "mod.toml"
        descriptor.write_text("# mine\n" + descriptor.read_text().replace("requires = []", "requires = []  # none"))
        (self.made / "files").mkdir()
        for name in ("files/own.bin", "changes/mine.json", "README.txt"):
            (self.made / name).write_text('{"changes": []}')
        self.run_("set", LAMPS, "--row", "fresnel_3", "range=15")
        said = self.run_("mod", "new", self.made, "--overwrite", "--title", "Brighter")
        self.assertIn("kept in undone/made/files/own.bin", said)
        self.assertIn("kept in undone/made/changes/mine.json", said)
        self.assertEqual((self.work / "undone/made/files/own.bin").read_text(), '{"changes": []}')
        text = descriptor.read_text()
        self.assertTrue(text.startswith("# mine\n") and "# none" in text and "Brighter" in text, text)
        self.assertTrue((self.made / "README.txt").is_file())
        self.assertNotIn("undone", self.run_("mod", "new", self.made, "--overwrite"))

    def test_a_full_disk_leaves_the_mod_as_it_was(self) -> None:
        self.run_("mod", "new", self.made)
        before = {path: path.read_bytes() for path in self.made.rglob("*") if path.is_file()}
        self.run_("set", LAMPS, "--row", "fresnel_3", "range=15")
        reached = 0
        for step in range(1, 60):
            done = self.run_program(
                "mod", "new", self.made, "--overwrite", cwd=self.work, status=None, fault=f"full:{step}"
            )
            if done.returncode == 0:
                break
            reached += 1
            self.assertEqual({path: path.read_bytes() for path in self.made.rglob("*") if path.is_file()}, before)
        self.assertGreater(reached, 3)
        self.assertEqual([path.name for path in self.folder.glob(".made*")], [])

    def test_an_interrupted_exchange_is_finished(self) -> None:
        self.run_("mod", "new", self.made)
        self.made.rename(self.folder / ".made.old")
        self.assertIn("already exists", self.run_("mod", "new", self.made, status=5))
        self.assertTrue((self.made / "mod.toml").is_file())

    def test_a_zip_never_goes_into_the_mod_and_parts_of_killed_exports_go(self) -> None:
        self.run_("mod", "new", self.made)
        descriptor = (self.made / "mod.toml").read_bytes()
        self.run_("mod", "export", self.made, self.made / "mod.toml", "--overwrite", status=5)
        self.assertEqual((self.made / "mod.toml").read_bytes(), descriptor)
        part = self.folder / "volvex-0.999999999.volvex-part"
        part.write_bytes(b"half")
        self.run_program("mod", "export", ".", cwd=self.made)
        self.assertTrue((self.folder / "made-1.0.zip").is_file())
        self.assertFalse(part.exists())


if __name__ == "__main__":
    unittest.main()
