"""The animations of a game's own file put back: those that are as they were keep their stored keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from volvex.asset.model.layout_texts import (
    hashes_of,
    numbers_of,
    put_ints,
    put_texts,
    put_words,
    take_rows,
    texts_of,
)
from volvex.asset.model.layout_tracks import (
    TrackRow,
    decoded_keys,
    encoded_keys,
    fact_in_block,
    key_fact,
    range_of_track,
    rate_of,
    track_rows,
)
from volvex.asset.model.model import (
    PATHS,
    ROTATION,
    TRANSLATION,
    Animation,
    Array,
    Track,
)
from volvex.asset.model.space import Space
from volvex.asset.model.storage import (
    Fact,
    fact_in,
    kept_rows,
    rounded_floats,
)
from volvex.asset.model.tracks import same_track, sampled
from volvex.errors import RefusedError
from volvex.layout.columns import AllColumns
from volvex.layout.read.blocks import Reading


@dataclass
class Written:
    """Tracks as they are written: of which animation, joint, way; times, values, and the record that each is like (or
    -1)."""

    animation: int
    joint: int
    path: str
    times: Array
    values: Array
    like: int


def put_animations(
    columns: AllColumns,
    reading: Reading,
    old: list[Animation],
    new: list[Animation],
    space: Space,
    joints: Sequence[str],
) -> bool:
    """Put animations into columns: those that are as they were keep their stored keys. Whether anything changed."""
    if _same_all(old, new):
        return False
    if reading.attribute("track of") is None:
        _put_posed(columns, reading, old, new, space)
        return True
    rows = track_rows(reading, joints)
    wanted = _wanted(old, new, rows, reading)
    _put_track_rows(columns, reading, wanted, joints)
    ranges = _put_track_ranges(columns, reading, wanted, space)
    starts = dict.fromkeys(PATHS, 0)
    firsts = []
    for track in wanted:
        firsts.append(starts[track.path])
        starts[track.path] += len(track.times)
    put_ints(columns, reading, "first key", firsts)
    put_ints(columns, reading, "key count", [len(track.times) for track in wanted])
    for path in PATHS:
        _put_keys(columns, reading, path, [(n, t) for n, t in enumerate(wanted) if t.path == path], ranges, rows, space)
    _put_rows_of_animations(columns, reading, new, wanted)
    return True


def _same_all(old: list[Animation], new: list[Animation]) -> bool:
    return len(old) == len(new) and all(
        one.name == two.name and len(one.tracks) == len(two.tracks) and all(map(same_track, one.tracks, two.tracks))
        for one, two in zip(old, new, strict=True)
    )


def _wanted(old: list[Animation], new: list[Animation], rows: list[TrackRow], reading: Reading) -> list[Written]:
    """The tracks in the order in which they are written; those of the file's own animations in that of the file."""
    first = numbers_of(reading, "first track")
    made, at = [], 0
    by_name = {animation.name: number for number, animation in enumerate(old)}
    for number, animation in enumerate(new):
        known = by_name.get(animation.name, -1)
        before = old[known] if known >= 0 else None
        start = int(first[known]) if first is not None and known >= 0 else at if known >= 0 else -1
        tracks = list(animation.tracks)
        if before is not None:
            order = {(track.joint, track.path): place for place, track in enumerate(before.tracks)}
            tracks.sort(key=lambda track: order.get((track.joint, track.path), len(order)))
            lost = [place for (joint, path), place in order.items() if joint < 0]
            tracks += [before.tracks[place] for place in lost]  # of joints that this skeleton has not
        for track in tracks:
            same = -1
            if before is not None:
                same = next(
                    (p for p, one in enumerate(before.tracks) if (one.joint, one.path) == (track.joint, track.path)), -1
                )
            like = start + same if same >= 0 else -1
            times, values = _as_sampled(track, reading, animation)
            made.append(Written(number, track.joint, track.path, times, values, like))
        at += len(before.tracks) if before is not None else 0
    return made


def _as_sampled(track: Track, reading: Reading, animation: Animation) -> tuple[Array, Array]:
    """The times and values of a track; where a file has no times, values for each frame."""
    if fact_in(reading, "key time") is not None or not len(track.times):
        return track.times, track.values
    rate = rate_of(reading)
    expected = np.arange(len(track.times)) / rate
    if np.allclose(track.times, expected, atol=1e-4):
        return track.times, track.values
    frames = max(1, round(animation.duration * rate) + 1)
    times = np.arange(frames) / rate
    return times.astype(np.float32), sampled(track, times)


