"""Killed, or out of space, at every step of install and restore: all old or all new, and nothing lost.

The disk counts the steps that change anything; `fault=kill:7` ends a process with SIGKILL at the seventh, `stop:7`
stops there within this process. Each test goes through the steps until one run comes through without the fault.
"""

from __future__ import annotations

import json
import shutil
import unittest
from pathlib import Path

from tests.faulty_disk import KILLED, FaultyDisk, Stop, StoppingDisk
from tests.support import LAMPS, MAIN, Case, digests
from volvex.mods import install, recover, restore
from volvex.mods.install import Content
from volvex.mods.list_lines import ListLines
from volvex.source import Disk
from volvex.source.digest import Fingerprint


class Killed(Case):
    """The real program, killed for good."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.old = digests(self.source)
        self.work = self.bench(self.source)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        note = self.folder / "note.txt"
        note.write_text("a note")
        self.volvex("swap", "--new", "mods/note.txt", note, cwd=self.work)
        self.volvex("build", cwd=self.work)
        self.clean = self.folder / "clean"
        shutil.copytree(self.source, self.clean)
        self.volvex("install", cwd=self.work)
        self.done = self.folder / "installed"
        shutil.copytree(self.source, self.done)
        self.new = self.content()

    def content(self) -> dict[str, str]:
        """The game's own files, ours left out."""
        return {name: digest for name, digest in digests(self.source).items() if not name.startswith(".volvex/")}

    def start_from(self, folder: Path) -> None:
        shutil.rmtree(self.source)
        shutil.copytree(folder, self.source)

    def step_through(self, verb: str, start: Path, before: dict[str, str], after: dict[str, str]) -> int:
        """Kill the command at each step in turn; how many steps there were."""
        for at in range(1, 400, 11):  # every step in turn, of the core alone, is below
            fault = "kill" if at % 88 == 1 else "stop"
            self.start_from(start)
            done = self.run_program(*verb.split(), cwd=self.work, status=None, fault=f"{fault}:{at}")
            if done.returncode == 0:
                self.assertEqual(self.content(), after)
                return at - 11
            self.assertEqual(done.returncode, KILLED, done.stderr)
            for one in ("changes", "restore") if at % 2 else ("restore",):
                self.volvex(one, cwd=self.work)  # the next command, whichever it is
                if one == "changes":
                    self.assertIn(self.content(), (before, after), f"step {at}")
            self.assertEqual(self.content(), self.old, f"nothing is lost at step {at}")
            self.assertFalse((self.source / ".volvex").exists(), f"step {at}")
        raise AssertionError("the command never came through")

    def test_install(self) -> None:
        self.assertGreater(self.step_through("install", self.clean, self.old, self.new), 20)

    def test_restore(self) -> None:
        self.assertGreater(self.step_through("restore", self.done, self.new, self.old), 8)


class KilledInPlace(Killed):
    """The same for writing into the game's own files."""

    def setUp(self) -> None:
        Case.setUp(self)
        self.source = self.game()
        self.old = digests(self.source)
        self.work = self.bench(self.source)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.clean = self.folder / "clean"
        shutil.copytree(self.source, self.clean)
        self.volvex("build", "--in-place", cwd=self.work)
        self.done = self.folder / "installed"
        shutil.copytree(self.source, self.done)
        self.new = self.content()

    def test_install(self) -> None:
        self.assertGreater(self.step_through("build --in-place", self.clean, self.old, self.new), 15)


class TakenOver(Case):
    """An edit in the folder `open`, stopped at each step of being taken over: the next command takes it over, once."""

    SOUND, TABLE = "belfry/fog_bell.kbl", "data/almanac.kwp/tables/lenses.kwb"

    def test_a_sound_and_a_table(self) -> None:
        work, kept = self.bench(self.game()), self.folder / "kept"
        self.volvex("take", self.SOUND, "--as", "wav", cwd=work)
        self.volvex("take", self.TABLE, "--as", "csv", cwd=work)
        shutil.copytree(work, kept)
        sound = (work / f"open/{self.SOUND}.wav").read_bytes()
        table = (work / f"open/{self.TABLE}.csv").read_bytes()
        for path, file, edited in (
            (self.SOUND, f"open/{self.SOUND}.wav", sound[:2000] + bytes(400) + sound[2400:]),
            (self.TABLE, f"open/{self.TABLE}.csv", table.replace(b"Half drum", b"Half a drum")),
        ):
            with self.subTest(path):
                steps = self.stopped_at_each_step(work, kept, path, file, edited)
                self.assertGreater(steps, 8)

    def stopped_at_each_step(self, work: Path, kept: Path, path: str, file: str, edited: bytes) -> int:
        """How many steps a take-over has, each of which was stopped at."""
        results = set()
        for at in range(1, 200):
            shutil.rmtree(work)
            shutil.copytree(kept, work)
            (work / file).write_bytes(edited)
            done = self.run_program("changes", cwd=work, status=None, fault=f"stop:{at}")
            self.assertEqual([record["path"] for record in self.records("changes", cwd=work)], [path], f"step {at}")
            results.add((work / "files" / path).read_bytes())
            self.assertEqual(len(results), 1, f"step {at}")
            self.assertFalse((work / "undone").exists(), f"step {at}")
            if done.returncode == 0:
                return at - 1
            self.assertEqual(done.returncode, KILLED, done.stderr)
        raise AssertionError("the command never came through")


