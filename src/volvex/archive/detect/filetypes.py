"""What kind of file some bytes are, by their beginning. A row a kind."""

from __future__ import annotations

import re

from volvex.archive.detect import lengths

HEAD = 64  # bytes that are looked at
WORDS = 4096  # bytes by which text that is not UTF-8 is known

# kind, the bytes it starts with, where they stand
_MARKS: tuple[tuple[str, bytes, int], ...] = (
    ("png", b"\x89PNG\r\n\x1a\n", 0),
    ("jpeg", b"\xff\xd8\xff", 0),
    ("gif", b"GIF8", 0),
    ("dds", b"DDS ", 0),
    ("ktx", b"\xabKTX 11\xbb\r\n\x1a\n", 0),
    ("ktx2", b"\xabKTX 20\xbb\r\n\x1a\n", 0),
    ("webp", b"WEBP", 8),
    ("tiff", b"II*\0", 0),
    ("tiff", b"MM\0*", 0),
    ("ico", b"\0\0\1\0", 0),
    ("qoi", b"qoif", 0),
    ("wav", b"WAVE", 8),
    ("avi", b"AVI ", 8),
    ("aiff", b"AIFF", 8),
    ("ogg", b"OggS", 0),
    ("flac", b"fLaC", 0),
    ("mp3", b"ID3", 0),
    ("midi", b"MThd\0\0\0\6", 0),
    ("mp4", b"ftyp", 4),
    ("webm", b"\x1a\x45\xdf\xa3", 0),
    ("glb", b"glTF", 0),
    ("zip", b"PK\x03\x04", 0),
    ("gzip", b"\x1f\x8b\x08", 0),
    ("xz", b"\xfd7zXZ\0", 0),
    ("zstd", b"\x28\xb5\x2f\xfd", 0),
    ("bzip2", b"BZh", 0),
    ("lz4", b"\x04\x22\x4d\x18", 0),
    ("sqlite", b"SQLite format 3\0", 0),
    ("elf", b"\x7fELF", 0),
    ("exe", b"MZ", 0),
    ("class", b"\xca\xfe\xba\xbe\0\0", 0),
    ("wasm", b"\0asm", 0),
    ("ttf", b"\0\x01\0\0\0", 0),
    ("ttf", b"true\0", 0),
    ("otf", b"OTTO", 0),
    ("ttc", b"ttcf", 0),
    ("woff", b"wOFF", 0),
    ("woff2", b"wOF2", 0),
    ("mo", b"\xde\x12\x04\x95", 0),
    ("mo", b"\x95\x04\x12\xde", 0),
    ("pdf", b"%PDF-", 0),
)
_FORMS = {
    "wav": b"RIFF",
    "avi": b"RIFF",
    "webp": b"RIFF",
    "aiff": b"FORM",
}  # kinds whose signature is that of a part in it
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
        if head.startswith(mark, at) and head.startswith(_FORMS.get(kind, b"")) and _is_so(kind, head):
            return kind
    if not is_text(head):
        return _by_head(head)
    if head[:2] in _BOMS:
        head = head[2:].replace(b"\0", b"")
    head = head.removeprefix(_BOMS[0])
    return "xml" if _XML.match(head) else "json" if _JSON.match(head) else "text"


def _is_so(kind: str, head: bytes) -> bool:
    """Whether what follows a short signature is what follows it in such files."""
    if kind == "ico":
        count, first = int.from_bytes(head[4:6], "little"), int.from_bytes(head[18:22], "little")
        return 0 < count <= 64 and len(head) > 21 and not head[9] and head[10] < 2 and first == 6 + 16 * count
    if kind == "ttf":
        return len(head) > 28 and 4 <= head[5] <= 64 and all(32 <= byte < 127 for byte in head[12:16])
    if kind == "mp4":
        return len(head) > 12 and all(32 <= byte < 127 for byte in head[8:12])
    return True


def _by_head(head: bytes) -> str:
    """Kinds without a signature of their own, whose first fields fit nothing else."""
    if (
        head.startswith(b"BM")
        and head[6:10] == b"\0\0\0\0"
        and int.from_bytes(head[14:18], "little") in lengths.DIB_HEADS
    ):
        return "bmp"
    if lengths.frame_size(head[:4]):
        return "mp3"
    return "tga" if lengths.tga_size(head) is not None else "binary"


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
    ending = name.rpartition("/")[2].rpartition(".")
    return ending[2].lower() if ending[1] and ending[2].isalnum() else "-"


def ending_by_content(head: bytes) -> str:
    """The ending that a file with such a beginning is given when nothing else tells its name."""
    kind = kind_by_content(head)
    return {"text": "txt", "jpeg": "jpg", "empty": "", "binary": "bin", "midi": "mid"}.get(kind, kind)
