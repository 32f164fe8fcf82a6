"""What is wrong with a changed sound, compared with the game's own: rate, channels, loops, levels, whether it can be sought in."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.asset.sounds.describe import channels_text, duration_text
from volvex.asset.sounds.open import may_be_sound, open_sound
from volvex.asset.sounds.sound import Sound
from volvex.bench.changes import FileChange
from volvex.bench.content import original_kind, original_of
from volvex.bench.sounds import sound_at
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, WARNING, Problem
from volvex.errors import VolvexError
from volvex.source import BytesSource

LARGEST = 1 << 28  # bytes of a sound that is looked at
RUN = 3  # full samples one behind the other that are taken for a cut


def sound_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed file, when it is a sound and stays one."""
    if change.what != "changed" or max(change.before or 0, change.after) > LARGEST:
        return
    kind = original_kind(bench, change.path)
    if not may_be_sound(kind) or (kind != change.kind and kind != "binary"):
        return  # reported as another kind
    try:
        before = sound_at(bench, change.path, original_of(bench))
    except VolvexError:
        return  # the game's own cannot be read: nothing can be compared
    if before is None:
        return
    try:
        data = (bench.files / change.source).read_bytes()
        after = open_sound(BytesSource(data, change.path), bench.library)
        if after is not None and after.sound.form == before.sound.form:
            yield from _compared(change, before.sound, after.sound)
    except VolvexError as error:
        yield _problem(ERROR, change, "file", error.message, error.hint or "saving it again")
        return
    if after is None or after.sound.form != before.sound.form:
        has = f"this is {after.sound.form}" if after is not None else "this is no sound"
        said = f"{has}, the game's own is a sound of {before.sound.form}"
        yield _problem(ERROR, change, "kind", said, "`volvex swap` with a sound, which converts it")


def _compared(change: FileChange, before: Sound, after: Sound) -> Iterator[Problem]:
    hint = "`volvex swap` with your sound, which converts it"
    if before.rate != after.rate:
        share = after.rate / before.rate
        said = f"its rate is {after.rate:,} Hz, the game's own is {before.rate:,}: it may play {1 / share:.2f} times as fast"
        yield _problem(WARNING, change, "rate", said, hint)
    if before.channels != after.channels:
        said = f"it is {channels_text(after.channels)}, the game's own is {channels_text(before.channels)}"
        yield _problem(WARNING, change, "channels", said, hint)
    if before.encoding != after.encoding:
        said = f"it is encoded as {after.encoding}, the game's own as {before.encoding}"
        yield _problem(WARNING, change, "encoding", said, hint)
    samples = after.samples
    for loop in after.loops:
        if loop.end > len(samples):
            said = f"its loop ends at frame {loop.end:,}, it has {len(samples):,} ({duration_text(len(samples) / after.rate)})"
            yield _problem(ERROR, change, "loop", said, "a loop that ends within it, or none")
    if before.loops and not after.loops:
        yield _problem(WARNING, change, "loop", "it has no loop, the game's own has one", hint)
    cut = cut_samples(after)
    if cut and not cut_samples(before):
        said = f"{cut:,} samples are as loud as can be, one behind the other: it was cut"
        yield _problem(WARNING, change, "level", said, "saving it less loud, or `volvex swap --loudness original`")
    if before.seekable and not after.seekable:
        said = "its head gives no length: a game that plays it from the middle cannot"
        yield _problem(WARNING, change, "length", said, "saving it as a file, not as a stream")


def cut_samples(sound: Sound) -> int:
    """How many samples are part of a run of full ones, as too loud sounds have them where they are cut."""
    samples = sound.samples
    if samples.dtype.kind == "f":
        full = np.abs(samples) >= 1
    else:
        most = np.iinfo(samples.dtype).max
        full = (samples >= most) | (samples <= -most)
    if len(full) < RUN:
        return 0
    runs = full[:-2] & full[1:-1] & full[2:]
    return int(np.count_nonzero(runs))


def _problem(level: str, change: FileChange, kind: str, message: str, hint: str) -> Problem:
    return Problem(level, f"sound {kind}", change.path, "", "", "", message, hint)
