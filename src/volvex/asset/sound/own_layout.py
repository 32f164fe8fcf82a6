"""Sounds in formats of games' own, read and written by a layout of the kind `sound`."""

from __future__ import annotations

import functools
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.asset.layout_facts import number_of, put_numbers, word_of
from volvex.asset.sound.formats import by_kind, flac
from volvex.asset.sound.model import Sound, check_sound
from volvex.codec.parameters import Parameter, parse_spec, settled
from volvex.codec.samples import Before, Samples
from volvex.codec.samples.convert import as_type
from volvex.codec.samples.layout import SampleLayout, check_block, sample_layout
from volvex.codec.samples.riff import Loop
from volvex.errors import FRESH, ContentError, FormatError, RefusedError, VolvexError
from volvex.layout.columns import AllColumns, Array
from volvex.layout.kinds import sound as attributes
from volvex.layout.model import IntegerType, Layout
from volvex.layout.read.blocks import Reading
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import plan
from volvex.source import BytesSource, Source

HEAD = {"head": Parameter("own", words=("own", "none"))}
KINDS = {"vorbis": "ogg", "opus": "ogg"}  # open forms that have another name than their encoding


class LayoutSound:
    """The form of files of one layout: what an open form's module is for its files."""

    NAMES: tuple[str, ...] = ()
    EXTENSIONS: tuple[str, ...] = ()
    HOLDS: tuple[str, ...] = ()

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.ENCODINGS: tuple[str, ...] = ()

    def read(self, source: Source) -> Sound:
        """The sound in a file, by its head; FormatError when it is damaged."""
        reading = read_layout(self.layout, source)
        spec = spec_by(reading)
        if attributes.whole_file(spec) is not None:
            return _of_file(reading, spec, source)
        return _of_samples(reading, samples_by(reading, spec), source)

    def spec_of(self, sound: Sound) -> str:
        """The encoding of a sound as the layout writes it."""
        return spec_by(sound.extra["reading"])

    def write(self, sound: Sound) -> bytes:
        """The file with other samples: everything else in it is as it was."""
        reading = sound.extra.get("reading")
        if not isinstance(reading, Reading) or reading.original.title != self.layout.title:
            raise RefusedError(
                f"a file of {self.layout.title} is made from one that there is", "`volvex swap` in its place"
            )
        require_writable(self.layout)
        inner = sound.extra.get("inner")
        data = _file_written(sound, inner, sound.extra["spec"]) if inner is not None else _encoded(sound)
        columns = _columns(reading, sound, np.frombuffer(data, np.uint8))
        return b"".join(plan(reading, Edit(), columns=columns).chunks())


def spec_by(reading: Reading) -> str:
    """The encoding of a file as the layout writes it, with the bits that a field gives."""
    spec = word_of(reading, attributes.ENCODING) or reading.layout.content.codec
    bare, bracket, rest = spec.partition("(")
    if bare != attributes.PLAIN:
        return spec
    bits = number_of(reading, attributes.BITS)
    if bits not in (8, 16, 24, 32):
        raise FormatError(reading.source.name, f"samples of {bits} bits, expected 8, 16, 24 or 32", hint=FRESH)
    return f"pcm{bits}{bracket}{rest}"


def samples_by(reading: Reading, spec: str) -> SampleLayout:
    """How samples lie, by what a layout says and what the fields of a file hold."""
    block = number_of(reading, attributes.BLOCK, 0)
    own = sample_layout(spec, word_of(reading, attributes.ORDER), max(0, block))
    channels = number_of(reading, attributes.CHANNELS, own.channels)
    check_sound(reading.source.name, 1, channels, 0)
    problem = check_block(own, channels)
    if problem or block < 0:
        raise FormatError(reading.source.name, problem or f"blocks of {block} bytes", hint=FRESH)
    return own


def rate_of(reading: Reading, default: int = 1) -> int:
    """The rate that a file gives, as a number or by its table."""
    found = reading.attribute(attributes.RATE)
    if found is not None and getattr(found[1].meaning, "table", None):
        return int(word_of(reading, attributes.RATE).removeprefix(attributes.HERTZ))
    return number_of(reading, attributes.RATE, default)


def _stored(reading: Reading) -> Array:
    found = reading.attribute(attributes.SAMPLES)
    assert found is not None
    return found[0].numbers(found[1].name).view(np.uint8)


def _loops(reading: Reading, frames: int) -> tuple[Loop, ...]:
    """The loop that fields give; none where both are zero, or the start is the largest number that there is."""
    found = reading.attribute(attributes.LOOP_START)
    if found is None:
        return ()
    start, end = number_of(reading, attributes.LOOP_START), number_of(reading, attributes.LOOP_END, frames)
    most = found[1].type.limits[1] if isinstance(found[1].type, IntegerType) else -1
    return (Loop(start, end),) if 0 <= start < end and start != most else ()


def _of_samples(reading: Reading, own: SampleLayout, source: Source) -> Sound:
    channels, data = number_of(reading, attributes.CHANNELS, own.channels), _stored(reading)
    rate = rate_of(reading, own.rate)
    held = own.frames(len(data), channels)
    frames = number_of(reading, attributes.FRAMES, held)
    check_sound(source.name, rate, channels, frames, own.encoding.sample)
    if frames > held:
        raise FormatError(source.name, f"it gives {frames:,} frames, its samples are {held:,}", hint=FRESH)
    return Sound(
        rate,
        channels,
        frames,
        own.encoding.name,
        own.encoding.bits,
        own.encoding.sample,
        functools.partial(_decoded, data, own, channels, frames),
        reading.original.title,
        _loops(reading, frames),
        extra={"reading": reading, "samples": own, "data": data, "frames": frames},
    )


