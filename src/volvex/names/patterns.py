"""Patterns of paths: `boats/{skiff,punt}_{00..99}/{hull,sail}.{png,mesh}`, and `{word}` for every word of a list.

`{a,b,c}` is one of several texts (an empty one too: `lamp{,_old}`), `{00..99}` a number in so many digits, `{a..f}` a
letter. A backslash takes the meaning from the sign behind it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from volvex.errors import UsageError

MOST = 10**13  # paths that one pattern may stand for
WRITTEN_OUT = 1 << 20  # texts of one place in braces that are held in memory
LEAVES = 4096  # extensions that are put together into one tree
_PIECE = re.compile(r"\\(.)|\{([^{}]*)\}|([^\\{}]+)|(.)", re.S)
_RANGE = re.compile(r"(\d+)\.\.(\d+)|([a-z])\.\.([a-z])|([A-Z])\.\.([A-Z])")

Part = Sequence[str]  # the texts that may stand in a place


@dataclass(frozen=True)
class Pattern:
    """A pattern taken apart: texts that may stand in each place, one place after the other."""

    text: str
    parts: tuple[Part, ...]

    @property
    def size(self) -> int:
        """How many paths it stands for."""
        size = 1
        for part in self.parts:
            size *= len(part)
        return size

    def split(self) -> tuple[tuple[Part, ...], tuple[Part, ...]]:
        """The places of the folder, and those of what is behind the last slash; UsageError when that is within
        braces."""
        for at in range(len(self.parts) - 1, -1, -1):
            slashed = [text for text in self.parts[at] if "/" in text]
            if not slashed:
                continue
            if len(self.parts[at]) > 1:
                raise UsageError(
                    f"{self.text}: folder and file have separate hashes here, so the last slash cannot stand in braces",
                    "a pattern for each",
                )
            folder, _, last = slashed[0].rpartition("/")
            return (*self.parts[:at], (folder,)), ((last,), *self.parts[at + 1 :])
        return ((("",),), self.parts)

    def cut(self) -> tuple[tuple[Part, ...], tuple[Part, ...]]:
        """The places in front of the extension, and those of it with its dot; nothing when it has none."""
        for at in range(len(self.parts) - 1, -1, -1):
            dotted = [text for text in self.parts[at] if "." in text or "/" in text]
            if not dotted:
                continue
            if len(self.parts[at]) == 1 and "." in dotted[0].rpartition("/")[2]:
                stem, _, extension = dotted[0].rpartition(".")
                return (*self.parts[:at], (stem,)), ((f".{extension}",), *self.parts[at + 1 :])
            if any("." in text for text in dotted):
                raise UsageError(
                    f"{self.text}: extensions do not count here, so the dot cannot stand in braces",
                    "a pattern for each",
                )
            break
        return self.parts, (("",),)


def parse(text: str, words: Mapping[str, Sequence[str]]) -> Pattern:
    """A pattern taken apart; UsageError when it cannot be, or would stand for more paths than anybody can wait for.

    `words` are the lists that can be named in braces.
    """
    parts: list[Part] = []
    plain = ""
    for match in _PIECE.finditer(text):
        escaped, inside, run, odd = match.groups()
        if odd is not None:
            raise UsageError(
                f"{text}: a brace without its other half at {match.start() + 1}", r"\{ for a brace in a name"
            )
        if inside is None:
            plain += escaped or run
            continue
        if plain:
            parts.append((plain,))
            plain = ""
        parts += _braces(text, inside, words)
    if plain:
        parts.append((plain,))
    made = Pattern(text, tuple(parts))
    if made.size > MOST:
        raise UsageError(f"{text} stands for {made.size:,} paths, too many to try", f"a pattern for at most {MOST:,}")
    return made


def _braces(text: str, inside: str, words: Mapping[str, Sequence[str]]) -> Iterator[Part]:
    if inside in words:
        yield tuple(dict.fromkeys(words[inside]))
        return
    match = _RANGE.fullmatch(inside)
    if match is not None:
        yield from _range(text, match)
        return
    if "," not in inside:
        raise UsageError(
            f"{text}: {{{inside}}} is neither a choice, nor a range, nor a list of words",
            "{a,b}, {00..99}, or {word} with --words FILE",
        )
    yield tuple(dict.fromkeys(inside.split(",")))


def _range(text: str, match: re.Match[str]) -> Iterator[Part]:
    """A range as digits, each a place of its own as far as they run through all ten: so their beginnings are shared."""
    if match[1] is None:
        first, last = [ord(group) for group in match.groups() if group is not None]
        if last < first:
            raise UsageError(f"{text}: {match[0]} runs backwards", f"{{{chr(last)}..{chr(first)}}}")
        yield tuple(chr(code) for code in range(first, last + 1))
        return
    low, high = int(match[1]), int(match[2])
    width = len(match[1]) if len(match[1]) == len(match[2]) else 0
    if high < low:
        raise UsageError(f"{text}: {match[0]} runs backwards", f"{{{match[2]}..{match[1]}}}")
    whole = 0
    while width and whole < width and low % 10 ** (whole + 1) == 0 and (high + 1) % 10 ** (whole + 1) == 0:
        whole += 1
    left_low, left_high = low // 10**whole, high // 10**whole
    if left_high - left_low >= WRITTEN_OUT:
        raise UsageError(
            f"{text}: {match[0]} stands for {high - low + 1:,} numbers of different lengths",
            "a range in as many digits on both sides, from a round number to one below a round number",
        )
    if width - whole > 0 or not width:
        yield tuple(f"{number:0{max(0, width - whole)}d}" for number in range(left_low, left_high + 1))
    for _ in range(whole):
        yield tuple("0123456789")


def heads_and_tails(parts: Sequence[Part]) -> tuple[list[list[str]], list[str]]:
    """Places as those that are gone through one by one, and the extensions behind them put together."""
    merged: list[list[str]] = [[""]]
    for part in parts:
        if len(part) == 1:
            merged[-1] = [text + part[0] for text in merged[-1]]
        else:
            merged.append(list(part))
    tails = [""]
    while merged and (len(tails) == 1 or len(tails) * len(merged[-1]) <= LEAVES):
        tails = [text + tail for text in merged.pop() for tail in tails]
    return merged, tails


def combination(parts: Sequence[Sequence[str]], number: int) -> str:
    """The text of a combination of places, by its number; the last place turns fastest."""
    out = ""
    for part in reversed(parts):
        number, digit = divmod(number, len(part))
        out = part[digit] + out
    return out
