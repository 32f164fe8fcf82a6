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
from unittest import mock

from tests.support import Case, digests
from volvex.command.ui.chapters import chapter_names, load_chapter


class Demo(Case):
    printed = ""  # by the demo, run once for all that look at it
    first: Path

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory(prefix="volvex-demo-test-")
        cls.addClassCleanup(holder.cleanup)
        case = cls("test_it_runs_to_its_end_and_leaves_the_game_as_it_was")
        case.folder = Path(holder.name).resolve()
        case.home = case.folder / "home"
        cls.printed = case.volvex("demo", "here", "--all")
        cls.first = case.folder / "here"

    def test_it_runs_to_its_end_and_leaves_the_game_as_it_was(self) -> None:
        claims = [
            line[2:].partition(" | ")[0]
            for name in chapter_names()
            for line in load_chapter(name).lines
            if line.startswith("? ")
        ]
        self.assertGreater(len(claims), 10)
        for claim in claims:
            self.assertIn(f"checked: {claim}", self.printed)
        self.assertIn("have their original bytes", self.printed)
        self.assertFalse((self.first / "game" / ".volvex").exists())
        self.assertIn("is not empty", self.complaint("demo", self.first, status=5))

    def test_a_claim_that_does_not_hold_and_a_command_that_fails_end_it(self) -> None:
        for line, said in (("? it is blue | blue", "but not so: it is blue"), ("$ volvex list nowhere", "status 3")):
            chapter = "A title\n$ volvex list game/data/main.kwp\n" + line + "\n"
            (self.folder / "first.txt").write_text(chapter, encoding="utf-8")
            with mock.patch("volvex.command.ui.chapters.FOLDER", self.folder):
                self.assertIn(said, self.complaint("demo", status=4))

    def test_a_temporary_folder_goes_away_and_one_chapter_is_short(self) -> None:
        with mock.patch("tempfile.tempdir", str(self.folder)):
            out = self.volvex("demo")
        folder = re.search(r"^\$ cd (\S+)$", out, re.M)
        assert folder is not None
        self.assertFalse(Path(folder[1]).exists())
        self.assertLessEqual(len(out.splitlines()), 60)
        self.assertIn("--chapter NAME, with look, nested", out)
        self.assertIn("one of first, look", self.complaint("demo", "--chapter", "x", status=2))

    @unittest.skipIf(os.name == "nt", "the commands are copied into a POSIX shell")
    def test_copied_by_hand_the_commands_give_the_same(self) -> None:
        printed = self.volvex("demo", "here", "--chapter", "first")
        (self.folder / "here").rename(self.folder / "by-the-demo")
        (self.folder / "here").mkdir()
        commands = [line[2:] for line in printed.splitlines() if line.startswith("$ ")]
        self.assertGreater(len(commands), 6)
        script = "\n".join(["set -e", *commands])
        path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
        environment = self.environment(PATH=path, VOLVEX_HOME=str(self.folder / "here" / "home"), PYTHONWARNINGS="")
        done = subprocess.run(
            ["sh", "-c", script],
            cwd=self.folder,
            env=environment,
            encoding="utf-8",
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
        )
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertEqual(sorted(_results(done.stdout)), sorted(_results(printed)))  # notes come when they come
        self.assertEqual(_files(self.folder / "here"), _files(self.folder / "by-the-demo"))

    def test_every_command_that_it_shows_is_one_that_exists(self) -> None:
        shown = {shlex.split(line[2:])[1] for line in self.printed.splitlines() if line.startswith("$ volvex ")}
        work = {
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
        }
        self.assertGreaterEqual(shown, work)


def _files(folder: Path) -> dict[str, str]:
    """The files below a folder with their digests, but for those that contain paths or times."""
    return {
        name: digest
        for name, digest in digests(folder).items()
        if name.rpartition("/")[2] not in ("bench.json", "built.json", "games.json")
        and not name.startswith("home/cache/")
    }


def _results(text: str) -> list[str]:
    """What the commands printed, without prompts, narration and checks."""
    other = ("$ ", "-- ", "== ", "checked: ", "The demo makes", "To type them", "More: ")
    return [line for line in text.splitlines() if line and not line.startswith(other)]


if __name__ == "__main__":
    unittest.main()
