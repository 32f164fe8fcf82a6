"""A clip as the game has its own movie: container, codecs, size, frame rate, sound; or one black frame of that.

Runs in a process of its own (`volvex.apart`). Sources: the documentation of PyAV and of the filters scale, pad, crop
and fps.
"""

from __future__ import annotations

import io
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import Any

import numpy as np

from volvex.apart import report
from volvex.asset.movie.model import Audio, Movie, Place
from volvex.asset.movie.work import opened, probe
from volvex.errors import RefusedError, UsageError
from volvex.extras import require

require("av", "movies")
import av  # noqa: E402 - after what says that it is missing

MUXERS = {"mp4": "mp4", "webm": "webm", "avi": "avi", "ogv": "ogg", "mpeg": "mpeg", "flv": "flv", "asf": "asf"}
FIT, FILL = SCALES = ("fit", "fill")
LEAST_BIT_RATE, USUAL_BIT_RATE = 64_000, 128_000  # of pictures, of sound
BLOCK = 1024  # samples of silence that are encoded at once
LARGEST = 1 << 31  # bytes that a movie may become


@dataclass(frozen=True)
class Wanted:
    """How a clip becomes a movie. `longest`: seconds behind which it is cut, 0 for none."""

    muxer: str
    like: Movie
    scale: str = FIT
    longest: float = 0.0
    mute: bool = False
    bare: bool = False  # only into an open container from which the packets are taken again


def encoder_for(codec: str, kind: str) -> str:
    """The name of an encoder for a codec that is there now; RefusedError when there is none."""
    try:
        found = av.codec.Codec(codec, "w")
    except av.codec.codec.UnknownCodecError:
        found = None
    if found is None or found.type != kind:
        raise RefusedError(
            f"nothing here encodes {codec}, which the game's own movie has",
            "a file that you made with its maker's encoder: put in as it is, if its head is like the original's",
        )
    return str(found.name)


def require_encoders(wanted: Wanted) -> None:
    """RefusedError when the container or a codec cannot be written here."""
    try:
        av.format.ContainerFormat(wanted.muxer, "w")
    except ValueError as error:
        raise RefusedError(
            f"nothing here writes movies of {wanted.like.container}",
            "a file that you made with its maker's encoder: put in as it is, if its head is like the original's",
        ) from error
    encoder_for(wanted.like.codec, "video")
    for audio in wanted.like.audio[:1]:
        if audio.codec != "vorbis":
            encoder_for(audio.codec, "audio")


def encoders() -> dict[str, list[str]]:
    """The codecs of movies that can be written here, by `video` and `audio`; those of the page on movies."""
    found: dict[str, list[str]] = {"video": [], "audio": []}
    for name in sorted(av.codec.codecs_available):
        try:
            codec = av.codec.Codec(name, "w")
        except ValueError:
            continue
        if codec.type in found:
            found[codec.type].append(name)
    return found


def encoded(clip: Place | None, name: str, wanted: Wanted) -> tuple[bytes, tuple[str, ...]]:
    """A clip in another's form, and what is to be said of it; without a clip one black frame, as silent."""
    require_encoders(wanted)
    if clip is None:
        return _Encoder(wanted, wanted.like, []).run(_black(wanted.like), None), ()
    facts, notes = probe(clip, name), list[str]()
    sound = None
    if wanted.like.audio and not wanted.mute:
        sound = _sound(clip, name, wanted.like.audio[0])
        if sound is None:
            notes.append("the clip has no sound: the movie's is silent")
    elif facts.audio and not wanted.like.audio:
        notes.append("the game's own has no sound: the clip's is left out")
    encoder = _Encoder(wanted, facts, notes)
    with opened(clip, name) as container:
        data = encoder.run(encoder.frames(container), sound)
    return data, tuple(notes)


def _black(like: Movie) -> Iterator[Any]:
    rows = np.zeros((like.height, like.width, 3), np.uint8)
    yield av.VideoFrame.from_ndarray(rows, format="rgb24")


def _sound(clip: Place, name: str, like: Audio) -> Any:
    """The sound of a clip, as floats in the rate and channels of another; None when it has none."""
    with opened(clip, name) as container:
        if not container.streams.audio:
            return None
        resampler = av.AudioResampler("fltp", _layout(like), like.rate)
        parts = list[Any]()
        for frame in container.decode(audio=0):
            parts += [one.to_ndarray() for one in resampler.resample(frame)]
            report(0)
        parts += [one.to_ndarray() for one in resampler.resample(None) if one.samples]
    return np.concatenate(parts, axis=1) if parts else None


