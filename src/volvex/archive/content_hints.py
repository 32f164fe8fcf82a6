"""Hints from content: a wrong codec, key or checksum shows in what entries decode to."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

import numpy as np

from volvex.archive.detect.filetypes import HEAD, TEXT, kind_by_content, kind_by_name
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.sound_hints import bank_hints
from volvex.codec import COMPRESS
from volvex.errors import ContentError, FormatError, VolvexError
from volvex.layout.checksums import checksum_value, stored_checksum
from volvex.layout.inspect.hints import Hint
from volvex.layout.inspect.hints.checksums import algorithms, checksum_bits, kept_checksums

SAMPLE = 12  # entries that are looked at
LARGEST = 1 << 22  # bytes of each
LEAST = 512  # bytes of which an entropy says something
SIGNED = ("png", "jpg", "gif", "ogg", "wav", "flac", "zip", "dds", "webp")  # types that always have their signature
TEXT_LEAST = 24  # bytes of which it can be said whether they are text
HIGH = 0.97  # of the most that there can be: encrypted or compressed
TEXTS = (
    "txt",
    "csv",
    "tsv",
    "xml",
    "json",
    "ini",
    "cfg",
    "lua",
    "html",
    "md",
    "yaml",
    "toml",
    "po",
    "css",
    "js",
    "sql",
    "log",
)


def content_hints(archive: LayoutArchive) -> Iterator[Hint]:
    """What the content of an archive's entries shows and the layout does not say."""
    rows = _rows(archive)
    if not rows:
        return
    if archive.bank is not None:
        yield from bank_hints(archive)
    contents: dict[int, bytes] = {}
    for row in rows:
        with contextlib.suppress(VolvexError):
            contents[row] = archive.content(row)
    if contents:
        yield from _kinds(archive, contents)
        yield from kept_checksums(archive.reading, ("content", lambda row: _content(archive, row)))
        return
    found = list(_other_checksum(archive, rows)) or list(_other_codec(archive, rows))
    yield from found or [Hint("content", f"none of {len(rows)} entries decodes: a wrong codec, key or size?")]


def _content(archive: LayoutArchive, row: int) -> bytes | None:
    """An entry's content where it is another than what is stored, or None."""
    if not 0 < int(archive.entries.size[row]) <= LARGEST or row in archive.folders:
        return None
    with contextlib.suppress(VolvexError):
        return archive.content(row)
    return None


def _rows(archive: LayoutArchive) -> list[int]:
    """Some entries with content, spread over the archive."""
    entries = archive.entries
    there = np.flatnonzero((entries.stored > 0) & (entries.stored <= LARGEST) & (entries.size <= LARGEST))
    there = np.array([row for row in there.tolist() if row not in archive.folders], np.int64)
    return [] if not len(there) else sorted(set(there[np.linspace(0, len(there) - 1, SAMPLE).astype(int)].tolist()))


def _kinds(archive: LayoutArchive, contents: dict[int, bytes]) -> Iterator[Hint]:
    """Content that is not what the names say, or that looks encrypted."""
    named = {row: kind_by_name(archive.names[row]) for row in contents}
    record = {
        row: name for row, name in named.items() if (name in TEXTS or name in TEXT) and len(contents[row]) >= TEXT_LEAST
    }
    wrong = [row for row in record if not _is_text(contents[row])]
    if len(record) >= 2 and len(wrong) == len(record):
        yield Hint(
            "content",
            f"none of {len(record)} entries named as text is text: a codec or cipher that the layout lacks?",
            "content as CODEC, or `wrapped in CIPHER`",
        )
        return
    signed = {row: name for row, name in named.items() if name in SIGNED and len(contents[row]) >= TEXT_LEAST}
    if len(signed) >= 2 and all(kind_by_content(contents[row][:HEAD]) == "binary" for row in signed):
        kinds = ", ".join(sorted(set(signed.values())))
        yield Hint(
            "content",
            f"none of {len(signed)} entries named as {kinds} is that: a codec or cipher that the layout lacks?",
            "content as CODEC, or `wrapped in CIPHER`",
        )
        return
    random = [row for row, data in contents.items() if _looks_random(data)]
    large = [row for row, data in contents.items() if len(data) >= LEAST]
    if len(large) >= 2 and len(random) == len(large):
        yield Hint(
            "content",
            f"all {len(large)} entries of {LEAST} bytes and more look compressed or encrypted, and are of no known "
            f"type",
            "content as CODEC, or `wrapped in CIPHER`",
        )


def _is_text(data: bytes) -> bool:
    head = data[:HEAD]
    odd = sum(byte < 32 and byte not in b"\t\n\r\f\x1b" for byte in head)
    return kind_by_content(head) in TEXT or (b"\0" not in head and 20 * odd <= len(head) and _high(head) < 0.9)


def _looks_random(data: bytes) -> bool:
    return len(data) >= LEAST and kind_by_content(data[:HEAD]) == "binary" and _high(data) > HIGH


def _high(data: bytes) -> float:
    """The entropy of bytes, as a share of the most that so many bytes can have."""
    counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
    shares = counts[counts > 0] / len(data)
    most = min(8.0, float(np.log2(len(data))))
    return float(-(shares * np.log2(shares)).sum()) / most if most else 0.0


def _other_checksum(archive: LayoutArchive, rows: list[int]) -> Iterator[Hint]:
    """Another checksum, or other bytes, by which all entries are right."""
    for block, field, meaning in archive.reading.content_checksums():
        record = {row: stored_checksum(field, block.numbers(field.name), row) for row in rows}
        stored = {row: archive.stored_source.read(*archive.place(row)) for row in rows}
        parts = {"stored content": stored, "content": dict(_decoded(archive, rows))}
        for part, data in parts.items():
            if len(data) < min(2, len(rows)):
                continue
            for algorithm in algorithms(checksum_bits(field)):
                if (algorithm, part) != (meaning.algorithm, meaning.part) and all(
                    checksum_value(algorithm, data) == record[row] for row, data in data.items()
                ):
                    yield Hint(
                        f"{block.block.name}.{field.name}",
                        f"no {meaning.algorithm} of {meaning.part} is right, the {algorithm} of {part} is for all of "
                        f"{len(data)} entries",
                        f"{field.name}  {field.shape}  {algorithm} of {part}",
                    )
                    return


def _decoded(archive: LayoutArchive, rows: list[int]) -> Iterator[tuple[int, bytes]]:
    """The content of entries, whatever their checksums."""
    for row in rows:
        with contextlib.suppress(VolvexError):
            stored = archive.stored_source.read(*archive.place(row))
            yield row, b"".join(archive.compression(row).decode_stream(iter([stored]), int(archive.entries.size[row])))


def _other_codec(archive: LayoutArchive, rows: list[int]) -> Iterator[Hint]:
    """Codecs that decode what the layout's does not."""
    packed = [row for row in rows if archive.entries.size[row] != archive.entries.stored[row]] or rows
    for name in COMPRESS.names():
        if name == "none":
            continue
        try:
            codec = COMPRESS.get(name)
            for row in packed[:4]:
                size = int(archive.entries.size[row])
                stored = archive.stored_source.read(*archive.place(row))
                if sum(map(len, codec.decode_stream(iter([stored]), size))) != size:
                    raise ContentError("another size")
        except (VolvexError, ContentError, FormatError):
            continue
        yield Hint(
            "content", f"the layout's codec decodes none of {len(packed)} entries, {name} does", f"content as {name}"
        )
        return
