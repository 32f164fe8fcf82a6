"""The stand-in game: the same bytes from the same seed, and strict about every one of them."""

from __future__ import annotations

import ast
import struct
import subprocess
import sys
import unittest
import zlib
from collections.abc import Callable

from kelpwick import GameError
from kelpwick.pack import HEAD, Item, read_pack, write_pack
from kelpwick.play import play
from kelpwick.world import make_game
from tests.support import MAIN, SOURCE, Case, digests, made_game


class Made(Case):
    def test_the_same_seed_gives_the_same_bytes(self) -> None:
        make_game(self.folder / "a", seed=5)
        make_game(self.folder / "b", seed=5)
        make_game(self.folder / "c", seed=6)
        self.assertEqual(digests(self.folder / "a"), digests(self.folder / "b"))
        self.assertNotEqual(digests(self.folder / "a")[MAIN], digests(self.folder / "c")[MAIN])

    def test_what_is_in_it(self) -> None:
        files = read_pack(made_game() / MAIN)
        self.assertGreaterEqual(len(files), 60)
        extensions = {name.rpartition(".")[2] for name in files}
        self.assertGreaterEqual(extensions, {"xml", "json", "csv", "txt", "png", "ring", "lns", "sdg"})
        self.assertEqual(files["stores/empty.lst"], b"")

    def test_scale_makes_it_larger_and_it_still_plays(self) -> None:
        self.assertEqual(make_game(self.folder / "big", scale=2), 67 + 62)
        self.assertIn("THE LAMP ROOM", play(self.folder / "big"))
        self.assertGreater((self.folder / "big" / MAIN).stat().st_size, 1_500_000)

    def test_the_program(self) -> None:
        def kelpwick(*words: str) -> subprocess.CompletedProcess[str]:
            return subprocess.run(
                [sys.executable, "-m", "kelpwick", *words],
                cwd=self.folder,
                env=self.environment(),
                capture_output=True,
                encoding="utf-8",
            )

        self.assertEqual(kelpwick("make", "g", "--seed", "3").returncode, 0)
        self.assertEqual(kelpwick("make", "g").returncode, 1)
        self.assertIn("An den neuen Wärter", kelpwick("play", "g", "--language", "de").stdout)
        self.assertIn("Winter orders", kelpwick("play", "g", "--letter", "05-winter").stdout)
        self.assertEqual(kelpwick("play", "g", "--language", "xx").returncode, 1)
        log = (self.folder / "g" / "logs" / "kelpwick.log").read_text(encoding="utf-8").splitlines()
        self.assertEqual(log, ["started", "started", "refused to start: there is no letter 01-arrival in xx"])
        self.assertEqual(kelpwick("play", "nowhere").returncode, 1)


