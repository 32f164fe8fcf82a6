"""Into the game and back: install, restore, their plans, and what a game's update does in between."""

from __future__ import annotations

import json
import os
import shutil
import time
import unittest
from pathlib import Path

from tests.support import LAMPS, MAIN, Case, digests
from volvex.errors import FormatError, RefusedError
from volvex.mods import install, installed, originals, recover, restore
from volvex.mods.journal import Installed, Move, Older, State, read_state, write_state
from volvex.mods.store import Store
from volvex.source import Disk
from volvex.source.digest import Fingerprint, digest_bytes, digest_file
from volvex.source.lock import held


class WithABuild(Case):
    """Tests with a game, and a bench in which something was built."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.before = digests(self.source)
        self.work = self.bench(self.source)
        self.do("set", LAMPS, "--row", "fresnel_3", "range=14")
        self.do("build")

    def do(self, *words: object, status: int = 0) -> str:
        return self.volvex(*words, cwd=self.work, status=status)

    def assert_original(self) -> None:
        """The folder is byte for byte what it was, and nothing of ours is left in it."""
        now = {name: digest for name, digest in digests(self.source).items() if not name.startswith("logs/")}
        self.assertEqual(now, self.before)
        self.assertFalse((self.source / ".volvex").exists())


class InstallAndRestore(WithABuild):
    def test_there_and_back(self) -> None:
        self.assertIn("replace", self.do("install"))
        self.assertIn("14 nm", self.play(self.source).split("Third Fresnel")[1].split("\n")[0])
        self.assertIn("put back", self.do("restore"))
        self.assertIn(" 9 nm", self.play(self.source).split("Third Fresnel")[1].split("\n")[0])
        self.assert_original()

    def test_times_and_modes_come_back_too(self) -> None:
        file = self.source / MAIN
        os.utime(file, ns=(10**18, 10**18 + 12345600))
        file.chmod(0o640)
        self.do("install")
        self.do("restore")
        self.assertEqual(file.stat().st_mtime_ns, 10**18 + 12345600)
        if os.name != "nt":
            self.assertEqual(file.stat().st_mode & 0o777, 0o640)

    def test_plans_touch_nothing(self) -> None:
        before = digests(self.folder)
        out = self.do("install", "--plan")
        self.assertIn("1 file would be changed; plan only, nothing changed", out)
        self.assertEqual(json.loads(self.do("install", "--plan", "--json"))[0]["action"], "replace")
        self.assertEqual(digests(self.folder), before)
        self.do("install")
        before = digests(self.folder)
        self.assertIn("put back", self.do("restore", "--plan"))
        self.assertEqual(digests(self.folder), before)

    def test_what_is_on_disk_while_installed(self) -> None:
        self.do("install")
        state = read_state(self.source / ".volvex")
        self.assertEqual(list(state.installed), [MAIN])
        self.assertEqual(state.moves, [])
        kept = Store(self.source / ".volvex" / "originals", Disk()).path(str(state.installed[MAIN].original))
        self.assertEqual(digest_bytes(kept.read_bytes()), state.installed[MAIN].original)
        self.assertEqual(list((self.source / ".volvex").rglob("*part*")), [])
        self.assertFalse((self.source / ".volvex" / "incoming").exists())

    def test_installed_twice_the_original_is_still_the_first(self) -> None:
        self.do("install")
        self.do("set", LAMPS, "--row", "fresnel_3", "range=20")
        self.do("build")
        self.do("install")
        self.do("install")
        self.assertIn("20 nm", self.play(self.source))
        self.do("restore")
        self.assert_original()

    def test_changes_are_told_against_the_original_while_installed(self) -> None:
        first = self.do("changes")
        self.do("install")
        self.assertEqual(self.do("changes"), first)
        self.assertIn("no changes", self.volvex("changes", cwd=self.other_bench()))

    def other_bench(self) -> Path:
        self.volvex("bench", self.source, self.folder / "other")
        return self.folder / "other"

    def test_a_bench_made_while_installed_takes_the_original(self) -> None:
        self.do("install")
        other = self.other_bench()
        self.volvex("take", LAMPS, cwd=other)
        self.assertIn(b'range="9"', (other / "files" / LAMPS).read_bytes())

    def test_added_files_and_their_folders_go_again(self) -> None:
        mine = self.folder / "note.txt"
        mine.write_text("a note")
        self.do("swap", "--new", "mods/deep/note.txt", mine)
        self.do("build")
        self.assertIn("add", self.do("install"))
        self.assertEqual((self.source / "mods/deep/note.txt").read_text(), "a note")
        self.assertIn("remove", self.do("restore"))
        self.assertFalse((self.source / "mods").exists())
        self.assert_original()

    def test_what_is_no_longer_in_the_build_goes_back(self) -> None:
        self.do("take", "kelpwick.ini")
        (self.work / "files/kelpwick.ini").write_text("[game]\nlanguage = de\n")
        self.do("build")
        self.do("install")
        self.do("take", LAMPS, "--overwrite")
        self.do("build")
        self.assertIn("put back", self.do("install"))
        self.assertEqual((self.source / MAIN).read_bytes(), (self.folder / "game" / MAIN).read_bytes())
        self.assertEqual(digests(self.source)[MAIN], self.before[MAIN])
        self.assertIn("A LETTER (de)", self.play(self.source))
        self.do("restore")
        self.assert_original()

    def test_two_files_with_the_same_original_content(self) -> None:
        for name in ("a.txt", "b.txt"):
            (self.source / name).write_text("the same")
        self.before = digests(self.source)
        for name in ("a.txt", "b.txt"):
            self.do("take", name)
            (self.work / "files" / name).write_text(f"changed {name}")
        self.do("build")
        self.do("install")
        self.do("restore")
        self.assert_original()

    def test_restore_by_the_game_s_folder_without_a_bench(self) -> None:
        self.do("install")
        shutil.rmtree(self.work)
        self.volvex("restore", self.source)
        self.assert_original()

    def test_a_game_that_was_moved_still_restores(self) -> None:
        self.do("install")
        moved = self.folder / "moved"
        shutil.move(self.source, moved)
        self.source = moved
        self.volvex("restore", moved)
        self.assert_original()

    def test_nothing_to_do(self) -> None:
        self.assertIn("nothing is installed", self.volvex("restore", self.source))
        self.assert_original()
        shutil.rmtree(self.work / "built")
        self.assertIn("volvex build", self.complaint("install", cwd=self.work, status=3))

    def test_a_file_that_the_game_writes_itself_is_not_installed(self) -> None:
        self.do("swap", "--new", "logs/kelpwick.log", self.work / "bench.json")
        self.do("build")
        self.assertIn("written by the game itself", self.complaint("install", cwd=self.work, status=5))


class Updates(WithABuild):
    """The game's files change while something is installed."""

    def update(self) -> bytes:
        data = bytearray((self.source / MAIN).read_bytes())
        data[7] ^= 1  # flags, which nobody checksums
        (self.source / MAIN).write_bytes(data)
        return bytes(data)

    def test_an_update_is_never_overwritten_with_an_older_original(self) -> None:
        self.do("install")
        updated = self.update()
        done = self.run_program("restore", cwd=self.work, status=5)
        self.assertIn("skipped: data/main.kwp", done.stderr)
        self.assertEqual((self.source / MAIN).read_bytes(), updated)
        kept = [path for path in (self.source / ".volvex" / "originals").rglob("*") if path.is_file()]
        self.assertEqual([digests(path.parent)[path.name] for path in kept], [self.before[MAIN]])
        self.assertIn(f"try `volvex restore --overwrite {MAIN}`", done.stderr)
        for _ in range(2):  # whatever was refused before
            again = self.run_program("restore", cwd=self.work, status=5)
            self.assertIn(f"volvex restore --overwrite {MAIN}", again.stderr)
            self.assertNotIn("nothing is installed", again.stdout)
        self.assertEqual([path for path in kept if not path.exists()], [], "the original is kept")

    def test_after_a_refusal_what_was_installed_is_still_known(self) -> None:
        self.do("install")
        mine = (self.source / MAIN).read_bytes()
        text = self.do("changes")
        self.update()
        self.run_program("restore", cwd=self.work, status=5)
        (self.source / MAIN).write_bytes(mine)
        self.assertEqual(self.do("changes"), text)
        self.do("restore")
        self.assert_original()

    def test_forced_the_original_goes_over_the_changed_file_which_is_kept(self) -> None:
        self.do("install")
        updated = self.update()
        self.assertIn("put back", self.do("restore", "--plan", "--overwrite", MAIN))
        self.assertTrue((self.source / ".volvex").exists())
        self.assertEqual((self.source / MAIN).read_bytes(), updated)
        self.assertIn(f"the changed file is in .volvex/aside/{MAIN}", self.do("restore", "--overwrite", MAIN))
        self.assertEqual(digests(self.source)[MAIN], self.before[MAIN])
        self.assertEqual((self.source / ".volvex" / "aside" / MAIN).read_bytes(), updated)
        self.assertIn("nothing is installed", self.do("restore"))
        self.assertEqual((self.source / ".volvex" / "aside" / MAIN).read_bytes(), updated, "the only copy stays")
        self.assertIn("no original of x", self.complaint("restore", "--overwrite", "x", cwd=self.work, status=3))

    def test_an_original_that_somebody_else_put_back_is_no_longer_kept(self) -> None:
        shutil.copy(self.source / MAIN, self.folder / "original")
        self.do("install")
        self.update()
        self.run_program("restore", cwd=self.work, status=5)
        shutil.copy(self.folder / "original", self.source / MAIN)
        self.do("restore")
        self.assert_original()

    def test_the_others_are_restored(self) -> None:
        self.do("take", "kelpwick.ini")
        (self.work / "files/kelpwick.ini").write_text("[game]\nlanguage = de\n")
        self.do("build")
        self.do("install")
        self.update()
        self.run_program("restore", cwd=self.work, status=5)
        self.assertEqual(digests(self.source)["kelpwick.ini"], self.before["kelpwick.ini"])

    def test_an_update_before_the_install_asks_for_a_new_build(self) -> None:
        self.update()
        said = self.complaint("install", cwd=self.work, status=5)
        self.assertIn("has changed since this was built", said)
        self.do("build")
        self.do("install")
        self.do("restore")

    def test_an_update_while_installed_is_a_new_original(self) -> None:
        original = (self.source / MAIN).read_bytes()
        self.do("install")
        (self.source / MAIN).write_bytes(original)  # the launcher puts its newest file there
        updated = self.update()
        self.complaint("install", cwd=self.work, status=5)
        self.do("build")
        self.do("install")
        self.run_program("restore", cwd=self.work, status=5)  # the older original is offered
        self.assertEqual((self.source / MAIN).read_bytes(), updated)

    def updated_and_installed(self) -> bytes:
        """Install, have the game updated over it, and install again; the original from before the update."""
        original = (self.source / MAIN).read_bytes()
        self.do("install")
        (self.source / MAIN).write_bytes(original)
        self.update()
        self.do("build")
        self.do("install")
        return original

    def test_the_older_original_is_kept_when_an_update_is_installed_over(self) -> None:
        original = self.updated_and_installed()
        state = read_state(self.source / ".volvex")
        store = Store(self.source / ".volvex" / "originals", Disk())
        self.assertEqual([store.path(older.original).read_bytes() == original for older in state.older], [True])
        said = self.run_program("restore", cwd=self.work, status=5).stderr
        self.assertIn("an older original", said)
        self.assertIn(f"volvex restore --forget {MAIN}", said)
        done = self.run_program("restore", cwd=self.work)  # said once
        self.assertNotIn("older", done.stdout + done.stderr)
        self.assertIn("an older original", self.run_program("restore", "--plan", cwd=self.work, status=5).stderr)
        self.assertEqual([store.path(older.original).read_bytes() == original for older in state.older], [True])
        self.do("restore", "--overwrite", MAIN)
        self.assertEqual((self.source / MAIN).read_bytes(), original)

    def test_an_older_original_is_let_go_when_asked_and_nothing_is_lost(self) -> None:
        original = self.updated_and_installed()
        self.run_program("restore", cwd=self.work, status=5)
        self.complaint("restore", "--forget", "data/almanac.kwp", cwd=self.work, status=3)
        self.assertIn("its older original is in", self.do("restore", "--forget", MAIN))
        self.assertEqual((self.source / ".volvex" / "aside" / MAIN).read_bytes(), original)
        self.assertEqual(read_state(self.source / ".volvex").older, [])
        self.assertIn("nothing is installed", self.do("restore"))
        self.assertEqual((self.source / ".volvex" / "aside" / MAIN).read_bytes(), original)

    def test_a_file_that_is_gone_is_put_back(self) -> None:
        note = self.folder / "note.txt"
        note.write_text("a note")
        self.do("swap", "--new", "mods/note.txt", note)
        self.do("build")
        self.do("install")
        (self.source / MAIN).unlink()
        shutil.rmtree(self.source / "mods")
        self.assertIn("put back", self.do("restore", "--plan"))
        self.do("restore")
        self.assert_original()

    def test_the_plan_says_that_it_would_be_left(self) -> None:
        self.do("install")
        self.update()
        done = self.run_program("restore", "--plan", cwd=self.work, status=5)
        self.assertIn("a game update?", done.stderr)


