"""Ogg (RFC 3533) with Vorbis or Opus (RFC 7845)."""

from __future__ import annotations

from volvex.asset.sound.formats import _comments, _libsndfile
from volvex.asset.sound.formats._ogg_pages import with_comments
from volvex.asset.sound.model import Sound
from volvex.codec.samples.heads import OPUS_RATES, ogg_head
from volvex.errors import FRESH, ContentError, FormatError
from volvex.source import Source

NAMES, EXTENSIONS = ("ogg",), ("ogg", "opus", "oga")
ENCODINGS, HOLDS = ("vorbis", "opus"), ("loops", "tags")
CUT = ("its last page is not its end: is it cut off?",)
FRONT = 1 << 16  # bytes in which the tags are


def read(source: Source) -> Sound:
    try:
        head = ogg_head(source.peek, source.size)
    except ContentError as error:
        raise FormatError(source.name, error.message, hint=FRESH) from error
    if head is None:
        return _libsndfile.read(source, "ogg")
    front = source.peek(0, FRONT)
    at = front.find(b"\x03vorbis") + 7 if head.encoding == "vorbis" else front.find(b"OpusTags") + 8
    tags = _comments.read_tags(front[at:]) if at > 8 or front[at - 7 : at] == b"\x03vorbis" else {}
    loops, size = _comments.loops_of(tags, head.frames), (head.rate, head.channels, head.frames)
    return _libsndfile.made(
        source,
        "ogg",
        size,
        head.encoding,
        _comments.plain(tags),
        loops=loops,
        seekable=head.exact,
        notes=() if head.exact else CUT,
    )


def write(sound: Sound) -> bytes:
    """The file; its pages are numbered as one stream, so that the same sound gives the same bytes."""
    encoding = sound.encoding if sound.encoding in ENCODINGS else "vorbis"
    opus = encoding == "opus"
    data = _libsndfile.write(sound, "OGG", encoding, OPUS_RATES if opus else (), tags=False)
    comments = _comments.written(_comments.with_loops(sound))
    packet = b"OpusTags" + comments if opus else b"\3vorbis" + comments + b"\1"
    return with_comments(data, packet, 2 if opus else 3)