def _decoded(data: Array, own: SampleLayout, channels: int, frames: int) -> Samples:
    return own.decode(data, channels, frames)


def _encoded(sound: Sound) -> bytes:
    """The samples as they are stored; where they are as they were, so are the bytes."""
    own, data, frames = sound.extra["samples"], sound.extra["data"], sound.extra["frames"]
    samples = as_type(sound.samples, own.encoding.sample)[0]
    old = own.decode(data, sound.channels, own.frames(len(data), sound.channels))
    try:
        made: bytes = own.encode(samples, Before(old, data))
    except ContentError as error:
        raise RefusedError(error.message, error.hint) from error
    if len(samples) == frames and len(data) > len(made):
        made += data[len(made) :].tobytes()  # what is behind its samples stays
    return made


# whole open files


def _of_file(reading: Reading, spec: str, source: Source) -> Sound:
    inner = _inner(reading, spec, source.name)
    given = {
        what: number_of(reading, what, own)
        for what, own in ((attributes.CHANNELS, inner.channels), (attributes.FRAMES, inner.frames))
    }
    rate = rate_of(reading) if reading.attribute(attributes.RATE) is not None else inner.rate
    wrong = [
        f"{had:,} {what} and {has:,} in the file"
        for what, had, has in (("Hz", rate, inner.rate), ("channels", given[attributes.CHANNELS], inner.channels))
        if had != has
    ]
    loops = _loops(reading, inner.frames) or inner.loops
    extra = {"reading": reading, "inner": inner, "spec": spec}
    notes = (*inner.notes, *(f"its head gives {one} within" for one in wrong))
    return replace(inner, form=reading.original.title, loops=loops, notes=notes, extra=extra)


def _inner(reading: Reading, spec: str, name: str) -> Sound:
    """The open file that stands in place of samples."""
    found = parse_spec(spec)
    data = _stored(reading).tobytes()
    if settled(found, HEAD)["head"] == "none":
        data = _headed(reading, found.name, data, name)
    form = by_kind()[KINDS.get(found.name, found.name)]
    return form.read(BytesSource(data, name))


def _headed(reading: Reading, kind: str, data: bytes, name: str) -> bytes:
    """An open file with the head that it lacks, made from fields."""
    if kind != "flac":
        front, end = (b"RIFF", b"WAVE") if kind == "wav" else (b"FORM", b"AIFF")
        return front + (len(data) + 4).to_bytes(4, "little" if kind == "wav" else "big") + end + data
    rate, channels, bits, frames = (
        rate_of(reading),
        number_of(reading, attributes.CHANNELS),
        number_of(reading, attributes.BITS, 16),
        number_of(reading, attributes.FRAMES, 0),
    )
    check_sound(name, rate, channels, frames)
    if channels > 8 or not 4 <= bits <= 32 or rate >= 1 << 20:
        raise FormatError(name, f"FLAC of {channels} channels, {bits} bits, {rate:,} Hz", hint=FRESH)
    return flac.header(rate, channels, bits, frames, data) + data


def _file_written(sound: Sound, inner: Sound, spec: str) -> bytes:
    """The open file with other samples, without the head that the game's own lacks."""
    found = parse_spec(spec)
    form = by_kind()[KINDS.get(found.name, found.name)]
    encoding = found.name if found.name in ("vorbis", "opus") else inner.encoding
    loops = sound.loops if sound.extra["reading"].attribute(attributes.LOOP_START) is None else inner.loops
    made = form.write(replace(sound, form=inner.form, encoding=encoding, loops=loops, extra=inner.extra))
    if settled(found, HEAD)["head"] == "own":
        return made
    return made[flac.frames_at(made) :] if found.name == "flac" else made[12:]


# the fields


def _columns(reading: Reading, sound: Sound, data: Array) -> AllColumns:
    """The blocks' columns with new samples, and with what fields say of them."""
    columns: AllColumns = {name: dict(block.columns) for name, block in reading.blocks.items()}
    found = reading.attribute(attributes.SAMPLES)
    assert found is not None
    columns[found[0].block.name][found[1].name] = data
    loop = sound.loops[0] if sound.loops else None
    values: dict[str, int] = {attributes.FRAMES: sound.frames}
    values |= _loop_values(reading, loop)
    for what, value in values.items():
        place = reading.attribute(what)
        if place is not None and number_of(reading, what) != value:
            _require_room(reading, place[1].type, what, value, sound)
            put_numbers(columns, reading, *place, np.array([value]))
    return columns


def _loop_values(reading: Reading, loop: Loop | None) -> dict[str, int]:
    if loop is not None:
        return {attributes.LOOP_START: loop.start, attributes.LOOP_END: loop.end}
    frames = number_of(reading, attributes.FRAMES, 1 << 40)
    if not _loops(reading, frames):
        return {}  # it has none, however its format gives that
    return {attributes.LOOP_START: 0, attributes.LOOP_END: 0}


def _require_room(reading: Reading, kind: Any, what: str, value: int, sound: Sound) -> None:
    """RefusedError for a sound that is longer than a field can count."""
    try:
        most = kind.limits[1] if isinstance(kind, IntegerType) else value
    except (AttributeError, VolvexError):
        return
    found = reading.attribute(what)
    if found is not None and not found[1].changes and value > most:
        raise RefusedError(
            f"{reading.source.name} counts its {what} up to {most:,}, which is {most / sound.rate:.2f} s; these are "
            f"{value:,}",
            "a shorter sound",
        )
