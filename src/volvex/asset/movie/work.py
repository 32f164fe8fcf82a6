"""What is done with movies by the library that decodes them, each in a process of its own (`volvex.apart`)."""

from __future__ import annotations

import contextlib
import io
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from volvex.apart import report
from volvex.asset.movie.model import Audio, Movie, Place
from volvex.errors import FRESH, FormatError
from volvex.extras import require
from volvex.library_errors import library_errors

require("av", "movies")
import av  # noqa: E402 - after what says that it is missing

MOST_PIXELS = 1 << 27  # of a frame
MOST_RATE = 1000  # frames a second
BUDGET = 15.0  # seconds that are spent on finding frames
SHORT = 20.0  # seconds of a movie that is decoded in order
STILLS = ("png", "mjpeg", "bmp", "gif", "tiff", "webp", "ppm", "targa", "pcx", "dds", "psd", "sgi", "exr", "qoi", "dpx", "xbm", "xpm", "svg", "jpegxl", "fits", "sunrast", "pictor", "alias_pix", "brender_pix", "hdr", "xwd", "pam", "pgm", "pbm", "cri", "gem", "photocd", "vbn", "pgx", "ansi", "j2k", "ico", "txd", "idf", "xbin", "bintext", "adf", "tty", "image2", "lrc", "subviewer")  # fmt: skip  # noqa: E501


class _Window(io.RawIOBase):
    """A stretch of a file, as a file."""

    def __init__(self, path: str, start: int, size: int) -> None:
        self._file = Path(path).open("rb")  # noqa: SIM115 - closed with this
        self._start, self._size, self._at = start, size, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        self._at = max(0, offset + (0, self._at, self._size)[whence])
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: Any) -> int:
        self._file.seek(self._start + self._at)
        data = self._file.read(min(len(buffer), max(0, self._size - self._at)))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def close(self) -> None:
        self._file.close()
        super().close()


@contextlib.contextmanager
def opened(place: Place, name: str) -> Iterator[Any]:
    """A movie as the library reads it; FormatError when it does not."""
    file: Any = io.BytesIO(place) if isinstance(place, bytes) else io.BufferedReader(_Window(*place))
    with library_errors(name, "movie", FRESH), file, av.open(file) as container:
        yield container


def probe(place: Place, name: str) -> Movie:
    """A movie by its head; FormatError when it is none."""
    with opened(place, name) as container:
        return _facts(container, name)


def _facts(container: Any, name: str) -> Movie:
    if not container.streams.video:
        raise FormatError(name, "it has no stream of pictures", hint="`volvex show` for its sound")
    video = container.streams.video[0]
    context = video.codec_context
    width, height = int(context.width), int(context.height)
    rate = video.average_rate or video.guessed_rate or video.base_rate or Fraction(25)
    if width < 1 or height < 1 or width * height > MOST_PIXELS or not 0 < rate <= MOST_RATE:
        raise FormatError(name, f"pictures of {width} x {height}, {float(rate):g} a second", hint=FRESH)
    duration = _duration(container, video, rate)
    audio = tuple(
        Audio(
            _codec(one.codec_context),
            int(one.codec_context.sample_rate or 0),
            int(one.codec_context.channels or 0),
            one.codec_context.layout.name,
            int(one.bit_rate or 0),
            one.codec_context.format.name if one.codec_context.format else "",
        )
        for one in container.streams.audio
    )
    notes = tuple(f"{len(container.streams.video) - 1} more streams of pictures" for _ in container.streams.video[1:2])
    frames = int(video.frames or round(duration * rate))
    pixels = context.pix_fmt or ""
    return Movie(
        container.format.name, _codec(context), width, height, Fraction(rate), frames, duration, pixels,
        int(video.bit_rate or container.bit_rate or 0), audio, notes=notes,
    )  # fmt: skip


def _codec(context: Any) -> str:
    """The name of a codec, not of the library that decodes it."""
    return str(context.codec.canonical_name if hasattr(context.codec, "canonical_name") else context.name)


def _duration(container: Any, video: Any, rate: Fraction) -> float:
    if container.duration:
        return float(container.duration / av.time_base)
    if video.duration and video.time_base:
        return float(video.duration * video.time_base)
    return float(video.frames / rate) if video.frames else 0.0


def pictures(place: Place, name: str, count: int, width: int, height: int) -> list[tuple[float, Any]]:
    """Some frames spread over a movie, each with its time in seconds, scaled down to fit into a width and height in
    pixels: height x width x 3."""
    with opened(place, name) as container:
        facts = _facts(container, name)
        video = container.streams.video[0]
        video.thread_type = "AUTO"
        scale = min(width / facts.width, height / facts.height, 1)
        size = max(2, round(facts.width * scale)), max(2, round(facts.height * scale))
        times = [facts.duration * (number + 0.5) / count for number in range(count)]
        frames = list(_sought(container, video, times)) if facts.duration > SHORT else []
        if len(frames) * 2 <= count:  # short, or one that cannot be sought in
            with contextlib.suppress(av.FFmpegError):
                if facts.duration > SHORT:
                    container.seek(0)
            frames = list(_in_order(container, video, times))
        if not frames:
            raise FormatError(name, "none of its pictures can be decoded", hint=FRESH)
        return [(at, frame.reformat(*size, "rgb24").to_ndarray()) for at, frame in frames]


def _in_order(container: Any, video: Any, times: list[float]) -> Iterator[tuple[float, Any]]:
    """The frames that are shown at some times, all before them decoded; each once."""
    waiting, last, began, until = list(times), None, None, time.monotonic() + BUDGET
    with contextlib.suppress(av.FFmpegError):  # cut off: what there is before that
        for frame in container.decode(video):
            began = frame.time if began is None and frame.time is not None else began
            at = (frame.time or 0.0) - (began or 0.0)
            if last is not None and waiting and at > waiting[0]:
                yield last
                waiting = [one for one in waiting if one >= at]
            last = (at, frame)
            if not waiting or time.monotonic() > until:
                break
    if last is not None and waiting:
        yield last


def _sought(container: Any, video: Any, times: list[float]) -> Iterator[tuple[float, Any]]:
    """The frames that are shown at some times, by going there; each once, and none where that cannot be."""
    before, until = -1.0, time.monotonic() + BUDGET
    for wanted in times:
        last = None
        if time.monotonic() > until:
            return
        with contextlib.suppress(av.FFmpegError):
            container.seek(int(wanted / video.time_base), stream=video)
            for frame in container.decode(video):
                if frame.time is None or (frame.time > wanted and last is not None):
                    break
                last = frame
                if frame.time > wanted or time.monotonic() > until:
                    break
        if last is not None and last.time > before:
            before = last.time
            yield float(last.time), last


def sound_of(place: Place, name: str) -> tuple[int, Any]:
    """The first sound of a movie: its rate, and its samples as floats."""
    with opened(place, name) as container:
        if not container.streams.audio:
            return 1, np.zeros((0, 1), np.float32)
        audio, parts = container.streams.audio[0], list[Any]()
        resampler = av.AudioResampler("fltp")
        for frame in container.decode(audio):
            parts += [one.to_ndarray().T for one in resampler.resample(frame)]
            report(0)
        rate = int(audio.codec_context.sample_rate)
        return rate, np.concatenate(parts) if parts else np.zeros((0, 1), np.float32)