class Guards(WithABuild):
    def test_only_one_at_a_time(self) -> None:
        (self.source / ".volvex").mkdir()
        with held(self.source / ".volvex" / "lock"):
            self.assertIn("another volvex is at work", self.complaint("restore", self.source, status=5))
        self.volvex("restore", self.source)
        self.assertFalse((self.source / ".volvex").exists())

    def test_a_damaged_journal_is_left_as_it_is(self) -> None:
        self.do("install")
        state = self.source / ".volvex" / "state.json"
        for text in ("", "{}", state.read_text().replace('"installed"', '"instaled"'), state.read_text()[:50]):
            kept = digests(self.source)
            good = state.read_text(), state.with_name("state.copy.json").read_text()
            state.write_text(text)
            state.with_name("state.copy.json").write_text(text)
            self.assertIn("not a valid journal", self.complaint("restore", self.source, status=4))
            self.complaint("changes", cwd=self.work, status=4)
            state.write_text(good[0])
            state.with_name("state.copy.json").write_text(good[1])
            self.assertEqual(
                {**digests(self.source), ".volvex/lock": ""}, {**kept, ".volvex/lock": ""}, "nothing is touched"
            )
        self.do("restore")
        self.assert_original()

    def test_a_damaged_original_is_noticed_and_nothing_is_done(self) -> None:
        self.do("install")
        now = digests(self.source)[MAIN]
        kept = next(path for path in (self.source / ".volvex" / "originals").rglob("*") if path.is_file())
        data = bytearray(kept.read_bytes())
        data[100] ^= 1
        kept.write_bytes(data)
        self.assertIn("missing or damaged", self.run_program("restore", self.source, status=5).stderr)
        self.assertEqual(digests(self.source)[MAIN], now)

    def test_a_path_out_of_the_game_is_refused(self) -> None:
        mine = self.folder / "x"
        mine.write_bytes(b"x")
        for name in ("../x.txt", "data/../../x.txt"):
            with self.assertRaises(RefusedError):
                install(self.source, {name: mine}, {name: None}, Disk())
        (self.source / "link").symlink_to(self.folder, target_is_directory=True)
        with self.assertRaises(RefusedError):
            install(self.source, {"link/x.txt": mine}, {"link/x.txt": None}, Disk())
        (self.source / "link").unlink()
        self.assert_original()

    def test_a_journal_that_was_tampered_with(self) -> None:
        self.do("install")
        state = self.source / ".volvex" / "state.json"
        good = state.read_text()
        secret = self.folder / "secret"
        secret.write_text("mine")
        original = json.loads(good)["state"]["installed"][MAIN]["original"]
        move = {
            "path": "kelpwick.ini",
            "old": digest_file(self.source / "kelpwick.ini"),
            "new": digest_file(secret),
            "incoming": "../../secret",
            "aside": "replaced/0",
            "folder": "",
            "stamp": "",
        }
        for tampered in (
            good.replace(f'"{MAIN}"', '"../secret"'),
            good.replace(original, "xx/etc/passwd"),
            good.replace('"moves": []', f'"moves": [{json.dumps(move)}]'),
            good.replace('"verb": ""', '"verb": "\\u001b[2J"'),
        ):
            self.assertNotEqual(tampered, good)
            value = json.loads(tampered)
            value["checksum"] = digest_bytes(
                json.dumps(value["state"], indent=1).encode()
            )  # as somebody would who knows how
            for name in ("state.json", "state.copy.json"):
                state.with_name(name).write_text(json.dumps(value))
            self.assertNotIn("\x1b", self.complaint("restore", self.source, status=4))
            self.complaint("take", MAIN, cwd=self.work, status=4)
            self.assertEqual(secret.read_text(), "mine")
        for name in ("state.json", "state.copy.json"):
            state.with_name(name).write_text(good)
        self.do("restore")
        self.assert_original()

    def test_a_manifest_that_was_tampered_with(self) -> None:
        manifest = self.work / "built" / "built.json"
        manifest.write_text(manifest.read_text().replace(MAIN, "../../evil"))
        self.complaint("install", cwd=self.work, status=4)
        manifest.write_text("{")
        self.assertIn("built.json", self.complaint("install", cwd=self.work, status=4))
        self.assert_original()

    @unittest.skipIf(os.name == "nt" or os.geteuid() == 0, "needs a user without all rights")
    def test_a_game_that_may_not_be_written(self) -> None:
        (self.source / MAIN).chmod(0o400)
        self.assertIn("cannot be written", self.complaint("install", cwd=self.work, status=5))


