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
import warnings
from pathlib import Path
from unittest import mock

import hypothesis

from kelpwick.__main__ import main as kelpwick
from kelpwick.world import make_game
from tests.faulty_disk import KILLED, Stop, disk_of
from volvex.archive import LayoutArchive
from volvex.command.ui.context import make_context
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
hypothesis.settings.register_profile(  # a busy machine makes slow examples, which are no fault
    "busy", suppress_health_check=[hypothesis.HealthCheck.too_slow], deadline=None
)
hypothesis.settings.load_profile("busy")
Done = subprocess.CompletedProcess[str]
_made: dict[str, Path] = {}
_keep = tempfile.TemporaryDirectory(prefix="volvex-tests-")
atexit.register(_keep.cleanup)
SHARED = Path(os.environ.get("VOLVEX_TESTS_SHARED", _keep.name))  # of all test processes: compiled code, parsed layouts


def made_game(version: int = 1) -> Path:
    """A game that nobody may change: made once for all test processes."""
    name = "game" if version == 1 else f"game-{version}"
    if name not in _made:
        shared = SHARED / f"shared-{version}"
        _made[name] = shared / "game"
        if not shared.is_dir():
            making = Path(tempfile.mkdtemp(dir=SHARED, prefix="making-"))
            make_game(making / "game", version=version)
            with contextlib.suppress(OSError):  # another process was faster
                making.rename(shared)
            shutil.rmtree(making, ignore_errors=True)
    return _made[name]


def update(game: Path) -> None:
    """What an update of the game writes over it."""
    new = made_game(2)
    for path in new.rglob("*"):
        target = game / path.relative_to(new)
        if path.is_file() and path.parent.name not in ("logs", "saves"):
            target.parent.mkdir(exist_ok=True)
            if not target.is_file() or target.read_bytes() != path.read_bytes():
                target.write_bytes(path.read_bytes())


def digests(folder: Path) -> dict[str, str]:
    """Every file below a folder, with its digest."""
    files = (path for path in sorted(folder.rglob("*")) if path.is_file())
    return {path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest() for path in files}


def archive_of(text: str, data: bytes, name: str = "test.bin") -> LayoutArchive:
    """The archive in some bytes by a layout's text."""
    return LayoutArchive(read(parse_layout(text, "test.layout"), BytesSource(data, name)))


def pack_layout() -> Layout:
    return read_layout(PACK_LAYOUT)


class Case(unittest.TestCase):
    """A test with a folder of its own, which it stands in for the program."""

    def setUp(self) -> None:
        self._watch_files()
        self.folder = self.new_folder()
        self.home = self.new_folder() / "home"
        self.share_layouts()

    def new_folder(self) -> Path:
        """A folder that goes when the test has run."""
        holder = tempfile.TemporaryDirectory(prefix="volvex-test-")
        self.addCleanup(holder.cleanup)
        return Path(holder.name).resolve()

    def share_layouts(self) -> None:
        """Remember parsed layouts for all tests: they are named by their text, and parsing them again shows nothing."""
        layouts, cache = SHARED / "layouts", self.home / "cache"
        layouts.mkdir(exist_ok=True)
        cache.mkdir(parents=True)
        with contextlib.suppress(OSError):  # where links need a right, each test parses its own
            (cache / "layouts").symlink_to(layouts)

    def _watch_files(self) -> None:
        """Fail the test when it leaves a file open: Python warns of that where no test can catch it."""
        watch = warnings.catch_warnings(record=True)
        caught = watch.__enter__()
        warnings.simplefilter("always", ResourceWarning)

        def check() -> None:
            watch.__exit__(None, None, None)
            left = [str(message.message) for message in caught or () if issubclass(message.category, ResourceWarning)]
            self.assertEqual(left, [])

        self.addCleanup(check)

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
            "PYTHONPYCACHEPREFIX": str(SHARED / "compiled"),
            **more,
        }

    def run_program(
        self,
        *words: object,
        status: int | None = 0,
        cwd: Path | None = None,
        input: str = "",
        fault: str = "",
        **more: str,
    ) -> Done:
        """Run a command line in this process; its status must be `status`. With `fault` the disk fails (see
        `FaultyDisk`).

        `kill:7` runs a process and ends it for good at the seventh step; `stop:7` does the same to the files, faster.
        """
        run = self._killed if fault.startswith("kill") else self._run_here
        done = run([str(word) for word in words], cwd or self.folder, input, fault, more)
        self.assertNotEqual(done.returncode, 70, f"a fault in Volvex: {words}: {done.stderr}")
        if status is not None:
            self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done

    def _run_here(self, words: list[str], cwd: Path, input: str, fault: str, more: dict[str, str]) -> Done:
        environment = {"VOLVEX_HOME": str(self.home), **more}
        with (
            tempfile.TemporaryFile("w+", encoding="utf-8", newline="") as out,  # with a number, as commands may ask for
            tempfile.TemporaryFile("w+", encoding="utf-8", newline="") as err,
            contextlib.chdir(cwd),
            mock.patch.dict(os.environ, environment),
            mock.patch("sys.stdin", io.TextIOWrapper(io.BytesIO(input.encode()), encoding="utf-8")),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
        ):
            context = make_context()
            context.disk = disk_of(fault)
            try:
                code = main(words, context)
            except Stop:
                code = KILLED
            said = []
            for stream in (out, err):
                stream.seek(0)
                said.append(stream.read().replace("\r\n", "\n"))
        return Done(words, int(code), *said)

    def _killed(self, words: list[str], cwd: Path, input: str, fault: str, more: dict[str, str]) -> Done:
        """The same in a process of its own."""
        environment = self.environment(**more, PYTHONPATH=os.pathsep.join([str(SOURCE.parent), str(SOURCE)]))
        return subprocess.run(
            [sys.executable, "-m", "tests.faulty_disk", fault, *words],
            cwd=cwd,
            env=environment,
            encoding="utf-8",
            capture_output=True,
            input=input,
        )

    def program(
        self, *words: object, status: int | None = 0, cwd: Path | None = None, input: str = "", **more: str
    ) -> Done:
        """Run the installed `volvex` as a process, where a process is the subject."""
        done = subprocess.run(
            [str(PROGRAM), *map(str, words)],
            cwd=cwd or self.folder,
            env=self.environment(**more),
            encoding="utf-8",
            capture_output=True,
            input=input,
        )
        self.assertNotIn("Traceback", done.stderr)
        self.assertNotIn("ResourceWarning", done.stderr)
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
        said = io.StringIO()
        with contextlib.redirect_stdout(said), contextlib.redirect_stderr(said):
            code = kelpwick(["play", str(game), *words])
        self.assertEqual(code, status, said.getvalue())
        return said.getvalue()

    def bench(self, game: Path) -> Path:
        """A new bench for a game."""
        self.volvex("bench", game, self.folder / "bench")
        return self.folder / "bench"


class KeptGame(Case):
    """Tests that only look: they share one game, and it must be the same afterwards."""

    shared: Path
    before: dict[str, str]

    @classmethod
    def setUpClass(cls) -> None:
        cls.shared = made_game()
        cls.before = digests(cls.shared)

    @classmethod
    def tearDownClass(cls) -> None:
        if digests(cls.shared) != cls.before:
            raise AssertionError("a command that only looks has changed the game")
