"""Line changes: what differs between two states of a text, with the lines around it; and where that goes in a third
state."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass

CONTEXT = 3  # lines kept on each side of a change
FAR = 100_000  # lines from where it was that a change is looked for


@dataclass(frozen=True)
class Hunk:
    """Lines `old`, at line `start` (from 1) of the text they were changed in, become `new`; no line has its end."""

    start: int
    before: tuple[str, ...]
    old: tuple[str, ...]
    new: tuple[str, ...]
    after: tuple[str, ...]


@dataclass(frozen=True)
class Text:
    """A text as lines without their ends, and what the way back needs."""

    lines: list[str]
    end: str
    encoding: str

    def encoded(self, lines: Sequence[str]) -> bytes:
        """Other lines as bytes of the same form; UnicodeEncodeError for a character that the encoding has not."""
        return self.end.join(lines).encode(self.encoding)


def text_of(data: bytes, encoding: str) -> Text | None:
    """Bytes as a text that gives the same bytes back; None for those that do not, or whose lines end in several
    ways."""
    try:
        text = data.decode(encoding)
        if text.encode(encoding) != data:
            return None
    except (UnicodeError, LookupError):
        return None
    wide = text.count("\r\n")
    if wide and wide != text.count("\n"):
        return None
    end = "\r\n" if wide else "\n"
    return Text(text.split(end), end, encoding)


def hunks_between(old: Sequence[str], new: Sequence[str]) -> tuple[Hunk, ...]:
    """What makes `new` of `old`."""
    matcher = difflib.SequenceMatcher(None, old, new, autojunk=False)
    return tuple(
        Hunk(
            number + 1,
            tuple(old[max(0, number - CONTEXT) : number]),
            tuple(old[number:two]),
            tuple(new[three:four]),
            tuple(old[two : two + CONTEXT]),
        )
        for what, number, two, three, four in matcher.get_opcodes()
        if what != "equal"
    )


def place_of(hunk: Hunk, lines: Sequence[str], shift: int = 0) -> int | None:
    """The index in `lines` where the old lines of a hunk are, with the lines around them; None when nowhere.

    With all of its context first, then with the nearest line on each side, which must be in one place only.
    """
    for context in (CONTEXT, 1):
        before, after = hunk.before[-context:] if context else (), hunk.after[:context]
        wanted = [*before, *hunk.old, *after]
        if not wanted:
            return 0 if list(lines) == [""] or not lines else None
        expected = hunk.start - 1 - len(before) + shift
        found = _nearest(wanted, lines, expected, unique=context == 1)
        if found is not None:
            return found + len(before)
    return None


def is_done(hunk: Hunk, lines: Sequence[str], shift: int = 0) -> bool:
    """Whether the new lines are there already."""
    changed = Hunk(hunk.start, hunk.before, hunk.new, hunk.new, hunk.after)
    return bool(hunk.new) and place_of(changed, lines, shift) is not None


def _nearest(wanted: list[str], lines: Sequence[str], expected: int, unique: bool) -> int | None:
    last = len(lines) - len(wanted)
    first = wanted[0]
    places = [
        at
        for at in range(max(0, expected - FAR), min(last, expected + FAR) + 1)
        if lines[at] == first and list(lines[at : at + len(wanted)]) == wanted
    ]
    if not places or (unique and len(places) > 1):
        return None
    return min(places, key=lambda at: abs(at - expected))
