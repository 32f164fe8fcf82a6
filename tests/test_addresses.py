"""Each entry has one address, printed and accepted by every command; paths on a bench; layouts and encodings tied to
paths."""

from __future__ import annotations

import io
import json
import tarfile
import unittest
import unittest.mock
import zipfile
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from tests.support import LAMPS, MAIN, Case, digests, made_game
from volvex.archive.access.patterns import path_pattern
from volvex.archive.access.ties import Ties
from volvex.archive.safe_names import distinct_paths
from volvex.errors import NotFoundError
from volvex.layout import Library
from volvex.layout.columns import Texts

FIRTH = "shallows/firth.kwz"
PACK = """layout "crew pack" kind archive
little endian
block head at 0
    count  u16  count of table
block table after head repeats
    name   text 8  name
    begin  u16  start of content
    size   u16  size of content
"""
CREW = """layout "crew table" kind table
little endian
block crew at 0 repeats until end
    age  u8  value
    boat u8  value
"""


def packed(*entries: tuple[str, bytes]) -> bytes:
    """A crew pack, which bears no signature."""
    at, head, body = 2 + 12 * len(entries), len(entries).to_bytes(2, "little"), b""
    for name, content in entries:
        head += (
            name.encode().ljust(8, b"\0") + (at + len(body)).to_bytes(2, "little") + len(content).to_bytes(2, "little")
        )
        body += content
    return head + body


def repeating(folder: Path) -> Path:
    """A ZIP archive in which names repeat, one of them as another would be numbered."""
    path = folder / "maps.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name, text in (
            ("channel-buoys", "one"),
            ("sunken-rocks", "two"),
            ("channel-buoys", "three"),
            ("channel-buoys~2", "four"),
            ("channel-buoys", "five"),
            ("lamp.txt", "six"),
            ("lamp.txt", "seven"),
        ):
            info = zipfile.ZipInfo(name)
            archive.writestr(info, text)
    return path


class Repeated(Case):
    NAMES = (
        "channel-buoys",
        "sunken-rocks",
        "channel-buoys~3",
        "channel-buoys~2",
        "channel-buoys~4",
        "lamp.txt",
        "lamp~2.txt",
    )
    TEXTS = ("one", "two", "three", "four", "five", "six", "seven")

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "game").mkdir()
        with self.assertWarns(UserWarning):
            repeating(self.folder / "game")

    def test_the_first_is_plain_and_names_that_are_there_are_passed_by(self) -> None:
        self.assertEqual(
            distinct_paths(["a", "a", "a~2", "a", "b/", "b/"], str), ["a", "a~3", "a~2", "a~4", "b/", "b/"]
        )
        self.assertEqual(distinct_paths(["k.png", "k.txt"], lambda name: name.partition(".")[0]), ["k.png", "k~2.txt"])

    @given(st.lists(st.binary(max_size=40), max_size=12), st.integers(0, 11))
    def test_repeats_are_seen_in_a_column_as_in_a_list(self, texts: list[bytes], again: int) -> None:
        for chunks in (texts, [*texts, *texts[again : again + 1]]):
            self.assertEqual(Texts.of(chunks, "utf-8").repeat(), len(set(chunks)) < len(chunks))

    def test_every_command_prints_and_takes_the_same_address(self) -> None:
        whole = [f"game/maps.zip/{name}" for name in self.NAMES]
        self.assertEqual([record["path"] for record in self.records("list", "game/maps.zip")], whole)
        self.assertEqual([line.split()[-1] for line in self.volvex("list", "game/maps.zip").splitlines()[1:-1]], whole)
        self.assertEqual(
            {record["path"] for record in self.records("find", "game", "--name", "channel-buoys*")},
            {text for text in whole if "channel-buoys" in text},
        )
        for path, text in zip(whole, self.TEXTS, strict=True):
            self.assertEqual(self.volvex("show", path), f"{text}\n")
        self.volvex("unpack", "game/maps.zip", "--to", "out")
        self.assertEqual(
            {path.name: path.read_text() for path in (self.folder / "out").iterdir()},
            dict(zip(self.NAMES, self.TEXTS, strict=True)),
        )

    def test_one_of_them_is_taken_swapped_and_left_out_and_the_others_stay(self) -> None:
        self.volvex("bench", "game", "bench")
        bench = self.folder / "bench"
        self.volvex("take", "maps.zip/channel-buoys~3", cwd=bench)
        (bench / "files/maps.zip/channel-buoys~3").write_text("THREE")
        (self.folder / "mine").write_text("FIVE")
        self.volvex("swap", "maps.zip/channel-buoys~4", "../mine", cwd=bench)
        self.assertEqual(
            self.volvex("drop", "maps.zip/channel-buoys", cwd=bench).splitlines()[0], "maps.zip/channel-buoys"
        )
        self.assertEqual(self.volvex("show", "maps.zip/channel-buoys~3", cwd=bench), "THREE\n")
        self.volvex("build", cwd=bench)
        with zipfile.ZipFile(bench / "built/maps.zip") as built:
            self.assertEqual(
                [built.read(info).decode() for info in built.infolist()],
                ["two", "THREE", "four", "FIVE", "six", "seven"],
            )
        self.volvex("undo", ".", cwd=bench)
        self.assertIn("no changes", self.volvex("changes", cwd=bench))

    def test_packing_brings_each_back_where_it_was(self) -> None:
        self.volvex("unpack", "game/maps.zip", "--to", "out")
        self.volvex("pack", "out", "--like", "game/maps.zip", "--to", "again.zip")
        self.assertEqual((self.folder / "again.zip").read_bytes(), (self.folder / "game/maps.zip").read_bytes())


