"""The user's own layouts and game descriptions, as far as they are the user's own.

Mods are kept in the same folder, and hold what others made: nothing of theirs may count as a layout or a description,
whose command line `volvex start` runs.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from fnmatch import fnmatch
from pathlib import Path

MODS, CACHE = "mods", "cache"  # folders of the user's folder that are not looked through


def user_files(folder: Path, pattern: str) -> Iterator[Path]:
    """The files below a folder whose names match a pattern, sorted; not those of mods, and not what can be made
    again."""
    found: list[Path] = []
    for here, folders, files in os.walk(folder):
        if Path(here) == folder:
            folders[:] = [name for name in folders if name not in (MODS, CACHE)]
        found += [Path(here) / name for name in files if fnmatch(name, pattern)]
    return iter(sorted(found))
