"""The front: finding commands, mistakes in words, exit statuses, tables, interruption."""

from __future__ import annotations

import io
import json
import os
import re
import signal
import subprocess
import sys
import time
import unittest
import zipfile
from pathlib import Path
from unittest import mock

import numpy as np

from tests.support import LAMPS, MAIN, PROGRAM, Case, KeptGame
from volvex import __version__
from volvex.archive.transfer.parallel import set_workers, workers
from volvex.command.ui.commands import COMMANDS, Entry, entry_of, summary_of
from volvex.command.ui.context import Context
from volvex.command.ui.help import parser_of
from volvex.command.ui.manual import manual
from volvex.command.ui.table import Column, Labels, Numbers, Prefixed, count, percent, print_table
from volvex.errors import FormatError, ManyErrors, NotFoundError, Status, VolvexError
from volvex.source import Disk


class Words(Case):
    def test_version_in_every_way(self) -> None:
        self.assertEqual(self.program("--version").stdout, f"volvex {__version__}\n")
        done = subprocess.run([sys.executable, "-m", "volvex", "--version"], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout, f"volvex {__version__}\n")

    def test_the_overview_lists_every_command(self) -> None:
        out = self.volvex()
        self.assertEqual(out, self.volvex("--help"))
        for word in ("survey", "list", "install", "restore", "demo"):
            self.assertRegex(out, rf"(?m)^  {word} +\S")
        self.assertLessEqual(max(map(len, out.splitlines())), 80)
        self.assertLessEqual(len(out.splitlines()), 42)

    def test_help_of_each_command(self) -> None:
        for name in COMMANDS.names():
            with self.subTest(name):
                command = COMMANDS.load(name)
                out = self.volvex(*name.split("."), "--help")
                self.assertIn(summary_of(command), " ".join(out.split()))
                self.assertIn("exit status", out)
                self.assertLessEqual(len(summary_of(command).split()), 10)
                for example in command.EXAMPLES:
                    self.assertIn(example, out)
                self.assertEqual(self.volvex("help", *name.split(".")), out)

    def test_the_manual_page_is_that_of_the_help(self) -> None:
        page = (Path(__file__).parent.parent / "docs" / "volvex.1").read_text("utf-8")
        self.assertEqual(page, manual(), "`python dev.py man` writes it")
        for name in COMMANDS.names():
            self.assertIn(f".SS volvex {name.replace('.', ' ')}\n".replace("-", "\\-"), page)

    def test_an_option_means_the_same_in_every_command(self) -> None:
        forms: dict[str, set[object]] = {}
        lacking = []
        for name in COMMANDS.names():
            command = COMMANDS.load(name)
            actions = [action for action in parser_of(name, command, 80)._actions if action.option_strings]
            words = {word for action in actions for word in action.option_strings}
            if "--json" not in words and name not in ("completion", "demo"):
                lacking.append((name, "--json"))
            if getattr(command, "WRITES", False) and "--plan" not in words:
                lacking.append((name, "--plan"))
            for action in actions:
                for word in action.option_strings:
                    forms.setdefault(word, set()).add(action.nargs)
        self.assertEqual(lacking, [])
        differing = {word for word, found in forms.items() if len(found) > 1}
        # a flag, or the file that it is about: `restore` names the files of a game
        self.assertEqual(differing - {"--overwrite", "--forget"}, set())
        force = {word for word in forms if re.search(r"force|yes|allow|any-|ignore-err|refuse", word)}
        self.assertEqual(force, set(), "the words of force are --overwrite and --anyway")

    def test_a_mistaken_command_suggests_the_near_one(self) -> None:
        self.assertIn("try `volvex list`", self.complaint("lsit", status=2))
        self.assertIn("layout has check, prove, explain, list, show, new", self.complaint("layout", "prov", status=2))
        self.assertIn("not a command", self.complaint("ui", status=2))
        self.assertIn("not a command", self.complaint("../x", status=2))

    def test_mistaken_options(self) -> None:
        self.assertIn("try `volvex list --help`", self.complaint("list", status=2))
        self.assertIn("unrecognized", self.complaint("list", "x", "--no-such", status=2))

    def test_debug_shows_where(self) -> None:
        done = subprocess.run(
            [str(PROGRAM), "list", "nowhere", "--debug"], capture_output=True, text=True, cwd=self.folder
        )
        self.assertIn("Traceback", done.stderr)
        self.assertNotEqual(done.returncode, 0)


