"""Movies in containers of games' own, by a layout of the kind `movie`: put into an open container, and taken out of one
again."""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np

from volvex.apart import apart
from volvex.asset.layout_facts import number_of, put_numbers, word_of
from volvex.asset.movie.model import Movie
from volvex.errors import FRESH, FormatError, RefusedError
from volvex.extras import require
from volvex.layout.columns import AllColumns, Array, Columns, rows_of, taken
from volvex.layout.kinds import movie as attributes
from volvex.layout.model import Attribute, Layout
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import plan
from volvex.source import BytesSource, Source

VIDEO, AUDIO = attributes.STREAMS
MOST_PACKETS = 1 << 24
SOUND_CODECS = {
    "pcm16": "pcm_s16le",
    "pcm8": "pcm_u8",
    "mulaw": "pcm_mulaw",
    "alaw": "pcm_alaw",
}  # by our names and the library's


@dataclass(frozen=True)
class Packet:
    """The bytes of one picture, or of some samples; `time`: by the count of frames of the stream."""

    stream: str
    time: int
    key: bool
    data: bytes


@dataclass(frozen=True)
class Streams:
    """What the head of a game's own container gives of its streams."""

    width: int
    height: int
    rate: Fraction
    video: str
    audio: str = ""
    sound_rate: int = 0
    channels: int = 0


def codec_name(word: str) -> str:
    """The library's name of a codec."""
    return SOUND_CODECS.get(word, word)


class LayoutMovie:
    """The form of files of one layout."""

    def __init__(self, layout: Layout) -> None:
        self.layout = layout

    def read(self, source: Source) -> tuple[Reading, Streams, list[Packet]]:
        """What a file has; FormatError when it is damaged."""
        reading = read_layout(self.layout, source)
        streams = _streams(reading)
        return reading, streams, _packets(reading, streams)

    def as_open(self, source: Source) -> bytes:
        """The same movie in an open container, nothing of it encoded again."""
        _, streams, packets = self.read(source)
        return apart(source.name, muxed, streams, packets, source.name)

    def written(self, source: Source, movie: bytes) -> bytes:
        """The file with the streams of another movie, in an open container, which has the same codecs."""
        require_writable(self.layout)
        reading, streams, _ = self.read(source)
        packets = apart(source.name, demuxed, movie, streams, source.name)
        begin = _begins(reading)
        for _ in range(3):
            columns = _columns(reading, packets, begin)
            made = b"".join(plan(reading, Edit(), columns=columns).chunks())
            again = _begins(read_layout(self.layout, BytesSource(made, source.name)))
            if again == begin:
                return made
            begin = again  # the index has other packets, so that what is behind it moves
        raise RefusedError(f"the packets of {source.name} do not stay where they are put", "another layout")


def _streams(reading: Reading) -> Streams:
    rate, base = number_of(reading, attributes.RATE, 25), number_of(reading, attributes.BASE, 1)
    width, height = number_of(reading, attributes.WIDTH), number_of(reading, attributes.HEIGHT)
    if rate < 1 or base < 1 or width < 1 or height < 1:
        raise FormatError(reading.source.name, f"pictures of {width} x {height}, {rate} / {base} a second", hint=FRESH)
    audio = word_of(reading, attributes.AUDIO)
    audio = "" if audio == "none" else audio
    return Streams(
        width,
        height,
        Fraction(rate, base),
        word_of(reading, attributes.VIDEO),
        audio,
        number_of(reading, attributes.SOUND_RATE, 0) if audio else 0,
        number_of(reading, attributes.CHANNELS, 0) if audio else 0,
    )


def _numbers(reading: Reading, what: str) -> Array | None:
    found = reading.attribute(what)
    return reading.decode_numbers(*found).astype(np.int64) if found is not None else None


def _table(reading: Reading, what: str) -> dict[int, str]:
    found = reading.attribute(what)
    return dict(found[1].meaning.table) if found is not None and isinstance(found[1].meaning, Attribute) else {}


def _begins(reading: Reading) -> int:
    """Where the packets begin in the file."""
    found = reading.attribute(attributes.PACKETS)
    assert found is not None
    return found[0].start


def _packets(reading: Reading, streams: Streams) -> list[Packet]:
    sizes, starts = _numbers(reading, attributes.SIZE), _numbers(reading, attributes.START)
    found = reading.attribute(attributes.PACKETS)
    assert sizes is not None and found is not None
    data = found[0].numbers(found[1].name).view(np.uint8)
    if len(sizes) > MOST_PACKETS or (len(sizes) and int(sizes.min()) < 0):
        raise FormatError(reading.source.name, f"an index of {len(sizes):,} packets, or sizes below zero", hint=FRESH)
    begins = np.cumsum(sizes) - sizes if starts is None else starts - _begins(reading)
    wrong = (begins < 0) | (begins + sizes > len(data))
    if wrong.any():
        row = int(np.argmax(wrong))
        raise FormatError(
            reading.source.name,
            f"packet {row} ends {int(begins[row] + sizes[row]):,} bytes into the packets, which have {len(data):,}",
            hint=FRESH,
        )
    kinds, words = _numbers(reading, attributes.STREAM), _table(reading, attributes.STREAM)
    keys, times = _numbers(reading, attributes.KEY), _numbers(reading, attributes.TIME)
    raw, made, counts = data.tobytes(), list[Packet](), {VIDEO: 0, AUDIO: 0}
    for row in range(len(sizes)):
        stream = words.get(int(kinds[row]), "") if kinds is not None else VIDEO
        if not stream or (stream == AUDIO and not streams.audio):
            raise FormatError(reading.source.name, f"packet {row} is of a stream that there is not", hint=FRESH)
        start, size = int(begins[row]), int(sizes[row])
        time = int(times[row]) if times is not None and stream == VIDEO else counts[stream]
        made.append(Packet(stream, time, bool(keys[row]) if keys is not None else True, raw[start : start + size]))
        counts[stream] += 1 if stream == VIDEO else _frames_in(size, streams)
    return made


