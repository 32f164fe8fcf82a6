"""Members that another package adds to each family, by entry points, used through the program; and the examples of
docs/extending.md."""

from __future__ import annotations

import json
import os
import re
import struct
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.support import PROGRAM, ROOT, Case

LAYOUT = """
layout "oil casks" kind ledger
little endian
known by "CASK" at 0

block head at 0
    mark   4 bytes  is "CASK"
    count  u32      count of casks
    check  u32      tally of casks

block casks after head repeats
    number  u16     id
    litres  u16     value
"""
DIGITS = """
layout "coal ledger" kind table
known by "COAL" at 0

block head at 0
    mark   4 bytes         is "COAL"
    count  u8              count of sacks

block sacks after head repeats
    number  halves 4        id
    pounds  halves 6 x 2    value
"""
PACKED = """
layout "mirrored" kind archive
little endian
known by "MIRR" at 0

block head at 0
    mark   4 bytes  is "MIRR"
    count  u32      count of files

block files after head repeats
    name    text 8  name
    start   u32     start of content
    stored  u32     stored size of content
    size    u32     size of content

content as mirror wrapped in plus
"""


BELL = """
layout "bell" kind sound
known by "BELL" at 0
block head at 0
    mark    4 bytes  is "BELL"
    rate    u16      rate
    chans   u8       channels
    coding  u8       encoding { 1 halved }
    frames  u32      frames
    size    u32      length of data
block data after head repeats until end
    byte    u8       samples
"""
PAGE = (ROOT / "docs" / "extending.md").read_text(encoding="utf-8")
EXAMPLE = re.compile(r"```python\n# harbour_tools/(\w+)\.py, family (\w+)\n(.*?)```", re.S)
MEMBERS = {family: (name, code) for name, family, code in EXAMPLE.findall(PAGE)}
WORKER = """
import contextlib, io, json, os, sys
from volvex.__main__ import main
for line in sys.stdin:
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
        folder, *words = json.loads(line)
        os.chdir(folder)
        sys.argv = ["volvex", *words]
        try:
            code = main()
        except SystemExit as stop:
            code = stop.code
    print(json.dumps([int(code or 0), out.getvalue()]), flush=True)
"""


def write_package(folder: Path) -> None:
    """The package, as pip would install it."""
    tools, info = folder / "harbour_tools", folder / "harbour_tools-1.0.dist-info"
    tools.mkdir(parents=True)
    info.mkdir()
    for name, code in MEMBERS.values():
        (tools / f"{name}.py").write_text(code)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: harbour-tools\nVersion: 1.0\n")
    lines = (
        f"[volvex.{family}]\n{name} = "
        f"harbour_tools.{name}{':member' if re.search('^member|class member', code, re.M) else ''}\n"
        for family, (name, code) in MEMBERS.items()
    )
    (info / "entry_points.txt").write_text("".join(lines))


