"""The ways in which a game takes changes: the same screens in each, and all of it comes out again."""

from __future__ import annotations

import json
import shutil
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from kelpwick import png
from tests.modded import WithGame
from tests.support import LAMPS, MAIN, digests
from volvex.errors import FormatError, VolvexError
from volvex.mods.list_lines import with_lines, without_lines
from volvex.mods.mod.content import Descriptor
from volvex.mods.ways._descriptor import Filling, filled

GAME_TOML = Path(__file__).parent.parent / "src/volvex/games/kelpwick/game.toml"
MANIFEST = "cargo/manifest.xml"


class Ways(WithGame):
    """Each way in which the game takes changes: the same screens, and all of it comes out again."""

    def test_the_game_shows_the_same_whichever_way(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        (self.folder / "new.png").write_bytes(png.lamp(7, 9))
        self.volvex("swap", "--new", f"{MAIN}/pictures/lamps/deep.png", self.folder / "new.png", cwd=self.work)
        self.volvex("install", cwd=self.work)
        screens, main = self.play(self.source), digests(self.source)[MAIN]
        for way, file in (("later", "data/main+volvex.kwp"), ("loose", "loose/rules/lamps.xml")):
            self.volvex("install", "--way", way, cwd=self.work)
            self.assertEqual(self.play(self.source), screens)
            self.assertTrue((self.source / file).is_file())
            self.assertNotEqual(digests(self.source)[MAIN], main)
            self.assertIn("installed already", self.volvex("install", "--way", way, cwd=self.work))
        self.assertTrue((self.source / "loose/pictures/lamps/deep.png").is_file())
        self.volvex("restore", self.source)
        self.assertEqual(self.content(), self.old)
        self.assertFalse((self.source / "loose").exists())

    def test_what_a_way_cannot_carry_is_replaced_and_told(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        self.volvex("drop", f"{MAIN}/charts/the_pans.sdg", cwd=self.work)
        done = self.run_program("install", "--way", "later", cwd=self.work)
        self.assertIn(f"note: {MAIN} is replaced: entries of it are left out", done.stderr)
        self.assertEqual(self.reach(), "14")
        self.assertIn(
            "does not take changes the way", self.complaint("install", self.source, "--way", "sideways", status=2)
        )

    def test_a_file_of_the_game_in_that_place_is_never_overwritten(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        shutil.copy(self.source / MAIN, self.source / "data/main+volvex.kwp")
        self.assertIn(
            "has a file data/main+volvex.kwp already",
            self.complaint("install", self.source, "--way", "later", status=5),
        )

    def test_a_description_with_a_wrong_way_is_refused(self) -> None:
        (self.home / "mine").mkdir()
        for line, said in (
            ('takes = ["sideways"]', "no way 'sideways'"),
            ('[later]\n"a" = "../b"', "below the game's folder"),
        ):
            (self.home / "mine/game.toml").write_text(f'name = "Kelpwick Light"\nknown = ["kelpwick.ini"]\n{line}\n')
            self.assertIn(said, self.complaint("status", self.source, status=4))


class AddOns(WithGame):
    """Mods in the game's own format: folders and ZIPs with a descriptor, in the game and outside of it, and lines in
    its list."""

    def setUp(self) -> None:
        super().setUp()
        for name, edit in (("one", "fresnel_3 range=14"), ("two", "harbour_1 oil=3.3")):
            self.mod("add", self.made(name, edit))
        self.volvex("install", self.source)
        self.screens = self.play(self.source)

    def described(self, table: str, **values: str) -> None:
        """A description of the user's, with other values in a table."""
        shutil.copytree(GAME_TOML.parent, self.home / "mine", dirs_exist_ok=True)
        head, _, rest = GAME_TOML.read_text(encoding="utf-8").partition(f"[{table}]\n")
        own, end, tail = rest.partition("\n\n")
        lines = [line for line in own.splitlines() if line.partition(" =")[0] not in values]
        lines += [f"{name} = {value}" for name, value in values.items()]
        (self.home / "mine/game.toml").write_text(
            f"{head}[{table}]\n" + "\n".join(lines) + end + tail, encoding="utf-8"
        )

    def test_a_file_of_two_mods_is_in_the_add_on_of_the_last(self) -> None:
        self.volvex("install", self.source, "--way", "folder")
        self.assertEqual(self.play(self.source), self.screens)
        found = sorted(name for name in self.content() if name.startswith("parcels/"))
        self.assertEqual(found, ["parcels/002-two/hold/rules/lamps.xml", "parcels/002-two/parcel.xml"])
        self.assertEqual(self.content()[MAIN], self.old[MAIN])
        self.assertIn("two 1.0", self.volvex("status", self.source))
        self.volvex("restore", self.source)
        self.assertEqual(self.content(), self.old)

    def test_zips_are_the_same_for_the_same_mods(self) -> None:
        self.described("folder", format='"zip"', name='"{id}.zip"')
        self.volvex("install", self.source, "--way", "folder")
        self.assertEqual(self.play(self.source), self.screens)
        first = (self.source / "parcels/two.zip").read_bytes()
        with zipfile.ZipFile(self.source / "parcels/two.zip") as archive:
            self.assertEqual(archive.namelist(), ["hold/rules/lamps.xml", "parcel.xml"])
        self.volvex("restore", self.source)
        self.volvex("install", self.source, "--way", "folder")
        self.assertEqual((self.source / "parcels/two.zip").read_bytes(), first)

    def test_add_ons_outside_of_the_game_come_out_with_restore(self) -> None:
        self.described("folder", path='"{home}/Light/parcels"')
        user = self.new_folder()
        with mock.patch.object(Path, "home", staticmethod(lambda: user)):
            self.volvex("install", self.source, "--way", "folder")
            place = user / "Light/parcels/002-two"
            self.assertIn(b'id="two"', (place / "parcel.xml").read_bytes())
            self.assertEqual(self.content(), self.old)
            self.assertIn("Light/parcels/002-two/parcel.xml", self.volvex("status", self.source))
            self.volvex("install", self.source)
            self.assertFalse(place.exists(), "another way takes it out again")
            self.volvex("install", self.source, "--way", "folder")
            shutil.copytree(self.source, self.folder / "copy", ignore=shutil.ignore_patterns(".volvex"))
            self.volvex("restore", self.folder / "copy")
            self.volvex("mod", "add", self.folder / "one", "--game", self.folder / "copy")
            self.volvex("install", self.folder / "copy")
            self.assertIn("another bench", self.complaint("install", self.folder / "copy", "--way", "folder", status=5))
            self.assertTrue((place / "parcel.xml").is_file(), "the add-ons of another copy of the game stay")
            self.volvex("restore", self.source)
        self.assertEqual((self.content(), digests(user)), (self.old, {}))

    def test_an_add_on_of_somebody_else_is_never_overwritten(self) -> None:
        (self.source / "parcels/002-two").mkdir(parents=True)
        self.assertIn("there is an add-on", self.complaint("install", self.source, "--way", "folder", status=5))

    def test_the_line_in_the_list_goes_and_those_of_others_stay(self) -> None:
        self.volvex("install", self.source, "--way", "list")
        self.assertEqual(self.play(self.source), self.screens)
        manifest = self.source / MANIFEST
        self.assertIn(b'\r\n  <crate name="two"/>\r\n</manifest>', manifest.read_bytes())
        self.assertIn("installed already", self.volvex("install", self.source, "--way", "list"))
        original = (self.source / ".volvex/originals").iterdir()
        kept = {path.read_bytes() for path in original}
        self.assertIn(manifest.read_bytes().replace(b'  <crate name="two"/>\r\n', b""), kept)
        theirs = manifest.read_bytes().replace(b"</manifest>", b"  <!-- theirs -->\r\n</manifest>")
        manifest.write_bytes(theirs)
        self.mod("off", "two")
        self.volvex("install", self.source, "--way", "list")
        self.assertEqual(
            manifest.read_bytes(),
            theirs.replace(b'"two"', b'"one"').replace(
                b'  <crate name="one"/>\r\n  <!-- theirs -->\r\n', b'  <!-- theirs -->\r\n  <crate name="one"/>\r\n'
            ),
        )
        manifest.write_bytes(manifest.read_bytes().replace(b"theirs", b"theirs again"))
        said = self.run_program("restore", self.source, status=5)
        self.assertIn("others have changed this list since", said.stdout)
        self.assertIn("an older original", said.stderr)
        self.assertEqual(
            manifest.read_bytes(), theirs.replace(b"theirs", b"theirs again").replace(b'  <crate name="two"/>\r\n', b"")
        )
        self.volvex("restore", self.source, "--overwrite", MANIFEST)
        self.volvex("restore", self.source, "--overwrite", MANIFEST)
        self.assertEqual(self.content(), self.old)

    def test_what_a_description_may_not_say(self) -> None:
        for values, said in (
            ({"path": '"../elsewhere"'}, "path is a folder"),
            ({"path": '"{home}"'}, "path is a folder"),
            ({"name": '"fixed"'}, "name has no {id}"),
            ({"format": '"rar"'}, "format is"),
            ({"template": '""'}, "a `descriptor` needs a `template`"),
            ({"colour": '"red"'}, "there is no `colour`"),
        ):
            with self.subTest(said):
                self.described("folder", **values)
                self.assertIn(said, self.complaint("status", self.source, status=4))


class SetAside(WithGame):
    """Loose files once the archive is set aside."""

    def test_all_of_the_archive_is_unpacked_and_the_game_still_known(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        self.volvex("drop", f"{MAIN}/stores/empty.lst", cwd=self.work)
        self.volvex("install", "--way", "aside", "--verify-start", cwd=self.work)
        self.assertEqual(self.reach(), "14")
        self.assertFalse((self.source / MAIN).exists())
        self.assertFalse((self.source / "loose/stores/empty.lst").exists())
        self.assertEqual(len(list((self.source / "loose").rglob("*.*"))), 66)
        self.assertIn("set aside", self.volvex("status", self.source))
        self.volvex("install", self.source)
        self.assertFalse((self.source / "loose").exists(), "another way brings the archive back")
        self.volvex("install", self.source, "--way", "aside")
        self.volvex("restore", self.source)
        self.assertEqual(self.content(), self.old)

    def test_a_game_that_does_not_start_so_is_left_as_it_is(self) -> None:
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        bad = self.home / "mine"
        shutil.copytree(GAME_TOML.parent, bad)
        text = (bad / "game.toml").read_text(encoding="utf-8")
        (bad / "game.toml").write_text(
            text.replace('[aside]\n"data/main.kwp" = "loose"', '[aside]\n"data/main.kwp" = "looser"'), encoding="utf-8"
        )
        said = self.complaint("install", self.source, "--way", "aside", "--verify-start", status=5)
        self.assertIn("does not start with its archives set aside: refused to start: data/main.kwp is missing", said)
        self.assertEqual(self.content(), self.old)


class SameContent(WithGame):
    """The same content in several archives."""

    def setUp(self) -> None:
        super().setUp()
        shutil.copy(self.source / MAIN, self.source / "data/main+spare.kwp")
        done = self.run_program("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.assertIn("has the same content as data/main+spare.kwp/rules/lamps.xml", done.stderr)

    def test_a_change_goes_into_each_when_asked_and_the_output_says_so(self) -> None:
        self.assertEqual([record["path"] for record in self.records("build", cwd=self.work)], [MAIN])
        self.assertIn("1 change in 1 file of the game, 1 built", self.volvex("status", cwd=self.work))
        self.assertIn("data/main+spare.kwp: 1 change, since", self.volvex("build", "--everywhere", cwd=self.work))
        self.volvex("install", cwd=self.work)
        self.assertEqual(self.reach(), "14")
        self.volvex("restore", self.source)
        self.mod("add", self.made("one", "fresnel_3 range=14"))
        self.assertIn(
            "1 change in 1 file",
            self.volvex("install", self.source, "--everywhere").replace("2 changes in 2 files", "1 change in 1 file"),
        )
        self.assertEqual(self.reach(), "14")

    def test_only_restricts_and_other_content_is_not_touched(self) -> None:
        self.volvex("build", "--only", MAIN, cwd=self.work)
        self.assertEqual([record["path"] for record in self.records("build", "--only", MAIN, cwd=self.work)], [MAIN])
        spare = "data/main+spare.kwp"
        self.assertEqual([record["path"] for record in self.records("build", "--only", spare, cwd=self.work)], [spare])
        self.volvex("set", f"{spare}/rules/lamps.xml", "--row", "fresnel_3", "range=8", cwd=self.work)
        built = {str(record["path"]): record["changes"] for record in self.records("build", cwd=self.work)}
        self.assertEqual(built, {MAIN: 1, spare: 1}, "a change of its own wins")


class Lists(unittest.TestCase):
    """Lines in XML lists."""

    def test_lines_go_in_once_and_out_again(self) -> None:
        for text in (
            "<a>\n\t<b/>\n</a>\n",
            "<a><b/></a>",
            "<a/>",
            "<?xml version='1.0' encoding='utf-16'?>\n<a>\n  <b/>\n</a>",
            "<a>\r\n</a><!-- </a> -->",
        ):
            data = text.encode("utf-16" if "utf-16" in text else "utf-8")
            with self.subTest(text):
                made = with_lines(data, ['<c name="x"/>'], "l.xml")
                self.assertEqual(with_lines(made, ['<c name="x"/>'], "l.xml"), made)
                decoded = made.decode("utf-16" if "utf-16" in text else "utf-8")
                self.assertEqual(decoded.count('<c name="x"/>'), 1)
                back = without_lines(made, ['<c name="x"/>'], "l.xml")
                self.assertNotIn(b"name", back.replace(b"\0", b""))
        self.assertEqual(without_lines(with_lines(b"<a>\n</a>\n", ["<c/>"], "l"), ["<c/>"], "l"), b"<a>\n</a>\n")

    def test_what_is_no_list_is_an_error(self) -> None:
        for data, line in ((b"", "<c/>"), (b"{}", "<c/>"), (b"<a></a>", "<c>"), (b"<a></b>", "<c/>")):
            with self.subTest(data), self.assertRaises(FormatError):
                with_lines(data, [line], "l.xml")


class Templates(unittest.TestCase):
    """Descriptors of the game's own format."""

    DESCRIPTOR = Descriptor(
        "deep",
        "2.1",
        "Kelpwick Light",
        ("1.4",),
        {"en": 'Deep & "low"', "de": "Tief"},
        {"en": "Two\nlines"},
        author="Ansa",
    )

    def made(self, name: str, text: str) -> str:
        folder = Path(self.enterContext(__import__("tempfile").TemporaryDirectory()))
        (folder / "t.template").write_text(text, encoding="utf-8")
        return filled(folder / "t.template", name, Filling(self.DESCRIPTOR, "", "001-deep")).decode()

    def test_each_form_escapes_and_repeats_in_its_way(self) -> None:
        self.assertEqual(
            self.made("a.xml", '<m id="{id}">\n<t l="{language}">{title}</t>\n<l>{licence}</l>\n</m>\n'),
            '<m id="deep">\n<t l="de">Tief</t>\n<t l="en">Deep &amp; &quot;low&quot;</t>\n</m>\n',
        )
        text = '{"id": "{id} {version}", "names": {"{language}": "{title}"}, "icon": "{icon}", "tags": ["{language}"], "n": 3}'  # noqa: E501
        self.assertEqual(
            json.loads(self.made("a.json", text)),
            {"id": "deep 2.1", "names": {"de": "Tief", "en": 'Deep & "low"'}, "tags": ["de", "en"], "n": 3},
        )
        self.assertEqual(
            self.made("a.ini", "[m]\ntext={description}\nicon={icon}\nmade for={game_version}\n"),
            "[m]\ntext=Two lines\nmade for=1.4\n",
        )

    def test_a_template_that_gives_no_descriptor_is_an_error(self) -> None:
        for name, text in (("a.xml", "<m>{id}"), ("a.json", "{")):
            with self.subTest(name), self.assertRaises(VolvexError):
                self.made(name, text)


if __name__ == "__main__":
    unittest.main()