def _layout(like: Audio) -> str:
    return like.layout or {1: "mono", 2: "stereo"}.get(like.channels, f"{like.channels}c")


class _Encoder:
    """Writes frames and sound into a new movie."""

    def __init__(self, wanted: Wanted, facts: Movie, notes: list[str]) -> None:
        self.wanted, self.like, self.facts, self.notes = wanted, wanted.like, facts, notes
        self.count = 0

    def frames(self, container: Any) -> Iterator[Any]:
        """The clip's frames in the size and at the rate of the other."""
        like, video = self.like, container.streams.video[0]
        video.thread_type = "AUTO"
        graph = av.filter.Graph()
        size = f"{like.width}:{like.height}"
        share = "decrease" if self.wanted.scale == FIT else "increase"
        whole = ("pad", f"{size}:(ow-iw)/2:(oh-ih)/2") if self.wanted.scale == FIT else ("crop", size)
        steps = [
            graph.add_buffer(template=video),
            graph.add("fps", f"fps={like.rate.numerator}/{like.rate.denominator}"),
            graph.add("scale", f"{size}:force_original_aspect_ratio={share}:flags=lanczos+accurate_rnd+bitexact"),
            graph.add("format", "pix_fmts=yuv444p"),
            graph.add(*whole),
            graph.add("setsar", "1"),
            graph.add("format", f"pix_fmts={like.pixels or 'yuv420p'}"),
            graph.add("buffersink"),
        ]
        for one, other in pairwise(steps):
            one.link_to(other)
        graph.configure()
        if (self.facts.width, self.facts.height) != (like.width, like.height):
            self.notes.append(
                f"from {self.facts.width} x {self.facts.height} to {like.width} x {like.height}, {self.wanted.scale}"
            )
        if self.facts.rate != like.rate:
            self.notes.append(f"from {float(self.facts.rate):g} to {float(like.rate):g} frames a second")
        for frame in container.decode(video):
            graph.vpush(frame)
            yield from _pulled(graph)
        graph.vpush(None)
        yield from _pulled(graph)

    def run(self, frames: Iterator[Any], sound: Any) -> bytes:
        """The new movie's bytes."""
        out, like = io.BytesIO(), self.like
        muxer = "matroska" if self.wanted.bare else self.wanted.muxer
        try:
            with av.open(out, "w", format=muxer, options={"fflags": "+bitexact"}) as made:
                video = self._video(made)
                audio = _sound_into(made, like.audio[0], sound, self._seconds()) if like.audio else None
                self._encode(made, video, audio, frames)
        except (av.FFmpegError, ValueError) as error:
            said = str(error).partition(": '")[0]
            codecs = " and ".join([like.codec, *(one.codec for one in like.audio[:1])])
            raise RefusedError(f"it cannot be encoded as {codecs} in {muxer}: {said}", "another clip") from error
        if out.tell() > LARGEST:
            raise RefusedError("it becomes larger than 2 GB", "--trim, or a shorter clip")
        return out.getvalue()

    def _seconds(self) -> float:
        """How long the movie becomes, as far as the clip's head gives it."""
        own = self.facts.duration if self.facts is not self.like else float(1 / self.like.rate)
        return min(own, self.wanted.longest) if self.wanted.longest else own

    def _video(self, made: Any) -> Any:
        like = self.like
        stream = made.add_stream(encoder_for(like.codec, "video"), rate=like.rate)
        stream.width, stream.height, stream.pix_fmt = like.width, like.height, like.pixels or "yuv420p"
        stream.bit_rate = max(LEAST_BIT_RATE, like.bit_rate or like.width * like.height * 2)
        stream.codec_context.flags |= av.codec.context.Flags.bitexact
        stream.codec_context.thread_count = 1  # so that the same clip gives the same bytes
        return stream

    def _encode(self, made: Any, video: Any, audio: _Sound | None, frames: Iterator[Any]) -> None:
        most = round(self.wanted.longest * self.like.rate) if self.wanted.longest else 0
        for frame in frames:
            if most and self.count >= most:
                self.notes.append(f"cut at {self.wanted.longest:.2f} s, as long as the game's own")
                break
            frame.pts, frame.time_base = self.count, 1 / self.like.rate
            frame.pict_type = 0
            self.count += 1
            made.mux(video.encode(frame))
            if audio is not None:
                audio.go_on(float(self.count / self.like.rate))
            report(1)
        if not self.count:
            raise UsageError("the clip has no pictures", "another clip")
        made.mux(video.encode(None))
        if audio is not None:
            audio.finish(float(self.count / self.like.rate))