class Extending(Case):
    """The examples of the page, and a member of every other family, in a package beside Volvex."""

    package: Path
    worker: subprocess.Popen[str]

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory(prefix="volvex-extending-")
        cls.addClassCleanup(holder.cleanup)
        cls.package = Path(holder.name).resolve() / "packages"
        write_package(cls.package)
        environment = {**os.environ, "VOLVEX_HOME": str(Path(holder.name) / "home"), "PYTHONPATH": str(cls.package)}
        cls.worker = subprocess.Popen(
            [sys.executable, "-c", WORKER],
            env=environment,
            encoding="utf-8",
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
        )
        cls.addClassCleanup(cls.worker.communicate)

    def with_package(self, *words: object, status: int = 0) -> str:
        """What the program prints when it finds the package: one process runs all command lines."""
        worker = self.worker
        assert worker.stdin is not None and worker.stdout is not None
        worker.stdin.write(json.dumps([str(self.folder), *map(str, words)]) + "\n")
        worker.stdin.flush()
        code, out = json.loads(worker.stdout.readline())
        self.assertEqual(code, status, out)
        return str(out)

    def test_a_checksum_a_kind_and_an_exchange_format(self) -> None:
        casks = struct.pack("<4H", 1, 40, 2, 300)
        data = b"CASK" + struct.pack("<II", 2, len(casks) - casks.count(0)) + casks
        (self.folder / "casks.dat").write_bytes(data)
        (self.folder / "casks.layout").write_text(LAYOUT)
        self.assertIn("2  ", self.with_package("show", "casks.dat", "--layout", "casks.layout"))
        self.with_package("layout", "prove", "casks.dat", "--layout", "casks.layout")
        self.with_package("convert", "casks.dat", "casks.psv", "--layout", "casks.layout")
        self.assertIn("2;300", (self.folder / "casks.psv").read_text())
        self.assertIn("there is no kind ledger", self.program("layout", "check", "casks.layout", status=None).stderr)

    def test_a_field_type(self) -> None:
        file, layout = self.folder / "coal.dat", self.folder / "coal.layout"
        file.write_bytes(b"COAL\x02" + bytes.fromhex("0001 000044 0127 000999"))
        layout.write_text(DIGITS)
        shown = self.with_package("show", "coal.dat", "--layout", "coal.layout")
        self.assertRegex(shown, r"127 +1,?998")
        self.with_package("layout", "prove", "coal.dat", "--layout", "coal.layout")
        without = self.program("show", "coal.dat", "--layout", "coal.layout", status=None)
        self.assertIn("`4` is not understood here", without.stderr)

    def test_a_file_type(self) -> None:
        (self.folder / "sea.bin").write_bytes(b"CHART\x07..")
        self.assertIn("sheet 7", self.with_package("identify", "sea.bin"))
        (self.folder / "chest.bin").write_bytes(bytes(range(200, 256)) * 9 + b"CHART\x08.." + bytes(range(200, 256)))
        found = self.with_package("identify", "chest.bin", status=1)
        self.assertIn("0x1f8  chart, 8 bytes", found)

    def test_a_compression_and_a_cipher(self) -> None:
        stored = bytes((byte + 7) % 256 for byte in b"The stair is not dry."[::-1])
        row = b"a.txt\0\0\0" + struct.pack("<III", 28, len(stored), len(stored))
        (self.folder / "a.mir").write_bytes(b"MIRR" + struct.pack("<I", 1) + row + stored)
        (self.folder / "m.layout").write_text(PACKED)
        said = self.with_package("show", "a.mir/a.txt", "--layout", "m.layout")
        self.assertEqual(said, "The stair is not dry.\n")
        self.with_package("layout", "prove", "a.mir", "--layout", "m.layout")

    def test_an_archive_format_a_form_of_data_and_a_command(self) -> None:
        (self.folder / "a.crate").write_bytes(b"CRATE\nOil for the lamp.")
        (self.folder / "day.notes").write_text("fog\nclear\n")
        self.assertIn("crate", self.with_package("survey", ".", "--all"))
        self.assertEqual(self.with_package("show", "a.crate/inside.txt"), "Oil for the lamp.\n")
        self.assertIn("notes", self.with_package("show", "day.notes", "--depth", "1"))
        self.assertEqual(self.with_package("weigh", "day.notes"), "10 bytes\n")
        self.assertIn("weigh", self.with_package())

    def test_a_kind_of_asset_is_shown_taken_put_back_and_checked(self) -> None:
        game, colours = self.folder / "game", b"\x10\x20\x30\xaa\xbb\xcc"
        game.mkdir()
        (game / "sky.pal").write_bytes(b"DYES" + colours)
        self.assertEqual(self.with_package("show", "game/sky.pal"), "game/sky.pal  palette, 10 bytes\n  colours   2\n")
        self.with_package("bench", "game", "bench")
        on = ("--bench", "bench")
        self.assertIn("opened as bench/open/sky.pal.dyes", self.with_package("take", "sky.pal", "--as", "dyes", *on))
        opened = self.folder / "bench/open/sky.pal.dyes"
        self.assertEqual(opened.read_text(), "#102030\n#aabbcc\n")
        opened.write_text("#102030\n#aabbdd\n")
        self.assertIn("changed  sky.pal", self.with_package("changes", *on))
        own = self.folder / "bench/files/sky.pal"
        self.assertEqual(own.read_bytes(), b"DYES" + colours[:5] + b"\xdd")
        self.assertIn("no errors", self.with_package("check", *on))
        opened.write_text("#102030\n")
        self.with_package("changes", *on, status=5)
        self.with_package("undo", "open/sky.pal.dyes", *on)
        own.write_bytes(b"DYES" + colours[:3])
        self.assertIn("it has 1 colours", self.with_package("check", *on, status=1))
        self.with_package("undo", ".", *on)
        self.with_package("changes", *on)
        self.assertEqual((own.read_bytes(), opened.read_text()), (b"DYES" + colours, "#102030\n#aabbcc\n"))

    def test_a_broken_package_is_one_line(self) -> None:
        package = self.folder / "packages"
        write_package(package)
        (package / "harbour_tools" / "weigh.py").write_text("import nowhere_at_all")
        done = self.program("weigh", "x", status=2, PYTHONPATH=str(package))
        self.assertIn("the command weigh of harbour_tools.weigh cannot be loaded", done.stderr)
        self.assertIn("survey", self.program(PYTHONPATH=str(package)).stdout)

    def test_what_is_broken_in_a_package_disables_nothing_of_ours(self) -> None:
        (self.folder / "a.csv").write_text("id,oil\nlamp,2\n")
        broken = {
            "picture_format": ("import nowhere_at_all", "ModuleNotFoundError"),
            "file_type": ("member = 5", "it has no TYPES"),
            "data_format": ("raise ValueError('salt')", "salt"),
            "archive_format": ("member = object()", "it has no TITLE"),
            "exchange": ("import nowhere_at_all", "ModuleNotFoundError"),
            "sound_format": ("import nowhere_at_all", "ModuleNotFoundError"),
        }
        package = self.folder / "packages"
        tools, info = package / "salt_tools", package / "salt_tools-1.0.dist-info"
        for folder in (tools, info):
            folder.mkdir(parents=True)
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: salt-tools\nVersion: 1.0\n")
        points = {family: [f"salt_{family} = salt_tools.{family}:member"] for family in broken}
        points["picture_format"].append("png = salt_tools.picture_format:member")
        for family, (code, _) in broken.items():
            (tools / f"{family}.py").write_text(code)
        text = "".join("\n".join([f"[volvex.{family}]", *lines, ""]) for family, lines in points.items())
        (info / "entry_points.txt").write_text(text)
        for words, families in (
            (("convert", "a.csv", "a.json"), ("picture_format", "data_format", "exchange")),
            (("list", "."), ("file_type",)),
            (("survey", "."), ("archive_format",)),
        ):
            done = self.program(*words, PYTHONPATH=str(package))
            for family in families:
                with self.subTest(words=words, family=family):
                    said = next(line for line in done.stderr.splitlines() if f"the {family} salt_{family}" in line)
                    self.assertIn(broken[family][1], said)
                    self.assertTrue(said.startswith("note: ") and said.endswith("; left out"), said)
        self.assertEqual(json.loads((self.folder / "a.json").read_text())["rows"][0]["oil"], "2")
        done = subprocess.run(
            [str(PROGRAM), "convert", "a.csv", "b.json", "--debug"],
            cwd=self.folder,
            env=self.environment(PYTHONPATH=str(package)),
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertIn(
            "the picture_format png of salt_tools.picture_format:member has the name of a built-in one", done.stderr
        )
        self.assertIn("ModuleNotFoundError: No module named 'nowhere_at_all'", done.stderr)

    def test_pictures_sounds_and_models(self) -> None:
        (self.folder / "a.shade").write_bytes(b"SHADE\x02\x01\x40\x80")
        (self.folder / "a.hum").write_bytes(b"HUM!" + struct.pack("<4h", 0, 900, 0, -900))
        (self.folder / "a.knot").write_bytes(b"KNOT" + struct.pack("<9f", 0, 0, 0, 1, 0, 0, 0, 1, 0))
        for name, said, out in (
            ("a.shade", "2 x 1", "png"),
            ("a.hum", "4 frames", "wav"),
            ("a.knot", "triangles 1", "glb"),
        ):
            self.assertIn(said, re.sub(" +", " ", self.with_package("show", name)))
            self.with_package("convert", name, f"a.{out}")
            self.with_package("convert", f"a.{out}", f"again.{name}")
            self.assertEqual((self.folder / f"again.{name}").read_bytes(), (self.folder / name).read_bytes())

    def test_an_encoding_of_samples(self) -> None:
        (self.folder / "bell.snd").write_bytes(
            b"BELL" + struct.pack("<HBBII", 8000, 1, 1, 4, 4) + bytes([0, 10, 0, 246])
        )
        (self.folder / "bell.layout").write_text(BELL)
        self.assertIn("4 frames", self.with_package("show", "bell.snd", "--layout", "bell.layout"))
        self.with_package("layout", "prove", "bell.snd", "--layout", "bell.layout")

    def test_every_family_has_a_short_example(self) -> None:
        sources = (file.read_text(encoding="utf-8") for file in (ROOT / "src" / "volvex").rglob("*.py"))
        families = {name for text in sources for name in re.findall(r"Registry(?:\[[^=]*?\])?\(\s*\"(\w+)\"", text)}
        self.assertEqual(families | {"compress", "cipher", "checksum"}, set(MEMBERS))
        for family, (name, code) in MEMBERS.items():
            with self.subTest(family=family, name=name):
                self.assertLessEqual(len(code.strip().splitlines()), 40)


if __name__ == "__main__":
    unittest.main()
