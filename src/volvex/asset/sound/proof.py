"""Is a sound of a game's own format read and written as its layout says? Would it be after a change? Is it encoded in
another way?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.archive.sound_hints import encoding_hints
from volvex.asset.sound.model import Sound
from volvex.asset.sound.own_layout import LayoutSound
from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats
from volvex.codec.samples.layout import SampleLayout
from volvex.errors import VolvexError
from volvex.layout.inspect.hints import Hint, hints_of
from volvex.layout.read.blocks import Reading
from volvex.source import BytesSource

NEAR = 0.1  # of the loudest sample that an encoding with loss may be off, on the mean


def sound_hints(sound: Sound, spec: str) -> Iterator[Hint]:
    """What the file shows and the layout does not say: bytes behind the samples, or that they are encoded in another
    way."""
    reading = sound.extra["reading"]
    assert isinstance(reading, Reading)
    yield from hints_of(reading)
    own, data = sound.extra.get("samples"), sound.extra.get("data")
    if not isinstance(own, SampleLayout) or data is None:
        return
    used = own.size(sound.frames, sound.channels)
    if used < len(data):
        seen = f"{len(data) - used:,} of {len(data):,} bytes of the samples are behind the last frame"
        yield Hint("samples", seen, "`frames` for another number, or another encoding")
    yield from encoding_hints(spec, own, data, sound.channels)


def sound_change_faults(form: LayoutSound, sound: Sound) -> Iterator[tuple[str, str]]:
    """What goes wrong when the sound is changed, written and read again: what was tried, and the fault or nothing."""
    samples = sound.samples
    middle = len(samples) // 2
    other = samples.copy()
    other[middle : middle + 4] = other[:4]
    trials = {
        "some samples changed": other,
        "half as long": samples[:middle],
        "twice as long": np.concatenate([samples, samples]),
        "one frame longer": np.concatenate([samples, samples[-1:]]),
    }
    for what, made in trials.items():
        yield what, _fault(form, sound, made) if len(made) else ""


def _fault(form: LayoutSound, sound: Sound, samples: Samples) -> str:
    try:
        written = form.write(sound.with_samples(samples, loops=()))
        again = form.read(BytesSource(written, sound.extra["reading"].source.name))
        read = again.samples
    except VolvexError as error:
        return str(error)
    if not sound.lossy and len(read) != len(samples) and abs(len(read) - len(samples)) > _room(sound):
        return f"{len(samples):,} frames are read as {len(read):,}"
    count = min(len(read), len(samples))
    missed = np.abs(as_floats(read[:count]).astype(np.float64) - as_floats(samples[:count]))
    reach = max(1e-4, float(np.abs(as_floats(samples)).max()))
    exact = sound.encoding.startswith(("pcm", "float"))
    if count and (missed.any() if exact else float(missed.mean()) > NEAR * reach):
        return "samples are read as something else than was written"
    return ""


def _room(sound: Sound) -> int:
    """The frames that a block may have more than a sound has, where nothing counts them."""
    own = sound.extra.get("samples")
    if not isinstance(own, SampleLayout) or not own.encoding.blocks:
        return 0
    return own.frames(own.block * (sound.channels if own.apart else 1), sound.channels)
