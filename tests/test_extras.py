"""Packages that come with an extra: without them their commands say what to install, and all else works."""

from __future__ import annotations

import json
import subprocess
import sys
import tomllib
import unittest
import wave
from pathlib import Path

from PIL import Image

from tests.support import ROOT, Case
from volvex.extras import EXTRAS

LAMPS = "data/main.kwp/rules/lamps.xml"
WITHOUT = """
import json, os, sys
for name in json.loads(os.environ["MISSING"]):
    sys.modules[name] = None
from volvex.__main__ import main
sys.argv[0] = "volvex"
sys.exit(main())
"""


class Missing(Case):
    def without(self, missing: object, *words: object, status: int = 0, cwd: Path | None = None) -> str:
        """What a command prints, on both streams, where packages are not installed."""
        done = subprocess.run(
            [sys.executable, "-c", WITHOUT, *map(str, words)],
            capture_output=True,
            text=True,
            cwd=cwd or self.folder,
            env=self.environment(MISSING=json.dumps(missing)),
        )
        said = done.stdout + done.stderr
        self.assertEqual(done.returncode, status, said)
        return said

    def test_each_extra_is_named_where_it_is_missing(self) -> None:
        game = self.game()
        table, sail = game / "data/almanac.kwp/tables/lenses.kwb", game / "canvas/patience_sail.kwi"
        (self.folder / "cube.ply").write_text("ply\nformat ascii 1.0\nelement vertex 0\nend_header\n")
        for module, words in (
            ("pandas", ("convert", table, "a.csv")),
            ("openpyxl", ("convert", table, "a.xlsx")),
            ("lxml", ("convert", game / "data/almanac.kwp/texts/menu.kwx", "a.xlf", "--language", "de")),
            ("imagecodecs", ("convert", sail, "a.png")),
            ("av", ("convert", game / "opening/opening.webm", "a.wav")),
            ("trimesh", ("show", "cube.ply")),
        ):
            with self.subTest(module):
                said = self.without([module], *words, status=2)
                self.assertIn(f"the package {module} is not installed", said)
                self.assertIn(f"pip install 'volvex[{EXTRAS[module]}]'", said)

    def test_the_work_on_a_game_needs_no_extra(self) -> None:
        game, none = self.game(), sorted(EXTRAS)
        original = (game / "data/main.kwp").read_bytes()
        self.assertIn("17 archives open", self.without(none, "survey", game))
        self.without(none, "bench", game, "work")
        work = self.folder / "work"
        self.without(none, "set", LAMPS, "--row", "fresnel_3", "range=14", cwd=work)
        self.without(none, "take", "data/almanac.kwp/tables/lenses.kwb", "--as", "json", cwd=work)
        self.without(none, "take", "canvas/lens_glow.kwi", "--as", "png", cwd=work)
        with Image.open(work / "open/canvas/lens_glow.kwi.png") as image:
            image.transpose(Image.Transpose.FLIP_LEFT_RIGHT).save(work / "open/canvas/lens_glow.kwi.png")
        self.without(none, "take", "belfry/fog_bell.kbl", "--as", "wav", cwd=work)
        with wave.open(str(work / "open/belfry/fog_bell.kbl.wav")) as sound:
            self.assertGreater(sound.getnframes(), 0)
        self.assertIn("no errors", self.without(none, "check", cwd=work))
        self.without(none, "build", cwd=work)
        self.without(none, "install", cwd=work)
        self.assertNotEqual((game / "data/main.kwp").read_bytes(), original)
        self.without(none, "restore", cwd=work)
        self.assertEqual((game / "data/main.kwp").read_bytes(), original)


class Declared(unittest.TestCase):
    def test_the_extras_are_those_of_the_project(self) -> None:
        project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
        named = set(EXTRAS.values())
        self.assertLessEqual(named, project["optional-dependencies"].keys())
        everything = project["optional-dependencies"]["all"][0]
        for extra in named - {"astc", "cluster"}:
            self.assertIn(extra, everything)
        self.assertTrue((ROOT / "src/volvex/py.typed").is_file())


if __name__ == "__main__":
    unittest.main()
