"""Looking: survey, list, find, show, explain, prove, and the paths that reach into archives."""

from __future__ import annotations

import json
import os
import random
import struct
import unittest
from pathlib import Path

from tests.formats import FIXED, SAMPLES, fixed
from tests.support import MAIN, KeptGame, made_game
from volvex.archive import Walker
from volvex.archive.access.match import matching
from volvex.archive.detect.filetypes import decode_text, is_text, kind_by_content
from volvex.errors import NotFoundError
from volvex.layout import Library


class Paths(KeptGame):
    def found(self, path: str, deep: bool = False) -> list[str]:
        """What a path means, relative to the game."""
        with Walker(Library()) as walker:
            found = walker.find(f"{self.shared.as_posix()}/{path}".rstrip("/"), deep)
            paths = [path for group in found.groups for path in group.paths()] + [name for name, _ in found.files]
        return [path.removeprefix(self.shared.as_posix() + "/") for path in paths]

    def test_an_entry_a_folder_and_an_archive(self) -> None:
        self.assertEqual(self.found(f"{MAIN}/rules/lamps.xml"), [f"{MAIN}/rules/lamps.xml"])
        self.assertEqual(len(self.found(f"{MAIN}/rules")), 8)
        self.assertEqual(len(self.found(f"{MAIN}/rules/")), 8)
        self.assertEqual(len(self.found(MAIN)), 67)

    def test_a_folder_on_disk_shows_archives_as_files_unless_it_goes_deep(self) -> None:
        self.assertEqual(self.found("data"), ["data/almanac.kwp", MAIN])
        self.assertEqual(len(self.found("data", deep=True)), 67 + 12)
        self.assertEqual(len(self.found("", deep=True)), 336)

    def test_wildcards_reach_into_archives(self) -> None:
        self.assertEqual(self.found("data/*.kwp/rules/l*.xml"), [f"{MAIN}/rules/lamps.xml"])
        self.assertEqual(self.found("**/lamps.xml"), [f"{MAIN}/rules/lamps.xml"])
        self.assertEqual(len(self.found("**/*.png")), 48)
        self.assertEqual(len(self.found(f"{MAIN}/letters/*/01-arrival.txt")), 3)
        self.assertEqual(len(self.found(f"{MAIN}/letters/[df]?")), 10)
        self.assertEqual(len(self.found(f"{MAIN}/**/[!a-k]*.txt")), 3 + 15)
        self.assertEqual(self.found("*.ini"), ["kelpwick.ini"])
        self.assertEqual(self.found("**/*.sav"), ["saves/night-01.sav"])

    def test_a_star_does_not_pass_a_slash(self) -> None:
        names = ["a/b/c.txt", "a/c.txt", "c.txt", "a/b/c.txt.old"]
        self.assertEqual(matching(names, ["a", "*.txt"]).tolist(), [1])
        self.assertEqual(matching(names, ["**", "*.txt"]).tolist(), [0, 1, 2])
        self.assertEqual(matching(names, ["a", "**"]).tolist(), [0, 1, 3])
        self.assertEqual(matching(names, ["a?b"]).tolist(), [])
        self.assertEqual(
            matching(names, ["a", "*"]).tolist(), [0, 1, 3], "a folder that matches means what lies below it"
        )

    def test_special_characters_of_expressions_are_plain(self) -> None:
        names = ["a+b(1).txt", "aab1.txt", "x[1].txt"]
        self.assertEqual(matching(names, ["a+b(1)*"]).tolist(), [0])
        self.assertEqual(matching(names, ["x[1].txt"]).tolist(), [2])

    def test_near_misses_are_suggested(self) -> None:
        for path, hint in (
            (f"{MAIN}/rules/Lamps.xml", f"{MAIN}/rules/lamps.xml"),
            (f"{MAIN}/rules/lamp.xml", f"{MAIN}/rules/lamps.xml"),
            ("Data/main.kwp", "data"),
            ("data/mian.kwp", "data/main.kwp"),
            (f"{MAIN}/lamps.xml", f"{MAIN}/rules/lamps.xml"),
        ):
            if os.name == "nt" and path.startswith("Data"):
                continue
            with self.subTest(path), self.assertRaises(NotFoundError) as caught:
                self.found(path)
            self.assertTrue(caught.exception.hint.endswith(hint), caught.exception.hint)

    def test_a_file_that_is_no_archive_cannot_be_entered(self) -> None:
        with self.assertRaises(NotFoundError) as caught:
            self.found("kelpwick.ini/game")
        self.assertIn("not an archive", caught.exception.message)


