"""Finding the smallest set of mods, and then of changes in them, that makes a game fail.

Delta debugging (A. Zeller, R. Hildebrandt: Simplifying and Isolating Failure-Inducing Input, 2002): the suspects are
halved, and a half or what is left without it is kept when the game still fails with it. What a suspect requires is
always with it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import TypeVar

from volvex.mods.mod.content import FieldChanges, LineChanges, Mod, Part

T = TypeVar("T")
Fails = Callable[[Sequence[Mod]], bool]  # whether the game fails with just these mods


def smallest(suspects: Sequence[T], fails: Callable[[Sequence[T]], bool]) -> list[T]:
    """A set of suspects with which it fails, and from which none can be left out; it must fail with all of them."""
    left, parts = list(suspects), 2
    while len(left) > 1:
        size = -(-len(left) // parts)
        chunks = [left[at : at + size] for at in range(0, len(left), size)]
        without = [[one for one in left if one not in chunk] for chunk in chunks]
        found = next((chunk for chunk in chunks if fails(chunk)), None)
        if found is not None:
            left, parts = found, 2
            continue
        found = next((rest for rest in without if parts > 2 and fails(rest)), None)
        if found is not None:
            left, parts = found, max(parts - 1, 2)
        elif size == 1:
            break
        else:
            parts = min(len(left), 2 * parts)
    return left


def with_requirements(chosen: Sequence[str], mods: Sequence[Mod]) -> list[Mod]:
    """The mods with these ids and all that they require, in their order."""
    by_id = {mod.id: mod for mod in mods}
    wanted, waiting = set[str](), list(chosen)
    while waiting:
        name = waiting.pop()
        if name in by_id and name not in wanted:
            wanted.add(name)
            waiting += [requirement.id for requirement in by_id[name].descriptor.requires]
    return [mod for mod in mods if mod.id in wanted]


def guilty_mods(mods: Sequence[Mod], fails: Fails) -> list[str]:
    """The ids of the mods that make it fail together."""
    return smallest([mod.id for mod in mods], lambda chosen: fails(with_requirements(chosen, mods)))


def guilty_changes(mods: Sequence[Mod], guilty: Sequence[str], fails: Fails) -> list[str]:
    """The changes of those mods that make it fail, as `MOD PATH SHEET/ID/FIELD`."""
    atoms = [atom for mod in with_requirements(guilty, mods) if mod.id in guilty for atom in _atoms(mod)]
    found = smallest(atoms, lambda chosen: fails(_reduced(mods, guilty, chosen)))
    by_id = {mod.id: mod for mod in mods}
    return [_told(by_id[mod], path, number) for mod, path, number in found]


Atom = tuple[str, str, int]  # mod, path, number of the change in that part


def _atoms(mod: Mod) -> list[Atom]:
    return [(mod.id, path, number) for path, part in mod.parts.items() for number in range(_size(part))]


def _size(part: Part) -> int:
    if isinstance(part, FieldChanges):
        return len(part.changes)
    return len(part.hunks) if isinstance(part, LineChanges) else 1


def _reduced(mods: Sequence[Mod], guilty: Sequence[str], chosen: Sequence[Atom]) -> list[Mod]:
    """The mods with just these changes of the guilty ones, and all of what those require."""
    kept: dict[str, dict[str, set[int]]] = {}
    for mod, path, number in chosen:
        kept.setdefault(mod, {}).setdefault(path, set()).add(number)
    return [
        replace(mod, parts=_parts(mod.parts, kept.get(mod.id, {}))) if mod.id in guilty else mod
        for mod in with_requirements([*kept, *guilty], mods)
    ]


def _parts(parts: Mapping[str, Part], kept: Mapping[str, set[int]]) -> dict[str, Part]:
    found: dict[str, Part] = {}
    for path, numbers in kept.items():
        part = parts[path]
        if isinstance(part, FieldChanges):
            part = FieldChanges(
                tuple(change for number, change in enumerate(part.changes) if number in numbers), part.base
            )
        elif isinstance(part, LineChanges):
            part = LineChanges(tuple(hunk for number, hunk in enumerate(part.hunks) if number in numbers), part.base)
        found[path] = part
    return found


def _told(mod: Mod, path: str, number: int) -> str:
    """A change in words."""
    part = mod.parts[path]
    if isinstance(part, FieldChanges):
        change = part.changes[number]
        what = f"{change.field} {change.before} -> {change.after}" if change.what == "set" else change.what
        return f"{mod.id}: {path}: {change.sheet} {change.id}: {what}"
    if isinstance(part, LineChanges):
        return f"{mod.id}: {path}: line {part.hunks[number].start}"
    return f"{mod.id}: {path}"