class _Sound:
    """The sound of a new movie, encoded along with its pictures, so that none of it waits in memory."""

    def __init__(self, made: Any, like: Audio, samples: Any) -> None:
        self._made, self._like, self._samples = made, like, samples
        self._stream = made.add_stream(encoder_for(like.codec, "audio"), rate=like.rate)
        self._stream.layout = _layout(like)
        formats = [one.name for one in self._stream.codec_context.codec.audio_formats or ()]
        self._stream.format = like.sample if like.sample in formats else formats[0] if formats else "fltp"
        if not like.codec.startswith(("pcm", "adpcm", "flac", "alac")):
            self._stream.bit_rate = like.bit_rate or USUAL_BIT_RATE
        self._stream.codec_context.flags |= av.codec.context.Flags.bitexact
        self._resampler = av.AudioResampler(self._stream.format.name, _layout(like), like.rate)
        self._fifo: Any = av.AudioFifo()
        self._at = self._done = 0

    def go_on(self, seconds: float, last: bool = False) -> None:
        """Encode what is heard up to a time; silence behind the end of what there is."""
        until, rate = round(seconds * self._like.rate), self._like.rate
        while self._at < until:
            count = min(BLOCK, until - self._at)
            part = np.zeros((self._like.channels, count), np.float32)
            if self._samples is not None:
                own = self._samples[: self._like.channels, self._at : self._at + count]
                part[: len(own), : own.shape[1]] = own
            frame = av.AudioFrame.from_ndarray(part, format="fltp", layout=_layout(self._like))
            frame.sample_rate, frame.pts, frame.time_base = rate, self._at, Fraction(1, rate)
            for one in self._resampler.resample(frame):
                self._fifo.write(one)
            self._at += count
        size = self._stream.codec_context.frame_size or BLOCK
        while self._fifo.samples >= size or (last and self._fifo.samples):
            one = self._fifo.read(size, partial=last)
            one.pts, one.time_base, self._done = self._done, Fraction(1, rate), self._done + one.samples
            self._made.mux(self._stream.encode(one))

    def finish(self, seconds: float) -> None:
        """Encode what is left."""
        self.go_on(seconds, True)
        self._made.mux(self._stream.encode(None))


class _Vorbis(_Sound):
    """Vorbis, by the library that sounds are encoded with: all of it before the first picture, so that its head is
    known."""

    def __init__(self, made: Any, like: Audio, samples: Any, seconds: float) -> None:
        from volvex.asset.sound.formats import ogg
        from volvex.asset.sound.model import Sound

        values = np.zeros((max(1, round(seconds * like.rate)), like.channels), np.float32)
        if samples is not None:
            own = samples[: like.channels, : len(values)].T
            values[: len(own), : own.shape[1]] = own
        data = ogg.write(Sound(like.rate, like.channels, len(values), "vorbis", 0, "f4", lambda: values))
        self._made = made
        self._source: Any = av.open(io.BytesIO(data))
        source: Any = self._source
        own_stream = source.streams.audio[0]
        self._stream = made.add_stream_from_template(own_stream)
        self._packets: deque[Any] = deque(one for one in source.demux(own_stream) if one.dts is not None)

    def go_on(self, seconds: float, last: bool = False) -> None:
        while self._packets and (last or self._packets[0].dts * float(self._packets[0].time_base) <= seconds):
            packet = self._packets.popleft()
            packet.stream = self._stream
            self._made.mux(packet)

    def finish(self, seconds: float) -> None:
        self.go_on(seconds, True)
        self._source.close()


def _sound_into(made: Any, like: Audio, samples: Any, seconds: float) -> _Sound:
    return _Vorbis(made, like, samples, seconds) if like.codec == "vorbis" else _Sound(made, like, samples)


def _pulled(graph: Any) -> Iterator[Any]:
    while True:
        try:
            yield graph.vpull()
        except (av.BlockingIOError, av.EOFError):
            return
