"""The encodings of texts that are not in UTF-8: the one that is told, that of the original, or the one that the bytes
suggest."""

from __future__ import annotations

import codecs
import functools

from volvex.archive.detect.filetypes import WORDS, is_8bit_text
from volvex.errors import UsageError

SAMPLE = 1 << 16  # bytes from which an encoding is guessed
# those in which games' texts are kept; where several fit alike, the first counts
TRIED = (
    "cp1252",
    "cp1251",
    "cp1250",
    "cp932",
    "gb18030",
    "big5",
    "cp949",
    "cp1253",
    "cp1254",
    "cp1257",
    "koi8_r",
    "cp437",
    "cp850",
    "cp866",
)


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


def of_text(told: tuple[str, bool], data: bytes) -> str:
    """The encoding of a text as it is told (and whether that is sure), or as its bytes suggest; empty for UTF-8 and
    what is no text."""
    name, sure = told
    if sure or not is_8bit_text(data[:WORDS]):
        return name if sure else ""
    return name or guessed(data)


@functools.lru_cache(64)
def _guessed(sample: bytes) -> str:
    from charset_normalizer import from_bytes  # takes a while to load

    best = from_bytes(sample, steps=5, chunk_size=4096, cp_isolation=list(TRIED)).best()
    if best is None:
        return ""
    names = [best.encoding, *best.could_be_from_charset]
    return codecs.lookup(next((text for text in TRIED if text in names), best.encoding)).name