def _put_track_rows(columns: AllColumns, reading: Reading, wanted: list[Written], joints: Sequence[str]) -> None:
    found = reading.attribute("track of")
    assert found is not None
    name, held = found[0].block.name, len(found[0].starts)
    if wanted and not held:
        raise RefusedError("the game's own file has no track that a new one could be like", "another animation file")
    rows = np.array([max(0, track.like) for track in wanted], np.int64)
    take_rows(columns, reading, name, rows)
    put_words(columns, reading, "track of", [track.path for track in wanted])
    new = [number for number, track in enumerate(wanted) if track.like < 0]
    if not new:
        return
    own = reading.attribute("track joint")
    names = texts_of(reading, "track joint name")
    if own is not None:
        numbers = reading.decode_numbers(*own)[rows]
        for number in new:
            numbers[number] = wanted[number].joint
        put_ints(columns, reading, "track joint", numbers)
    elif names is not None:
        texts = [names[row] for row in rows.tolist()]
        for number in new:
            texts[number] = joints[wanted[number].joint]
        put_texts(columns, reading, "track joint name", texts)
    else:
        by_hash = {name: one for one, name in hashes_of(reading, "track joint hash", joints).items()}
        hashes = numbers_of(reading, "track joint hash")
        if hashes is None or not by_hash:
            raise RefusedError("the layout has no hash of joint names", "`hashes by` in the layout")
        numbers = hashes[rows].astype(object)
        for number in new:
            numbers[number] = by_hash[joints[wanted[number].joint]]
        put_ints(columns, reading, "track joint hash", numbers)


def _put_track_ranges(
    columns: AllColumns, reading: Reading, wanted: list[Written], space: Space
) -> list[tuple[Array, Array] | None]:
    """The ranges of tracks whose keys are whole numbers: the file's own where they hold the values, else new ones."""
    scale, offset = fact_in(reading, "track scale"), fact_in(reading, "track offset")
    if scale is None and offset is None:
        return [None] * len(wanted)
    found: list[tuple[Array, Array] | None] = []
    home = scale.block.block.name if scale is not None else offset.block.block.name if offset is not None else ""
    scales = None if scale is None else np.asarray(scale.raw(columns[home]), np.float64).copy()
    offsets = None if offset is None else np.asarray(offset.raw(columns[home]), np.float64).copy()
    for number, track in enumerate(wanted):
        fact = key_fact(reading, track.path)
        if track.path == ROTATION or fact is None or not fact.kind.largest:
            found.append(None)
            continue
        exact = np.asarray(track.values, np.float64)
        game = space.points(exact, True) if track.path == TRANSLATION else space.scales(exact, True)
        own = range_of_track(reading, track.like) if track.like >= 0 else None
        low = -1.0 if fact.kind.signed else 0.0
        if own is not None:
            share = (game - own[1]) / np.where(own[0] == 0, 1, own[0])
            slack = 0.5 / fact.kind.largest
            flat = bool(((own[0] == 0) & (np.abs(game - own[1]) > 1e-6).any(axis=0)).any())
            if not flat and share.min() >= low - slack and share.max() <= 1 + slack:
                found.append(own)
                continue
        least, most = game.min(axis=0), game.max(axis=0)
        reach, start = (most - least, least) if low == 0 else ((most - least) / 2, (most + least) / 2)
        if scales is not None:
            scales[number] = reach[: scales.shape[1]] if scales.shape[1] > 1 else reach.max()
        if offsets is not None:
            offsets[number] = start[: offsets.shape[1]]
        for one, values in ((scale, scales), (offset, offsets)):
            if one is not None and values is not None:
                one.put(columns[home], rounded_floats(values, one.kind))
        held_scale = (
            np.ones(3) if scale is None else np.broadcast_to(np.asarray(scale.raw(columns[home])[number]), (3,))
        )
        held_offset = np.zeros(3) if offset is None else np.asarray(offset.raw(columns[home])[number])
        found.append((held_scale.astype(np.float64), held_offset.astype(np.float64)))
    return found


def _put_keys(
    columns: AllColumns,
    reading: Reading,
    path: str,
    tracks: list[tuple[int, Written]],
    ranges: list[tuple[Array, Array] | None],
    rows: list[TrackRow],
    space: Space,
) -> None:
    fact = key_fact(reading, path)
    if fact is None:
        if tracks:
            raise RefusedError(f"this format has no keys of {path}", "leaving these tracks out")
        return
    raw, out, times = fact.raw(), [], []
    timed = fact_in_block(reading, "key time", fact.block.block.name)
    rate = rate_of(reading)
    for number, track in tracks:
        made = encoded_keys(fact, path, space, track.values, ranges[number])
        stored_times = None if timed is None else _stored_times(timed, track.times, rate)
        if 0 <= track.like < len(rows):
            own = rows[track.like]
            keys = slice(own.first, own.first + own.count)
            same_range = ranges[number] is None or _equal(ranges[number], range_of_track(reading, track.like))
            if own.count and same_range:
                old = decoded_keys(reading, fact, path, space, raw[keys], track.like)
                again = encoded_keys(fact, path, space, old, ranges[number])
                like = np.where(np.arange(len(made)) < own.count, np.arange(len(made)), -1)
                made = kept_rows(raw[keys], old, np.asarray(track.values, np.float32), made, like, again)
            if timed is not None and stored_times is not None and own.count == len(stored_times):
                before = timed.raw()[keys]
                seconds = np.asarray(before[:, 0], np.float64) / (rate if timed.kind.largest else 1)
                near = np.abs(seconds - track.times) < 1e-5
                stored_times = np.where(near[:, None], before, stored_times)
        out.append(made)
        times.append(stored_times)
    whole = np.concatenate(out) if out else raw[:0]
    name, held = fact.block.block.name, len(raw)
    if len(whole) and not held:
        raise RefusedError(f"the game's own file has no key of {path} that a new one could be like", "another file")
    picked = np.minimum(np.arange(len(whole)), max(0, held - 1))
    take_rows(columns, reading, name, picked)
    fact.put(columns[name], whole)
    if timed is not None:
        timed.put(
            columns[name], np.concatenate([time for time in times if time is not None]) if times else timed.raw()[:0]
        )


