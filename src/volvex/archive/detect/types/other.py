"""Programs, databases, documents, models and catalogues of texts. Source: GNU gettext (.mo)."""

from __future__ import annotations

import struct

from volvex.archive.detect.types._base import FileType, Measured, until
from volvex.source import Source


def _mo_length(source: Source, at: int) -> Measured:
    head = source.peek(at, 28)
    if len(head) < 28:
        return None
    order = "<" if head[0] == 0xDE else ">"
    revision, count, first, second = struct.unpack_from(f"{order}4I", head, 4)
    if revision >> 16 > 1 or not 0 < count < 1 << 20 or min(first, second) < 28:
        return None
    ends = [28]
    for table in (first, second):
        data = source.peek(at + table, 8 * count)
        if len(data) < 8 * count:
            return None
        ends += [size + start + 1 for size, start in struct.iter_unpack(f"{order}2I", data)]
    return (max(ends), None) if max(ends) <= source.size - at else None


def _mo_detail(head: bytes) -> str:
    order = "<" if head[0] == 0xDE else ">"
    revision, count = struct.unpack_from(f"{order}II", head, 4)
    return f"revision {revision >> 16}.{revision & 0xFFFF}, {count} texts, {'little' if order == '<' else 'big'} endian"


def _class_detail(head: bytes) -> str:
    return f"version {int.from_bytes(head[6:8], 'big')}.{int.from_bytes(head[4:6], 'big')}"


def _pdf_length(source: Source, at: int) -> Measured:
    return until(source, at, b"%%EOF", 5)


def _pdf_detail(head: bytes) -> str:
    return f"version {head[5:8].decode('ascii')}"


TYPES = (
    FileType("zip", ((b"PK\x03\x04", 0),), holds=True),
    FileType("sqlite", ((b"SQLite format 3\0", 0),)),
    FileType("bplist", ((b"bplist0", 0),)),
    FileType("elf", ((b"\x7fELF", 0),), holds=True),
    FileType("exe", ((b"MZ", 0),), holds=True),
    FileType("class", ((b"\xca\xfe\xba\xbe\0\0", 0),), detail=_class_detail),
    FileType("wasm", ((b"\0asm", 0),)),
    FileType("mo", ((b"\xde\x12\x04\x95", 0),), detail=_mo_detail, embedded=rb"\xde\x12\x04\x95", measure=_mo_length),
    FileType("mo", ((b"\x95\x04\x12\xde", 0),), detail=_mo_detail, embedded=rb"\x95\x04\x12\xde", measure=_mo_length),
    FileType("pdf", ((b"%PDF-", 0),), detail=_pdf_detail, embedded=rb"%PDF-", measure=_pdf_length),
)