LOADED = """
import os, sys
sys.stdout = sys.stderr = open(os.devnull, "w")
from volvex.__main__ import main
sys.argv[0] = "volvex"
main()
print(*sys.modules, file=sys.__stdout__)
"""


class Start(Case):
    """Each module that a command loads takes time at each start: it must be one that the command uses."""

    def loaded(self, *words: object) -> tuple[int, set[str]]:
        """How many modules of ours a command loads, and the packages that it loads."""
        command = [sys.executable, "-c", LOADED, *map(str, words)]
        done = subprocess.run(command, capture_output=True, text=True, env=self.environment(), check=True)
        names = done.stdout.split()
        return sum(name.startswith("volvex") for name in names), {name.partition(".")[0] for name in names}

    def test_a_command_loads_what_it_uses(self) -> None:
        game = self.game()
        bench = self.bench(game)
        with zipfile.ZipFile(self.folder / "two.zip", "w") as archive:
            archive.writestr("a.txt", "oil")
            archive.writestr("b.txt", "wick")
        main = game / "data/main.kwp"
        self.loaded("list", main)  # remembers the layouts
        for words, most, without in (
            (("--version",), 2, {"numpy", "argparse", "rich"}),
            ((), 22, {"numpy", "lark", "rich", "PIL"}),
            (("list", main), 161, {"lark", "rich", "PIL", "pandas", "av"}),
            (("list", self.folder / "two.zip"), 166, {"lark", "rich", "PIL", "pandas", "av"}),
            (("status", "--bench", bench), 304, {"lark", "rich", "PIL", "pandas", "av", "openpyxl"}),
        ):
            with self.subTest(words):
                count, packages = self.loaded(*words)
                self.assertLessEqual(count, most)
                self.assertEqual(packages & without, set())

    def test_the_grammar_s_tables_are_kept_and_made_again_when_damaged(self) -> None:
        layout = self.folder / "oil.layout"
        layout.write_text('layout "oil" kind table\nblock casks at 0 repeats until end\n    litres u8 id\n')
        (self.folder / "casks").write_bytes(b"\x05\x07")
        tables = self.home / "cache" / "grammar" / "layouts.tables"
        for before in (None, b"no tables", b""):
            if before is not None:
                tables.write_bytes(before)
            layout.write_text(layout.read_text() + "# another text is parsed again\n")
            out = self.program("show", "casks", "--layout", layout, "--json").stdout
            self.assertEqual([record["litres"] for record in json.loads(out)], ["5", "7"])
            self.assertGreater(tables.stat().st_size, 100_000)

    def test_the_overview_has_what_the_commands_have(self) -> None:
        for name in COMMANDS.names():
            command = COMMANDS.load(name)
            self.assertEqual(entry_of(name), Entry(command.PRIORITY, summary_of(command)), name)


class Quiet(KeptGame):
    def test_quiet_and_verbose_before_or_behind_the_command(self) -> None:
        path = f"{self.shared}/{MAIN}"
        for words in (("-v", "list", path), ("list", path, "-v")):
            self.assertIn("settings and keys:", self.run_program(*words).stderr)
        self.assertEqual(self.volvex("-q", "list", path), self.volvex("list", path))
        self.assertIn("survey", self.volvex("-q", "-v"))
        self.assertIn("volvex keys add", self.volvex("-q", "keys"))


class Progress(unittest.TestCase):
    def test_the_bar_moves(self) -> None:
        one = context()
        with (
            mock.patch.object(one.err, "isatty", return_value=True),
            mock.patch("rich.progress.Progress.update") as updated,
            one.progress("building", 1 << 25) as on_progress,
        ):
            on_progress(7)
        self.assertEqual(updated.call_args.kwargs, {"advance": 7})


