"""MP3 (ISO/IEC 11172-3 and 13818-3, layer III), with ID3 tags."""

from __future__ import annotations

from volvex.asset.sound.formats import _libsndfile
from volvex.asset.sound.model import Sound
from volvex.codec.samples.heads import behind_id3, mp3_head
from volvex.errors import FRESH, ContentError, FormatError
from volvex.source import Source

NAMES, EXTENSIONS = ("mp3",), ("mp3",)
ENCODINGS, HOLDS = ("mp3",), ("tags",)
RATES = (48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000)


def read(source: Source) -> Sound:
    try:
        head = mp3_head(source.peek, source.size)
    except ContentError as error:
        raise FormatError(source.name, error.message, hint=FRESH) from error
    if head is None:
        return _libsndfile.read_apart(source, "mp3")
    notes = () if head.exact else ("its length is a guess by its first frames",)
    size = (head.rate, head.channels, head.frames)
    return _libsndfile.made(source, "mp3", size, "mp3", _tags(source), notes=notes, seekable=head.exact)


def _tags(source: Source) -> dict[str, str]:
    """The texts of an ID3v2 tag (id3.org, ID3v2.3 and 2.4) that other forms have, too."""
    size = behind_id3(source.peek)
    if not size:
        return _old_tags(source.peek(max(0, source.size - 128), 128))
    if size > 1 << 20:
        return {}
    data, at, found = source.peek(0, size), 10, dict[str, str]()
    version = data[3] if len(data) > 3 else 0
    while version in (3, 4) and at + 10 < len(data) and data[at]:
        name, raw = data[at : at + 4].decode("latin-1"), data[at + 4 : at + 8]
        long = int.from_bytes(raw, "big")
        if version == 4:
            long = sum((byte & 127) << shift for byte, shift in zip(raw, (21, 14, 7, 0), strict=True))
        if name in NAMED:
            found[NAMED[name]] = _text(data[at + 10 : at + 10 + long])
        at += 10 + long
    return found


def _old_tags(data: bytes) -> dict[str, str]:
    """The texts of an ID3v1 tag, the last 128 bytes of a file."""
    if data[:3] != b"TAG":
        return {}
    spans = {"title": (3, 33), "artist": (33, 63), "album": (63, 93), "date": (93, 97), "comment": (97, 125)}
    texts = ((name, data[slice(*span)].split(b"\0")[0].decode("latin-1").strip()) for name, span in spans.items())
    return {name: text for name, text in texts if text}


NAMED = {"TIT2": "title", "TPE1": "artist", "TALB": "album", "TYER": "date", "TDRC": "date", "TCON": "genre", "TRCK": "tracknumber", "TCOP": "copyright"}  # fmt: skip  # noqa: E501
ENCODED = ("latin-1", "utf-16", "utf-16-be", "utf-8")


def _text(data: bytes) -> str:
    if not data or data[0] >= len(ENCODED):
        return ""
    return data[1:].decode(ENCODED[data[0]], "replace").split("\0")[0].lstrip("\ufeff")


def write(sound: Sound) -> bytes:
    return _written_tags(sound) + _libsndfile.write(sound, "MP3", "mp3", RATES, tags=False)


def _written_tags(sound: Sound) -> bytes:
    """An ID3v2.4 tag; nothing when there is nothing to write in one."""
    ids = {word: name for name, word in NAMED.items()}
    items = [(ids[word], b"\3" + text.encode()) for word, text in sound.tags.items() if word in ids]
    body = b"".join(name.encode() + _sevens(len(text)) + b"\0\0" + text for name, text in items)
    return b"ID3\4\0\0" + _sevens(len(body)) + body if body else b""


def _sevens(number: int) -> bytes:
    """A number in four bytes of seven bits."""
    return bytes(number >> shift & 127 for shift in (21, 14, 7, 0))
