"""Sounds out to open forms, and a user's sound as the game has its own: rate, channels, type of samples, loops,
loudness."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from volvex.asset.sound.formats import SoundFormat, form_of
from volvex.asset.sound.loudness import loudness_of
from volvex.asset.sound.model import LARGEST, LOSSY, Sound
from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats, as_type
from volvex.codec.samples.riff import Cue, Loop
from volvex.errors import RefusedError

SURROUND = np.array(  # the usual six channels in two: front, centre, effects left out, back (ITU-R BS.775)
    [[1, 0], [0, 1], [0.7071, 0.7071], [0, 0], [0.7071, 0], [0, 0.7071]]
)
ENCODINGS = {"opus": "opus", "oga": "vorbis", "ogg": "vorbis"}  # of extensions that several encodings have


@dataclass(frozen=True)
class Changed:
    """A sound that came of another, and what is to be said of it."""

    sound: Sound
    notes: tuple[str, ...]


def exported(sound: Sound, extension: str, tags: Mapping[str, str] | None = None) -> tuple[bytes, tuple[str, ...]]:
    """A sound as a file of an open form, and what that form does not carry; RefusedError when it can hold no such
    sound."""
    form, notes = form_of(extension), list[str]()
    made = replace(
        sound, tags={**(tags or {}), **sound.tags}, extra={} if sound.form not in form.NAMES else sound.extra
    )
    encoding = _encoding_for(sound, extension.lstrip(".").lower(), form)
    rate = _rate_for(sound.rate, form, encoding)
    if rate != sound.rate:
        notes.append(f"resampled from {sound.rate:,} to {rate:,} Hz, which this format can store")
        made = at_rate(made, rate)
    wanted = "i4" if encoding in ("pcm24", "pcm32") else "i2" if encoding not in (*LOSSY, "float32", "float64") else ""
    if wanted and np.dtype(wanted) != np.dtype(made.sample):
        samples, clipped = as_type(made.samples, wanted)
        made = made.with_samples(samples)
        if clipped:
            notes.append(f"{clipped:,} samples were too loud and are cut")
    for what, there in (("loops", made.loops), ("cues", made.cues)):
        if there and what not in form.HOLDS:
            notes.append(f"this format has no {what}")
    bits = 0 if encoding in LOSSY else made.bits
    return form.write(replace(made, encoding=encoding, bits=bits)), tuple(notes)


def _encoding_for(sound: Sound, extension: str, form: SoundFormat) -> str:
    """The encoding in which a form holds a sound: its own where that is one that editors open, or the nearest."""
    own = ENCODINGS.get(extension)
    if own is not None:
        return own
    if sound.encoding in form.ENCODINGS and "adpcm" not in sound.encoding and sound.encoding not in ("mulaw", "alaw"):
        return sound.encoding
    fine = sound.encoding in ("float32", "float64")
    if fine and sound.encoding not in form.ENCODINGS and "pcm24" in form.ENCODINGS:
        return "pcm24"
    return form.ENCODINGS[0]


def _rate_for(rate: int, form: SoundFormat, encoding: str) -> int:
    """The rate of a file: the sound's, or the next above that its form has."""
    rates: Sequence[int] = getattr(form, "OPUS_RATES", ()) if encoding == "opus" else getattr(form, "RATES", ())
    if not rates or rate in rates:
        return rate
    return min((one for one in rates if one >= rate), default=max(rates))


def at_rate(sound: Sound, rate: int) -> Sound:
    """A sound at another rate; its loops and cues stay at the same time."""
    share = rate / sound.rate
    samples = resampled(sound.samples, sound.rate, rate)
    loops = tuple(
        Loop(round(loop.start * share), min(round(loop.end * share), len(samples)), loop.times) for loop in sound.loops
    )
    cues = tuple(Cue(round(cue.frame * share), cue.name) for cue in sound.cues)
    return sound.with_samples(samples, rate=rate, loops=loops, cues=cues)


def resampled(samples: Samples, before: int, after: int) -> Samples:
    """Samples at another rate, of the same type."""
    if before == after or not len(samples):
        return samples
    if len(samples) * after / before * samples.shape[1] * 8 > LARGEST:
        raise RefusedError(f"resampled from {before:,} to {after:,} Hz it is too long to hold", "a shorter sound")
    import soxr

    floats = as_floats(samples)
    made = soxr.resample(floats, before, after, quality="VHQ")
    return np.asarray(as_type(made, samples.dtype.str[1:])[0])


def mixed(samples: Samples, channels: int) -> Samples:
    """Samples in another number of channels, of the same type."""
    had = samples.shape[1]
    if had == channels:
        return samples
    if had == 1:
        return np.repeat(samples, channels, axis=1)
    floats = as_floats(samples)
    if had == 6 and channels < 3:
        floats = floats @ (SURROUND / SURROUND.sum(axis=0)).astype(floats.dtype)
    if channels == 1:
        made = floats.mean(axis=1, keepdims=True)
    elif floats.shape[1] >= channels:
        made = floats[:, :channels]
    else:
        made = np.concatenate([floats, np.zeros((len(floats), channels - floats.shape[1]), floats.dtype)], axis=1)
    return as_type(made, samples.dtype.str[1:])[0]


