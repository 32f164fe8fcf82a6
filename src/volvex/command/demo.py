"""Make the stand-in game and do two whole mods on it, each command shown before its output.

The commands are real: copied by hand, they give the same. At the end every file of the game is compared with
what it was at the start.
"""

from __future__ import annotations

import argparse
import os
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import RefusedError, Status, VolvexError

PRIORITY = 70
EXAMPLES = ()
LAMPS, LETTER = "data/main.kwp/rules/lamps.xml", "data/main.kwp/letters/en/01-arrival.txt"
DEEP, POST = "vault/harbour.kvx/sheds/north.kvz/ledger.kwp/pages/colza.txt", "post/winter.kpz/letters/ansa.txt"
JOURNAL, TIDES = "isles/journals.kwj/cade/spring.txt", "isles/tides.kwv/the_pans.csv"
PLAY = ("python", "-m", "kelpwick", "play")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "dir", nargs="?", type=Path, metavar="DIR", help="where to do it (otherwise a temporary folder)"
    )


def run(options: argparse.Namespace, context: Context) -> int:
    if options.dir is not None:
        if options.dir.exists() and any(options.dir.iterdir()):
            raise RefusedError(f"{options.dir} is not empty", "a new folder for the demo")
        options.dir.mkdir(parents=True, exist_ok=True)
        return _Demo(options.dir.resolve(), context).run()
    with tempfile.TemporaryDirectory(prefix="volvex-demo-") as folder:
        return _Demo(Path(folder).resolve(), context).run()


class DemoError(VolvexError):
    """A step of the demo did not do what it should."""


