"""The demo, and each of its commands by hand."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.support import Case, digests


class Demo(Case):
    told = ""  # what the demo said, run once for all that look at it
    first: Path

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory(prefix="volvex-demo-test-")
        cls.addClassCleanup(holder.cleanup)
        case = cls("test_it_runs_to_its_end_and_leaves_the_game_as_it_was")
        case.folder = Path(holder.name).resolve()
        case.home = case.folder / "home"
        cls.told = case.volvex("demo", "here")
        cls.first = case.folder / "here"

    def test_it_runs_to_its_end_and_leaves_the_game_as_it_was(self) -> None:
        self.assertIn("all as they should be", self.told)
        for said in ("checked: the lamp room shows the new range and oil use", "checked: the letter has its new line",
                     "checked: the lamp room shows the old values", "checked: the slip is caught before the game does",
                     "checked: the third Fresnel has its new lens", "have their original bytes"):  # fmt: skip
            self.assertIn(said, self.told)
        self.assertFalse((self.first / "game" / ".volvex").exists())
        self.assertIn("is not empty", self.complaint("demo", self.first, status=5))

    def test_a_temporary_folder_goes_away(self) -> None:
        out = self.volvex("demo", TMPDIR=str(self.folder), TEMP=str(self.folder))
        folder = re.search(r"^\$ cd (\S+)$", out, re.M)
        assert folder is not None
        self.assertFalse(Path(folder[1]).exists())

    @unittest.skipIf(os.name == "nt", "the commands are copied into a POSIX shell")
    def test_copied_by_hand_the_commands_give_the_same(self) -> None:
        told = self.told.replace(str(self.first.parent), str(self.folder))
        (self.folder / "here").mkdir()
        commands = [line[2:] for line in told.splitlines() if line.startswith("$ ")]
        self.assertGreater(len(commands), 20)
        script = "\n".join(["set -e", *commands])
        path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
        done = subprocess.run(["sh", "-c", script], cwd=self.folder, env=self.environment(PATH=path, VOLVEX_HOME=str(self.folder / "here" / "home")), encoding="utf-8",
                              stdout=subprocess.PIPE, stderr=subprocess.STDOUT)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertEqual(_results(done.stdout), _results(told))
        ours, theirs = digests(self.folder / "here"), digests(self.first)
        self.assertEqual({name: one for name, one in ours.items() if name.rpartition("/")[2] not in ("bench.json", "games.json") and not name.startswith("home/cache/")},
                         {name: one for name, one in theirs.items() if name.rpartition("/")[2] not in ("bench.json", "games.json") and not name.startswith("home/cache/")})  # fmt: skip

    def test_every_command_that_it_shows_is_one_that_exists(self) -> None:
        shown = {shlex.split(line[2:])[1] for line in self.told.splitlines() if line.startswith("$ volvex ")}
        self.assertGreaterEqual(
            shown,
            {
                "survey",
                "list",
                "find",
                "show",
                "layout",
                "bench",
                "take",
                "set",
                "changes",
                "build",
                "install",
                "restore",
            },
        )


def _results(text: str) -> list[str]:
    """What the commands printed, without prompts, narration and checks."""
    return [
        line
        for line in text.splitlines()
        if line and not line.startswith(("$ ", "-- ", "checked: ", "To repeat")) and "all as they should be" not in line
    ]


if __name__ == "__main__":
    unittest.main()