class Kinds(unittest.TestCase):
    def test_by_content(self) -> None:
        for head, kind in (
            (b"", "empty"),
            (b"\x89PNG\r\n\x1a\n...", "png"),
            (b"<?xml version", "xml"),
            (b"\xef\xbb\xbf<lamps>", "xml"),
            (b'{"a": 1}', "json"),
            (b" [\n 1]", "json"),
            (b"hour;height", "text"),
            (b"RIFF....WAVE", "wav"),
            (b"RING\x00\x01", "binary"),
            ("<a>é</a>".encode("utf-16"), "xml"),
            ("{é}".encode(), "text"),
            (b"MZ\x90\0", "exe"),
            (b"\xff\xfe\x00", "text"),
            ("Öl".encode("cp1252"), "binary"),
        ):
            with self.subTest(head):
                self.assertEqual(kind_by_content(head), kind)

    def test_text_cut_within_a_character_is_still_text(self) -> None:
        text = "Wärter".encode()
        self.assertTrue(is_text(text[:2]))
        self.assertFalse(is_text(text[:2] + b"x"))

    def test_text_of_several_encodings(self) -> None:
        for encoding in ("utf-8", "utf-8-sig", "utf-16"):
            self.assertEqual(decode_text("Öl\n".encode(encoding)), "Öl\n")
        self.assertEqual(decode_text(b"\xff!"), "\\xff!")


class Survey(KeptGame):
    def test_what_holds_the_content(self) -> None:
        out = self.volvex("survey", self.shared)
        first = out.splitlines()[1].split()
        self.assertEqual(first[2:6], ["67", "Kelpwick", "pack", "archive"])
        self.assertIn("Kelpwick Light, known by its game description", out)
        self.assertIn("unknown: 1 file", out)

    def test_records(self) -> None:
        by_path = {str(record["path"]).rpartition("/")[2]: record for record in self.records("survey", self.shared)}
        self.assertEqual(by_path["main.kwp"]["entries"], 67)
        self.assertEqual(by_path["main.kwp"]["layout"], "Kelpwick pack")
        self.assertEqual(by_path["main.kwp"]["content"], 115767)
        self.assertEqual(by_path["night-01.sav"]["layout"], "")
        self.assertEqual(len(by_path), 65)

    def test_an_unknown_game(self) -> None:
        (self.folder / "some").mkdir()
        (self.folder / "some" / "data.bin").write_bytes(b"\0\1\2")
        self.assertIn("a game without a description", self.volvex("survey", "some"))

    def test_a_user_s_own_layout_is_found(self) -> None:
        (self.home / "mine").mkdir(parents=True)
        (self.home / "mine" / "f.layout").write_text(FIXED, encoding="utf-8")
        (self.folder / "some").mkdir()
        (self.folder / "some" / "x.dat").write_bytes(fixed(SAMPLES))
        self.assertIn("fixed table", self.volvex("survey", "some"))
        self.assertEqual(len(self.records("list", "some/x.dat")), 5)

    def test_a_user_s_broken_layout_is_told_and_stops_nothing(self) -> None:
        self.home.mkdir(exist_ok=True)
        (self.home / "bad.layout").write_text("layout", encoding="utf-8")
        done = self.run_program("survey", self.shared)
        self.assertIn("Kelpwick pack", done.stdout)
        self.assertIn("bad.layout:1:7", done.stderr)

    def test_a_folder_that_is_missing(self) -> None:
        self.assertIn("there is no folder", self.complaint("survey", "nowhere", status=3))


