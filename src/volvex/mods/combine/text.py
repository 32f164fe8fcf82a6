"""Line changes of several mods in one text: intervals of the game's lines, which must not overlap."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from volvex.mods.combine.conflict import GAME, Conflict, Decisions, Side
from volvex.mods.mod.lines import Hunk, Text, is_done, place_of


@dataclass(frozen=True)
class _Interval:
    start: int  # index of the first line that goes
    end: int
    new: tuple[str, ...]
    mods: tuple[str, ...]

    def meets(self, other: _Interval) -> bool:
        """Whether both change a line, or put something in at one place."""
        if self.start == self.end or other.start == other.end:
            return self.start <= other.end and other.start <= self.end
        return self.start < other.end and other.start < self.end


@dataclass
class Lines:
    """The result: the new lines, how many changes each mod contributed, and what is undecided."""

    lines: list[str]
    counts: dict[str, int]
    conflicts: list[Conflict]


def combine_lines(path: str, text: Text, wanted: Sequence[tuple[str, Sequence[Hunk]]], decisions: Decisions) -> Lines:
    """All changes of lines of all mods, given with the mods' ids in their order."""
    made = Lines([], {}, [])
    intervals: list[_Interval] = []
    for mod, hunks in wanted:
        for hunk in hunks:
            found = _located(path, text, mod, hunk, decisions, made)
            if found is not None:
                intervals = _joined(path, text, intervals, found, decisions, made)
    lines = list(text.lines)
    for interval in sorted(intervals, key=lambda one: (one.start, one.end), reverse=True):
        lines[interval.start : interval.end] = interval.new
        for mod in interval.mods:
            made.counts[mod] = made.counts.get(mod, 0) + 1
    made.lines = lines
    return made


def _located(path: str, text: Text, mod: str, hunk: Hunk, decisions: Decisions, made: Lines) -> _Interval | None:
    """Where a change goes; None when it already exists or cannot be made."""
    place = place_of(hunk, text.lines)
    if place is not None:
        return _Interval(place, place + len(hunk.old), hunk.new, (mod,))
    if is_done(hunk, text.lines):
        return None
    here = min(hunk.start - 1, len(text.lines))
    now = "\n".join(text.lines[here : here + max(1, len(hunk.old))])
    sides = (Side(GAME, now), Side(mod, "\n".join(hunk.new)))
    conflict = Conflict(path, "lines", sides, "\n".join(hunk.old), line=hunk.start)
    if decisions.of(conflict) != GAME:  # there is no place where the mod's lines could go
        made.conflicts.append(conflict)
    return None


def _joined(
    path: str, text: Text, intervals: list[_Interval], new: _Interval, decisions: Decisions, made: Lines
) -> list[_Interval]:
    """The intervals with one more; of two that meet only one can stay."""
    for other in intervals:
        if not other.meets(new):
            continue
        if (other.start, other.end, other.new) == (new.start, new.end, new.new):
            both = _Interval(new.start, new.end, new.new, (*other.mods, *new.mods))
            return [both if interval is other else interval for interval in intervals]
        sides = [Side(mod, "\n".join(interval.new)) for interval in (other, new) for mod in interval.mods]
        start, end = min(other.start, new.start), max(other.end, new.end)
        conflict = Conflict(path, "lines", tuple(sides), "\n".join(text.lines[start:end]), line=start + 1)
        chosen = decisions.of(conflict)
        if chosen is None:
            made.conflicts.append(conflict)
            return intervals
        if chosen == GAME:
            return [interval for interval in intervals if interval is not other]
        if chosen in other.mods:
            return intervals
        return _joined(path, text, [interval for interval in intervals if interval is not other], new, decisions, made)
    return [*intervals, new]