def replaced(original: Sound, user: Sound, loudness: bool = False) -> Changed:
    """A user's sound as the game has its own. With `loudness` it becomes as loud as that is."""
    notes, samples = list[str](), user.samples
    if user.channels != original.channels:
        notes.append(f"mixed from {user.channels} to {original.channels} channels")
    samples = mixed(samples, original.channels)
    if user.rate != original.rate:
        notes.append(f"resampled from {user.rate:,} to {original.rate:,} Hz")
        if samples.dtype.kind == "i" and samples.dtype.itemsize < np.dtype(original.sample).itemsize:
            samples = as_type(samples, original.sample)[0]
        samples = resampled(samples, user.rate, original.rate)
    if loudness:
        samples, said = _as_loud(samples, original)
        notes += said
    samples, clipped = as_type(samples, original.sample)
    if clipped:
        notes.append(f"{clipped:,} samples were too loud and are cut")
    share = original.rate / user.rate
    loops, cues, said = _marks(original, user, share, len(samples))
    made = original.with_samples(samples, loops=loops, cues=cues)
    return Changed(made, (*notes, *said))


def _as_loud(samples: Samples, original: Sound) -> tuple[Samples, list[str]]:
    """Samples as loud as a sound, but for what would be too loud for any."""
    wanted, has = loudness_of(original.samples, original.rate), loudness_of(samples, original.rate)
    if math.isinf(wanted) or math.isinf(has):
        return samples, ["one of the two is silent: its loudness is left as it is"]
    floats = as_floats(samples)
    gain = 10 ** ((wanted - has) / 20)
    most = float(np.abs(floats).max())
    said = [f"{wanted - has:+.1f} dB, to {wanted:.1f} LUFS as the game's own"]
    if most * gain > 1:
        gain = 1 / most
        said = [f"{20 * math.log10(gain):+.1f} dB, the most that it can be: {wanted:.1f} LUFS would be too loud"]
    return np.asarray(floats * np.asarray(gain, floats.dtype)), said


def _marks(
    original: Sound, user: Sound, share: float, frames: int
) -> tuple[tuple[Loop, ...], tuple[Cue, ...], list[str]]:
    """The loops and cues of a new sound: the user's own where there are some, or the game's as far as they fit."""
    notes = list[str]()
    if user.loops:
        made = [Loop(round(loop.start * share), round(loop.end * share), loop.times) for loop in user.loops]
        loops = [Loop(one.start, min(one.end, frames), one.times) for one in made if one.start < min(one.end, frames)]
        if len(loops) < len(made):
            notes.append(f"{len(made) - len(loops)} loops lie behind its end and are left out")
    else:
        loops = list[Loop]()
        for loop in original.loops:
            start, end = (loop.start if loop.start < frames else 0), min(loop.end, frames)
            end = frames if loop.end >= original.frames else end
            if (start, end) != (loop.start, loop.end) and frames:
                notes.append(f"the loop is now {start:,} to {end:,}, it was {loop.start:,} to {loop.end:,}")
            loops += [Loop(start, end, loop.times)] if start < end else []
    cues = tuple(Cue(round(cue.frame * share), cue.name) for cue in user.cues) or original.cues
    inside = tuple(cue for cue in cues if cue.frame <= frames)
    if len(inside) < len(cues):
        notes.append(f"{len(cues) - len(inside)} cues lie behind its end and are left out")
    return tuple(loops), inside, notes


def is_alike(own: Sound, user: Sound) -> bool:
    """Whether a user's sound is already as the game has its own, with the marks that this has."""
    same = all(getattr(own, name) == getattr(user, name) for name in ("form", "rate", "channels", "encoding"))
    return same and bool(user.loops or not own.loops) and bool(user.cues or not own.cues)


def differing_frames(one: Sound, other: Sound) -> int:
    """How many frames of two sounds differ; those that only one has count, too."""
    if (one.rate, one.channels) != (other.rate, other.channels):
        return max(one.frames, other.frames)
    before, after = one.samples, as_type(other.samples, one.sample)[0]
    count = min(len(before), len(after))
    same = int(np.count_nonzero((before[:count] != after[:count]).any(axis=1)))
    return same + abs(len(before) - len(after))


def taken_over(original: Sound, edited: Sound, extension: str) -> Changed:
    """An edited file put into the original; of what an open form can hold without loss, samples that are as they were
    stay."""
    result = replaced(original, edited)
    if edited.lossy or (edited.rate, edited.channels) != (original.rate, original.channels):
        return result
    from volvex.asset.sound.open import read_bytes

    out = read_bytes(exported(original, extension)[0], "the game's own").samples
    after, before = edited.samples, original.samples
    if after.dtype != out.dtype:
        after = as_type(after, out.dtype.str[1:])[0]
    samples, count = result.sound.samples.copy(), min(len(out), len(after), len(before))
    same = (out[:count] == after[:count]).all(axis=1)
    samples[:count][same] = before[:count][same]
    return Changed(result.sound.with_samples(samples), result.notes)
