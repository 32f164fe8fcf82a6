"""Archives within archives, in pieces, in volumes, behind the executable: reached by one path, changed on one bench."""

from __future__ import annotations

import gzip
import random
import shutil
import tarfile
import unittest
from pathlib import Path

from kelpwick import holds, play
from kelpwick.words import PASSWORD
from tests.support import LAMPS, Case, digests
from volvex.archive import Walker, open_archive
from volvex.archive.access.numbered import numbered
from volvex.archive.access.pieces import beside, pieces_of
from volvex.errors import FormatError, VolvexError
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout

VAULT = "vault/harbour.kvx"
LEDGER = f"{VAULT}/sheds/north.kvz/ledger.kwp"
PAGE = f"{LEDGER}/pages/tea.txt"
POST = "post/winter.kpz/letters/ansa.txt"
DEEP = "deeps/deeps.kwp.001/soundings.txt"
PEAL = "peal/peal.kpi/bell-05.ring"
WEATHER = "kelpwick.exe/tail/weather/spring.csv"


class Nested(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.before = digests(self.source)
        self.run_program("keys", "add", "kelpwick-post", input=PASSWORD)

    def test_one_path_reaches_through(self) -> None:
        page = holds.read(self.source, "harbour")["pages/tea.txt"].decode()
        self.assertEqual(self.volvex("show", f"game/{PAGE}", "--raw"), page)
        self.assertEqual(self.volvex("list", f"game/{VAULT}/*/*.kvz/ledger.kwp/pages/t*.txt").count("/pages/t"), 3)
        self.assertIn("ledger.kwp", self.volvex("list", f"game/{VAULT}/sheds/north.kvz"))
        self.assertIn("pages/tea.txt", self.complaint("show", f"game/{LEDGER}/pages/tee.txt", status=3))
        for path in (POST, DEEP, WEATHER):
            self.volvex("show", f"game/{path}", "--raw")

    def test_deep_lists_and_searches(self) -> None:
        shallow = self.volvex("list", f"game/{VAULT}")
        self.assertNotIn("pages/", shallow)
        self.assertEqual(self.volvex("list", f"game/{VAULT}", "--deep").count("/pages/"), 10)
        found = self.volvex("find", "game", "--text", "in store")
        self.assertEqual(found.count("/ledger.kwp/pages/"), 10)
        self.assertIn(f"game/{POST}", self.volvex("find", "game", "--text", "when the ice is in"))

    def test_unpacked_deep_each_archive_is_a_folder(self) -> None:
        self.volvex("unpack", f"game/{VAULT}", "--to", "out", "--deep")
        files = {
            path.relative_to(self.folder / "out").as_posix()
            for path in (self.folder / "out").rglob("*")
            if path.is_file()
        }
        self.assertIn("sheds/north.kvz/ledger.kwp/pages/tea.txt", files)
        self.assertEqual(len(files), 13)
        self.volvex("unpack", f"game/{VAULT}", "--to", "flat")
        self.assertTrue((self.folder / "flat" / "sheds" / "north.kvz").is_file())

    def test_a_bench_builds_from_the_inside_out(self) -> None:
        work = self.bench(self.source)
        texts = {
            PAGE: "tea: 999 in store\n",
            POST: "For Ansa, at last.\n" * 30,
            DEEP: "The lead was lost.\n" * 400,
            WEATHER: "night;wind;fog\n1;2;1\n",
        }
        self.volvex("take", *texts, PEAL, cwd=work)
        for path, text in texts.items():
            (work / "files" / path).write_text(text, newline="")
        (work / "files" / PEAL).write_bytes(b"RING" + bytes(3000))
        self.assertEqual(self.volvex("changes", cwd=work).count("changed  "), 5)
        self.volvex("build", cwd=work)
        self.assertEqual(digests(self.source), self.before)
        built = {path.relative_to(work / "built").as_posix() for path in (work / "built").rglob("*") if path.is_file()}
        self.assertEqual({name for name in built if name.startswith("peal/")}, {"peal/peal.kpi", "peal/peal_02.kpd"})
        self.volvex("install", cwd=work)
        told = play.play(self.source)
        self.assertIn("For Ansa, at last.", told)
        self.assertIn("The lead was lost.", told)
        self.assertIn("1 of 1 nights with fog", told)
        self.assertEqual(holds.read(self.source, "harbour")["pages/tea.txt"], b"tea: 999 in store\n")
        self.assertEqual(len(holds.read(self.source, "peal")["bell-05.ring"]), 3004)
        sizes = [path.stat().st_size for path in sorted((self.source / "deeps").iterdir())]
        self.assertEqual(set(sizes[:-1]), {4096})
        self.volvex("restore", cwd=work)
        self.assertEqual(digests(self.source), self.before)

    def test_large_content_goes_through_every_depth(self) -> None:
        """What an inner archive becomes is read from the temporary file into which the outer one's content goes."""
        work, large = self.bench(self.source), bytes(range(256)) * 80_000
        (self.folder / "large.bin").write_bytes(large)
        self.volvex("swap", "--new", f"{LEDGER}/pages/large.bin", self.folder / "large.bin", cwd=work)
        path = work / "files" / LEDGER / "pages" / "large.bin"
        path.write_bytes(random.Random(1).randbytes(len(large)))
        self.volvex("build", cwd=work)
        self.volvex("install", cwd=work)
        self.assertEqual(holds.read(self.source, "harbour")["pages/large.bin"], path.read_bytes())

    def test_an_archive_is_taken_whole_or_entries_of_it(self) -> None:
        work = self.bench(self.source)
        self.volvex("take", PAGE, cwd=work)
        self.assertIn(
            "is in the bench already, as a folder",
            self.complaint("take", LEDGER.rpartition("/")[0], cwd=work, status=5),
        )

    def test_an_archive_without_end_within_itself_is_not_followed_for_ever(self) -> None:
        from tests.test_open_formats import zipped

        data = b"wick"
        for _ in range(20):
            data = zipped(0, {"again.zip": data})
        (self.folder / "deep.zip").write_bytes(data)
        with Walker(Library()) as walker:
            self.assertLessEqual(
                max(len(group.above) for group in walker.find(str(self.folder / "deep.zip"), nested=True).groups), 12
            )


class Pieces(Case):
    def test_what_looks_like_pieces(self) -> None:
        for name, size in (
            ("a.001", 9),
            ("a.002", 9),
            ("a.003", 4),
            ("a.004", 9),
            ("b1.dat", 5),
            ("b2.dat", 7),
            ("c0", 3),
            ("c1", 3),
        ):
            (self.folder / name).write_bytes(bytes(size))

        def found(name: str) -> list[str]:
            path = self.folder / name
            return [text for text, _ in pieces_of(name, path, beside(path))]

        self.assertEqual(
            [found(name) for name in ("a.001", "a.002", "b1.dat", "c0")],
            [["a.001", "a.002", "a.003"], [], [], ["c0", "c1"]],
        )
        self.assertEqual([numbered("x09.kwp", 1), numbered("p.9", 1)], ["x10.kwp", "p.10"])

    def test_a_folder_of_pieces_stands_for_the_archive(self) -> None:
        game = self.game()
        self.assertIn("The lead was dropped", self.volvex("show", "game/deeps/soundings.txt", "--raw"))
        self.assertIn("a part of deeps.kwp.001", self.volvex("survey", "game"))
        (game / "deeps" / "deeps.kwp.003").unlink()
        self.assertNotIn("5 pieces", self.volvex("survey", "game", "--refresh", status=4))

    def test_an_archive_that_shrinks_leaves_its_last_piece_empty(self) -> None:
        game = self.game()
        work = self.bench(game)
        self.volvex(
            "drop", "deeps/deeps.kwp.001/deeps/the_pans.sdg", "deeps/deeps.kwp.001/deeps/kelpwick.sdg", cwd=work
        )
        self.volvex("build", cwd=work)
        self.volvex("install", cwd=work)
        self.assertEqual((game / "deeps" / "deeps.kwp.005").stat().st_size, 0)
        self.assertEqual(len(holds.read(game, "deeps")), 4)
        self.assertIn("4 entries", self.volvex("list", "game/deeps/deeps.kwp.001"))


class Volumes(Case):
    LAYOUT = Path(__file__).parent.parent / "src/volvex/games/kelpwick/peal.layout"

    def test_a_missing_volume_is_told(self) -> None:
        game = self.game()
        (game / "peal" / "peal_01.kpd").unlink()
        self.assertIn("peal_01.kpd, which is not beside it", self.complaint("list", "game/peal/peal.kpi", status=4))

    def test_content_that_leaves_its_volume_is_refused(self) -> None:
        game = self.game()
        path = game / "peal" / "peal_00.kpd"
        path.write_bytes(path.read_bytes()[:-40])
        with self.assertRaises(FormatError) as caught:
            open_archive(game / "peal" / "peal.kpi", Library())
        self.assertIn("past the end of", caught.exception.message)

    def test_what_a_layout_of_volumes_must_say(self) -> None:
        text = self.LAYOUT.read_text(encoding="utf-8")
        for old, new, reason in (
            ("{name}_{00}.kpd", "../{name}_{00}.kpd", "same folder"),
            ("{name}_{00}.kpd", "{stem}.kpd", "in braces"),
            ("{name}_{00}.kpd", "{name}.kpd", "or neither"),
            ('in volumes "{name}_{00}.kpd" ', "", "nothing gives the names of volumes"),
        ):
            with self.subTest(new), self.assertRaises(VolvexError) as caught:
                parse_layout(text.replace(old, new), "peal.layout")
            self.assertIn(reason, caught.exception.message)

    def test_proved_and_proved_harder(self) -> None:
        self.game()
        self.assertNotIn("fails", self.volvex("layout", "prove", "--harder", "game/peal/peal.kpi"))


class InPlace(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.before = digests(self.source)
        self.run_program("keys", "add", "kelpwick-post", input=PASSWORD)
        self.work = self.bench(self.source)

    def do(self, *words: object, status: int = 0) -> str:
        return self.volvex(*words, cwd=self.work, status=status)

    def write(self, path: str, text: str) -> None:
        (self.work / "files" / path).write_text(text, newline="")

    def test_changed_again_taken_back_and_restored(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("take", PAGE, POST)
        self.write(PAGE, "tea: 5 in store\n" * 90)
        self.write(POST, "For Ansa, at last.\n")
        self.assertIn("3 files changed", self.do("build", "--in-place"))
        text = play.play(self.source)
        self.assertIn("14 nm", text)
        self.assertIn("For Ansa, at last.", text)
        self.assertIn("as the bench has them already", self.do("build", "--in-place"))
        self.do("set", LAMPS, "--row", "fresnel_3", "range=17")
        shutil.rmtree(self.work / "files" / "post")
        self.assertIn("2 files changed", self.do("build", "--in-place"))
        text = play.play(self.source)
        self.assertIn("17 nm", text)
        self.assertIn("For Ansa Tolk, when the ice is in.", text)
        for path in ("data", "vault", "post"):
            self.assertNotIn("differs", self.do("layout", "prove", self.source / path))
        self.do("restore")
        self.assertEqual(digests(self.source), self.before)

    def test_added_dropped_and_taken_back(self) -> None:
        new = self.folder / "new.txt"
        new.write_text("a new page")
        self.do("swap", "--new", f"{LEDGER}/pages/whale oil.txt", new)
        self.do("swap", "--new", "post/winter.kpz/letters/nobody.txt", new)
        self.do("drop", "post/winter.kpz/letters/bero.txt")
        self.do("build", "--in-place")
        self.assertEqual(holds.read(self.source, "harbour")["pages/whale oil.txt"], b"a new page")
        self.assertNotIn("letters/bero.txt", holds.read(self.source, "post"))
        self.do("undo", "post/winter.kpz/letters/bero.txt")
        (self.work / "files" / "post/winter.kpz/letters/nobody.txt").unlink()
        self.do("build", "--in-place")
        self.assertEqual(
            set(holds.read(self.source, "post")),
            {f"letters/{one}.txt" for one in ("ansa", "bero", "cade", "dunna", "elvi", "farro")},
        )
        self.do("restore")
        self.assertEqual(digests(self.source), self.before)

    def test_added_like_one_that_is_left_out_by_now(self) -> None:
        new = self.folder / "new.txt"
        new.write_text("a new page")
        self.do("drop", POST)  # the one that new letters are most like
        self.do("build", "--in-place")
        self.do("swap", "--new", "post/winter.kpz/letters/late.txt", new)
        self.do("build", "--in-place")
        self.assertEqual(holds.read(self.source, "post")["letters/late.txt"], b"a new page")

    def test_a_compressed_archive_within_one_before_anything_was_built(self) -> None:
        from tests.test_open_formats import tarred, zipped

        inner = gzip.compress(tarred(tarfile.USTAR_FORMAT, {"a.txt": b"lamp"}), mtime=0)
        (self.source / "box.kpz").write_bytes(zipped(0, {"in.dat": inner}))
        self.do("take", "box.kpz/in.dat/a.txt")
        self.write("box.kpz/in.dat/a.txt", "bell")
        self.do("build", "--in-place")
        self.assertEqual(self.volvex("show", "--raw", "game/box.kpz/in.dat/a.txt"), "bell")

    def test_what_cannot_be_changed_in_place_is_told_and_nothing_is_touched(self) -> None:
        self.do("take", DEEP)
        self.write(DEEP, "other\n")
        self.assertIn("lies in several files", self.complaint("build", "--in-place", cwd=self.work, status=5))
        self.assertEqual(digests(self.source), self.before)

    def test_an_installed_file_is_not_changed_in_place_and_a_plain_install_takes_over(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        self.do("install")
        self.assertIn("was installed as a whole", self.complaint("build", "--in-place", cwd=self.work, status=5))
        self.do("restore")
        self.do("build", "--in-place")
        self.do("set", LAMPS, "--row", "fresnel_3", "range=15")
        self.do("build")
        self.do("install")
        self.assertIn("15 nm", play.play(self.source))
        self.do("restore")
        self.assertEqual(digests(self.source), self.before)

    def test_an_update_after_it_is_left_alone(self) -> None:
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build", "--in-place")
        path = self.source / "data/main.kwp"
        path.write_bytes(path.read_bytes()[:-1] + b"?")
        self.assertIn("skipped", self.run_program("restore", cwd=self.work, status=5).stderr)


if __name__ == "__main__":
    unittest.main()
