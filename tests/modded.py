"""A game with a bench and mods of several origins."""

from __future__ import annotations

import json
import re
from pathlib import Path

from tests.support import LAMPS, Case, digests


class WithGame(Case):
    """Mods of several origins on one game."""

    def setUp(self) -> None:
        super().setUp()
        self.source = self.game()
        self.old = self.content()
        self.work = self.bench(self.source)

    def made(self, name: str, *edits: str) -> Path:
        """A mod with some values of lamps set."""
        bench = self.folder / f"bench-{name}"
        self.volvex("bench", self.source, bench)
        for edit in edits:
            row, value = edit.split(" ")
            self.volvex("set", LAMPS, "--row", row, value, cwd=bench)
        self.volvex("mod", "new", self.folder / name, cwd=bench)
        return self.folder / name

    def content(self) -> dict[str, str]:
        return {
            name: digest for name, digest in digests(self.source).items() if not name.startswith((".volvex/", "logs/"))
        }

    def mod(self, *words: object, status: int | None = 0) -> str:
        done = self.run_program("mod", *words, "--game", self.source, status=status)
        return done.stdout + done.stderr

    def reach(self) -> str:
        """How far the player sees the third Fresnel lamp."""
        found = re.search(r"Third Fresnel +\w+ +([\d.]+) nm", self.play(self.source))
        return found[1] if found else ""

    def lamp(self, name: str) -> str:
        (found,) = json.loads(self.volvex("show", self.source / LAMPS, "--row", name, "--json"))
        return json.dumps(found)
