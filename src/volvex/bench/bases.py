"""What things of a bench were when they were taken, by their digests: needed when the game gets newer."""

from __future__ import annotations

import zlib
from pathlib import Path

from volvex.source import Disk, atomic
from volvex.source.digest import digest_bytes

FOLDER = "base"  # of a bench
LIMIT = 1 << 26  # bytes; larger files are not kept


def keep_base(folder: Path, digest: str, data: bytes, disk: Disk) -> None:
    """Keep the content of a digest in a bench's folder."""
    path = folder / FOLDER / digest
    if not path.exists():
        with atomic(disk, path, durable=False) as file:
            disk.write(file, zlib.compress(data, 1))


def base_of(folder: Path, digest: str) -> bytes | None:
    """The content of a digest; None when it is not kept."""
    try:
        data = zlib.decompress((folder / FOLDER / digest).read_bytes())
    except (OSError, zlib.error):
        return None
    return data if digest_bytes(data) == digest else None
