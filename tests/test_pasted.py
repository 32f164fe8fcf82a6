"""What is printed works: every command in a message is taken out and run, as it stands, where the user stands."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import unittest
from pathlib import Path

from tests.support import LAMPS, Case, update

HOLDER, NAME = "Meine Spiele", "Grüne Lampe 2"
COMMAND = re.compile(r"`((?:volvex|cd) [^`]+)`")
PLACEHOLDER = re.compile(r"(?<![\w.-])(?:[A-Z]{2,}(?:=[A-Z]+)?|COMMAND|0xOFFSET)(?![\w.-])|\.\.\.")
WRONG = (2, 70)  # the arguments do not go together; a fault in Volvex


@unittest.skipIf(os.name == "nt", "commands are taken apart as a POSIX shell does it")
class Pasted(Case):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / HOLDER).mkdir()
        self.source = self.game(f"{HOLDER}/{NAME}")
        self.here = self.folder
        self.seen: set[tuple[str, str]] = set()
        self.tried = 0

    def do(self, *words: object, status: int | None = None) -> str:
        """Run a command where we stand; each command that it prints must work there too."""
        done = self.run_program(*words, cwd=self.here, status=status)
        said = done.stdout + done.stderr
        for command in COMMAND.findall(said):
            if not PLACEHOLDER.search(command):
                self.paste(command, str(words))
        return said

    def paste(self, command: str, after: str) -> None:
        """Run a printed command on a copy of everything that there is."""
        if (command, str(self.here)) in self.seen:
            return
        self.seen.add((command, str(self.here)))
        words = shlex.split(command)
        if words[0] == "cd":
            self.assertTrue((self.here / words[1]).is_dir(), command)
            return
        kept = self.new_folder() / "kept"
        shutil.copytree(self.folder, kept, symlinks=True)
        home = self.new_folder() / "home"
        shutil.copytree(self.home, home, symlinks=True)
        try:
            done = self.run_program(*words[1:], cwd=self.here, status=None, input="wick")
            if "--bench" not in words[:2] and re.search(
                r" (is|are) missing$", done.stderr, re.M
            ):  # a command by its name alone
                return
            self.assertNotIn(done.returncode, WRONG, f"after {after}: {command}: {done.stdout}{done.stderr}")
            self.assertNotIn("not in a bench", done.stderr, f"after {after}: {command}")
            self.assertNotIn("no game is given", done.stderr, f"after {after}: {command}")
            self.assertNotIn("there is no folder", done.stderr, f"after {after}: {command}")
            self.tried += 1
        finally:
            for there, other in ((self.folder, kept), (self.home, home)):
                for path in there.iterdir():
                    shutil.rmtree(path) if path.is_dir() and not path.is_symlink() else path.unlink()
                shutil.copytree(other, there, symlinks=True, dirs_exist_ok=True)

    def test_from_elsewhere_with_the_bench_and_the_game_named(self) -> None:
        game, bench = f"{HOLDER}/{NAME}", "mein Mod"
        self.do("survey", game)
        self.do("bench", game, bench)
        on = ("--bench", bench)
        self.do("status", *on)
        self.do("take", LAMPS, *on)
        self.do("take", "data/nothing", *on, status=3)
        self.do("set", LAMPS, "--row", "fresnel_9", "range=1", *on, status=3)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14", *on)
        self.do("take", "--overwrite", LAMPS, *on)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14", *on)
        self.do("take", LAMPS, "--as", "csv", *on)
        (self.folder / bench / "open" / f"{LAMPS}.csv").write_text("broken")
        self.do("changes", *on)
        self.do("undo", f"open/{LAMPS}.csv", *on)
        self.do("drop", "data/main.kwp/letters/fr/02-oil.txt", *on)
        self.do("show", "data/main.kwp/letters/fr/02-oil.txt", *on)
        for words in (
            ("status",),
            ("check",),
            ("build",),
            ("status",),
            ("install", "--plan"),
            ("install",),
            ("status",),
        ):
            self.do(*words, *on)
        self.do("restore", "--plan", *on)
        self.do("mod", "new", "Helle Lampen", *on)
        self.do("mod", "export", "Helle Lampen", "helle.zip")
        self.do("restore", *on)
        self.do("mod", "add", "Helle Lampen", "--game", game)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=15", *on)
        self.do("mod", "new", "Andere", *on)
        self.do("mod", "add", "Andere", "--game", game)
        self.do("install", game, status=1)  # a conflict
        self.do("mod", "settle", "--game", game)
        self.do("install", game, "--prefer", "andere")
        self.do("status", game)
        self.do("mod", "show", "no-such", "--game", game)
        self.do("restore", game)
        self.do("identify", f"{game}/saves/night-01.sav")
        self.do("layout", "new", f"{game}/saves/night-01.sav", "--to", "nacht 1.layout")
        self.do("layout", "explain", f"{game}/saves/night-01.sav", "--layout", "nacht 1.layout")
        self.do("swap", "canvas/lens_glow.kwi", "helle.zip", *on)
        self.do("unpack", f"{game}/data/main.kwp")
        self.do("list", f"{game}/data/main.kwq")
        self.do("show", f"{game}/post/winter.kpz/letters/bero.txt")
        self.assertGreater(self.tried, 15)

    def test_in_the_bench_and_in_the_game_s_folder(self) -> None:
        self.do("bench", f"{HOLDER}/{NAME}", "b 1")
        self.here = self.folder / "b 1"
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        (self.here / "files" / LAMPS).write_text("<broken")
        for words in (("status",), ("check",), ("build",), ("undo", "."), ("status",)):
            self.do(*words)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")
        self.do("install")
        self.here = self.source
        for words in (("status",), ("restore", "--plan"), ("restore",), ("mod", "list"), ("survey",)):
            self.do(*words)
        self.here = self.folder / "b 1"
        self.do("install")
        update(self.source)
        for words in (("status",), ("restore",), ("build",), ("merge",), ("build",), ("install",), ("restore",)):
            self.do(*words)
        self.assertGreater(self.tried, 10)


class Printed(unittest.TestCase):
    def test_commands_in_the_code_are_in_backquotes(self) -> None:
        """A command that is printed without them is not completed by what the user named."""
        source = Path(__file__).parent.parent / "src" / "volvex"
        bare = re.compile(r"(?:next: |try )volvex [a-z]")
        found = [path.name for path in source.rglob("*.py") if bare.search(path.read_text("utf-8"))]
        self.assertEqual(found, [])


if __name__ == "__main__":
    unittest.main()