def _equal(one: tuple[Array, Array] | None, two: tuple[Array, Array] | None) -> bool:
    return one is not None and two is not None and all(bool((a == b).all()) for a, b in zip(one, two, strict=True))


def _stored_times(timed: Fact, times: Array, rate: float) -> Array:
    exact = np.asarray(times, np.float64)[:, None]
    if not timed.kind.largest:
        return rounded_floats(exact, timed.kind)
    made = np.rint(exact * rate).astype(np.int64)
    if len(made) and (made.max() > timed.kind.largest or len(np.unique(made)) < len(made)):
        raise RefusedError(f"keys between frames or beyond {timed.kind.largest:,} of them", "keys on frames")
    return made


def _put_rows_of_animations(columns: AllColumns, reading: Reading, new: list[Animation], wanted: list[Written]) -> None:
    """The records of the animations: names, lengths, which tracks are whose."""
    counts = [sum(track.animation == number for track in wanted) for number in range(len(new))]
    facts = (reading.attribute(what) for what in ("track count", "frames", "animation name"))
    found = next((fact for fact in facts if fact is not None and fact[0].block.repeats), None)
    if found is not None:
        name, held = found[0].block.name, len(found[0].starts)
        rows = np.minimum(np.arange(len(new)), max(0, held - 1))
        take_rows(columns, reading, name, rows)
    elif len(new) > 1:
        raise RefusedError("a file of this format has one animation", "an animation file of its own")
    put_ints(columns, reading, "track count", counts)
    put_ints(columns, reading, "first track", list(np.cumsum([0, *counts[:-1]])))
    if (texts := texts_of(reading, "animation name")) is not None and texts != [one.name for one in new]:
        put_texts(columns, reading, "animation name", [one.name for one in new])
    lasting = fact_in(reading, "duration")
    if lasting is not None:
        before = np.asarray(lasting.raw(), np.float64)
        durations = np.array([[one.duration] for one in new])
        if before.shape == durations.shape:
            durations = np.where(np.abs(before - durations) < 1e-4, before, durations)
        lasting.put(columns[lasting.block.block.name], rounded_floats(durations, lasting.kind))
    frames = reading.attribute("frames")
    if frames is not None:
        rate = rate_of(reading)
        put_ints(columns, reading, "frames", [round(one.duration * rate) + 1 for one in new])


def _put_posed(columns: AllColumns, reading: Reading, old: list[Animation], new: list[Animation], space: Space) -> None:
    facts = {path: fact for path in PATHS if (fact := key_fact(reading, path)) is not None}
    frames = numbers_of(reading, "frames")
    assert frames is not None
    rows = len(next(iter(facts.values())).raw())
    joints, rate = rows // int(frames.sum()), rate_of(reading)
    counts = [max(1, round(one.duration * rate) + 1) for one in new]
    starts = np.cumsum([0, *frames.tolist()])
    by_name = {animation.name: number for number, animation in enumerate(old)}
    for path, fact in facts.items():
        parts, like = [], []
        for animation, count in zip(new, counts, strict=True):
            known = by_name.get(animation.name, -1)
            times = np.arange(count) / rate
            values = np.zeros((count, joints, 4 if path == ROTATION else 3), np.float32)
            for joint in range(joints):
                track = next((track for track in animation.tracks if (track.joint, track.path) == (joint, path)), None)
                if track is None and known >= 0:
                    track = next((o for o in old[known].tracks if (o.joint, o.path) == (joint, path)), None)
                track = track or next((o for o in old[0].tracks if (o.joint, o.path) == (joint, path)), None)
                assert track is not None
                values[:, joint] = sampled(track, times)
            parts.append(values.reshape(count * joints, -1))
            own = np.full(count * joints, -1)
            if known >= 0:
                room = min(count, int(frames[known])) * joints
                own[:room] = np.arange(room) + int(starts[known]) * joints
            like.append(own)
        values, rows_like, raw = np.concatenate(parts), np.concatenate(like), fact.raw()
        before = decoded_keys(reading, fact, path, space, raw, 0)
        made = encoded_keys(fact, path, space, values, None)
        again = encoded_keys(fact, path, space, before, None)
        out = kept_rows(raw, before, values, made, rows_like, again)
        name = fact.block.block.name
        picked = np.minimum(np.arange(len(out)), len(raw) - 1)
        if len(columns[name][next(iter(columns[name]))]) != len(out):
            take_rows(columns, reading, name, picked)
        fact.put(columns[name], out)
    _put_rows_of_animations(columns, reading, new, [])
    put_ints(columns, reading, "frames", counts)
