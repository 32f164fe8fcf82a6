"""The user's key file: secrets by name, readable by nobody else, the one that was right last first."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path

from volvex.errors import FormatError, NotFoundError
from volvex.layout.keyring import Key
from volvex.source import Disk, atomic, typed
from volvex.source.disk import clear_stale
from volvex.source.lock import held

FORMAT = 1
NAME = "keys.json"


LOCK = "keys.lock"


def read_keys(folder: Path) -> list[Key]:
    """The keys in a folder's file, in their order; none when there is no file. FormatError when it is not sound."""
    path = folder / NAME
    clear_stale(path)
    if not path.is_file():
        return []
    try:
        value = typed.load(path)
        if typed.whole(typed.member(value, "keys")) != FORMAT:
            raise ValueError("a key file of another version")
        secrets = [typed.mapping(one) for one in typed.listed(typed.member(value, "secrets"))]
        return [Key(typed.text(secret["name"]), bytes.fromhex(typed.text(secret["hex"]))) for secret in secrets]
    except (ValueError, KeyError):  # what it says is not repeated, nor where it came from: it may be half a secret
        raise FormatError(path, "not a valid key file", hint="moving it away, and adding the keys again") from None


def read_by_others(folder: Path) -> bool:
    """Whether other users of this computer can read the file."""
    path = folder / NAME
    return os.name != "nt" and path.is_file() and bool(path.stat().st_mode & 0o077)


def write_keys(folder: Path, keys: list[Key], disk: Disk) -> None:
    """Replace the file; it is the user's alone from its first byte on."""
    value = {"keys": FORMAT, "secrets": [{"name": key.name, "hex": key.secret.hex()} for key in keys]}
    with atomic(disk, folder / NAME, private=True) as file:
        disk.write(file, (json.dumps(value, indent=1) + "\n").encode())


def add_key(folder: Path, key: Key, disk: Disk) -> bool:
    """Add a key in front of the others; whether one of that name was replaced."""
    with held(folder / LOCK):
        keys = read_keys(folder)
        others = [one for one in keys if one.name != key.name]
        write_keys(folder, [key, *others], disk)
    return len(others) < len(keys)


def remove_key(folder: Path, name: str, disk: Disk) -> None:
    """Forget a key; NotFoundError when there is none of that name."""
    with held(folder / LOCK):
        keys = read_keys(folder)
        left = [key for key in keys if key.name != name]
        if len(left) == len(keys):
            raise NotFoundError(f"there is no key {name}", "`volvex keys list`")
        write_keys(folder, left, disk)


def was_right(folder: Path, name: str, disk: Disk) -> None:
    """Put a key in front of the others; only a convenience, so that a folder that cannot be written does no harm."""
    with contextlib.suppress(PermissionError), held(folder / LOCK):
        keys = read_keys(folder)
        if keys and keys[0].name != name and any(key.name == name for key in keys):
            write_keys(folder, sorted(keys, key=lambda one: one.name != name), disk)
