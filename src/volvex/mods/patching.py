"""Changing files of a game in place, journalled like an install: the original is safe first, and what was begun is finished.

The new bytes are staged and synced before the journal says that they are to be written; writing them twice does no harm, so that
whoever comes after an interruption can do all of it again.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from volvex.bench.inplace import Earlier, Patch
from volvex.errors import RefusedError
from volvex.mods.install import (
    SAMPLED,
    Action,
    carry_out,
    home_of,
    locked,
    recover_in,
    require_writable,
    rest_of,
    token,
)
from volvex.mods.journal import Installed, State, Writing, read_state
from volvex.mods.store import Advance, Store
from volvex.source import Disk, atomic
from volvex.source.digest import Fingerprint


def earlier(game: Path) -> Earlier:
    """Which files are installed, and the entries that were changed in place in each; None for those installed as a whole."""
    found = read_state(home_of(game)).installed
    return {name: one.entries if one.now.startswith(SAMPLED) else None for name, one in found.items()}


def patch(game: Path, patches: Sequence[Patch], disk: Disk, advance: Advance = lambda size: None) -> list[Action]:
    """Write patches into the game's files. RefusedError when one is no longer what its patch was made for."""
    with locked(game, disk) as home:
        recover_in(game, home, disk)
        state, store = read_state(home), Store(home / "objects", disk)
        require_writable(game, [one.path for one in patches])
        after, writings = dict(state.installed), list[Writing]()
        for index, one in enumerate(patches):
            target = game / one.path
            if Fingerprint.of(target) != one.base:
                raise RefusedError(f"{one.path} changed while it was being built", "`volvex build --in-place` again")
            known = state.installed.get(one.path)
            original = known.original if known is not None else store.put(target, advance)
            writings.append(_staged(one, f"staged/in-place-{index}", home, disk))
            now = known.now if known is not None else token(target, None)
            after[one.path] = Installed(original, now or "", entries=one.entries)
        actions = [Action(one.path, "change in place", one.base.size, one.size) for one in patches]
        carry_out(game, home, State(state.installed, "build --in-place", [], after, state.kept, writings), disk)
    return actions


def _staged(one: Patch, name: str, home: Path, disk: Disk) -> Writing:
    """The bytes of a patch in a file of their own, synced."""
    spans, at = list[list[int]](), 0
    with atomic(disk, home / name) as file:
        for place, piece in one.writes:
            for chunk in piece.chunks():
                disk.write(file, chunk)
            spans.append([place, at, piece.size])
            at += piece.size
    until = min(one.base.size, one.size)
    return Writing(one.path, name, spans, one.size, until, rest_of(home.parent / one.path, spans, until))
