"""What every command can do besides its work: a plan that changes nothing, an account as JSON, `-` for a file."""

from __future__ import annotations

import json
import subprocess
import unittest
from pathlib import Path

from tests.support import PROGRAM, Case
from volvex.command.ui.commands import COMMANDS
from volvex.command.ui.help import parser_of
from volvex.source import Disk, atomic
from volvex.source.outputs import new_file
from volvex.source.rehearsal import AccountingDisk, Rehearsal

LAMPS = "data/main.kwp/rules/lamps.xml"
PACK = "data/main.kwp"
LENSES = "data/almanac.kwp/tables/lenses.kwb"


class Disks(Case):
    def work(self, disk: Disk) -> None:
        """All that a disk can be asked for, once."""
        kept = self.folder / "kept"
        with atomic(disk, kept / "new.txt", durable=False) as file:
            disk.write(file, b"new")
        self.assertEqual(disk.where(kept / "new.txt").read_bytes(), b"new")
        with new_file(disk, kept / "old.txt", overwrite=True) as file:
            disk.write(file, b"changed")
        disk.write_atomic(str(kept / "many.txt"), [b"a", b"bc"])
        disk.remove(kept / "gone.txt")
        disk.replace(kept / "folder", kept / "moved")

    def setUp(self) -> None:
        super().setUp()
        for name in ("old.txt", "gone.txt", "folder/inner.txt"):
            path = self.folder / "kept" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(name)

    def state(self) -> dict[str, bytes]:
        return {
            path.relative_to(self.folder).as_posix(): path.read_bytes()
            for path in self.folder.rglob("*")
            if path.is_file()
        }

    def test_a_secret_is_not_written_in_a_rehearsal(self) -> None:
        with Rehearsal(Disk()) as rehearsal:
            with atomic(rehearsal, self.folder / "keys", private=True) as file:
                rehearsal.write(file, b"the harbour is iced")
            self.assertEqual(rehearsal.where(self.folder / "keys").read_bytes(), b"")
        self.assertFalse((self.folder / "keys").exists())

    def test_a_rehearsal_counts_what_the_work_does_and_leaves_no_trace(self) -> None:
        before = self.state()
        with Rehearsal(Disk()) as rehearsal:
            self.work(rehearsal)
        self.assertEqual(self.state(), before)
        real = AccountingDisk(Disk())
        self.work(real)
        self.assertEqual((rehearsal.written, sorted(rehearsal.removed)), (real.written, sorted(real.removed)))
        kept = self.folder / "kept"
        self.assertEqual(
            {Path(path).relative_to(kept).as_posix(): size for path, size in real.written.items()},
            {"new.txt": 3, "old.txt": 7, "many.txt": 3, "moved/inner.txt": 16},
        )
        self.assertEqual(sorted(real.removed), [str(kept / "folder/inner.txt"), str(kept / "gone.txt")])
        self.assertNotEqual(self.state(), before)


class Commands(Case):
    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.work = self.bench(self.source)

    def test_an_account_has_the_files_and_the_results(self) -> None:
        records = json.loads(self.volvex("take", LAMPS, "--json", cwd=self.work))
        file = self.work / "files" / LAMPS
        self.assertIn({"what": "written", "path": str(file.resolve()), "size": file.stat().st_size}, records)
        found = json.loads(self.volvex("layout", "prove", self.source / PACK, "--json"))
        self.assertEqual([record["result"] for record in found], ["identical"])
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        records = json.loads(self.volvex("undo", ".", "--plan", "--json", cwd=self.work))
        self.assertEqual({record["what"] for record in records}, {"line"})

    def test_a_plan_of_what_writes_much_is_quick_and_complete(self) -> None:
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=self.work)
        self.assertEqual(
            self.volvex("build", "--plan", cwd=self.work), f"{PACK}: 1 change\nplan only, nothing changed\n"
        )
        self.assertIn("nothing was built", self.complaint("install", "--plan", cwd=self.work, status=3))
        said = self.volvex("build", "--in-place", "--plan", cwd=self.work)
        self.assertRegex(said, rf"{PACK}: [\d,]+ bytes to write\n")
        said = self.volvex("unpack", self.source / PACK, "--to", self.folder / "out", "--plan")
        self.assertIn("67 files", said)
        self.assertFalse((self.folder / "out").exists())

    def test_broken_work_fails_in_a_plan_too(self) -> None:
        self.volvex("take", LAMPS, cwd=self.work)
        (self.work / "files" / LAMPS).write_text("<lamps>")
        self.complaint("build", "--plan", cwd=self.work, status=5)


