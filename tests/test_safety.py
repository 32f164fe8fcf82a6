"""Promises kept under failures: files changed in place, full disks, refusals of the disk, linked and damaged folders,
two at once."""

from __future__ import annotations

import contextlib
import errno
import itertools
import json
import os
import shutil
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path
from typing import Any, BinaryIO
from unittest.mock import patch as patched

from tests.faulty_disk import FaultyDisk, Stop, StoppingDisk
from tests.support import LAMPS, LETTER, MAIN, PROGRAM, Case, digests
from volvex.errors import FormatError, RefusedError, VolvexError
from volvex.layout.write.plan import Piece
from volvex.mods import install, installed, originals, patch, recover, restore
from volvex.mods.home import home_of, tidy
from volvex.mods.journal import read_state, write_state
from volvex.mods.patch.plan import Patch
from volvex.mods.store import Store
from volvex.source import Disk, Source
from volvex.source.digest import BLOCK, Fingerprint, digest_file
from volvex.source.lock import acquire, held
from volvex.source.outputs import Outputs, new_file


class SmallDisk(Disk):
    """A disk with so many bytes left: what is written takes them, what is removed gives them back."""

    def __init__(self, free: int) -> None:
        self.free, self.refused = free, 0

    def _take(self, size: int) -> None:
        if size > self.free:
            self.refused += 1
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        self.free -= size

    def write(self, file: BinaryIO, data: bytes | memoryview) -> None:
        self._take(len(data))
        super().write(file, data)

    def allocate(self, file: BinaryIO, size: int) -> None:
        self._take(max(0, size - os.fstat(file.fileno()).st_size))
        super().allocate(file, size)

    def truncate(self, file: BinaryIO, size: int) -> None:
        self.free += max(0, os.fstat(file.fileno()).st_size - size)
        super().truncate(file, size)

    def replace(self, old: Path, new: Path) -> None:
        self._freed(new)
        super().replace(old, new)

    def remove(self, path: Path) -> None:
        self._freed(path)
        super().remove(path)

    def _freed(self, path: Path) -> None:
        if path.is_file() and path.stat().st_nlink == 1:
            self.free += path.stat().st_size


class WithAGame(Case):
    """A made-up game of a few small files, and new content for them."""

    FILES = {"a.dat": b"original a" * 50, "sub/b.dat": b"original b" * 40, "same.dat": b"original a" * 50}
    MINE = {"a.dat": b"mine a" * 70, "sub/b.dat": b"mine b", "new/c.dat": b"mine c"}

    def setUp(self) -> None:
        super().setUp()
        self.source = self.folder / "game"
        self.make()
        self.old = self.content()
        self.mine: dict[str, Path] = {}
        (self.folder / "mine").mkdir()
        for name, data in self.MINE.items():
            self.mine[name] = self.folder / "mine" / name.replace("/", "-")
            self.mine[name].write_bytes(data)

    def make(self) -> None:
        shutil.rmtree(self.source, ignore_errors=True)
        for name, data in self.FILES.items():
            (self.source / name).parent.mkdir(parents=True, exist_ok=True)
            (self.source / name).write_bytes(data)

    def content(self) -> dict[str, str]:
        return {name: digest for name, digest in digests(self.source).items() if not name.startswith(".volvex/")}

    def bases(self) -> dict[str, Fingerprint | None]:
        return {name: Fingerprint.of(path) if (path := self.source / name).exists() else None for name in self.mine}

    def install(self, disk: Disk, **more: Any) -> None:
        install(self.source, self.mine, self.bases(), disk, **more)

    def assert_clean(self, where: str = "") -> None:
        self.assertEqual(self.content(), self.old, where)
        self.assertFalse((self.source / ".volvex").exists(), where)


