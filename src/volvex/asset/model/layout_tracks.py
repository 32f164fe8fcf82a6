"""The animations of a game's own file: a pose for each frame, or tracks of keys at times, quantised in ranges; and
back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from volvex.asset.model.layout_texts import (
    floats_of,
    hashes_of,
    numbers_of,
    texts_of,
    words_of,
)
from volvex.asset.model.model import (
    MOST_KEYS,
    PATHS,
    ROTATION,
    SCALE,
    TRANSLATION,
    Animation,
    Array,
    Track,
    check_counts,
)
from volvex.asset.model.space import Space, unit_rows
from volvex.asset.model.storage import (
    Fact,
    fact_in,
    from_shares,
    from_smallest,
    rounded_floats,
    shares,
    to_smallest,
)
from volvex.errors import FRESH, FormatError
from volvex.layout.model import Attribute
from volvex.layout.read.blocks import Reading

KEYS = {TRANSLATION: "translation key", ROTATION: "rotation key", SCALE: "scale key"}
SMALLEST = "smallest rotation key"
HERTZ = "hz"
RATE = 30.0  # frames in a second where nothing says so


@dataclass(frozen=True)
class TrackRow:
    """A track as its record has it."""

    joint: int | str
    path: str
    first: int
    count: int


def key_fact(reading: Reading, path: str) -> Fact | None:
    """Where a file has the keys of one way of moving."""
    smallest = fact_in(reading, SMALLEST) if path == ROTATION else None
    return smallest or fact_in(reading, KEYS[path])


def rate_of(reading: Reading) -> float:
    """Frames in a second: a number, or a word of its table such as hz30."""
    found = reading.attribute("frame rate")
    if found is None:
        return RATE
    block, field = found
    if isinstance(field.meaning, Attribute) and field.meaning.table:
        from volvex.asset.layout_facts import word_of

        digits = word_of(reading, "frame rate").removeprefix(HERTZ)
        return float(digits) if digits.replace(".", "", 1).isdigit() and float(digits) > 0 else RATE
    values = floats_of(reading, "frame rate")
    rate = float(values[0, 0]) if values is not None and len(values) else RATE
    if not 0 < rate < 1e6:
        raise FormatError(block.source.name, f"{rate:g} frames in a second", field=field.name, hint=FRESH)
    return rate


def animations_of(reading: Reading, space: Space, joints: Sequence[str], stem: str) -> list[Animation]:
    """The animations of a file; `joints`: the names of the skeleton's, by which tracks that name them find theirs."""
    if all(key_fact(reading, path) is None for path in PATHS):
        return []
    rate, names = rate_of(reading), texts_of(reading, "animation name")
    if reading.attribute("track of") is None:
        return _posed(reading, space, rate, names, stem)
    rows = track_rows(reading, joints)
    first, count = numbers_of(reading, "first track"), numbers_of(reading, "track count")
    if first is None and count is not None:
        first = np.cumsum(count) - count
    if count is None or first is None:
        groups = [(0, len(rows))]
    else:
        groups = list(zip(first.tolist(), count.tolist(), strict=True))
    made = []
    for number, (start, size) in enumerate(groups):
        if start < 0 or size < 0 or start + size > len(rows):
            raise FormatError(reading.source.name, f"animation {number} has tracks beyond the {len(rows)}", hint=FRESH)
        name = names[number] if names and number < len(names) and names[number] else stem
        tracks = [_track(reading, space, rows[row], row, rate) for row in range(start, start + size)]
        made.append(Animation(name, tracks, rate if fact_in(reading, "key time") is None else 0.0))
    return made


def track_rows(reading: Reading, joints: Sequence[str]) -> list[TrackRow]:
    """The records of tracks, with the joint of each: its number, or a name that the skeleton does not have."""
    paths = words_of(reading, "track of") or []
    first, count = numbers_of(reading, "first key"), numbers_of(reading, "key count")
    where = {name: number for number, name in enumerate(joints)}
    names = texts_of(reading, "track joint name")
    found: list[int | str]
    if names is not None:
        found = [where.get(name, name) for name in names]
    elif (hashes := numbers_of(reading, "track joint hash")) is not None:
        by_hash = hashes_of(reading, "track joint hash", joints)
        known = [by_hash.get(one, f"joint_{one:08x}") for one in hashes.tolist()]
        found = [where.get(name, name) for name in known]
    else:
        numbers = numbers_of(reading, "track joint")
        found = list(numbers.tolist()) if numbers is not None else list(range(len(paths)))
    starts: dict[str, int] = dict.fromkeys(PATHS, 0)
    made = []
    for row, path in enumerate(paths):
        size = int(count[row]) if count is not None else 0
        start = int(first[row]) if first is not None else starts[path]
        starts[path] = start + size
        made.append(TrackRow(found[row], path, start, size))
    return made