class Lists(KeptGame):
    def test_columns(self) -> None:
        lines = self.volvex("list", f"{self.shared}/{MAIN}/rules").splitlines()
        self.assertEqual(lines[0].split(), ["size", "stored", "codec", "type", "path"])
        lamps = next(line for line in lines if line.endswith("lamps.xml"))
        self.assertEqual(lamps.split()[:4], ["1,086", "399", "zlib", "xml"])
        self.assertIn("8 entries, 4,133 bytes", lines[-1])

    def test_sorted(self) -> None:
        def sizes(sort: str, key: str) -> list[object]:
            return [record[key] for record in self.records("list", f"{self.shared}/{MAIN}", "--sort", sort)]

        by_size = [int(str(siz)) for siz in sizes("size", "size")]
        self.assertEqual(by_size, sorted(by_size, reverse=True))
        kinds = [str(size) for size in sizes("type", "type")]
        self.assertEqual(kinds, sorted(kinds))
        names = [str(size).rpartition("/")[2] for size in sizes("name", "path")]
        self.assertEqual(names, sorted(names))

    def test_text_and_records_tell_the_same_in_the_same_order(self) -> None:
        for sort in ("size", "name", "type"):
            lines = self.volvex("list", f"{self.shared}/{MAIN}", "--sort", sort).splitlines()[1:-1]
            records = self.records("list", f"{self.shared}/{MAIN}", "--sort", sort)
            self.assertEqual([line.split()[-1] for line in lines], [record["path"] for record in records])
            self.assertEqual([line.split()[0] for line in lines], [f"{record['size']:,}" for record in records])

    def test_long_tells_place_and_what_is_kept(self) -> None:
        lines = self.volvex("list", f"{self.shared}/{MAIN}/letters/en", "--long").splitlines()
        self.assertEqual(lines[0].split(), ["size", "stored", "share", "start", "group", "codec", "type", "path"])
        self.assertEqual({line.split()[4] for line in lines[1:-1]}, {"3"})

    def test_tree(self) -> None:
        out = self.volvex("list", f"{self.shared}/{MAIN}", "--tree")
        self.assertIn("rules/  8 files, 4,133 bytes", out)
        self.assertIn("└─ tables/", out)
        self.assertEqual(sum(line.endswith("png") for line in out.splitlines()), 22)

    def test_several_paths_and_plain_files(self) -> None:
        records = self.records("list", f"{self.shared}/{MAIN}/tables", f"{self.shared}/saves")
        self.assertEqual([record["codec"] for record in records], ["zlib"] * 3 + ["-"])

    def test_a_long_list_tells_types_only_when_asked(self) -> None:
        files = [(f"n{number:05}", b"") for number in range(20_001)]
        (self.folder / "f.layout").write_text(FIXED, encoding="utf-8")
        (self.folder / "many").write_bytes(fixed(files))
        out = self.volvex("list", "many", "--layout", "f.layout")
        self.assertEqual(out.splitlines()[0].split(), ["size", "stored", "codec", "path"])
        self.assertIn("--long shows their types", out)
        self.assertEqual(len(out.splitlines()), 20_003)
        self.assertIn("empty", self.volvex("list", "many", "--layout", "f.layout", "--long").splitlines()[5])
        self.assertIsNone(self.records("list", "many", "--layout", "f.layout")[0]["type"])

    def test_what_is_not_there(self) -> None:
        said = self.complaint("list", f"{self.shared}/{MAIN}/rules/lamp.xml", status=3)
        self.assertIn("main.kwp: rules/lamp.xml", said)
        self.assertIn("rules/lamps.xml", said.splitlines()[1])