class InPlace(WithAGame):
    """Stretches written into a file that grows, and into one that shrinks, stopped at every step."""

    def patches(self) -> list[Patch]:
        a, b = self.source / "a.dat", self.source / "sub/b.dat"
        return [
            Patch(
                "a.dat", Fingerprint.of(a), ((3, Piece.of(b"XYZ")), (490, Piece.of(b"grown " * 20))), 610, (("one", 0),)
            ),
            Patch("sub/b.dat", Fingerprint.of(b), ((0, Piece.of(b"short")),), 333, (("two", 0),)),
        ]

    def new(self) -> dict[str, bytes]:
        a, b = bytearray(self.FILES["a.dat"]), bytearray(self.FILES["sub/b.dat"])
        a[3:6] = b"XYZ"
        a[490:] = b"grown " * 20
        b[:5] = b"short"
        return {"a.dat": bytes(a), "sub/b.dat": bytes(b[:333])}

    def test_what_is_written_is_what_was_planned(self) -> None:
        patch(self.source, self.patches(), Disk(), by="bench")
        for name, data in self.new().items():
            self.assertEqual((self.source / name).read_bytes(), data)
        (self.source / "a.dat").touch()  # another time: now it is read, and known by its blocks
        self.assertEqual(set(originals(self.source)), {"a.dat", "sub/b.dat"})
        again = Patch("a.dat", Fingerprint.of(self.source / "a.dat"), ((100, Piece.of(b"more")),), 610, (("one", 0),))
        patch(self.source, [again], Disk(), by="bench")
        (self.source / "a.dat").touch()
        restore(self.source, Disk())
        self.assert_clean()

    def test_stopped_at_every_step(self) -> None:
        changed = [self.content_of(self.FILES), self.content_of(self.FILES | self.new())]
        steps = 0
        for at in itertools.count(1):
            self.make()
            try:
                patch(self.source, self.patches(), StoppingDisk("kill", at))
                break
            except Stop:
                steps += 1
            if at % 2:
                for second in range(1, 40, 2):
                    try:
                        recover(self.source, StoppingDisk("kill", second), back=bool(at % 4 == 1))
                        break
                    except Stop:
                        continue
                recover(self.source, Disk())
                self.assertIn(self.content(), changed, f"step {at}")
            restore(self.source, Disk())
            self.assert_clean(f"step {at}")
        self.assertGreater(steps, 40, "the faults were not reached")

    def content_of(self, files: dict[str, bytes]) -> dict[str, str]:
        import hashlib

        return {name: hashlib.sha256(data).hexdigest() for name, data in files.items()}

    def test_without_its_staged_bytes_a_writing_is_left_and_its_original_known(self) -> None:
        for name in ("incoming", "undo"):
            for at in range(1, 200):
                self.make()
                with contextlib.suppress(Stop):
                    patch(self.source, self.patches(), StoppingDisk("kill", at))
                home = self.source / ".volvex"
                if home.exists() and read_state(home).under_way:
                    break
            (home / getattr(read_state(home).writings[0], name)).unlink()
            recover(self.source, Disk())
            self.assertFalse(read_state(home).under_way)
            restore(self.source, Disk(), force=[one for one in ("a.dat",) if one in installed(self.source)])
            self.assertEqual(self.content(), self.old)

    def test_an_update_anywhere_in_the_file_is_noticed(self) -> None:
        large = bytearray(os.urandom(BLOCK + 300_000))
        (self.source / "a.dat").write_bytes(large)
        one = Patch("a.dat", Fingerprint.of(self.source / "a.dat"), ((5, Piece.of(b"mine")),), len(large), ())
        patch(self.source, [one], Disk())
        for at in (BLOCK // 3, BLOCK + 77, len(large) - 1):
            with (self.source / "a.dat").open("r+b") as file:
                file.seek(at)
                file.write(bytes([large[at] ^ 1]))
            self.assertEqual(originals(self.source), {}, "it is no longer ours")
            done = restore(self.source, Disk())
            self.assertEqual([action.path for action in done.skipped], ["a.dat"])
            with (self.source / "a.dat").open("r+b") as file:
                file.seek(at)
                file.write(bytes([large[at]]))
        restore(self.source, Disk())
        self.assertEqual((self.source / "a.dat").read_bytes(), bytes(large))

    @unittest.skipIf(os.name == "nt", "hard links as POSIX has them")
    def test_a_file_with_two_names_is_replaced(self) -> None:
        backup = self.folder / "backup.dat"
        os.link(self.source / "a.dat", backup)
        patch(self.source, self.patches(), Disk())
        self.assertEqual((self.source / "a.dat").read_bytes(), self.new()["a.dat"])
        self.assertEqual(backup.read_bytes(), self.FILES["a.dat"])
        again = Patch("a.dat", Fingerprint.of(self.source / "a.dat"), ((100, Piece.of(b"more")),), 610, (("one", 0),))
        patch(self.source, [again], Disk())
        restore(self.source, Disk())
        self.assert_clean()

    @unittest.skipIf(os.name == "nt", "making links needs rights on Windows")
    def test_a_linked_file_is_refused_before_anything_is_written_down(self) -> None:
        (self.source / "a.dat").rename(self.folder / "real.dat")
        (self.source / "a.dat").symlink_to(self.folder / "real.dat")
        with self.assertRaises(RefusedError):
            patch(self.source, self.patches(), Disk())
        self.assertFalse((self.source / ".volvex").exists())
        self.assertEqual(restore(self.source, Disk()).actions, [])


class FullDisk(InPlace):
    """A disk that is full sooner or later: all or nothing, and `restore` works on it still."""

    test_stopped_at_every_step = None  # type: ignore[assignment]  # above

    def test_install_in_place_and_restore_with_any_room(self) -> None:
        states = [
            self.content_of(self.FILES),
            self.content_of(self.FILES | self.new()),
            self.content_of(self.FILES | self.MINE),
        ]
        refused = 0
        for work in (lambda disk: patch(self.source, self.patches(), disk), self.install):
            for free in (*range(0, 12_000, 500), *range(12_000, 200_000, 9_000)):
                self.make()
                disk = SmallDisk(free)
                try:
                    work(disk)
                except OSError as error:
                    self.assertEqual(error.errno, errno.ENOSPC)
                    refused += 1
                    self.assertEqual(self.content(), self.old, f"nothing happened, with {free}")
                self.assertIn(self.content(), states, free)
                disk.free = 0  # whatever is left, somebody else took it
                restore(self.source, disk)
                self.assert_clean(f"restored with {free}")
        self.assertGreater(refused, 10, "the disk was never full")

    def test_an_interrupted_one_is_undone_on_a_full_disk(self) -> None:
        undone = 0
        for work in (lambda disk: patch(self.source, self.patches(), disk), self.install):
            for at in range(1, 300):
                self.make()
                try:
                    work(StoppingDisk("kill", at))
                    break
                except Stop:
                    pass
                home = self.source / ".volvex"
                under_way = home.exists() and read_state(home).under_way
                restore(self.source, SmallDisk(0))
                undone += under_way
                self.assert_clean(f"step {at}")
        self.assertGreater(undone, 20, "no transaction was ever under way")


class Refusals(WithAGame):
    def test_a_disk_that_denies_any_step_leaves_all_or_nothing(self) -> None:
        denied = 0
        for at in range(1, 400):
            self.make()
            disk = FaultyDisk("deny", at)
            try:
                self.install(disk)
            except OSError:
                denied += 1
                self.assertEqual(self.content(), self.old, f"step {at}")
            restore(self.source, Disk())
            self.assert_clean(f"step {at}")
            if disk.taken < at:
                break
        self.assertGreater(denied, 30)

    def test_a_rename_that_is_denied_in_the_middle_is_undone(self) -> None:
        class Denying(Disk):
            def replace(self, old: Path, new: Path) -> None:
                if new.name == "b.dat" and old.parent.name == "incoming":
                    raise PermissionError(errno.EACCES, "denied", str(new))
                super().replace(old, new)

        with self.assertRaises(PermissionError):
            self.install(Denying())
        self.assert_clean()

    def test_the_mode_of_what_is_replaced_stays(self) -> None:
        if os.name == "nt":
            self.skipTest("modes as POSIX has them")
        (self.source / "a.dat").chmod(0o600)
        self.install(Disk())
        self.assertEqual((self.source / "a.dat").stat().st_mode & 0o777, 0o600)

    def test_what_another_bench_installed_goes_only_when_asked(self) -> None:
        self.install(Disk(), by="first")
        other = {"same.dat": self.mine["a.dat"]}
        bases = {"same.dat": Fingerprint.of(self.source / "same.dat")}
        with self.assertRaises(RefusedError) as caught:
            install(self.source, other, bases, Disk(), by="second")
        self.assertIn("a.dat (put back)", caught.exception.message)
        self.assertIn("--overwrite", caught.exception.hint)
        done = install(self.source, other, bases, Disk(), by="second", replace=True)
        self.assertEqual(
            {(action.path, action.what) for action in done.actions},
            {("same.dat", "replace"), ("a.dat", "put back"), ("sub/b.dat", "put back"), ("new/c.dat", "remove")},
        )
        restore(self.source, Disk())
        self.assert_clean()

    def test_a_file_that_changed_under_our_hands_is_told(self) -> None:
        class Meddling(Disk):
            def make_folder(self, folder: Path, durable: bool = False) -> None:
                if folder.name == "replaced":
                    (case.source / "sub/b.dat").write_bytes(b"an update")
                super().make_folder(folder, durable)

        case = self
        done = install(self.source, self.mine, self.bases(), Meddling())
        self.assertEqual([action.path for action in done.skipped], ["sub/b.dat"])
        self.assertEqual((self.source / "sub/b.dat").read_bytes(), b"an update")
        again = restore(self.source, Disk(), force=["sub/b.dat"])
        self.assertEqual(again.skipped, [])
        self.assertEqual(self.content(), self.old)


class Folders(WithAGame):
    """What lies in `.volvex` came with the game from anywhere, or has rotted."""

    @unittest.skipIf(os.name == "nt", "making links needs rights on Windows")
    def test_links_are_refused_and_what_they_lead_to_stays(self) -> None:
        victim = self.folder / "victim" / "docs"
        victim.mkdir(parents=True)
        (victim / "thesis.txt").write_text("precious")
        (victim / ("c" * 64)).write_text("precious")  # named as an original is
        home = self.source / ".volvex"
        for name in ("", "originals", "incoming", "replaced", "aside", "lock", "state.json"):
            shutil.rmtree(home, ignore_errors=True)
            (home / name).parent.mkdir(parents=True, exist_ok=True)
            (home / name).symlink_to(victim / "thesis.txt" if "." in name or name == "lock" else victim)
            before = digests(self.folder / "victim")
            for work in (
                lambda: self.install(Disk()),
                lambda: restore(self.source, Disk()),
                lambda: tidy(self.source, Disk()),
            ):
                try:
                    work()
                except VolvexError:
                    pass
                self.assertEqual(digests(self.folder / "victim"), before, name)
            home.unlink() if home.is_symlink() else shutil.rmtree(home)
            self.assertEqual(self.content() == self.old or name == "lock", True)
            self.make()

    def test_an_original_stays_until_its_bytes_are_back(self) -> None:
        self.install(Disk())
        home = self.source / ".volvex"
        kept = {path.name: path.read_bytes() for path in (home / "originals").glob("*")}
        for name in ("state.json", "state.copy.json"):
            (home / name).unlink()
        done = restore(self.source, Disk())  # nobody knows any more where they belong: they are kept, and told
        kept = {name: data for name, data in kept.items() if data != self.FILES["same.dat"]}  # these bytes the game has
        self.assertEqual(len(done.skipped), len(kept))
        self.assertEqual({path.name: path.read_bytes() for path in (home / "originals").glob("*")}, kept)
        self.make()
        shutil.rmtree(self.source / "new", ignore_errors=True)
        restore(self.source, Disk())
        self.assert_clean("the game has them all: the copies go")

    def test_one_damaged_digit_anywhere_loses_nothing(self) -> None:
        self.install(Disk())
        home = self.source / ".volvex"
        shutil.copytree(self.source, self.folder / "installed")
        size = (home / "state.json").stat().st_size
        for at in range(0, size, 409):
            shutil.rmtree(self.source)
            shutil.copytree(self.folder / "installed", self.source)
            for name in ("state.json",) if at % 2 else ("state.json", "state.copy.json"):
                data = bytearray((home / name).read_bytes())
                data[at] ^= 2
                (home / name).write_bytes(data)
            kept = digests(home / "originals")
            try:
                restore(self.source, Disk())
                self.assert_clean(f"byte {at}")
            except FormatError as error:
                self.assertEqual(at % 2, 0, error.message)
                self.assertEqual(digests(home / "originals"), kept)

    def test_a_rotten_original_is_not_relied_on(self) -> None:
        self.install(Disk())
        store = Store(self.source / ".volvex" / "originals", Disk())
        digest = str(installed(self.source)["a.dat"].original)
        path = store.path(digest)
        path.write_bytes(b"X" + path.read_bytes()[1:])
        with self.assertRaises(RefusedError):
            self.install(Disk(), by="")  # its only sound copy would be lost for good
        done = restore(self.source, Disk())
        self.assertEqual([action.path for action in done.skipped], ["a.dat"])
        self.assertEqual((self.source / "a.dat").read_bytes(), self.MINE["a.dat"])
        (self.source / "a.dat").write_bytes(self.FILES["a.dat"])  # the launcher repairs it
        self.install(Disk())
        self.assertTrue(store.is_sound(digest, lambda size: None), "a sound copy takes its place")
        restore(self.source, Disk())
        self.assert_clean()

    def test_files_of_others_in_the_folder_stay(self) -> None:
        home = self.source / ".volvex"
        (home / "incoming").mkdir(parents=True)
        (home / "incoming" / "My Notes.txt").write_text("mine")
        (home / "originals" / "zz").mkdir(parents=True)
        (home / "originals" / "zz" / "mine").write_text("mine")
        (home / "note.txt").write_text("mine")
        self.install(Disk())
        restore(self.source, Disk())
        self.assertEqual(self.content(), self.old)
        self.assertEqual(
            sorted(
                path.relative_to(home).as_posix() for path in home.rglob("*") if path.is_file() and path.name != "lock"
            ),
            ["incoming/My Notes.txt", "note.txt", "originals/zz/mine"],
        )

    def test_a_file_kept_aside_is_never_tidied_away(self) -> None:
        self.install(Disk())
        for number, text in enumerate((b"an update", b"another"), 1):
            (self.source / "a.dat").write_bytes(text)
            restore(self.source, Disk(), force=["a.dat"])
            self.assertEqual(self.content(), self.old)
            self.install(Disk())
            self.assertEqual(
                len([path for path in (self.source / ".volvex" / "aside").rglob("*") if path.is_file()]), number
            )
        restore(self.source, Disk())
        self.assertEqual((self.source / ".volvex/aside/a.dat~2").read_bytes(), b"another")


class Locks(WithAGame):
    def test_a_lock_is_held_by_one(self) -> None:
        path = self.folder / "lock"
        with held(path):
            self.assertIsNone(acquire(path))
        lock = acquire(path)
        assert lock is not None
        lock.remove()
        lock.release()
        self.assertFalse(path.exists())

    @unittest.skipIf(os.name == "nt", "open files cannot be removed there")
    def test_whoever_waits_for_a_removed_lock_gets_the_one_that_is_there(self) -> None:
        path, inside, most = self.folder / "lock", [0], [0]

        def work() -> None:
            for _ in range(60):
                lock = acquire(path, 30)
                assert lock is not None
                inside[0] += 1
                most[0] = max(most[0], inside[0])
                time.sleep(0.0005)
                inside[0] -= 1
                lock.remove()
                lock.release()

        threads = [threading.Thread(target=work) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(most, [1])

    def test_three_processes_install_and_restore_at_once(self) -> None:
        script = (
            "import sys; from pathlib import Path; from volvex.mods import install, restore; from volvex.source "
            "import Disk\n"
            "from volvex.source.digest import Fingerprint; from volvex.errors import VolvexError\n"
            "game, mine = Path(sys.argv[1]), Path(sys.argv[2])\n"
            "for _ in range(25):\n"
            "    for work in (lambda: install(game, {'a.dat': mine}, {'a.dat': Fingerprint.of(game / 'a.dat')}, "
            "Disk(), by='x'), lambda: restore(game, Disk())):\n"
            "        try: work()\n"
            "        except (VolvexError, FileNotFoundError): pass\n"
        )
        words = [sys.executable, "-c", script, str(self.source), str(self.mine["a.dat"])]
        running = [subprocess.Popen(words, stderr=subprocess.PIPE) for _ in range(3)]
        for one in running:
            _, said = one.communicate()
            self.assertEqual(one.returncode, 0, said.decode())
        restore(self.source, Disk())
        self.assert_clean()

    def test_takes_at_once_are_all_remembered(self) -> None:
        source = self.folder / "kelpwick"
        shutil.rmtree(self.source)
        source = self.game("kelpwick")
        work = self.bench(source)
        names = ["rules/lamps.xml", "rules/keepers.xml", "letters/en/01-arrival.txt", "rules/tides.json"]
        words = [[str(PROGRAM), "take", f"{MAIN}/{name}"] for name in names]
        running = [
            subprocess.Popen(word, cwd=work, env=self.environment(), stdout=subprocess.DEVNULL) for word in words
        ]
        self.assertEqual([one.wait() for one in running], [0, 0, 0, 0])
        taken = json.loads((work / "bench.json").read_text())["taken"]
        self.assertEqual(sorted(taken), sorted(f"{MAIN}/{name}" for name in names))


class NewFiles(Case):
    def test_all_or_none_and_nothing_over_what_is_there(self) -> None:
        (self.folder / "b").write_text("there")
        with self.assertRaises(RefusedError), Outputs(Disk()) as out:
            for name in ("a", "b"):
                with out.file(self.folder / name) as file:
                    file.write(b"new")
        self.assertEqual([path.name for path in self.folder.iterdir()], ["b"])
        with self.assertRaises(RefusedError), Outputs(Disk()) as out:
            for name in ("a", "c"):
                with out.file(self.folder / name) as file:
                    file.write(b"new")
            (self.folder / "c").write_text("came meanwhile")
        self.assertEqual(
            {path.name: path.read_text() for path in self.folder.iterdir()}, {"b": "there", "c": "came meanwhile"}
        )

    def test_a_failure_between_two_names_brings_the_old_ones_back(self) -> None:
        failed = 0
        for at in range(1, 40):
            for name in ("a", "b"):
                (self.folder / name).write_text(f"old {name}")
            disk = FaultyDisk("deny", at)
            try:
                with Outputs(disk, overwrite=True) as out:
                    for name in ("a", "b"):
                        with out.file(self.folder / name) as file:
                            disk.write(file, b"new")
            except OSError:
                failed += 1
                found = {path.name: path.read_text() for path in self.folder.iterdir()}
                self.assertEqual(found, {"a": "old a", "b": "old b"}, at)
            if disk.taken < at:
                break
        self.assertGreater(failed, 6)
        self.assertEqual((self.folder / "a").read_text(), "new")

    def test_stopped_anywhere_what_was_there_is_never_missing(self) -> None:
        stopped = 0
        for at in range(1, 40):
            for name in ("a", "b"):
                (self.folder / name).write_text(f"old {name}")
            disk = StoppingDisk("kill", at)
            try:
                with (
                    patched.object(Path, "unlink"),
                    Outputs(disk, overwrite=True) as out,
                ):  # a process that is gone removes nothing
                    for name in ("a", "b"):
                        with out.file(self.folder / name) as file:
                            disk.write(file, b"new")
            except Stop:
                stopped += 1
            for name in ("a", "b"):
                self.assertIn((self.folder / name).read_text(), (f"old {name}", "new"), at)
            for path in self.folder.iterdir():
                path.unlink()
        self.assertGreater(stopped, 8)

    def test_a_single_file(self) -> None:
        with new_file(Disk(), self.folder / "deep" / "x") as file:
            file.write(b"1")
        with self.assertRaises(RefusedError), new_file(Disk(), self.folder / "deep" / "x") as file:
            file.write(b"2")
        self.assertEqual((self.folder / "deep" / "x").read_bytes(), b"1")


class Benches(Case):
    """The program on a bench: torn states, benches from elsewhere, content that would steer."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.volvex("build", cwd=self.work)

    def test_a_torn_state_is_finished_by_whoever_looks(self) -> None:
        for words in (["survey", self.source], ["list", self.source / MAIN / "rules"]):
            for at in range(26, 60, 3):
                self.run_program("install", cwd=self.work, status=None, fault=f"stop:{at}")
                if read_state(home_of(self.source)).under_way:
                    break
            self.assertTrue(read_state(home_of(self.source)).under_way)
            self.assertIn("an interrupted install", self.run_program(*words).stderr)
            self.assertFalse(read_state(home_of(self.source)).under_way)
            self.volvex("restore", self.source)

    def test_a_bench_from_elsewhere_is_not_believed(self) -> None:
        (self.home / "games.json").unlink()
        said = self.complaint("install", cwd=self.work, status=5)
        self.assertIn("which you have not named before", said)
        self.assertIn("have not named", self.complaint("build", "--in-place", cwd=self.work, status=5))
        self.assertIn("not for", self.complaint("install", "--game", self.folder, cwd=self.work, status=5))
        self.volvex("install", "--game", self.source, cwd=self.work)
        self.volvex("install", cwd=self.work)

    def test_content_of_a_game_is_no_layout(self) -> None:
        evil = (
            (Path(__file__).parent.parent / "src/volvex/games/kelpwick/pack.layout")
            .read_text()
            .replace("crc32 of stored content", "kept")
        )
        (self.work / "files" / "mods").mkdir(parents=True)
        (self.work / "files" / "mods" / "evil.layout").write_text(evil)
        listed = self.volvex("layout", "list", cwd=self.work)
        self.assertEqual(listed.count("Kelpwick pack"), 1)
        (self.work / "layouts").mkdir()
        (self.work / "layouts" / "mine.layout").write_text(evil)
        self.assertEqual(self.volvex("layout", "list", cwd=self.work).count("Kelpwick pack"), 2)

    def test_a_killed_take_is_not_taken_for_an_edit(self) -> None:
        for at in range(3, 60, 6):
            done = self.run_program("take", f"{MAIN}/letters/en", cwd=self.work, status=None, fault=f"stop:{at}")
            if done.returncode == 0:
                break
            self.volvex("take", f"{MAIN}/letters/en", cwd=self.work)
            self.assertNotIn("letters", self.volvex("changes", cwd=self.work))
            self.assertEqual(list(self.work.rglob("*.volvex-part")), [])
            shutil.rmtree(self.work / "files" / MAIN / "letters")
        (self.work / "files" / LETTER).parent.mkdir(parents=True, exist_ok=True)
        (self.work / "files" / LETTER).write_text("edited by hand, and never taken")
        value = json.loads((self.work / "bench.json").read_text())
        value["taken"].pop(LETTER, None)
        (self.work / "bench.json").write_text(json.dumps(value))
        self.assertIn("was edited", self.complaint("take", LETTER, cwd=self.work, status=5))

    def test_a_bench_that_could_not_be_made_can_be_made_again(self) -> None:
        failed = 0
        for at in range(1, 9):
            done = self.run_program("bench", self.source, "second", status=None, fault=f"full:{at}")
            if done.returncode == 0:
                break
            self.assertEqual(done.returncode, 6, done.stderr)
            failed += 1
        self.assertGreater(failed, 1)
        self.volvex("take", LAMPS, "--bench", "second")

    def test_odd_types_in_a_bench_are_told_in_words(self) -> None:
        path = self.work / "bench.json"
        good = json.loads(path.read_text())
        odd: list[object] = [None, 5, -1, 1.5, [], {}, "x", True, [[]], {"a": 1}, "\ud800", "../x", "\0"]
        for name, value in itertools.product(good, odd):
            path.write_text(json.dumps({**good, name: value}))
            done = self.run_program("changes", cwd=self.work, status=None)
            self.assertIn(done.returncode, (0, 3, 4), (name, value, done.stderr))
        path.write_text(json.dumps(good))
        built = self.work / "built" / "built.json"
        whole = json.loads(built.read_text())
        for name, value in itertools.product(("path", "size", "changes", "base"), odd):
            built.write_text(json.dumps({**whole, "files": [{**whole["files"][0], name: value}]}))
            done = self.run_program("install", cwd=self.work, status=None)
            self.assertIn(
                done.returncode, (0, 4, 5) if name in ("size", "changes") else (3, 4, 5), (name, value, done.stderr)
            )


class Files(Case):
    def test_a_source_is_closed_for_a_while_when_very_many_are_open(self) -> None:
        from volvex.source.source import FILES, FileSource

        paths = [self.folder / f"{number}" for number in range(FILES.limit + 60)]
        for path in paths:
            path.write_bytes(path.name.encode())
        before = FILES.held
        sources: list[Source] = [FileSource(path) for path in paths]
        try:
            self.assertLessEqual(FILES.held, max(before, FILES.limit))
            for path, source in zip(paths, sources, strict=True):
                self.assertEqual(source.read(0, source.size), path.name.encode())
            paths[0].write_bytes(b"X")
            with self.assertRaises(FormatError):
                sources[0].read(0, 1)
        finally:
            for source in sources:
                source.close()
        with self.assertRaises(ValueError):
            sources[0].read(0, 1)

    def test_the_journal_is_written_twice_and_the_newer_counts(self) -> None:
        from volvex.mods.journal import Installed, State

        digest = digest_file(Path(__file__))
        write_state(self.folder, State({"a": Installed(digest, digest)}), Disk())
        first = (self.folder / "state.json").read_bytes()
        state = read_state(self.folder)
        state.installed = {"b": Installed(None, digest)}
        write_state(self.folder, state, Disk())
        (self.folder / "state.json").write_bytes(first)  # an old copy of it came back
        self.assertEqual(list(read_state(self.folder).installed), ["b"])


if __name__ == "__main__":
    unittest.main()