def _frames_in(size: int, streams: Streams) -> int:
    """The samples of each channel in a packet of plain ones."""
    wide = {"pcm16": 2}.get(streams.audio, 1)
    return size // max(1, wide * streams.channels)


def _columns(reading: Reading, packets: list[Packet], begin: int) -> AllColumns:
    """The blocks' columns with other packets, which begin at a place in the file."""
    columns: AllColumns = {name: dict(block.columns) for name, block in reading.blocks.items()}
    found, index = reading.attribute(attributes.PACKETS), reading.attribute(attributes.SIZE)
    assert found is not None and index is not None
    columns[found[0].block.name][found[1].name] = np.frombuffer(b"".join(packet.data for packet in packets), np.uint8)
    columns[index[0].block.name] = _stretched(index[0], columns[index[0].block.name], len(packets))
    sizes = np.array([len(packet.data) for packet in packets], np.int64)
    words = {word: number for number, word in _table(reading, attributes.STREAM).items()}
    rows = {
        attributes.SIZE: sizes,
        attributes.START: np.cumsum(sizes) - sizes + begin,
        attributes.KEY: np.array([int(packet.key) for packet in packets]),
        attributes.TIME: np.array([packet.time for packet in packets]),
        attributes.STREAM: np.array([words.get(packet.stream, 0) for packet in packets]),
    }
    for what, numbers in rows.items():
        place = reading.attribute(what)
        if place is not None:
            put_numbers(columns, reading, *place, numbers)
    frames = reading.attribute(attributes.FRAMES)
    if frames is not None:
        put_numbers(columns, reading, *frames, np.array([sum(packet.stream == VIDEO for packet in packets)]))
    return columns


def _stretched(block: BlockRead, columns: Columns, count: int) -> Columns:
    """An index of as many rows; what is kept of a packet is taken from the rows that there were."""
    had = rows_of(columns)
    rows = np.arange(count) % max(1, had)
    if not had:
        raise RefusedError(
            f"{block.source.name} has no packet that new ones could be like", "another movie of the game"
        )
    return {name: taken(column, rows) for name, column in columns.items()}


# in a process of its own


def muxed(streams: Streams, packets: list[Packet], name: str) -> bytes:
    """Packets in an open container."""
    require("av", "movies")
    import av

    from volvex.library_errors import library_errors

    out = io.BytesIO()
    with (
        library_errors(name, "movie", FRESH),
        av.open(out, "w", format="matroska", options={"fflags": "+bitexact"}) as made,
    ):
        video = made.add_mux_stream(
            codec_name(streams.video), rate=streams.rate, width=streams.width, height=streams.height
        )
        base = {VIDEO: 1 / streams.rate}
        own: dict[str, Any] = {VIDEO: video}
        if streams.audio:
            own[AUDIO] = made.add_stream(codec_name(streams.audio), rate=streams.sound_rate)
            own[AUDIO].layout = {1: "mono", 2: "stereo"}.get(streams.channels, f"{streams.channels}c")
            base[AUDIO] = Fraction(1, max(1, streams.sound_rate))
        for one in sorted(packets, key=lambda packet: packet.time * base[packet.stream]):
            packet = av.Packet(one.data)
            packet.stream, packet.time_base = own[one.stream], base[one.stream]
            packet.pts = packet.dts = one.time
            packet.duration = 1 if one.stream == VIDEO else 0
            packet.is_keyframe = one.key
            made.mux(packet)
    return out.getvalue()


def demuxed(movie: bytes, streams: Streams, name: str) -> list[Packet]:
    """The packets of a movie in an open container, in its order."""
    from volvex.asset.movie.work import opened

    packets = list[Packet]()
    with opened(movie, name) as container:
        video, base = container.streams.video[0], 1 / streams.rate
        sound = container.streams.audio[0] if container.streams.audio and streams.audio else None
        done = 0
        for packet in container.demux([video, *([sound] if sound is not None else [])]):
            if packet.size and packet.stream is video:
                time = round(float(packet.pts * packet.time_base / base)) if packet.pts is not None else len(packets)
                packets.append(Packet(VIDEO, time, bool(packet.is_keyframe), bytes(packet)))
            elif packet.size:
                packets.append(Packet(AUDIO, done, True, bytes(packet)))
                done += _frames_in(packet.size, streams)
    return packets


def described(streams: Streams, movie: Movie, title: str) -> Movie:
    """A movie as its own container has it."""
    from volvex.asset.movie.model import Audio

    audio = tuple(
        Audio(codec_name(streams.audio), streams.sound_rate, streams.channels, "") for _ in (1,) if streams.audio
    )
    kept = tuple(replace(one, codec=codec_name(streams.audio)) for one in movie.audio) or audio
    return replace(movie, codec=streams.video, rate=streams.rate, audio=kept, form=title)
