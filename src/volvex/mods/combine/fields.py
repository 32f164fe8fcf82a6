"""Field changes of several mods in one file of data, as one list of changes against the game's content."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from volvex.data import Change, Document
from volvex.data.differences import NONE
from volvex.mods.combine.conflict import ABSENT, GAME, Conflict, Decisions, Side

Record = tuple[str, str]  # sheet, id
Cell = tuple[str, str, str]  # sheet, id, field


@dataclass
class _Wish:
    """What the mods want of one record, in their order."""

    sets: dict[str, list[tuple[str, Change]]] = field(default_factory=dict)  # by field
    adds: list[tuple[str, Change]] = field(default_factory=list)
    removes: list[tuple[str, Change]] = field(default_factory=list)


@dataclass
class Fields:
    """The result: changes against the game's content, how many each mod contributed, and what is undecided."""

    changes: list[Change]
    counts: dict[str, int]
    conflicts: list[Conflict]


def combine_fields(
    path: str, document: Document, wanted: Sequence[tuple[str, Sequence[Change]]], decisions: Decisions
) -> Fields:
    """All changes of all mods, given with the mods' ids in their order."""
    wishes: dict[Record, _Wish] = {}
    for mod, changes in wanted:
        for change in changes:
            wish = wishes.setdefault((change.sheet, change.id), _Wish())
            if change.what == "set":
                wish.sets.setdefault(change.field, []).append((mod, change))
            else:
                (wish.adds if change.what == "add" else wish.removes).append((mod, change))
    made = _Combining(path, document, decisions)
    for record, wish in wishes.items():
        made.record(record, wish)
    return Fields(made.changes, made.counts, made.conflicts)


