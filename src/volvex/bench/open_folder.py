"""The folder `open` of a bench: files for other programs. What is the same for data, pictures and sprites."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError
from volvex.source import atomic
from volvex.source.digest import digest_file

FOLDER = "open"


def write_file(bench: Workbench, target: Path, data: bytes) -> None:
    """Write a file of the bench in one step."""
    with atomic(bench.disk, target, durable=False) as out:
        bench.disk.write(out, data)


def is_edited(bench: Workbench, file: str) -> bool:
    """Whether a file of the folder is another than the one that was written; True for a file that was not."""
    known, source = bench.opened.get(file), bench.folder / file
    return source.is_file() and (known is None or digest_file(source) != known.digest)


def require_unedited(bench: Workbench, files: Iterable[str]) -> None:
    """RefusedError when writing these files again would lose an edit."""
    edited = next((file for file in files if is_edited(bench, file)), None)
    if edited is not None:
        raise RefusedError(f"{edited} was edited and would be lost", "--refresh to write it again")
