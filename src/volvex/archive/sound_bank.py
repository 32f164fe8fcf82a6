"""Banks: archives whose entries are bare samples, and whose directory has rate, channels and length of each.

Such an entry's content is a WAV file: the head that the bank's own samples lack is made of the directory's facts, and
goes back there when new content is stored. Numbers are there as they are stored, all other encodings as whole numbers
of 16 bits. Where samples are as they were, their stored bytes are, too. An entry that is itself an open file (Vorbis,
MP3) is that file.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from volvex.archive.variation import EMPTIED, GROWN, SHRUNK
from volvex.codec import Compression
from volvex.codec.samples import Before
from volvex.codec.samples.convert import as_type
from volvex.codec.samples.heads import head_of
from volvex.codec.samples.layout import SampleLayout, check_block, sample_layout
from volvex.codec.samples.riff import Loop, Wave, header, marks, read_wave
from volvex.errors import ContentError, RefusedError, UsageError
from volvex.layout.columns import Array
from volvex.layout.entries import Entries
from volvex.layout.kinds import sound as attributes
from volvex.layout.model import Attribute, IntegerType
from volvex.layout.read.blocks import Reading
from volvex.layout.read.entries import column_of

PLAIN = ("pcm8", "pcm16", "pcm24", "pcm32", "float32", "float64")  # encodings that WAV files have in the same bytes
CHEAP = 1024  # bytes of a beginning for which nothing is decoded
MOST_RATE, MOST_CHANNELS = 10_000_000, 64


@dataclass(frozen=True)
class _Facts:
    """What the directory gives of one sound."""

    rate: int
    channels: int
    frames: int
    samples: SampleLayout
    loops: tuple[Loop, ...]

    @property
    def encoding(self) -> str:
        """Of the WAV file."""
        return self.samples.encoding.name if self.samples.encoding.name in PLAIN else "pcm16"

    @property
    def as_stored(self) -> bool:
        """Whether the bytes of the WAV file's samples are those that are stored."""
        own = self.samples
        return own.encoding.name in PLAIN and not own.apart and getattr(own.encoding, "order", "<") == "<"

    @functools.cached_property
    def head(self) -> bytes:
        """The WAV file up to its samples; its loop stands before them, so that a beginning has all but these."""
        size = self.size
        plain = header(self.encoding, self.channels, self.rate, size, frames=self.frames)
        loop = marks(self.loops, (), {}, self.rate)
        return (
            plain[:4]
            + (int.from_bytes(plain[4:8], "little") + len(loop)).to_bytes(4, "little")
            + plain[8:-8]
            + loop
            + plain[-8:]
        )

    @property
    def size(self) -> int:
        """The bytes of the WAV file's samples."""
        return sample_layout(self.encoding).size(self.frames, self.channels)

    @property
    def whole(self) -> int:
        """The bytes of the WAV file."""
        return len(self.head) + self.size + self.size % 2

    def varied(self, content: bytes, how: str, number: int) -> bytes:
        """Another WAV file like one of this sound: longer, shorter, without samples, or of some frames more than a
        few."""
        data = content[len(self.head) :][: self.size]
        frame = max(1, self.size // max(1, self.frames))
        wanted = {GROWN: 2 * self.frames, SHRUNK: self.frames // 2, EMPTIED: 0}.get(how, 500 + number)
        data = (data or bytes(frame)) * (wanted * frame // max(1, len(data)) + 1)
        made = replace(self, frames=wanted, loops=())
        return made.head + data[: made.size] + b"\0" * (made.size % 2)


class SoundBank:
    """The sounds of an archive, by row."""

    def __init__(self, reading: Reading) -> None:
        assert reading.entries is not None
        self._reading, self._entries = reading, reading.entries
        self._columns = {what: _column(reading, what, len(reading.entries)) for what in attributes.FACTS}
        self._facts: dict[int, _Facts | None] = {}

    def spec(self, row: int) -> str:
        """The encoding of an entry, as the layout writes it; empty for a number that it does not have."""
        if self._reading.layout.content.sounds:
            return self._reading.layout.content.sounds
        found = self._reading.attribute(attributes.ENCODING)
        table = getattr(found[1].meaning, "table", ()) if found is not None else ()
        return str(dict(table).get(self._number(row, attributes.ENCODING, -1), ""))

    def _number(self, row: int, what: str, default: int) -> int:
        column = self._columns[what]
        return int(column[row]) if column is not None else default

    def _word(self, row: int, what: str) -> str:
        found = self._reading.attribute(what)
        table = getattr(found[1].meaning, "table", ()) if found is not None else ()
        return str(dict(table).get(self._number(row, what, -1), ""))

    def _rate(self, row: int, own: SampleLayout) -> int:
        word = self._word(row, attributes.RATE)
        return int(word.removeprefix(attributes.HERTZ)) if word else self._number(row, attributes.RATE, own.rate)

    def _samples(self, row: int) -> SampleLayout | None:
        """How the samples of an entry lie; None for a whole file, and for what cannot be."""
        spec = self.spec(row)
        try:
            if not spec or attributes.whole_file(spec) is not None:
                return None
            if spec.partition("(")[0] == attributes.PLAIN:
                spec = f"pcm{self._number(row, attributes.BITS, 16)}{spec.removeprefix(attributes.PLAIN)}"
            block = self._number(row, attributes.BLOCK, 0)
            return sample_layout(spec, self._word(row, attributes.ORDER), max(0, block))
        except UsageError:
            return None

    def facts(self, row: int) -> _Facts | None:
        """What the directory gives of an entry; None when it is no bare samples, or cannot be."""
        if row not in self._facts:
            self._facts[row] = self._read(row)
        return self._facts[row]

    def _read(self, row: int) -> _Facts | None:
        own = self._samples(row)
        if own is None:
            return None
        rate, channels = self._rate(row, own), self._number(row, attributes.CHANNELS, own.channels)
        if not (0 < rate <= MOST_RATE and 0 < channels <= MOST_CHANNELS) or check_block(own, channels):
            return None
        held = own.frames(int(self._entries.size[row]), channels)
        frames = max(0, min(held, self._number(row, attributes.FRAMES, held)))
        start, end = self._number(row, attributes.LOOP_START, 0), self._number(row, attributes.LOOP_END, 0)
        loops = (Loop(start, end),) if 0 <= start < end <= frames else ()
        made = _Facts(rate, channels, frames, own, loops)
        return made if made.size < 1 << 31 else None

    def entries(self) -> Entries:
        """The entries as they are seen: with the sizes of WAV files, and encodings behind their codecs."""
        inner, numbers = self._entries, self._columns[attributes.ENCODING]
        pairs = np.stack([inner.codec, np.zeros(len(inner), np.int64) if numbers is None else numbers], axis=1)
        found, first, index = np.unique(pairs, axis=0, return_index=True, return_inverse=True)
        labels = [self._label(int(number), int(row)) for (number, _), row in zip(found.tolist(), first, strict=True)]
        codec = np.where(inner.codec < 0, -1, index.reshape(-1)) if len(inner) else inner.codec
        return replace(inner, sizes=self._sizes, codec=codec, codecs=labels or ["none"])

    def _label(self, codec: int, row: int) -> str:
        """The codec and the encoding of an entry, in few words."""
        outer = self._entries.codecs[codec] if codec >= 0 else "none"
        name = self.spec(row).partition("(")[0]
        return f"{outer}, {name}" if name and outer != "none" else name or outer

    def _sizes(self) -> Array:
        found = (facts.whole if (facts := self.facts(row)) is not None else -1 for row in range(len(self._entries)))
        sizes = np.fromiter(found, np.int64, len(self._entries))
        return np.where(sizes < 0, self._entries.size, sizes)

    def wave(self, facts: _Facts, raw: bytes) -> bytes:
        """A WAV file of an entry's samples."""
        if not facts.as_stored:
            samples = facts.samples.decode(np.frombuffer(raw, np.uint8), facts.channels, facts.frames)
            data = sample_layout(facts.encoding).encode(
                as_type(samples, "i2" if facts.encoding == "pcm16" else samples.dtype.str[1:])[0]
            )
        else:
            data = raw[: facts.size]
        return facts.head + data + b"\0" * (len(data) % 2)

    def read_back(self, content: bytes, row: int, raw: bytes) -> bytes:
        """What new content of an entry is when it is read again."""
        samples, known = self.encoded(content, row, raw)
        facts = self.facts(row)
        assert facts is not None
        wave = read_wave(lambda at, size: content[at : at + size], len(content))
        frames = sample_layout(wave.encoding).frames(wave.size, wave.channels)
        made = replace(facts, rate=wave.rate, channels=wave.channels, loops=wave.loops[:1])
        if attributes.FRAMES not in known:
            frames = made.samples.frames(len(samples), made.channels)
        return self.wave(
            replace(made, frames=frames, loops=made.loops if attributes.LOOP_START in known else ()), samples
        )

    def encoded(self, content: bytes, row: int, raw: bytes | None) -> tuple[bytes, dict[str, int]]:
        """New content as samples, and the facts of it that the directory has; `raw`: the samples that were there.

        RefusedError for what the bank cannot hold.
        """
        spec, own = self.spec(row), self._samples(row)
        try:
            if own is None:
                return self._encoded_file(content, spec)
            wave = read_wave(lambda at, size: content[at : at + size], len(content))
        except ContentError as error:
            raise RefusedError(
                f"sounds of {self._reading.source.name} are put in as WAV files: {error.message}",
                "a WAV file, or `volvex swap` in the place of a sound, which converts others",
            ) from error
        if not wave.encoding or not 0 < wave.channels <= MOST_CHANNELS:
            raise RefusedError(f"a WAV file of format {wave.tag:#x} is not known", "saving it as 16 bits")
        facts = self.facts(row)
        channels = self._fitting(row, attributes.CHANNELS, wave.channels, facts.channels if facts else own.channels)
        rate = self._fitting(row, attributes.RATE, wave.rate, facts.rate if facts else own.rate)
        theirs = sample_layout(wave.encoding)
        frames = theirs.frames(wave.size, channels)
        frames = min(frames, wave.total) if wave.total is not None and theirs.encoding.blocks else frames
        samples = theirs.decode(np.frombuffer(content, np.uint8)[wave.start : wave.start + wave.size], channels, frames)
        samples = as_type(samples, own.encoding.sample)[0]
        before = None
        if raw is not None and facts is not None and facts.channels == channels:
            data = np.frombuffer(raw, np.uint8)
            before = Before(own.decode(data, channels, own.frames(len(data), channels)), data)
            if facts.frames == frames and np.array_equal(before.samples[:frames], samples):
                samples = before.samples  # what is behind the last frame, in its block, stays too
        made = own.encode(samples, before)
        found = {attributes.FRAMES: frames, attributes.RATE: rate, attributes.CHANNELS: channels}
        return made, self._known(found, wave, facts)

    def _encoded_file(self, content: bytes, spec: str) -> tuple[bytes, dict[str, int]]:
        """A whole open file in place of samples."""
        wanted = spec.partition("(")[0]
        if not spec or attributes.whole_file(spec) is None:
            return content, {}  # of facts that cannot be: bytes, as they are shown
        head = head_of(lambda at, size: content[at : at + size], len(content))
        if head is None and any(
            self._is_own(what) for what in (attributes.FRAMES, attributes.RATE, attributes.CHANNELS)
        ):
            raise RefusedError(
                f"it is no {wanted} whose length and rate the bank could be given", f"a file of {wanted}"
            )
        if head is None:
            return content, {}
        if wanted in ("vorbis", "opus", "mp3") and head.encoding != wanted:
            raise RefusedError(
                f"it is {head.encoding}, and here the game has {wanted}", "`volvex swap`, which converts sounds"
            )
        found = {attributes.FRAMES: head.frames, attributes.RATE: head.rate, attributes.CHANNELS: head.channels}
        return content, self._known(found, None, None)

    def _fitting(self, row: int, what: str, value: int, has: int) -> int:
        """A rate or number of channels that a new sound may have here."""
        column = self._columns[what]
        own = column is not None and self._is_own(what)
        if value != has and not own and has:
            raise RefusedError(
                f"all sounds of {self._reading.source.name} have {what} {has:,}, this has {value:,}",
                "`volvex swap`, which converts sounds",
            )
        return value

    def _is_own(self, what: str) -> bool:
        """Whether each entry has a fact of its own, and not all together."""
        found = self._reading.attribute(what)
        return found is not None and any(found[0] is block for block in self._reading.entry_blocks())

    def _known(self, found: dict[str, int], wave: Wave | None, facts: _Facts | None) -> dict[str, int]:
        """The facts that the directory has, with the loop, as its fields hold them."""
        if wave is not None and wave.loops:
            found |= {attributes.LOOP_START: wave.loops[0].start, attributes.LOOP_END: wave.loops[0].end}
        elif facts is not None and facts.loops:
            found |= {attributes.LOOP_START: 0, attributes.LOOP_END: 0}
        table = self._table(attributes.RATE)
        if table and attributes.RATE in found:
            wanted = f"{attributes.HERTZ}{found[attributes.RATE]}"
            number = next((number for number, word in table if word == wanted), None)
            if number is None:
                rates = ", ".join(word.removeprefix(attributes.HERTZ) for _, word in table)
                raise RefusedError(f"the bank has no rate of {found[attributes.RATE]:,} Hz", f"one of {rates}")
            found[attributes.RATE] = number
        known = {what: value for what, value in found.items() if self._columns[what] is not None and self._is_own(what)}
        for what, value in known.items():
            self._require_room(what, value)
        return known

    def _table(self, what: str) -> tuple[tuple[int, str], ...]:
        found = self._reading.attribute(what)
        return found[1].meaning.table if found is not None and isinstance(found[1].meaning, Attribute) else ()

    def _require_room(self, what: str, value: int) -> None:
        """RefusedError for a sound that is longer than a field can count."""
        found = self._reading.attribute(what)
        if found is None or found[1].changes or not isinstance(found[1].type, IntegerType):
            return
        most = found[1].type.limits[1]
        if value > most:
            raise RefusedError(
                f"{self._reading.source.name} counts the {what} of a sound up to {most:,}; this has {value:,}",
                "a shorter sound",
            )


def _column(reading: Reading, what: str, count: int) -> Array | None:
    """A fact of all entries; where all share one, it for each."""
    found = column_of(reading, what)
    if found is None:
        return None
    return found[0] if len(found[0]) == count else np.resize(found[0][:1], count)


class BankCodec:
    """What is around an entry's samples: the codec of the archive, within it the WAV file that is made of them."""

    def __init__(self, inner: Compression, size: int, bank: SoundBank, facts: Any) -> None:
        self._inner, self._size, self._bank, self._facts = inner, size, bank, facts

    def decode(self, stored: bytes, size: int) -> bytes:
        """The WAV file; ContentError unless all of `stored` is used."""
        return self._bank.wave(self._facts, self._inner.decode(stored, self._size))

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        """The same in pieces; samples that are not stored as they are are decoded together."""
        inner = self._inner.decode_stream(chunks, self._size)
        if not self._facts.as_stored:
            yield self._bank.wave(self._facts, b"".join(inner))
            return
        yield self._facts.head
        left = self._facts.size
        for chunk in inner:
            if left:
                yield chunk[:left]
            left -= min(left, len(chunk))
        yield b"\0" * (self._facts.size % 2)

    def decode_start(self, stored: bytes, size: int) -> bytes:
        """The first bytes of the WAV file; of samples that must be decoded only all, or none."""
        if size <= len(self._facts.head) or (size <= CHEAP and not self._facts.as_stored):
            return bytes(self._facts.head[:size])
        raw = self._inner.decode_start(stored, self._size)
        if len(raw) < self._size and not self._facts.as_stored:
            return bytes(self._facts.head)
        there = size if len(raw) == self._size else min(size, len(self._facts.head) + len(raw))
        return self._bank.wave(self._facts, raw)[:there]

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Samples as they are stored: WAV files become samples before, since the directory has what is in their
        heads."""
        return self._inner.encode_stream(chunks)