class _Combining:
    def __init__(self, path: str, document: Document, decisions: Decisions) -> None:
        self.path, self.decisions = path, decisions
        self.sheets = {sheet.name: sheet for sheet in document.sheets}
        self.changes: list[Change] = []
        self.counts: dict[str, int] = {}
        self.conflicts: list[Conflict] = []

    def _base(self, record: Record) -> dict[str, str] | None:
        sheet = self.sheets.get(record[0], NONE)
        row = sheet.row(record[1])
        return None if row is None else sheet.record(row)

    def _make(self, change: Change, mods: Sequence[str]) -> None:
        self.changes.append(change)
        for mod in dict.fromkeys(mods):
            self.counts[mod] = self.counts.get(mod, 0) + 1

    def _decided(self, kind: str, record: Record, name: str, sides: Sequence[Side], base: str) -> str | None:
        """The side that was chosen; None, and one more conflict, when none was."""
        conflict = Conflict(self.path, kind, tuple(sides), base, record[0], record[1], name)
        chosen = self.decisions.of(conflict)
        if chosen is None:
            self.conflicts.append(conflict)
        return chosen

    def record(self, record: Record, wish: _Wish) -> None:
        base = self._base(record)
        if wish.removes and (wish.sets or wish.adds):
            self._whole(record, wish, base)
        elif wish.removes:
            self._removed(record, wish.removes, base)
        elif wish.adds:
            self._added(record, wish, base)
        else:
            for name, sets in wish.sets.items():
                self._set(record, name, sets, base)

    def _whole(self, record: Record, wish: _Wish, base: dict[str, str] | None) -> None:
        """One removes what another changes."""
        sides = [Side(mod, "removes it") for mod, _ in wish.removes]
        changing: dict[str, list[str]] = {}
        for name, sets in wish.sets.items():
            for mod, change in sets:
                changing.setdefault(mod, []).append(f"{name} {change.after!r}")
        for mod, change in wish.adds:
            changing.setdefault(mod, []).append(f"adds it: {_told(dict(change.fields))}")
        sides += [Side(mod, ", ".join(lines)) for mod, lines in changing.items()]
        chosen = self._decided("record", record, "", sides, _told(base))
        if chosen is None or chosen == GAME:
            return
        if chosen in [mod for mod, _ in wish.removes] and chosen not in changing:
            self._removed(record, [remove for remove in wish.removes if remove[0] == chosen], base)
            return
        kept = _Wish(
            {name: left for name, sets in wish.sets.items() if (left := [one for one in sets if one[0] in changing])},
            wish.adds,
        )
        self.record(record, kept)

    def _removed(self, record: Record, removes: Sequence[tuple[str, Change]], base: dict[str, str] | None) -> None:
        if base is None:
            return
        for mod, change in removes:
            if dict(change.fields) != base:
                sides = [Side(GAME, _told(base)), Side(mod, f"removes it as it was: {_told(dict(change.fields))}")]
                if self._decided("record", record, "", sides, _told(base)) in (None, GAME):
                    return
        self._make(Change("remove", *record, fields=tuple(base.items())), [mod for mod, _ in removes])

    def _added(self, record: Record, wish: _Wish, base: dict[str, str] | None) -> None:
        """The same new id from several mods must be the same record; later mods may change one that an earlier one
        added."""
        adds = list(wish.adds)
        different = {tuple(sorted(change.fields)) for _, change in adds}
        if base is not None:
            adds = [add for add in adds if dict(add[1].fields) != base]
            if not adds:
                for name, sets in wish.sets.items():
                    self._set(record, name, sets, base)
                return
            sides = [Side(GAME, _told(base)), *(Side(mod, _told(dict(change.fields))) for mod, change in adds)]
            chosen = self._decided("record", record, "", sides, _told(base))
            if chosen is None or chosen == GAME:
                return
            mod, change = next(add for add in adds if add[0] == chosen)
            for name in dict.fromkeys([*base, *dict(change.fields)]):
                if base.get(name) != dict(change.fields).get(name):
                    self._make(Change("set", *record, name, base.get(name), dict(change.fields).get(name)), [mod])
            return
        if len(different) > 1:
            chosen = self._decided(
                "record", record, "", [Side(mod, _told(dict(change.fields))) for mod, change in adds], ABSENT
            )
            if chosen is None or chosen == GAME:
                return
            adds = [add for add in adds if add[0] == chosen]
        mods, fields, like = [mod for mod, _ in adds], dict(adds[0][1].fields), adds[0][1].like
        for name, sets in wish.sets.items():
            value, users = self._field(record, name, sets, fields.get(name))
            if users:
                fields[name] = value or ""
                mods += users
        self._make(Change("add", *record, fields=tuple(fields.items()), like=like), mods)

    def _set(self, record: Record, name: str, sets: Sequence[tuple[str, Change]], base: dict[str, str] | None) -> None:
        if base is None:
            sides = [Side(GAME, ABSENT), *(Side(mod, repr(change.after)) for mod, change in sets)]
            chosen = self._decided("field", record, name, sides, ABSENT)
            if chosen not in (None, GAME):  # nothing is there that could be set
                self.conflicts.append(Conflict(self.path, "field", tuple(sides), ABSENT, *record, name))
            return
        was = base.get(name)
        value, mods = self._field(record, name, sets, was)
        if mods and value != was:
            self._make(Change("set", *record, name, was, value), mods)

    def _field(
        self, record: Record, name: str, sets: Sequence[tuple[str, Change]], was: str | None
    ) -> tuple[str | None, list[str]]:
        """The value of a field and the mods that want it; no mods when it stays.

        A later mod may change what an earlier one made (its value before is that); anything else is a conflict.
        """
        value, mods = was, list[str]()
        for mod, change in sets:
            if change.after == value:
                mods += [mod] if value != was else []
            elif change.before == value:
                value, mods = change.after, [*mods, mod]
            else:
                break
        else:
            return value, mods
        known = {was, *(change.after for _, change in sets)}
        stale = any(change.before not in known for _, change in sets)
        sides = [*([Side(GAME, repr(was))] if stale else []), *(Side(mod, repr(change.after)) for mod, change in sets)]
        chosen = self._decided("field", record, name, sides, repr(was))
        if chosen is None or chosen == GAME:
            return was, []
        return next((change.after, [mod]) for mod, change in sets if mod == chosen)


def _told(fields: Mapping[str, str] | None) -> str:
    if fields is None:
        return ABSENT
    return ", ".join(f"{name} {value!r}" for name, value in sorted(fields.items()))
