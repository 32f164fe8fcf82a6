"""Lists of names from the web: fetched when the user asks, checked, and taken only when they are no worse than what is
there."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from urllib.parse import unquote

from volvex.errors import FormatError
from volvex.names.dictionary import ENDING, Dictionary, decoded, parsed
from volvex.source import Disk, atomic, typed
from volvex.source.digest import digest_bytes
from volvex.source.fetch import Fetched, fetch, path_of

LARGEST = 1 << 28  # bytes of a list
WORST = 0.5  # of the names that are there: a list with fewer is taken for a mistake
_PAGE = re.compile(rb"\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype html|html)", re.I | re.S)

Ask = Callable[[str, int, str, str], Fetched]


@dataclass(frozen=True)
class Updated:
    """What became of a list: names in it and new ones; the entries that had and have a name; or why it was not
    taken."""

    address: str
    file: Path
    names: int = 0
    new: int = 0
    before: int | None = None
    after: int | None = None
    same: bool = False
    refused: str = ""


def file_name(address: str, others: set[str]) -> str:
    """The name of the file for a list; of two with one name the later has a number."""
    stem = PurePosixPath(unquote(path_of(address))).stem
    stem = re.sub(r"[^A-Za-z0-9_-]+", "-", stem).strip("-")[:60] or "list"
    name, number = stem, 1
    while f"{name}{ENDING}" in others:
        number += 1
        name = f"{stem}-{number}"
    return f"{name}{ENDING}"


def update_list(
    address: str, file: Path, memory: Path, disk: Disk, named: Callable[[], int | None] = lambda: None, ask: Ask = fetch
) -> Updated:
    """Renew one list. `memory` is where servers' marks are kept; `named` counts the entries of the user's games that
    have names, and is None where no game is known. The list that is there stays when the new one names fewer, or has
    half as many names, and when it was not fetched from there or was changed since.

    RefusedError, NotFoundError for what goes wrong on the way; FormatError when it is no list of paths in UTF-8.
    """
    known = _known(memory).get(address, {})
    there = file.read_bytes() if file.is_file() else None
    if there is not None and known.get("digest") != digest_bytes(there):  # somebody's own work
        return Updated(
            address,
            file,
            len(Dictionary(file).lines()),
            refused=f"{file.name} was made or changed here: another name keeps it",
        )
    marks = known if there is not None else {}
    got = ask(address, LARGEST, marks.get("etag", ""), marks.get("modified", ""))
    if got.data is None or got.data == there:
        count = len(Dictionary(file).lines())
        return Updated(address, file, count, same=True)
    names, old = _names(got.data, address), set(Dictionary(file).lines()) if there is not None else set()
    new = len(names - old)
    if len(names) < WORST * len(old):
        return Updated(
            address, file, len(names), new, refused=f"it has {len(names):,} names, the present list {len(old):,}"
        )
    before = named()
    _write(file, got.data, disk)
    after = named()
    if before is not None and after is not None and after < before:
        if there is not None:
            _write(file, there, disk)
        else:
            disk.remove(file)
        return Updated(
            address,
            file,
            len(names),
            new,
            before,
            after,
            refused=f"with it {after:,} entries have a name, now {before:,}",
        )
    _remember(memory, address, {"etag": got.etag, "modified": got.modified, "digest": digest_bytes(got.data)}, disk)
    return Updated(address, file, len(names), new, before, after)


def _names(data: bytes, address: str) -> set[str]:
    if _PAGE.match(data[: 1 << 12]):
        raise FormatError(address, "this is a web page, not a list of names", hint="the address of the list itself")
    if not data.strip():
        raise FormatError(address, "the list is empty", hint="the address of the list itself")
    return set(parsed(decoded(data, address, "utf-8-sig"), address))


def _write(file: Path, data: bytes, disk: Disk) -> None:
    disk.make_folder(file.parent)
    with atomic(disk, file) as out:
        disk.write(out, data)


def _known(memory: Path) -> dict[str, dict[str, str]]:
    with contextlib.suppress(OSError, ValueError):
        return {
            address: {name: typed.text(mark) for name, mark in marks.items()}
            for address, marks in typed.items(typed.load(memory))
        }
    return {}


def _remember(memory: Path, address: str, marks: dict[str, str], disk: Disk) -> None:
    disk.make_folder(memory.parent)
    with atomic(disk, memory, durable=False) as file:
        disk.write(file, json.dumps({**_known(memory), address: marks}, indent=1).encode())
