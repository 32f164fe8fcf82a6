"""The folders of what ships with Volvex: layouts of open use, and the descriptions of games."""

from pathlib import Path

LAYOUTS = Path(__file__).parent / "layouts"
GAMES = Path(__file__).parent / "games"
