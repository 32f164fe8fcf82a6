"""Which entry of the game each file is meant to replace that somebody changed the old way: by its path, as far as that
says it."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

EXACT, END, NEAR, AMBIGUOUS, NEW = "exact", "end of path", "near name", "ambiguous", "new"
SURE = (EXACT, END)
NEARNESS = 0.88  # of names, from which on one may be meant for the other
MOST_SHOWN = 5


@dataclass(frozen=True)
class Match:
    """A file, the path of the game that it is for, and how that is known; `others` are paths that it may be for as
    well."""

    name: str
    path: str
    how: str
    others: tuple[str, ...] = ()

    @property
    def sure(self) -> bool:
        return self.how in SURE


def matches(names: Iterable[str], paths: Sequence[str]) -> list[Match]:
    """For each name of a file the path of the game that it is for, without regard to case."""
    ends: dict[str, list[str]] = {}
    for path in paths:
        folded = path.casefold()
        ends.setdefault(folded.rpartition("/")[2], []).append(path)
    exact = {path.casefold(): path for path in paths}
    return [_match(name, exact, ends) for name in names]


def _match(name: str, exact: Mapping[str, str], ends: Mapping[str, list[str]]) -> Match:
    folded = name.casefold()
    if folded in exact:
        return Match(name, exact[folded], EXACT)
    parts = folded.split("/")
    for start in range(len(parts)):  # the longest end of the path that some path of the game has
        end = "/" + "/".join(parts[start:])
        found = [path for path in ends.get(parts[-1], ()) if ("/" + path.casefold()).endswith(end)]
        if len(found) == 1:
            return Match(name, found[0], END)
        if found:
            return Match(name, "", AMBIGUOUS, tuple(sorted(found)[:MOST_SHOWN]))
    suffix = parts[-1].rpartition(".")[2]
    same = [end for end in ends if end.rpartition(".")[2] == suffix]
    near = difflib.get_close_matches(parts[-1], same, 2, NEARNESS)
    if len(near) == 1 and len(ends[near[0]]) == 1:
        return Match(name, ends[near[0]][0], NEAR)
    if near:
        return Match(name, "", AMBIGUOUS, tuple(path for text in near for path in ends[text])[:MOST_SHOWN])
    return Match(name, name, NEW)
