"""Commands answer as asked: what matches, what is beside, paths of the game everywhere, and within the terminal's
width."""

from __future__ import annotations

import io
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from tests.support import Case, made_game
from tests.test_command import context
from volvex.archive.detect import filetypes
from volvex.command.ui.main import main
from volvex.command.ui.table import shortened

LAMPS = "data/main.kwp/rules/lamps.xml"
PACK = "data/main.kwp"


class Answers(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def test_a_condition_that_no_record_meets(self) -> None:
        words = ("set", LAMPS, "--where", "range > 900", "range=1")
        self.assertEqual(self.volvex(*words, status=1, cwd=self.work), "no record matches range > 900\n")
        said = self.volvex("set", LAMPS, "--where", "range == 4", "range=4", status=1, cwd=self.work)
        self.assertEqual(said, "all values are already as requested\n")

    def test_what_lies_beside_a_file_is_found(self) -> None:
        said = self.volvex("identify", f"{self.source}/belfry/chorus.kbi")
        self.assertIn("opens  Kelpwick chorus, 4 entries", said)

    def test_compare_takes_paths_of_the_game_and_of_archives(self) -> None:
        mine = self.folder / "lamps.xml"
        mine.write_text("<lamps/>")
        for path, where in ((LAMPS, self.work), (f"{self.source}/{LAMPS}", self.folder)):
            said = self.volvex("compare", path, mine, status=1, cwd=where)
            self.assertIn("changed  lamps.xml", said)
            self.assertIn("1 file differs", said)
        self.assertIn("no differences", self.volvex("compare", PACK, self.source / PACK, cwd=self.work))
        self.assertIn("nothing", self.complaint("compare", "nothing", mine, status=3, cwd=self.work))

    def test_an_archive_is_packed_like_one_of_the_game(self) -> None:
        self.volvex("unpack", PACK, "--to", self.folder / "out", cwd=self.work)
        self.volvex("pack", self.folder / "out", "--like", PACK, "--to", self.folder / "new.kwp", cwd=self.work)
        self.assertEqual((self.folder / "new.kwp").read_bytes(), (self.source / PACK).read_bytes())

    def test_the_advice_to_make_a_bench_names_no_other(self) -> None:
        said = self.complaint("status", "--bench", self.folder / "none", status=3)
        self.assertIn("`volvex bench GAME`", said)

    def test_a_guess_is_told_what_it_wants(self) -> None:
        said = self.complaint("names", "guess", self.source / "loft/loft.kwa", status=2)
        self.assertIn("a pattern of the paths in it", said)
        self.assertIn("--in", said)

    def test_a_proof_names_the_file_before_its_hints(self) -> None:
        lines = self.volvex("layout", "prove", self.source / "data").splitlines()
        self.assertRegex(lines[0], "almanac.kwp: identical")
        self.assertRegex(lines[1], "^  hint")

    def test_the_hits_so_far_are_printed_when_a_search_is_interrupted(self) -> None:
        from volvex.archive.transfer.parallel import parallel

        def stopped(work: object, batches: list[list[int]]) -> Iterator[object]:
            first, *_ = batches
            yield from parallel(work, [first])  # type: ignore[arg-type]
            raise KeyboardInterrupt

        with mock.patch("volvex.archive.access.search.parallel", stopped):
            done = self.run_program("find", self.source / PACK, "--text", "lamp", status=130)
        self.assertIn("rules/", done.stdout)
        self.assertIn("the hits above are not all", done.stderr)


class Recognised(unittest.TestCase):
    def test_pictures_that_others_wrote(self) -> None:
        from PIL import Image

        for form, kind in (("SGI", "sgi"), ("JPEG2000", "jp2"), ("ICNS", "icns")):
            out = io.BytesIO()
            Image.new("RGB", (64, 48 if form != "ICNS" else 64), (9, 80, 90)).save(out, form)
            self.assertEqual(filetypes.kind_by_content(out.getvalue()[: filetypes.HEAD]), kind)

    def test_module_music(self) -> None:
        for head, kind in ((b"Extended Module: tide", "xm"), (b"IMPMtide", "it"), (bytes(44) + b"SCRM", "s3m")):
            self.assertEqual(filetypes.kind_by_content(head.ljust(64, b"\0")), kind)


class Narrow(Case):
    def lines(self, *words: str) -> list[str]:
        one = context(terminal=True, width=80)
        one.environment = {"VOLVEX_HOME": str(self.home)}
        main([*words], one)
        assert isinstance(one.out, io.StringIO)
        return one.out.getvalue().splitlines()

    def test_tables_fit_the_terminal(self) -> None:
        game = made_game()
        for words in (("survey", str(game)), ("layout", "explain", f"{game}/{PACK}")):
            lines = self.lines(*words)
            table = lines[: next(at for at, line in enumerate(lines) if not line or line.startswith("and "))]
            self.assertGreater(len(table), 20)
            self.assertLessEqual(max(map(len, table)), 80, words)
        self.assertIn("/main.kwp", "\n".join(self.lines("survey", str(game))))

    def test_the_survey_ends_with_the_next_step(self) -> None:
        lines = self.lines("survey", str(made_game()))
        self.assertTrue(any(line.startswith("locked: ") for line in lines[-6:]))
        self.assertIn("`volvex ", lines[-1])

    def test_words_are_not_broken_where_lines_end(self) -> None:
        one = context(terminal=True, width=40)
        lines = one.wrapped("there is no 140 in lenses; try one of 101, 102, 103, 104, 105", "    ").split("\n")
        self.assertGreater(len(lines), 1)
        self.assertTrue(all(line.startswith("    ") and len(line) <= 40 for line in lines))
        self.assertIn("104, 105", " ".join(line.strip() for line in lines))

    def test_a_line_with_several_hits_is_printed_once(self) -> None:
        pack = made_game() / "data/almanac.kwp"
        lines = self.volvex("find", pack, "--text", "fresnel_3", "--name", "workshop.xml").splitlines()
        self.assertEqual(sum("grind_3" in line for line in lines), 1)
        self.assertEqual(lines[-1], "2 hits in 1 file")

    def test_a_path_keeps_its_end(self) -> None:
        self.assertEqual(shortened("data/main.kwp/rules/lamps.xml", 16, middle=True), "data/…/lamps.xml")
        self.assertEqual(shortened("abcdef", 4), "abc…")
        self.assertEqual(shortened("abc", 3), "abc")
        self.assertEqual(Path(shortened("a/b", 8, middle=True)), Path("a/b"))