class _Demo:
    """Runs commands and says why."""

    def __init__(self, folder: Path, context: Context) -> None:
        self.folder, self.context, self.here = folder, context, folder
        self.steps = 0

    def run(self) -> int:
        say, do, game = self.say, self.do, self.folder / "game"
        self.context.print(
            f"To repeat this by hand, have {Path(sys.executable).parent} on your path, and set VOLVEX_HOME={self.folder / 'home'}"
        )
        say("The game, made from a seed; nothing in it is real.")
        self.enter(self.folder)
        do("python", "-m", "kelpwick", "make", "game")
        do(*PLAY, "game")
        before = _digests(game)

        say("What is in there? Look at it without unpacking anything.")
        do("volvex", "survey", "game")
        do("volvex", "list", "game/data/main.kwp", "--tree")
        do("volvex", "list", "game/data/main.kwp/rules", "--sort", "size")
        do("volvex", "find", "game/data", "--text", "fresnel_3")
        do("volvex", "show", f"game/{LAMPS}")
        do("volvex", "layout", "explain", "game/data/main.kwp")
        do("volvex", "layout", "prove", "game/data/main.kwp")

        say(
            "Six more archives, no two of one kind: entries in a row, a hidden directory, hashes for names, a tree, objects, versions."
        )
        do("volvex", "layout", "prove", "game/isles")
        do("volvex", "list", "game/isles/soundings.kws", "game/isles/shores.kwt")
        do("volvex", "layout", "show", "Kelpwick journals")
        do("volvex", "layout", "explain", "game/isles/journals.kwj", "--records", "1")

        self.holds()
        self.hunt()
        self.first()
        self.again()
        self.meanings()
        after = _digests(game)
        self.check(f"{count(len(before), 'file')} of the game's folder have their original bytes (its own log, which it wrote to, aside)",
                   before == after)  # fmt: skip
        self.context.print(f"\n{count(self.steps, 'command')}, all as they should be.")
        return Status.OK

    def first(self) -> None:
        """A first mod: files taken, edited, built and installed."""
        say, do = self.say, self.do
        say("A bench, and in it what we want to change. The game is not touched.")
        do("volvex", "bench", "game", "bench")
        self.enter(self.folder / "bench")
        do("volvex", "take", LAMPS, LETTER)
        do("volvex", "set", LAMPS, "--row", "fresnel_3", "range=14", "oil=3.1")
        self.edit_letter()
        do("volvex", "take", JOURNAL, TIDES)
        self.write(JOURNAL, "The lamp was never out.")
        self.write(TIDES, "hour;height\\n1;9.25")
        do("volvex", "take", DEEP, POST)
        self.write(DEEP, "colza: 99 in store")
        self.write(POST, "For Ansa Tolk, before the ice is in.")
        do("volvex", "changes")

        say("Build the archive anew, look at what would happen, and put it into the game.")
        do("volvex", "build")
        do("volvex", "install", "--plan")
        do("volvex", "install")
        played = do(*PLAY, "../game")
        self.check("the lamp room shows the new range and oil use", "14 nm" in played and "3.1 l" in played)
        self.check("the letter has its new line", "counted them myself" in played)

        self.check(
            "the journal, which its archive hides, has its new page",
            "Cade Wether writes: The lamp was never out." in played,
        )
        self.check("the tide table in the other order of bytes has its new height", "high water 9.25 m" in played)

        self.check("the ledger three archives deep has its new line", "colza: 99 in store" in played)
        self.check(
            "the locked letter is read with its new line, under its old password",
            "For Ansa Tolk, before the ice is in." in played,
        )

    def again(self) -> None:
        """A second thought, and back."""
        say, do = self.say, self.do
        say("A second thought, written straight into the game's files: the originals are safe already.")
        do("volvex", "restore")
        do("volvex", "set", LAMPS, "--row", "fresnel_3", "range=17")
        do("volvex", "build", "--in-place")
        do("volvex", "set", LAMPS, "--row", "fresnel_3", "range=18")
        do("volvex", "build", "--in-place")
        self.check("the lamp room shows the range of the second thought", "18 nm" in do(*PLAY, "../game"))

        say("And back.")
        do("volvex", "restore")
        played = do(*PLAY, "../game")
        self.check(
            "the lamp room shows the old values", "9 nm         2.5 l" in played and "counted them myself" not in played
        )

    def holds(self) -> None:
        """What is locked, cut up, or within something else."""
        say, do = self.say, self.do
        say(
            "What is a file really? Archives at the tail of the executable, in pieces, behind a key, within each other."
        )
        do(
            "volvex",
            "identify",
            "game/kelpwick.exe",
            "game/deeps/deeps.kwp.001",
            "game/vault/harbour.kvx",
        )
        do("volvex", "list", "game/kelpwick.exe", "game/vault/harbour.kvx", "--deep")
        do("volvex", "list", "game/deeps/deeps.kwp.001", "game/peal/peal.kpi")
        say("The post is locked; the game's READ ME tells its password.")
        code = "open('password', 'w').write(open('game/READ ME.txt').read().split(': ')[1])"
        self.do("python", "-c", code, shown=f'python -c "{code}"')
        do("volvex", "keys", "add", "kelpwick-post", "--file", "password")
        do("volvex", "keys", "list")
        do("volvex", "show", "game/post/winter.kpz/letters/ansa.txt")
        do("volvex", "layout", "prove", "game/post", "game/vault", "game/deeps", "game/peal", "game/kelpwick.exe")

    def hunt(self) -> None:
        """Names for entries that have none: a bench of its own, so that the first mod starts from nothing."""
        say, do = self.say, self.do
        say("The loft has no names, only hashes of them. A few stand in a list; most are to be found.")
        do("volvex", "bench", "game", "hunt")
        self.enter(self.folder / "hunt")
        do("volvex", "names", "missing", "loft")
        mined = do("volvex", "names", "mine", "--all")
        pattern = "boats/{skiff,punt,barge}_{00..99}/{hull,sail}.{png,msh}"
        guessed = do(
            "volvex",
            "names",
            "guess",
            pattern,
            "soundings/{kelpwick,sallow_holm,the_pans,north_skerry,gannet_stack}/{ebb,flood}.sdg",
        )
        do("volvex", "names", "missing", "loft")
        self.check(
            "103 entries were nameless, 57 after mining, 27 after guessing",
            "103 before, 57 after" in mined and "57 before, 27 after" in guessed,
        )
        do("volvex", "names", "of", "9743")
        say("One path in several languages.")
        do("volvex", "list", "../game/speech/speech.kwl")
        do("volvex", "show", "../game/speech/speech.kwl/calls/ahoy.txt", "--variant", "de")
        self.enter(self.folder)

    def meanings(self) -> None:
        """A second mod, made by key and field in tables, texts, scenes and rules."""
        say, do, book = self.say, self.do, "data/almanac.kwp"
        say("A second mod, by meaning: the third Fresnel gets another lens. Where is it told which lens it has?")
        self.enter(self.folder)
        do("volvex", "bench", "game", "drum")
        self.enter(self.folder / "drum")
        do("volvex", "show", f"{book}/tables/lenses.kwb", "--where", "reach > 8", "--sort", "reach")
        do("volvex", "show", f"{book}/tables/fittings.kwb", "--row", "fresnel_3", "--follow")
        do("volvex", "show", f"{book}/tables/lenses.kwb", "--row", "103", "--users")
        do("volvex", "set", f"{book}/tables/fittings.kwb", "--row", "fresnel_3", "lens=140")
        found = do("volvex", "check", status=Status.DIFFERS)
        self.check("the slip is caught before the game does", "there is no 140 in lenses" in found)
        do("volvex", "set", f"{book}/tables/fittings.kwb", "--row", "fresnel_3", "lens=104")
        do("volvex", "set", f"{book}/rules/workshop.xml", "--row", "grind_3", "lens=104")
        do("volvex", "set", f"{book}/tables/lenses.kwb", "--where", "id == 103", "fitted = fitted - 1")
        do("volvex", "set", f"{book}/tables/lenses.kwb", "--where", "id == 104", "fitted = fitted + 1")

        say("A keeper gets another name, wherever it is shown, and not where it is part of another word.")
        do("volvex", "find", "../game/data", "--text", "Tolk")
        do("volvex", "set", "data/*.kwp/**", "--replace", "Tolk", "Marsh", "--whole-words")
        say("Something hidden in a scene is switched on; and a text is translated anew, as translators have it.")
        do("volvex", "show", f"{book}/scenes/lamp_room.kwn")
        do("volvex", "set", f"{book}/scenes/lamp_room.kwn", "--row", "6", "hidden=no")
        do("volvex", "take", f"{book}/texts/menu.kwx", "--as", "po", "--language", "de")
        file = f"open/{book}/texts/menu.kwx.de.po"
        code = f"t = open('{file}', encoding='utf-8').read(); open('{file}', 'w', encoding='utf-8').write(t.replace('An Land rudern', 'Heim rudern'))"
        do("python", "-c", code, shown=f'python -c "{code}"')
        do("volvex", "check")
        do("volvex", "changes", "--save", "drum.json")
        do("volvex", "build")
        do("volvex", "install")
        played = do(*PLAY, "../game", "--language", "de")
        self.check("the third Fresnel has its new lens", "Third Fresnel   Drum           16 nm" in played)
        self.check("the keeper has the new name, the town the old one", "Ansa Marsh. Kamst du über Tolkham?" in played)
        self.check("the chest stands in the lamp room", "Ansa Marsh's chest, 4 barrels" in played)
        self.check("the menu has its new line", "Heim rudern" in played)
        do("volvex", "restore")
        do(*PLAY, "../game")

    def say(self, text: str) -> None:
        self.context.print(f"\n{self.context.paint(f'-- {text}', 'bold')}")

    def enter(self, folder: Path) -> None:
        self.context.print(f"\n{self.context.paint('$ ' + shlex.join(['cd', str(folder)]), 'green')}")
        self.here = folder

    def do(self, *words: str, shown: str = "", status: int = Status.OK) -> str:
        """Show a command, run it, show what it says; what it said. DemoError when it ends with another status."""
        self.steps += 1
        told = (shown or shlex.join(words)) + (" || true" if status else "")
        self.context.print(f"\n{self.context.paint('$ ' + told, 'green')}")
        self.context.out.flush()
        program = [sys.executable, *words[1:]] if words[0] == "python" else [sys.executable, "-m", "volvex", *words[1:]]
        done = subprocess.run(program, cwd=self.here, env=_environment(self.context.environment, self.folder / "home"), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                              stderr=subprocess.STDOUT, encoding="utf-8")  # fmt: skip
        self.context.out.write(done.stdout)
        if done.returncode != status:
            raise DemoError(f"`{shlex.join(words)}` ended with status {done.returncode}")
        return done.stdout

    def edit_letter(self) -> None:
        """What a person does in an editor."""
        self.say("The letter is edited with any program; here a line is put at its end.")
        code = f"open('files/{LETTER}', 'a', newline='').write('I have counted them myself.\\n')"
        self.do("python", "-c", code, shown=f'python -c "{code}"')

    def write(self, path: str, text: str) -> None:
        """A file of the bench written anew, as if with an editor."""
        code = f"open('files/{path}', 'w', newline='').write('{text}\\n')"
        self.do("python", "-c", code, shown=f'python -c "{code}"')

    def check(self, what: str, holds: bool) -> None:
        """Say what was checked; DemoError when it does not hold."""
        if not holds:
            raise DemoError(f"this should hold and does not: {what}", "looking at the output above")
        self.context.print(f"{self.context.paint('checked', 'green')}: {what}")


def _environment(environment: Mapping[str, str], home: Path) -> dict[str, str]:
    """The demo's own home: its key is not put into the user's key file."""
    return {**os.environ, **environment, "PYTHONIOENCODING": "utf-8", "VOLVEX_HOME": str(home)}


def _digests(folder: Path) -> dict[str, str]:
    """Every file below a folder but the game's log, with its digest."""
    from volvex.source.digest import digest_file

    files = (path for path in folder.rglob("*") if path.is_file())
    return {
        name: digest_file(path)
        for path in files
        if not (name := path.relative_to(folder).as_posix()).startswith("logs/")
    }
