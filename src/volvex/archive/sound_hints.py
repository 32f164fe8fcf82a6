"""Hints from samples: far smoother when they are decoded in another way, they are encoded so."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from volvex.codec.parameters import Spec, parse_spec
from volvex.codec.samples import Bytes
from volvex.codec.samples.convert import as_floats
from volvex.codec.samples.layout import SampleLayout, check_block, sample_layout
from volvex.errors import UsageError, VolvexError
from volvex.layout.inspect.hints import Hint

if TYPE_CHECKING:
    from volvex.archive.layout_archive import LayoutArchive

LOOKED = 1 << 16  # frames by which an encoding is judged
LEAST = 512  # frames that are too few to judge by
LEAST_BLOCKS = 6
ROUGHER = 1.25  # times as far as its samples may jump within blocks, if it joins these better
SMOOTHER = 0.7  # of its roughness that another encoding may have before it is named
HIGH = 0.99  # of all jumps
SAMPLE = 8  # sounds of a bank that are looked at in each encoding


def bank_hints(archive: LayoutArchive) -> Iterator[Hint]:
    """What the samples of a bank show: of each encoding, when most of its sounds are smoother in one other way."""
    assert archive.bank is not None
    rows: dict[str, list[int]] = {}
    for row in range(len(archive)):
        if archive.bank.facts(row) is not None:
            rows.setdefault(archive.bank.spec(row), []).append(row)
    for spec, own in rows.items():
        found: list[Hint] = []
        for row in own[:: max(1, len(own) // SAMPLE)]:
            facts = archive.bank.facts(row)
            with contextlib.suppress(VolvexError):
                data = np.frombuffer(archive.samples(row), np.uint8)
                found += encoding_hints(spec, facts.samples, data, facts.channels) if facts is not None else ()
        if found and len(found) > len(own[:: max(1, len(own) // SAMPLE)]) // 2:
            yield found[0]


def encoding_hints(spec: str, own: SampleLayout, data: Bytes, channels: int) -> Iterator[Hint]:
    """That samples are far smoother when they are decoded in another way: then that is how they are encoded."""
    had = _roughness(own, data, channels)
    if had is None:
        return
    tried = ((other, _tried(other, own, data, channels)) for other in _others(spec))
    found = [(rough[0], other) for other, rough in tried if rough is not None and rough[1] <= ROUGHER * had[1]]
    if found and min(found)[0] < SMOOTHER * had[0]:
        (rough, other), has = min(found), had[0]
        seen = f"as {spec} its samples jump {has / max(rough, 1e-9):.1f} times as far as they would as {other}"
        yield Hint("samples", seen, other)


def _others(spec: str) -> Iterator[str]:
    """The other ways in which the same bytes may be samples."""
    found = parse_spec(spec)
    ways: dict[str, tuple[str, ...]] = {"order": ("frames", "channels")}
    ways |= {"endian": ("little", "big")} if found.name.startswith("pcm") else {}
    ways |= {"nibbles": ("low", "high")} if found.name == "ima_adpcm" else {}
    given = dict(found.given)
    for what, words in ways.items():
        for word in words:
            if given.get(what, words[0]) != word:
                yield str(Spec(found.name, tuple({**given, what: word}.items())))
    other = {"mulaw": "alaw", "alaw": "mulaw", "pcm8": "pcm8_signed", "pcm8_signed": "pcm8"}.get(found.name)
    if other:
        yield str(Spec(other, found.given))


def _tried(spec: str, own: SampleLayout, data: Bytes, channels: int) -> tuple[float, float] | None:
    try:
        other = sample_layout(spec, block=own.block)
    except UsageError:
        return None
    return None if check_block(other, channels) else _roughness(other, data, channels)


def _roughness(own: SampleLayout, data: Bytes, channels: int) -> tuple[float, float] | None:
    """How far samples jump at most, but for a few: of blocks from one to the next, and anywhere, as a share of how far
    they spread; None for too few or silent ones."""
    samples = own.decode(data, channels, min(LOOKED, own.frames(len(data), channels)))
    values = as_floats(samples).astype(np.float64)
    if len(values) < LEAST or not values.any():
        return None
    jumps = np.abs(np.diff(values, axis=0))
    each = own.frames(own.block * (channels if own.apart else 1), channels) if own.encoding.blocks and own.block else 0
    joints = jumps[each - 1 :: each] if each > 0 and len(jumps) >= LEAST_BLOCKS * each else jumps
    spread = float(values.std())
    return (float(np.quantile(joints, HIGH)) / spread, float(np.quantile(jumps, HIGH)) / spread) if spread else None
