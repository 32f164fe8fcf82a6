"""FLAC (RFC 9639): whole numbers of 8 to 24 bits, without loss."""

from __future__ import annotations

from volvex.asset.sound.formats import _comments, _libsndfile
from volvex.asset.sound.model import Sound
from volvex.codec.samples.heads import flac_head
from volvex.errors import FRESH, ContentError, FormatError
from volvex.source import Source

NAMES, EXTENSIONS = ("flac",), ("flac",)
ENCODINGS, HOLDS = ("pcm16", "pcm24", "pcm8"), ("loops", "tags")
MOST_BLOCKS = 1024
STREAM_INFO, COMMENTS = 0, 4


def read(source: Source) -> Sound:
    try:
        head = flac_head(source.peek)
    except ContentError as error:
        raise FormatError(source.name, error.message, hint=FRESH) from error
    tags = _comments.read_tags(_block(source, COMMENTS))
    loops, size = _comments.loops_of(tags, head.frames), (head.rate, head.channels, head.frames)
    tags = _comments.plain(tags)
    return _libsndfile.made(source, "flac", size, head.encoding, tags, loops=loops, seekable=head.exact)


def _block(source: Source, wanted: int) -> bytes:
    """A block of metadata; nothing when there is none."""
    at = 4
    for _ in range(MOST_BLOCKS):
        head = source.peek(at, 4)
        size = int.from_bytes(head[1:], "big")
        if len(head) < 4:
            break
        if head[0] & 127 == wanted:
            return source.peek(at + 4, size)
        if head[0] & 128:
            break
        at += 4 + size
    return b""


def frames_at(data: bytes) -> int:
    """Where in a file the first frame of samples is."""
    at = 4
    while at + 4 <= len(data):
        last, size = data[at] & 128, int.from_bytes(data[at + 1 : at + 4], "big")
        at += 4 + size
        if last:
            return at
    return at


def header(rate: int, channels: int, bits: int, frames: int, stream: bytes) -> bytes:
    """The beginning of a file up to its first frame, made of these facts alone; `stream`: its frames."""
    word = rate << 44 | channels - 1 << 41 | bits - 1 << 36 | frames
    block = _block_size(stream).to_bytes(2, "big")
    info = block + block + bytes(6) + word.to_bytes(8, "big") + bytes(16)
    return b"fLaC" + bytes([128 | STREAM_INFO]) + len(info).to_bytes(3, "big") + info


def _block_size(stream: bytes) -> int:
    """The samples of each channel in the first frame of a stream, by its head (RFC 9639, section 9.1)."""
    code = stream[2] >> 4 if len(stream) > 6 else 0
    if code in (6, 7):  # behind the frame's number, which is 0
        return int.from_bytes(stream[5:code], "big") + 1
    return 192 if code == 1 else 576 << code - 2 if 2 <= code <= 5 else 256 << code - 8 if code >= 8 else 4096


def write(sound: Sound) -> bytes:
    encoding = sound.encoding if sound.encoding in ENCODINGS else "pcm24" if sound.bits > 16 else "pcm16"
    data = _libsndfile.write(sound, "FLAC", encoding, tags=False)
    tags = _comments.with_loops(sound)
    if not tags:
        return data
    at = 4 + 4 + int.from_bytes(data[5:8], "big")  # behind the description of the samples
    info = bytes([data[4] & 127]) + data[5:at]
    block = _comments.written(tags)
    rest = data[frames_at(data) :]
    return b"fLaC" + info + bytes([128 | COMMENTS]) + len(block).to_bytes(3, "big") + block + rest
