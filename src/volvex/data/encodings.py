"""The encodings of texts that are not in UTF-8: the one that is told, that of the original, or the one that the bytes suggest."""

from __future__ import annotations

import codecs
import functools

from volvex.errors import UsageError

SAMPLE = 1 << 16  # bytes from which an encoding is guessed
PREFERRED = (
    "cp1252",
    "cp1251",
    "cp1250",
    "shift_jis",
    "gbk",
    "big5",
    "euc_kr",
    "cp437",
)  # those in which games' texts are kept most often


def named(name: str) -> str:
    """An encoding as Python names it; UsageError when there is none of that name."""
    try:
        found = codecs.lookup(name)
        "".encode(found.name)
    except (LookupError, TypeError, UnicodeError) as error:
        raise UsageError(
            f"there is no encoding called {name}", "a name such as cp1252, latin-1, shift_jis, utf-16-le"
        ) from error
    return found.name


def is_utf8(data: bytes) -> bool:
    """Whether all of some bytes are text in UTF-8."""
    try:
        bytes(data).decode()
    except UnicodeDecodeError:
        return False
    return True


def guessed(data: bytes) -> str:
    """The encoding that text which is not UTF-8 is most likely in; empty when the bytes suggest none."""
    return _guessed(bytes(data[:SAMPLE]))


@functools.lru_cache(64)
def _guessed(sample: bytes) -> str:
    from charset_normalizer import from_bytes  # takes a while to load

    found = from_bytes(sample, steps=5, chunk_size=4096)
    best = found.best()
    if best is None:
        return ""
    names = [best.encoding, *best.could_be_from_charset]
    return next((one for one in PREFERRED if one in names), codecs.lookup(best.encoding).name)
