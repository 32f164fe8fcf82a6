"""The examples in the help of every command, run on the stand-in game in the order of work."""

from __future__ import annotations

import shlex
import shutil
import unittest
from pathlib import Path

from tests.support import PACK_LAYOUT, Case
from volvex.command.ui.commands import COMMANDS

OUTSIDE = (
    "survey",
    "list",
    "find",
    "show",
    "picture",
    "identify",
    "unpack",
    "pack",
    "convert",
    "bench",
    "demo",
    "completion",
    "compare",
    "layout",
    "keys",
)
PASSWORD = "the harbour is iced\n"


class Examples(Case):
    """Commands that look run beside the game's folder, those that change it in the bench that `volvex bench game` makes."""

    def setUp(self) -> None:
        super().setUp()
        self.game()
        shutil.copy(PACK_LAYOUT, self.folder / "mine.layout")
        (self.folder / "password.txt").write_text(PASSWORD)
        shutil.copy(self.folder / "game" / "canvas" / "fog.dds", self.folder / "logo.dds")

    def fill(self, bench: Path) -> None:
        """Put in the bench what the examples take for granted: files of the user's."""
        (bench / "letter.txt").write_text("The lamp was never out.\n")
        (bench / "words.txt").write_text("kelpwick\nthe_pans\n")
        (bench / "paths.txt").write_text("boats/skiff_01/hull.msh\n")

    def test_every_example_of_every_command(self) -> None:
        names = sorted(COMMANDS.names(), key=lambda name: (COMMANDS.load(name).PRIORITY, name))
        count = 0
        for name in names:
            examples = COMMANDS.load(name).EXAMPLES
            self.assertTrue(examples, f"{name} has no example")
            for example in examples:
                outside = name.partition(".")[0] in OUTSIDE
                program, *words = shlex.split(example)
                self.assertEqual((program, words[: name.count(".") + 1]), ("volvex", name.split(".")))
                if name == "demo":  # its tests run it
                    count += 1
                    continue
                with self.subTest(example):
                    self.run_program(*words, cwd=self.folder if outside else self.folder / "game-bench")
                if example == "volvex bench game":
                    self.fill(self.folder / "game-bench")
                count += 1
        self.assertGreater(count, 50)


if __name__ == "__main__":
    unittest.main()
