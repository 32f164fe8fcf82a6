"""Patterns of paths: `*`, `?` and `[...]` within one component, `**` any number of components."""

from __future__ import annotations

import functools
import re

WILD = re.compile(r"[*?\[]")


def regex_of(parts: list[str], below: bool) -> str:
    """An expression for components with wildcards. It takes the first way that fits at each wildcard but the last,
    which is enough, and never tries all of them."""
    runs: list[list[str]] = [[]]  # between one `**` and the next
    for part in parts:
        if part == "**":
            runs.append([])
        else:
            runs[-1].append(_component(part))
    out = "".join(f"{part}/" for part in runs[0]) if len(runs) > 1 else "/".join(runs[0])
    for run in runs[1:-1]:
        if run:
            out += f"(?>(?:[^/]*+/)*?{''.join(f'{part}/' for part in run)})"
    if len(runs) > 1:
        out += f"(?:[^/]*+/)*{'/'.join(runs[-1])}" if runs[-1] else ".*"
    rest = "(?:/.*)?" if below and parts[-1] != "**" else ""
    return f"(?s:{out}{rest})"


def _component(part: str) -> str:
    """One component as an expression that does not pass a slash."""
    stretches = [""]  # between one `*` and the next
    for piece in re.split(r"(\*+|\?|\[!?\]?[^\]/]*\])", part):
        if piece.startswith("*"):
            stretches.append("")
        elif piece == "?":
            stretches[-1] += "[^/]"
        elif piece.startswith("[") and piece.endswith("]"):
            stretches[-1] += _bracket(piece)
        else:
            stretches[-1] += re.escape(piece)
    first, *rest = stretches
    if not rest:
        return first
    return first + "".join(f"(?>[^/]*?{text})" for text in rest[:-1]) + f"[^/]*{rest[-1]}"


def _bracket(piece: str) -> str:
    """`[a-z]` or `[!a-z]`; what is no sound choice of characters stands for itself."""
    inside, negated = piece[1:-1], piece.startswith("[!")
    plain = re.sub(r"([\\^&~|\[\]])", r"\\\1", inside[1:] if negated else inside)
    choice = f"[^{plain}/]" if negated else f"[{plain}]"
    try:
        re.compile(choice)
    except re.error:
        return re.escape(piece)
    return choice


@functools.lru_cache(256)
def pattern_of(part: str) -> re.Pattern[str]:
    """A component with wildcards, for whole names on disk."""
    return re.compile(f"(?s:{_component(part)})")


@functools.lru_cache(256)
def path_pattern(pattern: str) -> re.Pattern[str]:
    """A pattern of whole paths."""
    return re.compile(regex_of(pattern.split("/"), below=False))
