"""Kelpwick Light: a made-up lighthouse game that stands in for a real one.

`python -m kelpwick make DIR` writes its folder, `python -m kelpwick play DIR` loads it strictly.
It is the demo's material and the tests' judge, so it shares no code with Volvex: what it loads was
not merely written by its own reader.
"""


class GameError(Exception):
    """The game refuses to start; the text goes to its log."""