class OddNames(Case):
    def setUp(self) -> None:
        super().setUp()
        with tarfile.open(self.folder / "odd.tar", "w", encoding="latin-1", format=tarfile.USTAR_FORMAT) as archive:
            for name in ("käse.txt", "back\\slash.txt", "Readme", "README", "con.txt", "a b.txt"):
                info = tarfile.TarInfo(name)
                info.size = len(name)
                archive.addfile(info, io.BytesIO(name.encode("latin-1")))

    def test_a_name_is_found_as_it_is_shown_and_as_it_is_on_disk(self) -> None:
        for spelling in ("k\\xe4se.txt", "back/slash.txt", "back\\slash.txt", "README~2", "%63on.txt"):
            self.volvex("show", f"odd.tar/{spelling}", "--json", "--row", "#1")
        self.assertEqual(self.volvex("show", "odd.tar/README~2"), "README\n")

    def test_hints_can_be_pasted(self) -> None:
        for wrong, right in (("kse.txt", "'odd.tar/k\\xe4se.txt'"), ("a_b.txt", "'odd.tar/a b.txt'")):
            said = self.complaint("show", f"odd.tar/{wrong}", status=3)
            self.assertEqual(said.splitlines()[1], f"try {right}")
            self.volvex("list", right.strip("'"))
        self.assertIn("try odd.tar/Readme", self.complaint("list", "odd.tar\\Readme", status=3))


