"""What is wrong with a changed sound, compared with the game's own: rate, channels, loops, levels, whether it can be
sought in."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.asset.kind import Fault
from volvex.asset.sound.describe import channels_text, duration_text
from volvex.asset.sound.model import Sound

RUN = 3  # full samples one behind the other that are taken for a cut


def faults_between(before: Sound, after: Sound) -> Iterator[Fault]:
    """What may be wrong with a changed sound."""
    hint = "`volvex swap` with your sound, which converts it"
    if before.rate != after.rate:
        share = after.rate / before.rate
        said = (
            f"its rate is {after.rate:,} Hz, the game's own is {before.rate:,}: it may play {1 / share:.2f} times "
            f"as fast"
        )
        yield Fault("warning", "rate", said, hint)
    if before.channels != after.channels:
        said = f"it is {channels_text(after.channels)}, the game's own is {channels_text(before.channels)}"
        yield Fault("warning", "channels", said, hint)
    if before.encoding != after.encoding:
        said = f"it is encoded as {after.encoding}, the game's own as {before.encoding}"
        yield Fault("warning", "encoding", said, hint)
    samples = after.samples
    for loop in after.loops:
        if loop.end > len(samples):
            said = (
                f"its loop ends at frame {loop.end:,}, it has {len(samples):,} "
                f"({duration_text(len(samples) / after.rate)})"
            )
            yield Fault("error", "loop", said, "a loop that ends within it, or none")
    if before.loops and not after.loops:
        yield Fault("warning", "loop", "it has no loop, the game's own has one", hint)
    cut = cut_samples(after)
    if cut and not cut_samples(before):
        said = f"{cut:,} samples are as loud as can be, one behind the other: it was cut"
        yield Fault("warning", "level", said, "saving it less loud, or `volvex swap --loudness original`")
    if before.seekable and not after.seekable:
        said = "its head gives no length: a game that plays it from the middle cannot"
        yield Fault("warning", "length", said, "saving it as a file, not as a stream")


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