class Streams(Case):
    def piped(self, *words: object, data: bytes = b"", status: int = 0) -> bytes:
        """What a real process prints, given data on its standard input."""
        done = subprocess.run(
            [str(PROGRAM), *map(str, words)], input=data, capture_output=True, cwd=self.folder, env=self.environment()
        )
        self.assertEqual(done.returncode, status, done.stderr)
        self.said = done.stderr.decode()
        return done.stdout

    def test_a_file_goes_in_and_comes_out(self) -> None:
        game = self.game()
        pack = (game / PACK).read_bytes()
        self.assertIn(b"Kelpwick pack, 67 entries", self.piped("identify", "-", data=pack))
        self.assertIn(b"standard-input/letters/en/02-oil.txt", self.piped("list", "-", data=pack))
        table = self.piped("convert", game / LENSES, "-", "--as", "csv")
        self.assertTrue(table.decode("utf-8-sig").startswith("id,name,"))
        self.assertIn("6 records", self.said)
        back = self.piped("convert", "-", "-", "--as", "csv", "--like", game / LENSES, data=table)
        self.assertEqual(back, self.piped("show", "--raw", game / LENSES))
        self.piped("unpack", game / PACK, "--to", "out")
        self.assertEqual(self.piped("pack", "out", "--like", game / PACK, "--to", "-"), pack)
        self.assertEqual(self.piped("pack", "out", "--to", "-")[:2], b"PK")

    def test_changes_go_through_a_pipe(self) -> None:
        work = self.bench(self.game())
        self.volvex("set", LAMPS, "--row", "fresnel_3", "range=14", cwd=work)
        saved = self.piped("changes", "--bench", work, "--save", "-")
        self.assertIn(LAMPS, json.loads(saved)["files"])
        self.volvex("undo", ".", cwd=work)
        self.assertIn(b"1 change", self.piped("merge", "-", "--bench", work, data=saved))
        self.assertIn('range="14"', (work / "files" / LAMPS).read_text())

    def test_a_secret_comes_through_no_file(self) -> None:
        said = self.piped("keys", "add", "post", "--file", "-", "--plan", data=b"the harbour is iced\n")
        self.assertIn(b"plan only", said)
        self.assertIn(b"no keys", self.piped("keys", "list"))
        self.piped("keys", "add", "post", "--file", "-", data=b"the harbour is iced\n")
        self.assertIn(b"post", self.piped("keys", "list"))

    def test_errors_name_the_stream_and_not_a_temporary_file(self) -> None:
        self.piped("layout", "check", "-", data=b"x", status=4)
        self.assertTrue(self.said.startswith("volvex: standard-input:1:1:"), self.said)
        self.piped("compare", "-", "-", status=2)
        self.assertIn("twice", self.said)

    def test_what_a_command_lists_is_among_its_arguments(self) -> None:
        for name in COMMANDS.names():
            command = COMMANDS.load(name)
            known = {action.dest for action in parser_of(name, command, 80)._actions}
            listed = {text.partition(".")[0] for what in ("INPUTS", "OUTPUTS") for text in getattr(command, what, ())}
            self.assertLessEqual(listed, known, name)


if __name__ == "__main__":
    unittest.main()