class Find(KeptGame):
    def test_by_name(self) -> None:
        out = self.volvex("find", self.shared / "data", "--name", "FRESNEL*", "-i")
        self.assertEqual(len(out.splitlines()) - 1, 6)
        self.assertEqual(
            self.records("find", self.shared / "data", "--name", "*/rules/l*.json")[0]["path"],
            f"{self.shared.as_posix()}/{MAIN}/rules/letters.json",
        )

    def test_by_text_with_its_line(self) -> None:
        hits = self.records("find", self.shared / "data", self.shared / "loft", "--text", "fresnel_3")
        lines = [(str(hit["path"]).rpartition("/")[2], hit["line"]) for hit in hits if hit["line"]]
        self.assertEqual(
            lines, [*[("workshop.xml", 4)] * 2, ("keepers.xml", 7), ("lamps.xml", 12), *[("fittings.xml", 10)] * 2]
        )
        self.assertEqual([hit["record"] for hit in hits if not hit["line"]], ["fittings fresnel_3: lamp"])
        self.assertTrue(all(hit["match"] == "fresnel_3" for hit in hits))

    def test_by_text_whatever_its_case(self) -> None:
        self.assertEqual(len(self.records("find", self.shared / "data", "--text", "WÄRTER", "--ignore-case")), 1)
        self.volvex("find", self.shared / "data", "--text", "WÄRTER", status=1)

    def test_text_within_binaries(self) -> None:
        (self.folder / "a.bin").write_bytes(b"\0\1\2" + "wick".encode("utf-16-le") + b"\xff\0wick")
        hits = self.records("find", "a.bin", "--text", "wick")
        self.assertEqual(sorted(int(str(hit["offset"])) for hit in hits), [3, 13])

    def test_by_bytes_with_their_offset(self) -> None:
        hits = self.records("find", f"{self.shared}/{MAIN}", "--bytes", "89 50 4e 47")
        self.assertEqual(len(hits), 22)
        self.assertEqual({hit["offset"] for hit in hits}, {0})

    def test_several_conditions_must_all_hold(self) -> None:
        hits = self.records("find", self.shared / "data", "--name", "*.xml", "--text", "kelpwick")
        self.assertEqual({str(hit["path"]).rpartition("/")[2] for hit in hits}, {"boats.xml", "islands.xml"})

    def test_many_hits_of_one_file_are_cut_short_unless_all_are_wanted(self) -> None:
        path = f"{self.shared}/{MAIN}/rules/lamps.xml"
        self.assertIn("and 7 more hits", self.volvex("find", path, "--text", "<lamp "))
        self.assertEqual(len(self.volvex("find", path, "--text", "<lamp ", "--all").splitlines()), 14)

    def test_nothing_found_and_nothing_asked(self) -> None:
        self.volvex("find", self.shared / "data", "--text", "no such words", status=1)
        self.assertIn("no condition is given", self.complaint("find", self.shared, status=2))
        self.assertIn("is not bytes in hex", self.complaint("find", self.shared, "--bytes", "xyz", status=2))


