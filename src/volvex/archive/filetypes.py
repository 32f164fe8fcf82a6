"""What kind of file some bytes are, by their beginning. A row a kind."""

from __future__ import annotations

import re

HEAD = 64  # bytes that are looked at

# kind, the bytes it starts with, where they stand
_MARKS: tuple[tuple[str, bytes, int], ...] = (
    ("png", b"\x89PNG\r\n\x1a\n", 0),
    ("jpeg", b"\xff\xd8\xff", 0),
    ("gif", b"GIF8", 0),
    ("dds", b"DDS ", 0),
    ("webp", b"WEBP", 8),
    ("wav", b"WAVE", 8),
    ("ogg", b"OggS", 0),
    ("flac", b"fLaC", 0),
    ("mp3", b"ID3", 0),
    ("zip", b"PK\x03\x04", 0),
    ("gzip", b"\x1f\x8b\x08", 0),
    ("xz", b"\xfd7zXZ\0", 0),
    ("zstd", b"\x28\xb5\x2f\xfd", 0),
    ("bzip2", b"BZh", 0),
    ("lz4", b"\x04\x22\x4d\x18", 0),
    ("sqlite", b"SQLite format 3\0", 0),
    ("elf", b"\x7fELF", 0),
    ("exe", b"MZ", 0),
    ("ttf", b"\0\x01\0\0\0", 0),
    ("otf", b"OTTO", 0),
    ("pdf", b"%PDF-", 0),
)
_XML = re.compile(rb"\s*<[?!A-Za-z]")
_JSON = re.compile(rb'\s*[\[{]\s*(["\[{\]}0-9tfn-]|$)')
_CONTROL = re.compile(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f\x7f]")
_BOMS = (b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff")
TEXT = frozenset(("text", "xml", "json"))


def kind_by_content(head: bytes) -> str:
    """The kind of a file that begins with `head`: one of the marks, xml, json, text, empty or binary."""
    if not head:
        return "empty"
    for kind, mark, at in _MARKS:
        if head.startswith(mark, at):
            return kind
    if not is_text(head):
        return "binary"
    if head[:2] in _BOMS:
        head = head[2:].replace(b"\0", b"")
    head = head.removeprefix(_BOMS[0])
    return "xml" if _XML.match(head) else "json" if _JSON.match(head) else "text"


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


def decode_text(data: bytes) -> str:
    """Text of any kind that `is_text` knows; bytes that do not fit become escapes."""
    if data.startswith(_BOMS[1:]):
        return data.decode("utf-16", "backslashreplace")
    return data.decode("utf-8-sig", "backslashreplace")


def kind_by_name(name: str) -> str:
    """The kind that a name's ending claims: the ending itself, or `-` when there is none."""
    ending = name.rpartition("/")[2].rpartition(".")
    return ending[2].lower() if ending[1] and ending[2].isalnum() else "-"


def ending_by_content(head: bytes) -> str:
    """The ending that a file with such a beginning is given when nothing else tells its name."""
    kind = kind_by_content(head)
    return {"text": "txt", "jpeg": "jpg", "empty": "", "binary": "bin"}.get(kind, kind)