def _track(reading: Reading, space: Space, row: TrackRow, number: int, rate: float) -> Track:
    fact = key_fact(reading, row.path)
    held = 0 if fact is None else len(fact.block.starts)
    if fact is None or row.first < 0 or row.count < 0 or row.first + row.count > held:
        raise FormatError(
            reading.source.name,
            f"track {number} has keys {row.first:,} to {row.first + row.count:,} of {row.path}, there are {held:,}",
            hint=FRESH,
            asked="another layout",
        )
    check_counts(reading.source.name, {"keys": (row.count, MOST_KEYS)})
    keys = slice(row.first, row.first + row.count)
    values = decoded_keys(reading, fact, row.path, space, fact.raw()[keys], number)
    times = _times(reading, fact, keys, rate)
    if not bool(np.isfinite(values).all() and np.isfinite(times).all()):
        raise FormatError(reading.source.name, f"a key of track {number} is no number", hint=FRESH)
    return Track(row.joint if isinstance(row.joint, int) else -1, row.path, times, values)


def _times(reading: Reading, fact: Fact, keys: slice, rate: float) -> Array:
    """The times of keys in seconds; of whole numbers these count frames."""
    for block, field in reading.attributes("key time"):
        if block is fact.block:
            found = fact_in_block(reading, "key time", block.block.name)
            assert found is not None
            raw = np.asarray(found.raw()[keys, 0], np.float64)
            return (raw / rate if found.kind.largest else raw).astype(np.float32)
        del field
    return (np.arange(keys.stop - keys.start) / rate).astype(np.float32)


def fact_in_block(reading: Reading, what: str, block: str) -> Fact | None:
    """A fact where a block has it."""
    from volvex.asset.model.storage import facts_of

    return next((fact for fact in facts_of(reading, what) if fact.block.block.name == block), None)


def range_of_track(reading: Reading, number: int) -> tuple[Array, Array] | None:
    scale, offset = fact_in(reading, "track scale"), fact_in(reading, "track offset")
    if scale is None and offset is None:
        return None
    one = np.ones(3) if scale is None else np.broadcast_to(np.asarray(scale.raw()[number], np.float64), (3,))
    two = np.zeros(3) if offset is None else np.broadcast_to(np.asarray(offset.raw()[number], np.float64), (3,))
    return one, two


def decoded_keys(reading: Reading, fact: Fact, path: str, space: Space, raw: Array, number: int) -> Array:
    """Stored keys as values in glTF's space."""
    if path == ROTATION:
        turns = from_smallest(raw, fact.slots) if fact.name == SMALLEST else shares(raw, fact.kind, True)
        return unit_rows(space.quaternions(np.asarray(turns, np.float64)))
    plain = np.asarray(raw, np.float64)
    ranged = range_of_track(reading, number)
    if fact.kind.largest and ranged is not None:
        plain = plain / fact.kind.largest * ranged[0] + ranged[1]
    if plain.shape[1] == 1:
        plain = np.repeat(plain, 3, axis=1)
    made = space.points(plain) if path == TRANSLATION else space.scales(plain)
    return np.asarray(made, np.float32)


def encoded_keys(fact: Fact, path: str, space: Space, values: Array, ranged: tuple[Array, Array] | None) -> Array:
    """Values as stored keys; the inverse of `decoded_keys`."""
    exact = np.asarray(values, np.float64)
    if path == ROTATION:
        game = space.quaternions(exact, True)
        return to_smallest(game, fact.slots) if fact.name == SMALLEST else from_shares(game, fact.kind, True)
    game = space.points(exact, True) if path == TRANSLATION else space.scales(exact, True)
    game = game[:, : sum(slot.count for slot in fact.slots)]
    if not fact.kind.largest:
        return rounded_floats(game, fact.kind)
    scale, offset = ranged if ranged is not None else (np.ones(3), np.zeros(3))
    factor = fact.kind.largest if ranged is not None else 1
    width = game.shape[1]
    made = np.rint((game - offset[:width]) / np.where(scale[:width] == 0, 1, scale[:width]) * factor)
    low = -fact.kind.largest if fact.kind.signed else 0
    return np.clip(made, low, fact.kind.largest).astype(np.int64)


def _posed(reading: Reading, space: Space, rate: float, names: list[str] | None, stem: str) -> list[Animation]:
    """Animations without tracks: a pose of all joints for each frame, one behind the other."""
    facts = {path: fact for path in PATHS if (fact := key_fact(reading, path)) is not None}
    frames = numbers_of(reading, "frames")
    rows = len(next(iter(facts.values())).raw())
    if frames is None or int(frames.sum()) <= 0 or rows % int(frames.sum()):
        counted = 0 if frames is None else int(frames.sum())
        raise FormatError(
            reading.source.name,
            f"{rows:,} poses of joints in {counted:,} frames",
            hint=FRESH,
            asked="`frames`, or tracks",
        )
    joints, made, at = rows // int(frames.sum()), [], 0
    for number, count in enumerate(frames.tolist()):
        tracks = []
        for path, fact in facts.items():
            raw = fact.raw()[at * joints : (at + count) * joints]
            values = decoded_keys(reading, fact, path, space, raw, 0).reshape(count, joints, -1)
            times = (np.arange(count) / rate).astype(np.float32)
            tracks += [Track(joint, path, times, values[:, joint]) for joint in range(joints)]
        name = names[number] if names and number < len(names) and names[number] else stem
        made.append(Animation(name, tracks, rate))
        at += count
    return made