class OnABench(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def paths(self, *words: object, cwd: Path | None = None) -> list[object]:
        return [record["path"] for record in self.records(*words, cwd=cwd or self.work)]

    def test_every_command_takes_paths_as_in_the_game(self) -> None:
        self.assertEqual(self.paths("list", LAMPS), [LAMPS])
        self.assertEqual(
            self.paths("find", "data", "--text", "dunna", "--name", "keepers.xml"), [f"{MAIN}/rules/keepers.xml"]
        )
        self.assertIn("XML", self.volvex("identify", f"{MAIN}/rules/lamps.xml", cwd=self.work).upper())
        self.assertIn('"Kelpwick pack"', self.volvex("layout", "explain", MAIN, cwd=self.work))
        self.assertIn("identical", self.volvex("layout", "prove", MAIN, cwd=self.work))
        self.assertIn('layout "buoy table"', self.volvex("layout", "show", f"{FIRTH}/channel-buoys~2", cwd=self.work))
        for path in (MAIN, f"{FIRTH}/sunken-rocks"):
            self.assertIn("layout", self.volvex("layout", "new", path, cwd=self.work))
        self.volvex("unpack", f"{MAIN}/rules", "--to", "../out", cwd=self.work)
        self.volvex("convert", LAMPS, "../lamps.csv", cwd=self.work)
        self.assertIn("entries have no name", self.volvex("names", "missing", "loft", cwd=self.work))
        self.assertTrue((self.folder / "out/rules/lamps.xml").is_file() and (self.folder / "lamps.csv").is_file())

    def test_the_bench_itself_stands_for_the_game_and_not_for_its_own_files(self) -> None:
        self.volvex("take", LAMPS, cwd=self.work)
        found = self.paths("list", ".")
        self.assertIn(MAIN, found)
        self.assertFalse([one for one in found if str(one).startswith(("base/", "files/", "bench.json"))])
        self.assertEqual(self.paths("list", "main.kwp/rules/lamps.xml", cwd=self.work / "files/data"), [LAMPS])
        self.assertEqual(self.paths("list", "files/" + LAMPS), [LAMPS])

    def test_a_pattern_takes_an_archive_whole_or_what_lies_in_it_and_never_both(self) -> None:
        self.volvex("take", "kelpwick.exe/**/*.csv", cwd=self.work)
        self.assertTrue((self.work / "files/kelpwick.exe/tail/weather/spring.csv").is_file())
        both = ("vault/harbour.kvx/sheds/north.kvz", "vault/harbour.kvx/sheds/north.kvz/keys.txt")
        self.assertIn("is meant, and what lies in it", self.complaint("take", *both, cwd=self.work, status=5))
        self.assertFalse((self.work / "files/vault").exists())
        self.volvex("take", "vault/**", cwd=self.work)
        self.assertTrue((self.work / "files/vault/harbour.kvx/sheds/north.kvz").is_file())

    def test_from_outside_with_bench(self) -> None:
        for words in (("list", LAMPS), ("show", LAMPS), ("identify", LAMPS), ("find", MAIN, "--name", "lamps.xml")):
            self.assertIn("lamp", self.volvex(*words, "--bench", self.work))

    def test_what_is_missing_is_missing_where_it_is_missing(self) -> None:
        self.assertIn(f"not in {MAIN}: nope", self.complaint("list", f"{MAIN}/nope", cwd=self.work, status=3))
        self.assertIn(
            "not in the game: rules/lamps.xml\ntry " + LAMPS,
            self.complaint("take", "rules/lamps.xml", cwd=self.work, status=3),
        )
        self.assertIn("climbs out", self.complaint("take", "../elsewhere/x", cwd=self.work, status=5))

    def test_originals_are_listed_while_something_is_installed(self) -> None:
        (self.folder / "mine.xml").write_text("<new/>")
        self.volvex("swap", "--new", f"{MAIN}/rules/new.xml", "../mine.xml", cwd=self.work)
        self.volvex("build", cwd=self.work)
        self.volvex("install", cwd=self.work)
        self.assertEqual(len(self.paths("list", f"{MAIN}/rules")), 8)
        self.assertEqual(len(self.paths("list", f"../game/{MAIN}/rules")), 9)
        self.assertEqual(self.volvex("show", f"{MAIN}/rules/new.xml", cwd=self.work), "<new/>\n")

    def test_show_and_convert_have_what_the_bench_has(self) -> None:
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.assertIn('range="14"', self.volvex("show", LAMPS, cwd=self.work))
        self.volvex("convert", LAMPS, "../lamps.csv", cwd=self.work)
        self.assertIn("fresnel_3,Third Fresnel,paraffin,14", (self.folder / "lamps.csv").read_text("utf-8-sig"))


class Patterns(Case):
    def test_two_stars_pass_through_archives_within_archives(self) -> None:
        game = made_game()
        found = [str(record["path"]) for record in self.records("list", f"{game}/kelpwick.exe/**")]
        self.assertIn(f"{game}/kelpwick.exe/tail/weather/spring.csv", found)
        deep = [str(record["path"]) for record in self.records("list", f"{game}/vault/**/tea.txt")]
        self.assertEqual(deep, [f"{game}/vault/harbour.kvx/sheds/north.kvz/ledger.kwp/pages/tea.txt"])
        self.assertEqual(
            [str(record["path"]) for record in self.records("list", f"{game}/vault/**/pages/tea.txt")], deep
        )

    def test_plain_files_lie_below_two_stars_as_well(self) -> None:
        (self.folder / "a/b").mkdir(parents=True)
        (self.folder / "a/b/x.txt").write_text("x")
        for pattern in ("a/**/b/x.txt", "a/**/x.txt", "**/b/*.txt"):
            self.assertEqual([record["path"] for record in self.records("list", pattern)], ["a/b/x.txt"], pattern)

    def test_identify_and_explain_go_into_folders_and_archives(self) -> None:
        game = made_game()
        self.assertEqual(len(self.records("identify", game / "isles")), 6)
        self.assertEqual(
            [record["path"] for record in self.records("identify", f"{game}/kelpwick.exe/tail")],
            [f"{game}/kelpwick.exe/tail"],
        )
        titles = self.volvex("layout", "explain", game / "isles", "--limit", "1")
        self.assertEqual(titles.count("100% explained"), 6)


class Tied(Case):
    def setUp(self) -> None:
        super().setUp()
        self.there = self.folder / "play"
        (self.there / "data").mkdir(parents=True)
        crew = [("CREW", b"\x20\x01"), ("NOTES", b"fair"), ("CREW", b"\x21\x02\x22\x02"), ("NOTES", b"foul")]
        (self.there / "data/north.kwz").write_bytes(packed(*crew))
        (self.folder / "pack.layout").write_text(PACK)
        (self.folder / "crew.layout").write_text(CREW)

    def test_one_description_ties_patterns_in_archives_too(self) -> None:
        home = self.home / "play"
        home.mkdir(parents=True)
        (home / "pack.layout").write_text(PACK)
        (home / "crew.layout").write_text(CREW)
        (home / "game.toml").write_text(
            'name = "Play"\nknown = ["data/north.kwz"]\n[layouts]\n"data/*.kwz" = "crew pack"\n"**/CREW" = "crew table"\n'  # noqa: E501
        )
        told = {record["path"]: record["type"] for record in self.records("list", "play/data/north.kwz")}
        self.assertEqual(
            told,
            {
                f"play/data/north.kwz/{name}": kind
                for name, kind in (("CREW", "table"), ("NOTES", "text"), ("CREW~2", "table"), ("NOTES~2", "text"))
            },
        )
        self.assertEqual([record["layout"] for record in self.records("survey", "play")], ["crew pack"])
        self.assertIn("tied", self.volvex("identify", "play/data/north.kwz/CREW~2"))
        self.assertEqual(self.records_of("show", "play/data/north.kwz/CREW~2")[1], {"age": "34", "boat": "2"})
        self.assertIn("1 hit", self.volvex("find", "play", "--value", "33"))
        before = digests(self.there)
        self.volvex("bench", "play", "bench")
        work = self.folder / "bench"
        self.volvex("set", "data/north.kwz/CREW~2", "--row", "#1", "age=50", cwd=work)
        self.assertIn("age 34 -> 50", self.volvex("changes", cwd=work))
        self.volvex("build", cwd=work)
        self.volvex("install", cwd=work)
        self.assertIn(b"\x21\x02\x32\x02", (self.there / "data/north.kwz").read_bytes())
        self.volvex("restore", cwd=work)
        self.assertEqual(digests(self.there), before)

    def records_of(self, *words: object) -> list[dict[str, str]]:
        return list(json.loads(self.volvex(*words, "--json")))

    def test_a_layout_is_named_on_every_command_that_reads(self) -> None:
        both = ("--layout", "pack.layout", "--layout", "**/CREW*=crew.layout")
        file = "play/data/north.kwz"
        self.assertEqual(len(self.records("list", file, *both)), 4)
        self.assertEqual(self.records_of("show", f"{file}/CREW~2", *both)[0], {"age": "33", "boat": "2"})
        self.assertIn("1 hit", self.volvex("find", file, "--value", "33", *both))
        self.assertIn("crew pack", self.volvex("survey", "play", "--layout", "data/*.kwz=pack.layout"))
        self.assertIn("opens", self.volvex("identify", file, "--layout", "**/*.kwz=pack.layout"))
        self.volvex("convert", f"{file}/CREW", "crew.csv", *both)
        self.volvex("unpack", file, "--to", "out", *both)
        self.assertIn("identical", self.volvex("layout", "prove", file, *both))

    def test_a_bench_keeps_what_was_tied_and_the_layouts_with_it(self) -> None:
        self.volvex("bench", "play", "bench", "--layout", "data/*.kwz=pack.layout")
        work = self.folder / "bench"
        self.volvex("take", "data/north.kwz/CREW~2", "--layout", "../crew.layout", cwd=work)
        for name in ("pack.layout", "crew.layout"):
            (self.folder / name).unlink()
        self.volvex("set", "data/north.kwz/CREW~2", "--row", "#0", "age=99", cwd=work)
        self.volvex("build", cwd=work)
        self.assertIn(b"\x63\x02\x22\x02", (work / "built/data/north.kwz").read_bytes())
        self.assertIn("age 33 -> 99", self.volvex("changes", "--bench", work))

    def test_a_layout_that_there_is_not_is_told_with_who_wants_it(self) -> None:
        ties = Ties([self.folder], Library().every)
        ties.add(self.folder, "*.kwz", "no such layout", "this bench")
        with self.assertRaises(NotFoundError) as caught:
            ties.layout("x.kwz")
        self.assertIn('there is no sound layout "no such layout", to which this bench', caught.exception.message)
        self.assertIn(
            "no path is given for this layout",
            self.complaint("bench", "play", "b2", "--layout", "pack.layout", status=2),
        )
        self.assertIn("there is no file", self.complaint("list", "play", "--layout", "none.layout", status=3))

    def test_patterns_of_whole_paths(self) -> None:
        for pattern, path, fits in (
            ("data/*.kwz", "data/a.kwz", True),
            ("data/*.kwz", "data/b/a.kwz", False),
            ("**/CREW", "a/b/CREW", True),
            ("**/CREW", "CREW", True),
        ):
            self.assertEqual(path_pattern(pattern).fullmatch(path) is not None, fits, (pattern, path))


class SurveyMemory(Case):
    def test_what_is_remembered_is_told_from_where_one_stands(self) -> None:
        self.game()
        for cwd, path in ((self.folder, "game"), (self.folder / "game", "."), (self.folder / "game/post", "..")):
            done = self.run_program("survey", path, cwd=cwd)
            where = {"game": "game/post", ".": "post", "..": "../post"}[path]
            self.assertTrue(done.stderr.startswith(f"{where}/winter.kpz: it needs the key"), done.stderr)


class Seen(Case):
    """The tree that a game sees: of several archives and loose files what is loaded last wins."""

    def setUp(self) -> None:
        super().setUp()
        for name, files in (
            ("data/a.zip", {"rules/oil.txt": "a", "rules/Wick.txt": "a", "art/lens.txt": "a"}),
            ("data/b.zip", {"rules/oil.txt": "b"}),
            ("more/c.zip", {"rules/oil.txt": "c", "rules/far.txt": "c"}),
        ):
            (self.folder / "game" / name).parent.mkdir(parents=True, exist_ok=True)
            with zipfile.ZipFile(self.folder / "game" / name, "w") as file:
                for path, text in files.items():
                    file.writestr(path, text)
        (self.folder / "game/rules").mkdir()
        (self.folder / "game/rules/wick.txt").write_text("loose")

    def output(self, *words: object, status: int = 0, bench: str = ".") -> str:
        done = self.run_program(*words, status=status, cwd=self.folder / bench)
        return done.stdout + done.stderr

    def seen(self, path: str = "game//rules", bench: str = ".") -> dict[str, str]:
        records = json.loads(self.output("list", path, "--json", bench=bench))
        return {one["path"]: self.output("show", one["path"], bench=bench).strip() for one in records}

    def test_what_is_loaded_last_wins(self) -> None:
        self.assertEqual(
            self.seen(), {"game//rules/oil.txt": "c", "game//rules/far.txt": "c", "game//rules/wick.txt": "loose"}
        )
        printed = self.output("list", "game//rules/*", "--long")
        self.assertIn("game/more/c.zip", printed)
        self.assertIn("game/rules/wick.txt", printed)
        self.assertEqual(self.output("show", "game//RULES/Oil.txt").strip(), "c")
        self.assertIn(
            "the game sees nothing at game//rules/sea.txt", self.output("show", "game//rules/sea.txt", status=3)
        )
        self.assertIn("4 files", self.output("unpack", "game//", "--to", "out"))
        self.assertEqual((self.folder / "out/rules/wick.txt").read_text(), "loose")
        self.assertIn("4 of 4 files are in out already", self.output("unpack", "game//", "--to", "out", status=5))
        self.assertIn("4 files left as they were", self.output("unpack", "game//", "--to", "out", "--skip-existing"))

    def test_a_slash_that_is_doubled_by_mistake(self) -> None:
        for path in (
            "game/data/b.zip//rules/oil.txt",
            "game/data//b.zip/rules/oil.txt",
            "game/data/b.zip/rules//oil.txt",
        ):
            self.assertEqual(self.output("show", path).strip(), "b")
        self.assertIn("there is no file nowhere", self.output("show", "nowhere//rules/oil.txt", status=3))

    def test_in_the_order_that_a_description_gives(self) -> None:
        (self.home / "games").mkdir(parents=True)
        text = 'name = "Oil"\nknown = ["data/a.zip"]\nloads = ["rules", "more/*.zip", "data/*.zip"]\n'
        (self.home / "games/game.toml").write_text(text)
        wanted = {
            "art/lens.txt": "a",
            "rules/Wick.txt": "a",
            "rules/far.txt": "c",
            "rules/oil.txt": "b",
            "wick.txt": "loose",
        }
        self.assertEqual(self.seen("game//"), {f"game//{path}": text for path, text in wanted.items()})

    def test_what_is_no_content_is_not_in_it(self) -> None:
        game = self.folder / "game"
        whole = (game / "data/b.zip").read_bytes()
        (game / "data/b.zip").unlink()
        for number in (0, 1):  # in two pieces
            (game / f"data/b.zip.00{number + 1}").write_bytes(whole[100 * number :][:100])
        (game / "logs").mkdir()
        (game / "logs/last.txt").write_text("a log of the game's own")
        (self.home / "games").mkdir(parents=True)
        text = 'name = "Oil"\nknown = ["data/a.zip"]\nown = ["logs/*"]\nloads = ["more/*", "data/*", "rules"]\n'
        (self.home / "games/game.toml").write_text(text)
        seen = {path.removeprefix("game"): text for path, text in self.seen("game//").items()}
        self.assertEqual(seen["//rules/oil.txt"], "b")
        self.assertEqual({path for path in seen if "logs" in path or ".zip" in path}, set())
        self.output("bench", "game", "b")
        self.assertEqual(self.seen("//", "b"), seen)
        taken = self.output("take", "//", bench="b")
        self.assertEqual(taken.count("took "), len(seen), taken)

    def test_each_of_its_archives_is_proved(self) -> None:
        printed = self.output("layout", "prove", "game//")
        for name in ("data/a.zip", "more/c.zip"):
            self.assertIn(f"game/{name}", printed)

    def test_two_that_come_out_at_one_place(self) -> None:
        for name, path in (("d", "rules/Oil~2.txt"), ("e", "rules/oil.txt")):
            with zipfile.ZipFile(self.folder / f"game/more/{name}.zip", "w") as file:
                file.writestr(path, name)
        with zipfile.ZipFile(self.folder / "game/more/e.zip", "a") as file:
            file.writestr("rules/Oil.txt", "second")
        printed = self.output("unpack", "game//", "--to", "out", status=5)
        self.assertIn("another file comes out as rules/Oil~2.txt", printed)
        self.assertEqual(len([one for one in (self.folder / "out").rglob("*") if one.is_file()]), 5)
        self.assertIn("5 files", printed)

    def test_on_a_bench_it_leads_to_where_things_lie(self) -> None:
        self.output("bench", "game", "b")
        self.assertEqual(set(self.seen("//rules", "b")), {"//rules/oil.txt", "//rules/far.txt", "//rules/wick.txt"})
        printed = self.output("take", "//rules", bench="b")
        for place in ("more/c.zip/rules/oil.txt", "more/c.zip/rules/far.txt", "rules/wick.txt"):
            self.assertIn(f"took files/{place}", printed)
        (self.folder / "b/files/more/c.zip/rules/oil.txt").write_text("mine")
        self.assertEqual(self.output("show", "//rules/oil.txt", bench="b").strip(), "mine")
        (self.folder / "new.txt").write_text("new")
        self.output("swap", "//rules/wick.txt", "../new.txt", bench="b")
        self.assertEqual((self.folder / "b/files/rules/wick.txt").read_text(), "new")
        self.assertIn("3 files match; give one path", self.output("swap", "//rules", "../new.txt", status=2, bench="b"))
        self.assertIn("is not the game's folder", self.output("take", "other//rules", status=5, bench="b"))
        self.assertIn("the game sees nothing", self.output("take", "//etc/passwd", status=3, bench="b"))


if __name__ == "__main__":
    unittest.main()