class Strict(Case):
    """Each of these keeps the game from starting."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.file = self.source / MAIN

    def refuses(self, says: str) -> None:
        with self.assertRaises(GameError) as caught:
            play(self.source)
        self.assertIn(says, str(caught.exception))

    def change(self, change: Callable[[bytearray], None], renew_checksum: bool = False) -> None:
        data = bytearray(self.file.read_bytes())
        change(data)
        if renew_checksum:
            _, _, _, _, start, length, _, _ = HEAD.unpack_from(data)
            struct.pack_into("<I", data, 32, zlib.crc32(data[start : start + length]))
        self.file.write_bytes(data)

    def directory(self) -> int:
        return int(HEAD.unpack_from(self.file.read_bytes())[4])

    def test_a_wrong_mark_version_or_size(self) -> None:
        for at, says in (
            (0, "not a pack"),
            (4, "not a pack"),
            (24, "the head says"),
            (12, "misplaced"),
            (32, "checksum"),
            (40, "stamp"),
        ):
            with self.subTest(at=at):
                good = self.file.read_bytes()
                self.change(lambda data, at=at: data.__setitem__(at, data[at] ^ 0x10))  # type: ignore[misc]
                self.refuses(says)
                self.file.write_bytes(good)

    def test_a_wrong_checksum_of_an_entry(self) -> None:
        self.change(lambda data: data.__setitem__(0x45, data[0x45] ^ 1))
        self.refuses("checksum is wrong")

    def test_filling_that_is_not_zero(self) -> None:
        self.change(lambda data: data.__setitem__(0x9E, 7))
        self.refuses("not zero")

    def test_a_table_out_of_order(self) -> None:
        at = self.directory() + 2
        self.change(lambda data: data.__setitem__(at, ord("z")), renew_checksum=True)
        self.refuses("does not come after")

    def test_a_size_that_is_stale(self) -> None:
        at = self.directory() + 2 + len("bells/fog-01.ring") + 8
        self.change(lambda data: data.__setitem__(at, data[at] ^ 1), renew_checksum=True)
        self.refuses("the directory says")

    def test_a_group_or_method_that_is_unknown(self) -> None:
        at = self.directory() + 2 + len("bells/fog-01.ring") + 12
        for offset in (0, 1):
            good = self.file.read_bytes()
            self.change(lambda data, at=at + offset: data.__setitem__(at, 77), renew_checksum=True)  # type: ignore[misc]
            self.refuses("method")
            self.file.write_bytes(good)

    def test_a_dangling_reference(self) -> None:
        for path, old, new, says in (
            ("rules/boats.xml", b'home="kelpwick"', b'home="nowhere"', "no island nowhere"),
            ("rules/keepers.xml", b'lamp="fresnel_3"', b'lamp="fresnel_9"', "no lamp fresnel_9"),
            ("rules/bells.json", b"fog-01.ring", b"fog-99.ring", "is not in its archive"),
            ("rules/lamps.xml", b'range="9"', b'range="90"', "is not within"),
            ("rules/lamps.xml", b'range="9"', b'range="far"', "not a number"),
            ("rules/lamps.xml", b'id="old_light"', b'id="gull_rock"', "repeats an id"),
            ("rules/lamps.xml", b'fuel="gas"', b'fuel="coal"', "no fuel coal"),
            ("rules/lamps.xml", b"</lamps>", b"", "lamps.xml"),
            ("rules/tides.json", b"{", b"[", "tides.json"),
            ("letters/fr/03-storm.txt", "é".encode(), b"\xe9", "not UTF-8"),
            ("pictures/lamps/old_light.png", b"\x89PNG", b"\x89GNP", "does not start with"),
        ):
            with self.subTest(path, says=says):
                files = read_pack(made_game() / MAIN)
                self.assertIn(old, files[path])
                files[path] = files[path].replace(old, new)
                write_pack(self.file, [Item(name, data, 1) for name, data in files.items()], b"salt")
                self.refuses(says)

    def test_files_that_are_missing(self) -> None:
        self.file.unlink()
        self.refuses("data/main.kwp is missing")
        (self.source / "kelpwick.ini").unlink()
        self.refuses("kelpwick.ini")


class Frames(Case):
    """The lists of the game's sheets must agree with their pictures, and with themselves."""

    def test_what_the_game_would_not_draw(self) -> None:
        game = self.game()
        for file, old, new, said in (
            ("seabirds.json", '"x": 20', '"x": 18', "gull_sits and gull_glides share pixels"),
            ("seabirds.json", '"x": 51', '"x": 60', "puffin is outside of its sheet"),
            ("seabirds.json", '"puffin"', '"parrot"', "has no puffin"),
            ("seabirds.json", '"perch": 0.5', '"perch": 0.4', "has two sizes"),
            ("seabirds.json", '"w": 64', '"w": 32', "gives its sheet 32 x 32 pixels, it has 64 x 32"),
            ("flags.xml", ' h="14"', ' h="9"', "pilot is larger than its whole"),
            ("flags.xml", 'turned="yes"', 'turned="left"', "lights_out is not whole"),
        ):
            path = game / "birds" / file
            before = path.read_text(encoding="utf-8")
            self.assertIn(old, before)
            path.write_text(before.replace(old, new, 1), encoding="utf-8")
            with self.subTest(new), self.assertRaisesRegex(GameError, said):
                play(game)
            path.write_text(before, encoding="utf-8")
        self.assertIn("gull_sits", play(game))


class Independent(unittest.TestCase):
    def test_it_imports_nothing_of_volvex(self) -> None:
        for path in sorted((SOURCE / "kelpwick").glob("*.py")):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                names = (
                    [name.name for name in node.names]
                    if isinstance(node, ast.Import)
                    else [node.module or ""]
                    if isinstance(node, ast.ImportFrom)
                    else []
                )
                for name in names:
                    root = name.partition(".")[0]
                    self.assertTrue(
                        root == "kelpwick" or root in sys.stdlib_module_names, f"{path.name} imports {name}"
                    )

    def test_it_loads_without_volvex_being_there(self) -> None:
        code = "import sys; sys.modules['volvex'] = None; from kelpwick.__main__ import main"
        subprocess.run([sys.executable, "-c", code], check=True, cwd=SOURCE)


if __name__ == "__main__":
    unittest.main()
