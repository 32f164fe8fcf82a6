"""Heads of open sounds: rate, channels and length without decoding; of WAV, FLAC, Ogg and MP3.

Sources: RFC 9639 (FLAC), RFC 3533 and 7845 (Ogg, Opus), ISO/IEC 11172-3 and 13818-3 (MPEG audio), the heads of Xing,
LAME and VBRI.
"""

from __future__ import annotations

from dataclasses import dataclass

from volvex.codec.samples.layout import sample_layout
from volvex.codec.samples.riff import Read, Wave, read_wave
from volvex.errors import ContentError

MP3_RATES = {3: (44100, 48000, 32000), 2: (22050, 24000, 16000), 0: (11025, 12000, 8000)}  # of MPEG 1, 2 and 2.5
_BITRATES = {
    3: (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    2: (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
OPUS_RATES = (48000, 24000, 16000, 12000, 8000)  # to which it is decoded; its places are counted in the first
FRONT = 1 << 10  # bytes that are read at once
TAIL = 1 << 16  # bytes in which the last page of an Ogg file begins
LEAST_PAGE, LAST = 27, 4
LOOKED_AT = 64  # frames of an MP3 file by which its length is guessed


@dataclass(frozen=True)
class Head:
    """What a file gives of its sound. `exact`: whether it gives its length, or that is a guess by its first frames."""

    rate: int
    channels: int
    frames: int
    encoding: str
    exact: bool = True


@dataclass(frozen=True)
class Mp3Frame:
    """What the head of a frame gives: its bytes, its rate and channels, how many frames of sound it has, the bytes
    beside them."""

    size: int
    rate: int
    channels: int
    frames: int
    side: int
    speed: int  # bits a second


def mp3_frame(head: bytes) -> Mp3Frame | None:
    """A frame of MPEG audio, layer III, by its first four bytes; None when they are none."""
    if len(head) < 4 or head[0] != 0xFF or head[1] & 0xE6 != 0xE2:
        return None
    version, rate, bits = head[1] >> 3 & 3, head[2] >> 2 & 3, head[2] >> 4
    if version == 1 or rate == 3 or bits in (0, 15):
        return None
    kilobits, mono = _BITRATES[3 if version == 3 else 2][bits - 1], head[3] >> 6 == 3
    hertz = MP3_RATES[version][rate]
    size = (144 if version == 3 else 72) * kilobits * 1000 // hertz + (head[2] >> 1 & 1)
    side = (17 if mono else 32) if version == 3 else (9 if mono else 17)
    return Mp3Frame(size, hertz, 1 if mono else 2, 1152 if version == 3 else 576, side, kilobits * 1000)


def head_of(read: Read, size: int) -> Head | None:
    """The head of a sound of some bytes; None when it is none of these forms. ContentError when it is damaged."""
    first = read(0, FRONT)

    def held(at: int, count: int) -> bytes:
        return first[at : at + count] if at + count <= len(first) else read(at, count)

    return _head_of(held, size, first)


def _head_of(read: Read, size: int, first: bytes) -> Head | None:
    if first[:4] == b"fLaC":
        return flac_head(read)
    if first[:4] == b"OggS":
        return ogg_head(read, size)
    if first[:4] == b"RIFF" and first[8:12] == b"WAVE":
        return wave_head(read_wave(read, size, whole=False))
    return mp3_head(read, size)


def wave_head(wave: Wave) -> Head | None:
    """The head of a WAV file; None for an encoding that is none of ours."""
    if not wave.encoding or not wave.channels:
        return None
    own = sample_layout(wave.encoding)
    frames = own.frames(wave.size, wave.channels)
    if wave.total is not None and own.encoding.blocks:
        frames = min(frames, wave.total)
    return Head(wave.rate, wave.channels, frames, own.encoding.name, wave.ends)


def flac_head(read: Read) -> Head:
    """The description of the samples of a FLAC file."""
    head = read(4, 38)
    if len(head) < 38 or head[0] & 127:
        raise ContentError("no description of its samples (STREAMINFO)")
    word = int.from_bytes(head[14:22], "big")
    rate, channels, bits, frames = word >> 44, (word >> 41 & 7) + 1, (word >> 36 & 31) + 1, word & (1 << 36) - 1
    return Head(rate, channels, frames, "pcm8" if bits <= 8 else "pcm16" if bits <= 16 else "pcm24", frames > 0)


def ogg_head(read: Read, size: int) -> Head | None:
    """The first and the last page of an Ogg file with Vorbis or Opus; None for others."""
    head = read(0, 27 + 255 + 32)
    body = head[27 + head[26] :] if len(head) > 27 else b""
    if body.startswith(b"\x01vorbis") and len(body) >= 16:
        channels, rate, early, encoding = body[11], int.from_bytes(body[12:16], "little"), 0, "vorbis"
    elif body.startswith(b"OpusHead") and len(body) >= 16:
        channels, early, encoding = body[9], int.from_bytes(body[10:12], "little"), "opus"
        given = int.from_bytes(body[12:16], "little") or OPUS_RATES[0]
        rate = next((one for one in reversed(OPUS_RATES) if given <= one), OPUS_RATES[0])
    else:
        return None
    position, ends = _last_position(read, size)
    frames = max(0, position - early)
    return Head(rate, channels, frames * rate // OPUS_RATES[0] if encoding == "opus" else frames, encoding, ends)


def _last_position(read: Read, size: int) -> tuple[int, bool]:
    """How many frames there are by the last page that ends a packet, and whether that is the end of the stream."""
    for reach in (TAIL >> 4, TAIL):
        tail = read(max(0, size - reach), reach)
        at = tail.rfind(b"OggS")
        while at >= 0:
            position = int.from_bytes(tail[at + 6 : at + 14], "little", signed=True)
            if position >= 0 and at + LEAST_PAGE <= len(tail):
                return position, bool(tail[at + 5] & LAST)
            at = tail.rfind(b"OggS", 0, at)
    raise ContentError("its last page is not there")


def behind_id3(read: Read) -> int:
    """Where a file goes on behind an ID3v2 tag; 0 when there is none."""
    head = read(0, 10)
    if head[:3] != b"ID3" or len(head) < 10:
        return 0
    return 10 + sum((byte & 127) << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))


def mp3_head(read: Read, size: int) -> Head | None:
    """The first frame of an MP3 file; None when there is none."""
    at = behind_id3(read)
    frame = mp3_frame(read(at, 4))
    if frame is None:
        return None
    frames = _counted(read, at, frame)
    exact = frames is not None or _is_constant(read, at, size)
    if frames is None:
        frames = (size - at) * 8 * frame.rate // frame.speed
    return Head(frame.rate, frame.channels, frames, "mp3", exact)


def _counted(read: Read, at: int, frame: Mp3Frame) -> int | None:
    """How many frames of sound there are, as the first frame of the file gives it; None when it does not."""
    first = read(at, 200)
    place = 4 + frame.side
    if first[place : place + 4] in (b"Xing", b"Info") and len(first) >= place + 12 and first[place + 7] & 1:
        count = int.from_bytes(first[place + 8 : place + 12], "big") * frame.frames
        delay = first.find(b"LAME", place)
        delay = delay if delay >= 0 else first.find(b"Lavc", place)
        if delay >= 0 and len(first) >= delay + 24:
            number = int.from_bytes(first[delay + 21 : delay + 24], "big")
            count -= (number >> 12) + (number & 0xFFF)
        return max(0, count)
    if first[36:40] == b"VBRI" and len(first) >= 54:
        return int.from_bytes(first[50:54], "big") * frame.frames
    return None


def _is_constant(read: Read, at: int, size: int) -> bool:
    """Whether the first frames have one number of bits a second, as those of a file have that needs no count."""
    first = mp3_frame(read(at, 4))
    for _ in range(LOOKED_AT):
        frame = mp3_frame(read(at, 4))
        if frame is None:
            return at >= size
        if first is None or frame.speed != first.speed:
            return False
        at += frame.size
    return True
