"""What the tests share: temporary folders, a game made once, and the installed program."""

from __future__ import annotations

import atexit
import contextlib
import hashlib
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from kelpwick.world import make_game
from volvex.archive import LaidOut
from volvex.command.ui.main import main
from volvex.layout.language.parser import parse_layout, read_layout
from volvex.layout.model import Layout
from volvex.layout.read.open import read
from volvex.source import BytesSource

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src"
PROGRAM = Path(sys.executable).parent / ("volvex.exe" if os.name == "nt" else "volvex")
PACK_LAYOUT = SOURCE / "volvex" / "games" / "kelpwick" / "pack.layout"
MAIN = "data/main.kwp"
LAMPS = f"{MAIN}/rules/lamps.xml"
LETTER = f"{MAIN}/letters/en/01-arrival.txt"
_made: dict[str, Path] = {}
_keep = tempfile.TemporaryDirectory(prefix="volvex-tests-")
atexit.register(_keep.cleanup)


def made_game() -> Path:
    """A game that nobody may change: made once a process."""
    if "game" not in _made:
        _made["game"] = Path(_keep.name) / "game"
        make_game(_made["game"])
    return _made["game"]


def digests(folder: Path) -> dict[str, str]:
    """Every file below a folder, with its digest."""
    files = (path for path in sorted(folder.rglob("*")) if path.is_file())
    return {path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest() for path in files}


def archive_of(text: str, data: bytes, name: str = "test.bin") -> LaidOut:
    """The archive in some bytes by a layout's text."""
    return LaidOut(read(parse_layout(text, "test.layout"), BytesSource(data, name)))


def pack_layout() -> Layout:
    return read_layout(PACK_LAYOUT)


class Case(unittest.TestCase):
    """A test with a folder of its own, which it stands in for the program."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory(prefix="volvex-test-")
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name).resolve()
        self.home = self.folder / "home"

    def game(self, name: str = "game") -> Path:
        """A game of this test's own."""
        return Path(shutil.copytree(made_game(), self.folder / name))

    def environment(self, **more: str) -> dict[str, str]:
        kept = {key: value for key, value in os.environ.items() if not key.startswith("VOLVEX")}
        kept.pop(
            "PYTHONDONTWRITEBYTECODE", None
        )  # compiled code is kept beside the test's other files: that saves half the time
        return {
            **kept,
            "VOLVEX_HOME": str(self.home),
            "PYTHONIOENCODING": "utf-8",
            "PYTHONWARNINGS": "always::ResourceWarning",
            "PYTHONPYCACHEPREFIX": f"{_keep.name}/compiled",
            **more,
        }

    def run_program(
        self, *words: object, status: int | None = 0, cwd: Path | None = None, input: str = "", **more: str
    ) -> subprocess.CompletedProcess[str]:
        """Run the installed `volvex`; its status must be `status`, and it never shows a traceback."""
        done = subprocess.run(
            [str(PROGRAM), *map(str, words)], cwd=cwd or self.folder, env=self.environment(**more), encoding="utf-8",
            capture_output=True, input=input,
        )  # fmt: skip
        self.assertNotIn("Traceback", done.stderr)
        self.assertNotIn("ResourceWarning", done.stderr)
        self.assertNotEqual(done.returncode, 70, f"a fault in Volvex: {words}: {done.stderr}")
        if status is not None:
            self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done

    def volvex(self, *words: object, status: int = 0, cwd: Path | None = None, **more: str) -> str:
        """What the program prints to its output."""
        return self.run_program(*words, status=status, cwd=cwd, **more).stdout

    def complaint(self, *words: object, status: int, cwd: Path | None = None, **more: str) -> str:
        """What the program prints when it refuses: one line, and perhaps a line with what to try."""
        done = self.run_program(*words, status=status, cwd=cwd, **more)
        lines = done.stderr.splitlines()
        self.assertTrue(lines and lines[0].startswith("volvex: "), done.stderr)
        self.assertLessEqual(len(lines), 2, done.stderr)
        self.assertTrue(len(lines) == 1 or lines[1].startswith("try "), done.stderr)
        return done.stderr

    def records(self, *words: object, cwd: Path | None = None) -> list[dict[str, object]]:
        """The records of a `--json` list."""
        records = json.loads(self.volvex(*words, "--json", cwd=cwd))
        self.assertIsInstance(records, list)
        for record in records:
            self.assertIn("path", record)
        return list(records)

    def play(self, game: Path, *words: str, status: int = 0) -> str:
        """Have the stand-in game load a folder; what it prints."""
        done = subprocess.run(
            [sys.executable, "-m", "kelpwick", "play", str(game), *words], encoding="utf-8", env=self.environment(),
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        )  # fmt: skip
        self.assertEqual(done.returncode, status, done.stdout)
        return done.stdout

    def bench(self, game: Path) -> Path:
        """A new bench for a game."""
        self.volvex("bench", game, self.folder / "bench")
        return self.folder / "bench"


class InProcess(Case):
    """The same without a process for each command, which is ten times as fast: where no process is the subject."""

    def run_program(
        self, *words: object, status: int | None = 0, cwd: Path | None = None, input: str = "", **more: str
    ) -> subprocess.CompletedProcess[str]:
        out, err = io.StringIO(), io.StringIO()
        environment = {"VOLVEX_HOME": str(self.home), **more}
        with (
            contextlib.chdir(cwd or self.folder), mock.patch.dict(os.environ, environment), mock.patch("sys.stdin", io.StringIO(input)),
            contextlib.redirect_stdout(out), contextlib.redirect_stderr(err),
        ):  # fmt: skip
            code = main([str(word) for word in words])
        done = subprocess.CompletedProcess([*map(str, words)], int(code), out.getvalue(), err.getvalue())
        self.assertNotEqual(code, 70, f"a fault in Volvex: {words}: {done.stderr}")
        if status is not None:
            self.assertEqual(code, status, done.stdout + done.stderr)
        return done


class KeptGame(Case):
    """Tests that only look: they share one game, and it must be the same afterwards."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.shared = made_game()
        cls.before = digests(cls.shared)

    @classmethod
    def tearDownClass(cls) -> None:
        if digests(cls.shared) != cls.before:
            raise AssertionError("a command that only looks has changed the game")