class UpdatedMeanwhile(KilledInPlace):
    """A game that was updated between the kill and the next command is not written to."""

    def test_install(self) -> None:
        tried = 0
        for at in range(1, 400, 5):
            self.start_from(self.clean)
            done = self.run_program("build", "--in-place", cwd=self.work, status=None, fault=f"stop:{at}")
            journal = self.source / ".volvex" / "state.json"
            if done.returncode == 0:
                break
            if journal.is_file() and json.loads(journal.read_text())["state"]["writings"]:
                tried += 1
                update = (self.clean / MAIN).read_bytes()[::-1]
                (self.source / MAIN).write_bytes(update)
                self.run_program("restore", self.source, cwd=self.work, status=5)
                self.assertEqual((self.source / MAIN).read_bytes(), update, f"step {at}")
                originals = [path.read_bytes() for path in (self.source / ".volvex" / "originals").glob("*")]
                self.assertEqual(originals, [(self.clean / MAIN).read_bytes()], "the older original is kept")
        self.assertGreater(tried, 3)

    test_restore = None  # type: ignore[assignment]  # tested above


class InTheCore(Case):
    """The same in one process, with more files and every step, also while recovering."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "game"
        self.setUp_source()
        self.old = digests(self.source)
        self.mine: dict[str, Content] = {"gone.txt": None, "list.xml": ListLines(("<c/>",))}
        (self.folder / "mine").mkdir()
        (self.folder / "mine/list.xml").write_bytes(b"<a>\n  <c/>\n</a>\n")
        self.new = {"list.xml": digests(self.folder / "mine")["list.xml"]}
        for name in ("a.txt", "b.txt", "same.txt", "new/c.txt"):
            path = self.folder / "mine" / name.replace("/", "-")
            path.write_text(f"mine {name}")
            self.mine[name] = path
            self.new[name] = digests(path.parent)[path.name]

    def install(self, disk: Disk) -> None:
        bases = {
            name: Fingerprint.of(self.source / name) if (self.source / name).exists() else None for name in self.mine
        }
        install(self.source, self.mine, bases, disk)

    def restore(self, disk: Disk) -> None:
        restore(self.source, disk)

    def content(self) -> dict[str, str]:
        return {name: digest for name, digest in digests(self.source).items() if not name.startswith(".volvex/")}

    def again(self, installed: bool) -> None:
        shutil.rmtree(self.source)
        self.setUp_source()
        if installed:
            self.install(Disk())

    def setUp_source(self) -> None:
        self.source.mkdir()
        for name in ("a.txt", "b.txt", "same.txt", "gone.txt"):
            (self.source / name).write_text("original a" if name == "same.txt" else f"original {name[0]}")
        (self.source / "list.xml").write_bytes(b"<a>\n</a>\n")

    def test_stopped_at_every_step_and_again_while_recovering(self) -> None:
        for work, installed in ((self.install, False), (self.restore, True)):
            steps = 0
            for at in range(1, 300):
                self.again(installed)
                try:
                    work(StoppingDisk("kill", at))
                    break
                except Stop:
                    steps += 1
                for second in range(1 + at % 7, 40, 7):  # over all of them every step in turn
                    try:
                        recover(self.source, StoppingDisk("kill", second))
                        break
                    except Stop:
                        continue
                recover(self.source, Disk())
                self.assertIn(self.content(), (self.old, self.new), f"step {at} of {work.__name__}")
                self.assertEqual(list(self.source.rglob("*part")), [])
                restore(self.source, Disk())
                self.assertEqual(self.content(), self.old, f"step {at} of {work.__name__}")
            self.assertGreater(steps, 20, "the faults were not reached")

    def test_no_space_left_at_every_step(self) -> None:
        for work, installed in ((self.install, False), (self.restore, True)):
            full = 0
            for at in range(1, 300):
                self.again(installed)
                disk = FaultyDisk("full", at)
                try:
                    work(disk)
                except OSError:
                    full += 1
                    recover(self.source, Disk())
                    self.assertIn(self.content(), (self.old, self.new))
                    restore(self.source, Disk())
                    self.assertEqual(self.content(), self.old)
                if at > disk.taken:
                    break
            self.assertGreater(full, 3 if installed else 10, "the disk was never full")

    def test_a_full_disk_leaves_the_game_as_it_was(self) -> None:
        disk = FaultyDisk("full", 6)
        with self.assertRaises(OSError):
            self.install(disk)
        self.assertEqual(self.content(), self.old)
        self.assertFalse((self.source / ".volvex").exists())

    def test_a_file_changed_between_the_crash_and_the_recovery_is_left_alone(self) -> None:
        for at in range(1, 200):
            self.again(False)
            try:
                self.install(StoppingDisk("kill", at))
                break
            except Stop:
                pass
            moved = [name for name in self.new if self.content().get(name) == self.new[name]]
            if not moved:
                continue
            (self.source / "b.txt").write_text("an update")
            recover(self.source, Disk())
            self.assertEqual((self.source / "b.txt").read_text(), "an update")
            self.assertEqual(digests(self.source)["a.txt"], self.new["a.txt"])
            restore(self.source, Disk())
            self.assertEqual((self.source / "b.txt").read_text(), "an update")
            self.assertEqual(digests(self.source)["a.txt"], self.old["a.txt"])
            return
        self.fail("no step lay between two files")


class Faults(unittest.TestCase):
    def test_a_full_disk_still_removes_and_renames(self) -> None:
        disk = FaultyDisk("full", 1)
        for name in ("remove x", "replace x", "sync", "remove folder x"):
            disk.step(name)
        for name in ("create x", "write", "copy", "make folder x"):
            with self.assertRaises(OSError):
                disk.step(name)


if __name__ == "__main__":
    unittest.main()
