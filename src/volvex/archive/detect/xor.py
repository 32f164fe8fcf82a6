"""Archives behind a repeating XOR key: one of the user's, or one that the file itself betrays.

Directories are full of zeros, and a zero shows the key: at each place of the key's length the commonest byte is taken
for it. A guess counts only when an archive opens behind it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from volvex.archive.archive import Archive
from volvex.archive.detect.filetypes import HEAD, is_text, kind_by_content
from volvex.archive.envelope import Xored, XorSource
from volvex.errors import FormatError, LockedError
from volvex.layout import Library
from volvex.layout.columns import Array
from volvex.layout.keyring import KeyRing
from volvex.source import EndsSource, Source

LONGEST = 64  # bytes of a key that is guessed
SAMPLE = 1 << 14  # bytes at either end that are looked at
TELLING = (
    0.02  # share of bytes that equal the one a key's length before, from which a key is likely; chance gives 0.004
)
MOST_KEYS = 6
TESTED = 4096  # bytes in which the length is looked for

Opener = Callable[[Source, Library], Archive | None]


def open_betrayed(source: Source, library: Library, opened: Callable[..., Archive | None]) -> Archive | None:
    """The archive behind a repeating key; None when there is none."""
    if source.size < 64 or _is_prose(source.peek(0, 4096)):
        return None
    ends = EndsSource(source)
    for name, key in candidates(ends, library.keys):
        try:
            guess = opened(EndsSource(XorSource(ends, key)), library, None, False)
            if guess is None or not len(guess):
                continue
            found = opened(XorSource(source, key), library, None, False)
        except (FormatError, LockedError):
            continue
        if found is not None:
            found.envelope = Xored(key)
            if name:
                library.keys.was_right(name)
            return found
    return None


def _is_prose(head: bytes) -> bool:
    """Whether bytes are text with words or lines in it: other text may be zeros and names behind a key."""
    return is_text(head) and sum(map(head.count, (b" ", b"\n"))) > len(head) // 100


def candidates(source: Source, keys: KeyRing) -> Iterator[tuple[str, bytes]]:
    """Keys worth trying: those of the file, then the user's by name."""
    for key in likely_keys(source):
        yield "", key
    for one in keys.all():
        for secret in dict.fromkeys((one.secret, one.bare)):
            if secret:
                yield one.name, secret


def likely_keys(source: Source) -> list[bytes]:
    """Repeating keys that the ends of a file betray, the likeliest first; none when it betrays nothing."""
    found: dict[bytes, float] = {}
    for start in dict.fromkeys((max(0, source.size - 1024), max(0, source.size - SAMPLE), 0)):
        sample = np.frombuffer(source.peek(start, SAMPLE), np.uint8)
        for length, share in _lengths(sample):
            key = _commonest(sample, length, start)
            if 2 * key.count(0) < len(key):  # one that leaves most bytes as they are is none
                key = _shortest(key)
                found[key] = max(share, found.get(key, 0.0))
    return sorted(found, key=lambda key: (-found[key], len(key)))[:MOST_KEYS]


def telling_keys(source: Source, library: Library) -> list[bytes]:
    """The repeating keys behind which the bytes are plainly something: a file with a signature, or text. The likeliest
    first.

    That bytes repeat is no reason by itself: they do in tables, pictures and models as well.
    """
    sample = np.frombuffer(source.peek(0, SAMPLE), np.uint8)
    if source.size < LEAST or kind_by_content(sample[:HEAD].tobytes()) != "binary" or (sample == 0).mean() > MOST_ZEROS:
        return []
    spoken = [key for length, _ in _lengths(sample) if any(key := _as_text(sample, length))]
    return [
        key for key in dict.fromkeys([*likely_keys(source), *map(_shortest, spoken)]) if _tells(source, key, library)
    ]


def _as_text(sample: Array, length: int) -> bytes:
    """The key of that length behind which the most bytes are letters and whitespace."""
    counts = np.stack([np.bincount(sample[place::length], minlength=256) for place in range(length)])
    return bytes(np.argmax(counts @ _SPOKEN, axis=1).astype(np.uint8))


def _weights() -> Array:
    """For each byte and each key, what the byte behind the key speaks for text."""
    weight = np.full(256, -8.0)
    weight[32:127] = 0.4
    weight[[9, 10, 13]] = 0.6
    for common, points in (("etaoinsrhldcumfpgwybv", 1.0), ('ETAOINSRHLDCUMFPGWYBV0123456789<>/=.,"', 0.7), (" ", 1.6)):
        weight[[ord(text) for text in common]] = points
    every = np.arange(256)
    found: Array = weight[every[:, None] ^ every[None, :]]
    return found


_SPOKEN = _weights()
WEAK = (
    "binary",
    "empty",
    "text",
    "exe",
    "mp3",
    "tga",
    "bmp",
    "ico",
    "bzip2",
    "gzip",
    "jpeg",
    "class",
)  # what a few bytes by chance are
MOST_ZEROS = 0.2  # share of zeros in a file from which on it is not taken for one behind a key
LEAST = 512  # bytes of a file in which a key can tell


def _tells(source: Source, key: bytes, library: Library) -> bool:
    """Whether the bytes behind a key are plainly something; a key that leaves most of them as they are is none."""
    if 2 * key.count(0) > len(key):
        return False
    view = XorSource(source, key)
    head = view.peek(0, 4096)
    if (
        kind_by_content(head[:HEAD]) not in WEAK
        or library.match(view) is not None
        or library.match_data(view) is not None
    ):
        return True
    data = np.frombuffer(head, np.uint8)
    printable = ((data >= 32) & (data < 127)) | np.isin(data, (9, 10, 13))
    letters = ((data | 32) >= 97) & ((data | 32) < 123)
    common = np.isin(
        data | 32, np.frombuffer(b"etaoinsr", np.uint8)
    )  # over half of the letters in most languages of the West
    return bool(
        printable.mean() > 0.97
        and letters.mean() > 0.4
        and common.sum() > 0.5 * letters.sum()
        and 0.02 < np.isin(data, (32, 10)).mean() < 0.5
    )


def _lengths(sample: Array) -> list[tuple[int, float]]:
    """Lengths at which bytes repeat more often than by chance, the best first."""
    part = sample[-TESTED:]
    longest = min(LONGEST, len(part) // 3)
    if longest < 1:
        return []
    width = len(part) - longest
    shifted = np.lib.stride_tricks.sliding_window_view(part, width)[1:]  # row 0 is shifted by one byte
    shares = np.count_nonzero(shifted == part[:width], axis=1) / width
    order = np.argsort(-np.round(shares, 2), kind="stable")[:MOST_KEYS].tolist()
    return [(place + 1, float(shares[place])) for place in order if shares[place] > TELLING]


def _commonest(sample: Array, length: int, start: int) -> bytes:
    """At each place of a key the byte that is there most often; places count from the file's start."""
    places = np.arange(length, dtype=np.int64) << 8
    whole = len(sample) // length * length
    numbers = (sample[:whole].reshape(-1, length) + places).reshape(-1)
    rest = sample[whole:] + places[: len(sample) - whole]
    counts = np.bincount(numbers, minlength=length << 8) + np.bincount(rest, minlength=length << 8)
    key = bytes(counts.reshape(length, 256).argmax(axis=1).tolist())
    turn = -start % length
    return key[turn:] + key[:turn]


def _shortest(key: bytes) -> bytes:
    """The key without repeating itself."""
    for size in range(1, len(key)):
        if len(key) % size == 0 and key[:size] * (len(key) // size) == key:
            return key[:size]
    return key