class Settings(Case):
    def write(self, text: str) -> None:
        self.home.mkdir(exist_ok=True)
        (self.home / "settings.toml").write_text(text)

    def test_they_are_used(self) -> None:
        game = self.game()
        self.assertNotIn("\x1b[", self.volvex("find", game / "data", "--text", "fresnel_3"))
        before = workers()
        self.addCleanup(set_workers, before)
        self.write('colours = "always"\nworkers = 1\n')
        self.assertIn("\x1b[", self.volvex("find", game / "data", "--text", "fresnel_3"))
        self.assertEqual(workers(), 1)

    def test_mistakes_are_errors_with_what_is_allowed(self) -> None:
        for text, said in (
            ("workers = 0", "expected a number from 1 to 64"),
            ('colours = "pink"', "one of auto, always"),
            ("speed = 9", "expected one of the settings pager"),
            ("pager = 1", "a program"),
            ("=", "not valid TOML"),
        ):
            self.write(text)
            self.assertIn(said, self.complaint("keys", "list", status=4))


class Completion(KeptGame):
    def completed(self, line: str, cwd: Path | None = None) -> list[str]:
        out = self.folder / "completions"
        out.unlink(missing_ok=True)
        self.program(
            cwd=cwd or self.shared.parent,
            status=None,
            _ARGCOMPLETE="1",
            _ARGCOMPLETE_IFS="\n",
            COMP_LINE=line,
            COMP_POINT=str(len(line)),
            _ARGCOMPLETE_STDOUT_FILENAME=str(out),
        )
        return [text.strip() for text in out.read_text().splitlines()]

    def test_commands_options_and_paths_into_archives(self) -> None:
        name = self.shared.name
        for line, wanted in (
            ("volvex li", ["list"]),
            ("volvex names gu", ["guess"]),
            ("volvex list --so", ["--sort"]),
            (f"volvex list {name}/data/m", [f"{name}/{MAIN}"]),
            (f"volvex list {name}/{MAIN}/ru", [f"{name}/{MAIN}/rules/"]),
            (f"volvex show {name}/{MAIN}/rules/la", [f"{name}/{MAIN}/rules/lamps.xml"]),
            (f"volvex show {name}/nowhere/x", []),
        ):
            with self.subTest(line):
                self.assertEqual(self.completed(line), wanted)

    def test_on_a_bench_paths_are_as_in_the_game(self) -> None:
        bench = self.bench(self.shared)
        self.assertEqual(self.completed("volvex take data/main.kwp/rules/la", bench), [LAMPS])

    def test_each_shell_has_its_code(self) -> None:
        for shell in ("bash", "zsh", "fish", "powershell"):
            self.assertIn("volvex", self.volvex("completion", shell))


