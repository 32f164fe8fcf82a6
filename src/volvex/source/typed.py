"""Values out of JSON files that anybody may have written: each is what it should be, or a ValueError in plain words."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

LARGEST = 1 << 28  # bytes of such a file


def load(path: Path) -> dict[str, Any]:
    """The object in a JSON file; ValueError when it holds anything else, OSError when it cannot be read."""
    with path.open("rb") as file:
        data = file.read(LARGEST + 1)
    return parsed(data)


def parsed(data: bytes) -> dict[str, Any]:
    """The object in a JSON text."""
    if len(data) > LARGEST:
        raise ValueError("it is too large")
    try:
        return mapping(json.loads(data))
    except RecursionError as error:
        raise ValueError("nested too deep") from error


def text(value: object) -> str:
    """A text."""
    if not isinstance(value, str):
        raise ValueError(f"a text is expected, not {_short(value)}")
    try:
        value.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError as error:
        raise ValueError("a text with half a character in it") from error
    return value


def whole(value: object) -> int:
    """A whole number of at least 0, such as a size."""
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value < 1 << 63:
        raise ValueError(f"a whole number is expected, not {_short(value)}")
    return value


def mapping(value: object) -> dict[str, Any]:
    """An object."""
    if not isinstance(value, dict):
        raise ValueError(f"an object is expected, not {_short(value)}")
    return value


def items(value: object) -> Iterator[tuple[str, dict[str, Any]]]:
    """The members of an object that are objects themselves."""
    return ((text(name), mapping(one)) for name, one in mapping(value).items())


def listed(value: object) -> list[Any]:
    """A list."""
    if not isinstance(value, list):
        raise ValueError(f"a list is expected, not {_short(value)}")
    return value


def member(value: dict[str, Any], name: str) -> Any:
    """A member that must be there."""
    if name not in value:
        raise ValueError(f"{name} is missing")
    return value[name]


def _short(value: object) -> str:
    return repr(value)[:40]
