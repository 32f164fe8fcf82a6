"""Ways in which content is varied to try a format out."""

from __future__ import annotations

GROWN, SHRUNK, EMPTIED, NEW = "grown", "shrunk", "emptied", "new"


def varied(content: bytes, how: str, number: int) -> bytes:
    """Other content like some: longer, shorter, none, or new content, which is longer by its number."""
    if how == NEW:
        return b"new " * (500 + number)
    return content * 2 + b"and more" if how == GROWN else content[: len(content) // 2] if how == SHRUNK else b""