class Statuses(Case):
    def test_a_folder_that_may_not_be_read_is_one_line(self) -> None:
        game = self.game()
        out = self.folder / "file"
        out.write_text("x")
        said = self.complaint("unpack", game / MAIN, "--to", out / "below", status=6)
        self.assertIn("not a directory", said)

    def test_each_error_words_itself(self) -> None:
        error = FormatError("a.kwp", "wrong", offset=18, field="head.files", hint="another")
        self.assertEqual(error.lines(), ["a.kwp at 0x12, field head.files: wrong", "try another"])
        both = ManyErrors([VolvexError("one"), NotFoundError("two", "three")])
        self.assertEqual(both.lines(), ["one", "two", "try three"])
        self.assertEqual(both.status, Status.BAD_DATA)

    def test_nobody_reading_is_no_error(self) -> None:
        game = self.game()
        command = f'"{PROGRAM}" list "{game / MAIN}" --json | head -n 1'
        if os.name == "nt":
            self.skipTest("needs a POSIX shell")
        done = subprocess.run(
            ["bash", "-o", "pipefail", "-c", command], capture_output=True, text=True, env=self.environment()
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""))

    @unittest.skipIf(os.name == "nt", "signals are different there")
    def test_interrupted_work_leaves_nothing_half_written(self) -> None:
        from kelpwick.world import make_game

        make_game(self.folder / "big", scale=6)
        process = subprocess.Popen(
            [str(PROGRAM), "unpack", f"big/{MAIN}", "--to", "out"],
            cwd=self.folder,
            env=self.environment(),
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        until = time.monotonic() + 20
        while not (self.folder / "out" / "logbook").exists() and time.monotonic() < until and process.poll() is None:
            time.sleep(0.002)
        process.send_signal(signal.SIGINT)
        _, err = process.communicate()
        self.assertIn(process.returncode, (0, 130))
        self.assertNotIn("Traceback", err)
        self.assertEqual([path.name for path in (self.folder / "out").rglob("*part")], [])


def context(terminal: bool = False, colour: bool = False, width: int = 60) -> Context:
    return Context(io.StringIO(), io.StringIO(), terminal, colour, width, Path(), Disk(), {})


def table(columns: list[Column], **how: bool) -> str:
    one = context(**how)
    print_table(one, columns)
    assert isinstance(one.out, io.StringIO)
    return one.out.getvalue()


class Tables(unittest.TestCase):
    def test_lines_in_bulk_are_the_lines_made_one_by_one(self) -> None:
        rng = np.random.default_rng(4)
        sizes = np.concatenate(
            [np.array([0, 1, 9, 10, 999, 1000, 999_999, 1_000_000, 2**40]), rng.integers(0, 10**12, 70_000)]
        )
        names = [f"name {number}" for number in range(len(sizes))]
        kinds = Labels.of([("png", "xml", "-")[number % 3] for number in range(len(sizes))])
        bulk = table(
            [Column("size", Numbers(sizes), right=True), Column("type", kinds), Column("path", Prefixed("a/", names))]
        )
        plain = table(
            [
                Column("size", [f"{one:,}" for one in sizes.tolist()], right=True),
                Column("type", kinds.texts()),
                Column("path", ["a/" + name for name in names]),
            ]
        )
        self.assertEqual(bulk, plain)

    def test_narrow_numbers_and_empty_columns(self) -> None:
        self.assertEqual(
            table([Column("n", Numbers(np.array([0, 5])), right=True), Column("x", ["a", "b"])]), "n  x\n0  a\n5  b\n"
        )
        self.assertEqual(table([]), "")
        self.assertEqual(table([Column("n", Numbers(np.zeros(0, int)))]), "")

    def test_labels_put_together(self) -> None:
        both = Labels.joined([Labels.of(["a", "b"]), Labels.of(["c", "a"])])
        self.assertEqual(both.texts(), ["a", "b", "c", "a"])
        self.assertEqual(both.picked(np.array([3, 0])).texts(), ["a", "a"])

    def test_what_is_too_long_for_the_terminal_is_cut(self) -> None:
        one = context(terminal=True, width=30)
        print_table(one, [Column("n", ["1"]), Column("path", ["x" * 80])], cut=True)
        assert isinstance(one.out, io.StringIO)
        self.assertTrue(one.out.getvalue().splitlines()[1].endswith("…"))
        self.assertLessEqual(len(one.out.getvalue().splitlines()[1]), 30)

    def test_shares_are_honest(self) -> None:
        self.assertEqual(
            [percent(part, 10_000) for part in (0, 1, 99, 100, 5000, 9950, 9999, 10_000)],
            ["0%", "<1%", "<1%", "1%", "50%", ">99%", ">99%", "100%"],
        )
        self.assertEqual(
            (count(1, "file"), count(2000, "file"), count(0, "entry", "entries")),
            ("1 file", "2,000 files", "0 entries"),
        )


class Streams(KeptGame):
    def test_lists_go_into_a_pipe_without_colours(self) -> None:
        for words in (
            ("list", f"{self.shared}/{MAIN}"),
            ("survey", self.shared),
            ("find", self.shared / "data", "--text", "oil"),
            ("show", f"{self.shared}/{LAMPS}"),
        ):
            self.assertNotIn("\x1b", self.volvex(*words))

    def test_an_output_that_cannot_say_everything(self) -> None:
        out = subprocess.run(
            [str(PROGRAM), "show", f"{self.shared}/{MAIN}/letters/de/02-oil.txt"],
            capture_output=True,
            env=self.environment(PYTHONIOENCODING="ascii"),
            check=True,
        ).stdout
        self.assertIn(b"Vom \\xd6l", out)


if __name__ == "__main__":
    unittest.main()
