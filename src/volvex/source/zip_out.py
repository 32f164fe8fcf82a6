"""ZIP files that are the same for the same files on every system: entries in the given order, without times."""

from __future__ import annotations

import shutil
import zipfile
from collections.abc import Iterable
from pathlib import Path
from typing import IO

_TIME = (1980, 1, 1, 0, 0, 0)


def write_zip(out: IO[bytes], files: Iterable[tuple[str, Path]], method: int = zipfile.ZIP_STORED) -> None:
    """Write files under these names. Stored by default: another compressor's version gives other bytes."""
    with zipfile.ZipFile(out, "w", method) as archive:
        for name, path in files:
            entry = zipfile.ZipInfo(name, _TIME)
            entry.external_attr, entry.compress_type = 0o644 << 16, method
            large = path.stat().st_size > 1 << 31
            with archive.open(entry, "w", force_zip64=large) as inner, path.open("rb") as source:
                shutil.copyfileobj(source, inner, 1 << 20)