class Parts(Case):
    """The store, the journal and the fingerprints on their own."""

    def test_an_object_is_named_by_its_content_and_stored_once(self) -> None:
        file = self.folder / "f"
        file.write_bytes(b"the original")
        store = Store(self.folder / "originals", Disk())
        digest = store.put(file, lambda size: None)
        self.assertEqual(digest, digest_file(file))
        first = store.path(digest).stat().st_mtime_ns
        time.sleep(0.01)
        os.utime(file)
        self.assertEqual(store.put(file, lambda size: None), digest)
        self.assertEqual(store.path(digest).stat().st_mtime_ns, first)
        self.assertTrue(store.is_sound(digest, lambda size: None))
        store.path(digest).write_bytes(b"the oriXinal")
        self.assertFalse(store.is_sound(digest, lambda size: None))
        self.assertEqual(store.put(file, lambda size: None), digest)
        self.assertTrue(
            store.is_sound(digest, lambda size: None), "a damaged one is replaced when a sound one is there"
        )

    def test_a_copy_that_does_not_read_back_does_not_count(self) -> None:
        class Liar(Disk):
            def write(self, file, data):  # type: ignore[no-untyped-def]
                super().write(file, b"x" + bytes(data)[1:])

        file = self.folder / "f"
        file.write_bytes(b"the original")
        with self.assertRaises(FormatError) as caught:
            Store(self.folder / "originals", Liar()).put(file, lambda size: None)
        self.assertIn("did not read back", caught.exception.message)
        self.assertEqual([path for path in (self.folder / "originals").rglob("*") if path.is_file()], [])

    def test_the_journal_comes_back_as_it_was(self) -> None:
        text, two, three = (digest_bytes(name) for name in (b"1", b"2", b"3"))
        state = State(
            {"a": Installed(text, two), "b": Installed(None, three, "mods")},
            [Older("a", three)],
            "install",
            [Move("a", text, two, "incoming/0", "replaced/0"), Move("b", three, None, None, "replaced/1", "mods")],
            [],
            {"a": Installed(text, two)},
        )
        write_state(self.folder, state, Disk())
        self.assertEqual(read_state(self.folder), state)
        for name in ("state.json", "state.copy.json"):  # each of them is enough
            path = self.folder / name
            data = path.read_bytes()
            for at in range(0, len(data), 499):
                path.write_bytes(data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :])
                self.assertEqual(read_state(self.folder), state, f"{name} damaged at {at}")
            path.write_bytes(data)
        self.assertEqual(read_state(self.folder / "none"), State())

    def test_fingerprints_notice_another_version(self) -> None:
        file = self.folder / "big"
        data = bytearray(os.urandom(3_000_000))
        file.write_bytes(data)
        first = Fingerprint.of(file)
        self.assertEqual(Fingerprint.of(file), first)
        for at in (0, len(data) - 1, len(data) // 15 * 3 + 10):
            data[at] ^= 1
            file.write_bytes(data)
            self.assertNotEqual(Fingerprint.of(file), first)
            data[at] ^= 1
        file.write_bytes(data + b"x")
        self.assertNotEqual(Fingerprint.of(file), first)

    def test_the_core_installs_and_restores_without_the_program(self) -> None:
        game = self.game()
        before = digests(game)
        mine = self.folder / "mine"
        mine.write_bytes(b"[game]\n")
        base = Fingerprint.of(game / "kelpwick.ini")
        done = install(game, {"kelpwick.ini": mine}, {"kelpwick.ini": base}, Disk())
        self.assertEqual(
            [(action.path, action.what, action.after) for action in done.actions], [("kelpwick.ini", "replace", 7)]
        )
        self.assertEqual(list(installed(game)), ["kelpwick.ini"])
        original = originals(game)["kelpwick.ini"]
        assert original is not None
        self.assertEqual(digests(original.parent)[original.name], before["kelpwick.ini"])
        self.assertEqual(recover(game, Disk()), "")
        restore(game, Disk())
        self.assertEqual(digests(game), before)


if __name__ == "__main__":
    unittest.main()
