"""The examples in the help of every command, run on the stand-in game in the order of work."""

from __future__ import annotations

import json
import shlex
import shutil
import unittest
from pathlib import Path

from tests.support import PACK_LAYOUT, Case
from volvex.command.ui.commands import COMMANDS
from volvex.source.digest import digest_file

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
    """Commands that look run beside the game's folder, those that change it in the bench that `volvex bench game`
    makes."""

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

    def rehearse(self, name: str, words: list[str], cwd: Path) -> None:
        """A plan with `--json` gives a list of records, and leaves everything as it was."""
        if not getattr(COMMANDS.load(name), "WRITES", False) or "--plan" in words or "--json" in words:
            return
        before = self.state()
        done = self.run_program(*words, "--plan", "--json", cwd=cwd)
        records = json.loads(done.stdout)
        self.assertTrue(all(isinstance(record, dict) for record in records), done.stdout)
        self.assertEqual(self.state(), before, name)

    def state(self) -> dict[str, str]:
        """Every file of the user's with its digest; what can be made again is left out."""
        files = (path for path in self.folder.rglob("*") if path.is_file())
        names = {path.relative_to(self.folder).as_posix(): path for path in files}
        return {
            name: digest_file(path)
            for name, path in names.items()
            if "/cache/" not in name and not name.endswith(("/lock", ".lock"))
        }

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
                    self.rehearse(name, words, self.folder if outside else self.folder / "game-bench")
                    self.run_program(*words, cwd=self.folder if outside else self.folder / "game-bench")
                if example == "volvex bench game":
                    self.fill(self.folder / "game-bench")
                count += 1
        self.assertGreater(count, 50)


if __name__ == "__main__":
    unittest.main()
