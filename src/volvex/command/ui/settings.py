"""The user's settings: `settings.toml` in Volvex's folder.

pager = "less -R"     # the program that shows long text; "" for none
colours = "auto"      # auto, always or never
workers = 4           # how many cores are used
"""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from pathlib import Path

from volvex.command.ui.context import SETTINGS
from volvex.errors import FormatError

COLOURS = ("auto", "always", "never")
MOST = 64  # workers


@dataclass(frozen=True)
class Settings:
    """What a user has chosen; None where the default holds."""

    pager: str | None = None
    colours: str = "auto"
    workers: int | None = None


def read_settings(home: Path) -> Settings:
    """The settings in a folder; FormatError for a setting that does not exist, or has a wrong value."""
    path = home / SETTINGS
    try:
        values = tomllib.loads(path.read_bytes().decode())
    except FileNotFoundError:
        return Settings()
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise FormatError(path, f"not valid TOML: {error}", hint="correcting it, or removing the file") from error
    for name, value in values.items():
        expected = _expected(name, value)
        if expected:
            raise FormatError(
                path, f"{name} is {value!r}, expected {expected}", hint="correcting it, or removing the line"
            )
    return Settings(**values)


def _expected(name: str, value: object) -> str:
    """What a setting should be; empty when it is."""
    if name == "pager":
        return "" if isinstance(value, str) else "the name of a program"
    if name == "colours":
        return "" if value in COLOURS else f"one of {', '.join(COLOURS)}"
    if name == "workers":
        sound = isinstance(value, int) and not isinstance(value, bool) and 1 <= value <= MOST
        return "" if sound else f"a number from 1 to {MOST}"
    return "one of the settings pager, colours, workers"