class Show(KeptGame):
    def test_text_goes_into_a_pipe_as_it_is(self) -> None:
        self.assertTrue(
            self.volvex("show", f"{self.shared}/{MAIN}/letters/de/02-oil.txt").startswith("Vom Öl\n\nDie {boat} bringt")
        )

    def test_binaries_as_bytes(self) -> None:
        lines = self.volvex("show", f"{self.shared}/{MAIN}/pictures/lamps/old_light.png", "--hex").splitlines()
        self.assertEqual(lines[0], "at 0x0    89 50 4e 47 0d 0a 1a 0a 00 00 00 0d 49 48 44 52")
        self.assertEqual(lines[1], "          ·  P  N  G  ·  ·  ·  ·  ·  ·  ·  ·  I  H  D  R")
        self.assertEqual(sum(line.startswith("at 0x") for line in lines), 512 // 16)
        self.assertIn("573 more bytes", lines[-1])

    def test_a_part_of_it(self) -> None:
        path = f"{self.shared}/{MAIN}/pictures/lamps/old_light.png"
        self.assertEqual(
            self.volvex("show", path, "--offset", "0x8", "--size", "4").splitlines()[0], "at 0x8  00 00 00 0d"
        )
        self.assertEqual(self.volvex("show", path, "--size", "all").count("at 0x"), -(-1085 // 16))
        self.complaint("show", path, "--offset", "99999", status=2)
        self.complaint("show", path, "--offset", "ten", status=2)

    def test_text_as_bytes(self) -> None:
        self.assertTrue(self.volvex("show", f"{self.shared}/kelpwick.ini", "--hex").startswith("at 0x0   5b 67 61 6d"))

    def test_raw_bytes_are_the_content(self) -> None:
        out = self.folder / "picture.png"
        with out.open("wb") as file:
            import subprocess

            from tests.support import PROGRAM

            subprocess.run(
                [PROGRAM, "show", f"{self.shared}/{MAIN}/pictures/lamps/old_light.png", "--raw"],
                stdout=file,
                check=True,
            )
        self.assertEqual(len(out.read_bytes()), 1085)
        self.assertTrue(out.read_bytes().endswith(b"IEND\xaeB`\x82"))

    def test_one_thing_at_a_time(self) -> None:
        self.assertIn("8 files match", self.complaint("show", f"{self.shared}/{MAIN}/rules", status=2))


@unittest.skipIf(os.name == "nt", "needs a pseudo-terminal")
class OnATerminal(KeptGame):
    def terminal(self, *words: str, **more: str) -> str:
        """What a person sees: the program on a pseudo-terminal of 24 lines."""
        import fcntl
        import pty
        import subprocess
        import termios

        from tests.support import PROGRAM

        ours, theirs = pty.openpty()
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        process = subprocess.Popen(
            [str(PROGRAM), *words],
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            cwd=self.folder,
            env=self.environment(TERM="xterm-256color", **more),
        )
        os.close(theirs)
        out = b""
        while True:
            try:
                chunk = os.read(ours, 65536)
            except OSError:
                break
            if not chunk:
                break
            out += chunk
        os.close(ours)
        self.assertEqual(process.wait(), 0, out)
        return out.decode()

    def test_text_has_colours_line_numbers_and_a_title(self) -> None:
        out = self.terminal("show", f"{self.shared}/{MAIN}/rules/lamps.xml", "--unpaged")
        self.assertIn("\x1b[38;5;", out)
        self.assertIn("xml, 1,086 bytes, 399 stored as zlib", out)
        self.assertIn("12\x1b[0m", out)

    def test_no_colours_for_those_who_want_none(self) -> None:
        self.assertNotIn("\x1b[", self.terminal("list", f"{self.shared}/{MAIN}/rules", NO_COLOR="1"))

    def test_long_text_is_paged(self) -> None:
        out = self.terminal("show", f"{self.shared}/{MAIN}/logbook/winter.txt", PAGER="sed s/^/paged:/")
        self.assertEqual(out.count("paged:"), 41)
        self.assertNotIn(
            "paged:",
            self.terminal("show", f"{self.shared}/{MAIN}/tables/tides.csv", "--unpaged", PAGER="sed s/^/paged:/"),
        )

    def test_control_characters_of_content_do_not_reach_it(self) -> None:
        (self.folder / "t.txt").write_bytes(b"bell \x1b[31m red\n")
        (self.folder / "u.txt").write_bytes("is\u202etext".encode())
        self.assertIn("is\\u202etext", self.terminal("show", "u.txt"))
        self.assertNotIn("\x1b[31m red", self.terminal("show", "t.txt"))


class Layouts(KeptGame):
    def test_prove(self) -> None:
        self.assertIn("identical, 94,908 bytes; 67 entries decode", self.volvex("layout", "prove", self.shared / MAIN))

    def test_prove_harder(self) -> None:
        out = self.volvex("layout", "prove", self.shared / MAIN, "--harder")
        self.assertEqual(out.count("holds: "), 18)
        self.run_program("keys", "add", "kelpwick-post", input="tallow & brine")
        self.assertIn("identical", self.volvex("layout", "prove", self.shared))

    def test_a_start_for_a_layout(self) -> None:
        out = self.volvex("layout", "new", self.shared / MAIN)
        for said in (
            "94,908 bytes",
            "little endian",
            'known by "KWPK" at 0',
            'is "KWPK"',
            "length of file     # this is the size",
            "67 (0x43); a count?",
            "a count? or a place? there stands 11 00 62 65 6c 6c 73 2f  ··bells/fog-01.r",
        ):
            self.assertIn(said, out)
        self.volvex("layout", "new", self.shared / MAIN, "--to", "my.layout")
        self.assertEqual((self.folder / "my.layout").read_text(encoding="utf-8"), out)
        self.assertIn("no field gives the name", self.run_program("layout", "check", "my.layout", status=4).stderr)
        self.complaint("layout", "new", self.shared / MAIN, "--to", "my.layout", status=5)
        self.complaint("layout", "new", "nothing", status=3)

    def test_a_start_from_any_file(self) -> None:
        rng = random.Random(3)
        for size in (0, 1, 3, 7, 12, 40, 64, 900):
            file = self.folder / f"{size}.bin"
            file.write_bytes(rng.randbytes(size))
            self.assertIn("block head at 0", self.volvex("layout", "new", file))
        (self.folder / "big").write_bytes(b"BIGX" + struct.pack(">IIQ", 5, 64, 200) + bytes(180))
        self.assertIn("big endian", self.volvex("layout", "new", "big"))

    def test_layouts_are_listed_and_shown(self) -> None:
        self.assertIn("Kelpwick pack", self.volvex("layout", "list"))
        self.assertEqual(self.records("layout", "list")[0]["writable"], True)
        for name in ("Kelpwick pack", "pack", self.shared / MAIN):
            self.assertIn('layout "Kelpwick pack"', self.volvex("layout", "show", name))
        self.assertIn("Kelpwick pack", self.complaint("layout", "show", "nothing", status=3))

    def test_prove_names_the_field_that_differs(self) -> None:
        layout = FIXED.replace("start of table", "start of table\n    again  u16      count of table").replace(
            "spare  6", "spare  4"
        )
        (self.folder / "f.layout").write_text(layout, encoding="utf-8")
        (self.folder / "x").write_bytes(fixed(SAMPLES, b"\x09\x00\x01\x01\x01\x01"))
        out = self.volvex("layout", "prove", "x", "--layout", "f.layout", status=1)
        self.assertIn("differs at 0x8, in head.again (count of table)", out)

    def test_prove_tells_what_does_not_decode(self) -> None:
        data = bytearray((made_game() / MAIN).read_bytes())
        data[0x45] ^= 1
        (self.folder / "x.kwp").write_bytes(data)
        done = self.run_program("layout", "prove", "x.kwp", status=4)
        self.assertIn("identical, 94,908 bytes; 66 entries decode, 1 do not", done.stdout)

    def test_explain(self) -> None:
        out = self.volvex("layout", "explain", self.shared / MAIN)
        self.assertIn("head.where", out)
        self.assertIn("no field explains 28 bytes, in 1 place", out)
        self.assertIn(">99% explained", out)

    def test_explain_in_full_covers_every_byte_once(self) -> None:
        records = self.records("layout", "explain", self.shared / MAIN, "--all")
        position = 0
        for record in records:
            self.assertEqual(record["start"], position)
            position += int(str(record["size"]))
        self.assertEqual(position, (self.shared / MAIN).stat().st_size)

    def test_what_no_layout_knows(self) -> None:
        self.assertIn("unknown format", self.complaint("layout", "prove", self.shared / "kelpwick.ini", status=3))
        self.assertIn("unknown format", self.complaint("layout", "explain", self.shared / "kelpwick.ini", status=3))

    def test_the_memory_of_layouts_changes_nothing(self) -> None:
        (self.home / "cache" / "layouts").unlink(missing_ok=True)  # what other tests remembered
        first = self.volvex("list", self.shared / MAIN)
        remembered = list((self.home / "cache" / "layouts").glob("*.json"))
        self.assertEqual(len(remembered), 31)
        self.assertEqual(self.volvex("list", self.shared / MAIN), first)
        for path in remembered:
            path.write_text(json.dumps({"is": "Layout"}), encoding="utf-8")
        self.assertEqual(self.volvex("list", self.shared / MAIN), first)
        self.assertEqual(Path(remembered[0]).exists(), True)


if __name__ == "__main__":
    unittest.main()
