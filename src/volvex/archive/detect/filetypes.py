"""What type of file some bytes are, by their beginning; and text of any kind."""

from __future__ import annotations

import re
import struct

from volvex.archive.detect.types import HEAD as HEAD
from volvex.archive.detect.types import all_types, by_name, late_types, may_begin

LATE = 1084  # bytes that are looked at where the first of them are of no known type
DETAIL = 1024  # bytes in which the details of a type are found
WORDS = 4096  # bytes by which text that is not UTF-8 is known

_XML = re.compile(rb"\s*<[?!A-Za-z]")
_JSON = re.compile(rb'\s*[\[{]\s*(["\[{\]}0-9tfn-]|$)')
_CONTROL = re.compile(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f\x7f]")
_BOMS = (b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff")
TEXT = frozenset(("text", "xml", "json"))
DATA = frozenset(("bplist", "mo"))  # binary types that are data without a layout


def kind_by_content(head: bytes) -> str:
    """The kind of a file that begins with `head`: an open type, xml, json, text, empty or binary."""
    if not head:
        return "empty"
    for kind in may_begin(head[0]):
        if kind.begins(head):
            return kind.name
    if not is_text(head):  # types without a signature, whose first fields fit nothing else
        weaker = (
            kind.name for kind in all_types() if kind.fits is not None and not kind.signatures and kind.fits(head)
        )
        return next(weaker, "binary")
    if head[:2] in _BOMS:
        head = head[2:].replace(b"\0", b"")
    head = head.removeprefix(_BOMS[0])
    return "xml" if _XML.match(head) else "json" if _JSON.match(head) else "text"


def kind_by_more(head: bytes, kind: str = "") -> str:
    """The kind of a file that begins with `head` (`LATE` bytes), also by signatures that lie behind the first bytes;
    `kind` is what the first bytes gave."""
    kind = kind or kind_by_content(head[:HEAD])
    if kind != "binary":
        return kind
    return next((late.name for late in late_types() if late.begins(head)), kind)


def kind_of_data(head: bytes) -> str:
    """The same where text may be in any encoding and hold odd characters, as long as it begins as XML or JSON does."""
    kind = kind_by_content(head)
    if kind != "binary" or b"\0" in head:
        return kind
    return "xml" if _XML.match(head) else "json" if _JSON.match(head) else "binary" if has_control(head) else "text"


def has_control(data: bytes) -> bool:
    """Whether there are control bytes that no text has."""
    return _CONTROL.search(data) is not None


def is_text(head: bytes) -> bool:
    """Whether bytes look like text: UTF-8 (perhaps cut within a character), UTF-16 with its mark, no control bytes."""
    if head.startswith(_BOMS[1:]):
        return True
    if _CONTROL.search(head):
        return False
    try:
        head.decode()
    except UnicodeDecodeError as error:
        return error.start >= len(head) - 3 and error.reason == "unexpected end of data"
    return True


def is_8bit_text(head: bytes) -> bool:
    """Whether bytes may be text in an encoding of 8 bits or more that is not UTF-8: no control bytes, and words."""
    return (
        bool(head)
        and not has_control(head)
        and not is_text(head)
        and sum(byte < 0x80 for byte in head) > len(head) // 8
    )


def decode_text(data: bytes, encoding: str = "") -> str:
    """Text of any kind that `is_text` knows, or in the encoding that is told; bytes that do not fit become escapes."""
    if encoding:
        return data.decode(encoding, "backslashreplace")
    if data.startswith(_BOMS[1:]):
        return data.decode("utf-16", "backslashreplace")
    return data.decode("utf-8-sig", "backslashreplace")


def kind_by_name(name: str) -> str:
    """The kind that a name's ending claims: the ending itself, or `-` when there is none."""
    extension = name.rpartition("/")[2].rpartition(".")
    return extension[2].lower() if extension[1] and extension[2].isalnum() else "-"


def extension_by_content(head: bytes) -> str:
    """The ending that a file with such a beginning is given when nothing else tells its name."""
    kind = kind_by_content(head)
    known = by_name().get(kind)
    if known is not None and known.extension:
        return known.extension
    return {"text": "txt", "empty": "", "binary": "bin"}.get(kind, kind)


def detail(kind: str, head: bytes) -> str:
    """Version, size and the like of a file of that kind that begins with `head` (some hundred bytes); empty if
    unknown."""
    known = by_name().get(kind)
    if known is None or known.detail is None:
        return ""
    try:
        return known.detail(head)
    except (struct.error, IndexError, KeyError, UnicodeDecodeError):  # shorter than such files are
        return ""


def may_contain_files(kind: str) -> bool:
    """Whether a file of that kind may be an archive, as far as its kind is known."""
    known = by_name().get(kind)
    return known.holds if known is not None else kind not in (*TEXT, "empty", "folder")
