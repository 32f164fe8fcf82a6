"""Files of a drawn format, made of contents by plain Python."""

from __future__ import annotations

import random
import zlib
from dataclasses import dataclass, field

from benchmarks.formats.draw import Format, Item
from benchmarks.formats.plain import Files, checksum, packed, text_of, xored


@dataclass
class Entry:
    """An entry as it is written: the number of its record, its name as it is stored, its bytes."""

    number: int
    name: str
    content: bytes
    flags: int
    codec: int
    stored: bytes = b""
    start: int = 0
    end_before: int = 0
    end: int = 0
    around: dict[str, object] = field(default_factory=dict)  # what the records around its content say


def content_key(made: Format, entry: Entry, seed: int) -> bytes:
    """The key of an entry's content."""
    if made.cipher == "name":
        return entry.name.encode(made.encoding)
    value = {
        "const": made.cipher_key,
        "number": made.cipher_key + entry.number * 7,
        "size": made.cipher_key ^ len(entry.content),
        "seed": seed + entry.number,
    }[made.cipher]
    return (value % (1 << 32)).to_bytes(4, "big" if made.big else "little")


def sort_key(made: Format, entry: Entry) -> object:
    """By what records ascend."""
    if made.order == "name":
        return entry.name.encode(made.encoding)
    item = next(item for item in made.record if item.name == "hash")
    return checksum(item.sum, text_of(item.of, entry.name, made.encoding)) ^ item.by


class Writer:
    """One file of a format."""

    def __init__(self, made: Format, files: Files, seed: int = 0) -> None:
        self.made, self.rng = made, random.Random(seed)
        self.seed_value = self.rng.randrange(1 << 31)
        self.less = self.rng.randrange(2, 9)
        self.entries = []
        for number, (name, (content, flags)) in enumerate(files.items()):
            stored_name = name.replace("/", "\\") if made.backslashes else name
            codec = self.rng.randrange(2) if made.codec == "table" else int(bool(made.codec))
            self.entries.append(Entry(number, stored_name, content, flags, codec))
        if made.order:
            self.entries.sort(key=lambda entry: sort_key(made, entry))  # type: ignore[arg-type, return-value]
        for number, entry in enumerate(self.entries):
            entry.number = number
            self._store(entry)
        self.kept = random.Random(seed + 1)
        self.base = 0
        self.lying = list(self.entries)  # as their contents lie
        if not made.tight:
            self.rng.shuffle(self.lying)

    def _store(self, entry: Entry) -> None:
        data = entry.content
        if entry.codec:
            data = packed(self.made.codec, data)
            if self.made.codec == "differ" and len(data) >= len(entry.content):
                data = entry.content
        if self.made.cipher and (self.made.ciphered == "all" or entry.flags & 1):
            data = xored(data, content_key(self.made, entry, self.seed_value))
        entry.stored = data

    def number(self, value: int, size: int) -> bytes:
        return (value % (1 << 8 * size)).to_bytes(size, "big" if self.made.big else "little")

    # records

    def around(self, entry: Entry, items: list[Item]) -> bytes:
        """The record in front of a content, or behind it."""
        found = b""
        for item in items:
            if item.kind == "own name":
                raw = entry.name.encode(self.made.encoding)
                found += bytes([len(raw)]) + raw
            else:
                value = entry.start if item.kind == "own start" else self._value(entry, item, 0)
                found += self.number(value, item.size)
        return found

    def whole(self, entry: Entry) -> bytes:
        """The bytes of an entry with what stands around its content."""
        return self.around(entry, self.made.local) + entry.stored + self.around(entry, self.made.last)

    def _name(self, entry: Entry, pool: dict[str, int]) -> bytes:
        made, raw = self.made, entry.name.encode(self.made.encoding)
        if made.names == "u8":
            return bytes([len(raw)]) + raw
        if made.names == "u16":
            return self.number(len(raw), 2) + raw
        if made.names == "zero":
            return raw + b"\0"
        if made.names == "fixed":
            return raw.ljust(64, b"\0")
        return self.number(pool[entry.name], 4)

    def _record(self, entry: Entry, item: Item, pool: dict[str, int], base: int) -> bytes:
        if item.flag and not entry.flags & 1:
            return b""
        if item.kind == "name":
            return self._name(entry, pool)
        return self._formed(self._value(entry, item, base), item)

    def _formed(self, value: int, item: Item) -> bytes:
        if item.form == "varint":
            found = b""
            while value > 127:
                found, value = found + bytes([value & 127 | 128]), value >> 7
            return found + bytes([value])
        if item.form == "digits":
            return b"%8d" % value
        if item.form == "hexadecimal":
            return b"%0*x" % (2 * item.size, value)
        return self.number(value, item.size)

    def _value(self, entry: Entry, item: Item, base: int) -> int:
        made, kind = self.made, item.kind
        if kind == "start":
            return (entry.start - base) // self.made.unit ^ item.by
        if kind == "sum":
            return checksum(item.sum, entry.content if item.of == "content" else entry.stored) ^ item.by
        if kind == "name sum":
            return checksum(item.sum, text_of(item.of, entry.name, made.encoding)) ^ item.by
        if kind == "units":
            return -(-len(entry.content) // item.by)
        if kind == "length":
            return len(text_of(item.of, entry.name, made.encoding)) + item.by
        if kind == "kept":
            return random.Random(entry.name + item.name).randrange(1 << 7)
        return {
            "size": len(entry.content),
            "stored": len(entry.stored),
            "codec": entry.codec,
            "flags": entry.flags,
            "number": entry.number + item.by,
            "gap": entry.start - entry.end_before,
            "const": item.by,
        }[kind]

    def _table(self, base: int) -> tuple[bytes, bytes]:
        """The directory, and the pool behind it."""
        made, pool, texts = self.made, dict[str, int](), b""
        if made.names == "pool":
            for entry in self.entries:
                pool[entry.name] = len(texts)
                texts += entry.name.encode() + b"\0"
        if made.form == "rows" or made.names == "pool":
            rows = [b"".join(self._record(entry, item, pool, base) for item in made.record) for entry in self.entries]
            return b"".join(rows), texts
        first = [item for item in made.record if item.kind != "name"]
        rows = [b"".join(self._record(entry, item, pool, base) for item in first) for entry in self.entries]
        names = [self._name(entry, pool) for entry in self.entries]
        return b"".join(rows), b"".join(names)

    def _wrapped(self, table: bytes) -> bytes:
        made = self.made
        if made.wrap == "zlib":  # in front of what it points to, packed so that its size is that of what it holds
            return zlib.compress(table, 9 if made.behind else 0)
        if made.wrap == "xor":
            return xored(table, bytes([made.wrap_key]))
        if made.wrap == "seed":
            return xored(table, self.number(self.seed_value + made.wrap_key, 4))
        return table

    # the file

    def write(self) -> bytes:
        """The file."""
        made = self.made
        head_size = len(made.mark) + sum(item.size for item in made.head)
        if made.foot:
            return self._footed()
        if made.form == "inline":
            return self._inline(head_size)
        size = 0
        while True:  # until a packed directory keeps its size
            base = self.base = self._place(head_size, size)
            table, behind = self._table(base)
            stored = self._wrapped(table)
            if made.behind or len(stored) + len(behind) == size:
                break
            size = len(stored) + len(behind)
        at = self._end(head_size) if made.behind else head_size
        data = bytearray(b"\0" * head_size)
        if not made.behind:
            data += stored + behind
        for entry in self.lying:
            if whole := self.whole(entry):
                data += bytes([made.fill]) * (entry.start - len(data)) + whole
        if made.behind:
            at = len(data)
            data += stored + behind
        data += b"\0" * (-len(data) % made.file_align)
        data[:head_size] = self._head(at, table, stored, behind, len(data))
        return bytes(data)

    def _footed(self) -> bytes:
        """A file whose head lies at its end."""
        made, data = self.made, bytearray()
        base = self.base = self._place(0, 0)
        table, behind = self._table(base)
        stored = self._wrapped(table)
        for entry in self.lying:
            if whole := self.whole(entry):
                data += bytes([made.fill]) * (entry.start - len(data)) + whole
        at = len(data)
        data += stored + behind
        size = len(data) + len(made.mark) + sum(item.size for item in made.head)
        return bytes(data) + self._head(at, table, stored, behind, size)

    def _place(self, head_size: int, size: int) -> int:
        """Settle where contents start; what starts count from."""
        made = self.made
        at = begin = head_size if made.behind else head_size + size
        for entry in self.lying:
            at += -at % made.align
            entry.start = at
            at += len(self.whole(entry))
        end = 0
        for entry in self.entries:
            entry.end_before, end = end, entry.start + len(self.whole(entry))
        if made.base == "table":
            return begin
        if made.base == "contents":
            return next((entry.start for entry in self.lying if self.whole(entry)), begin)
        return 0

    def _end(self, head_size: int) -> int:
        return max([entry.start + len(entry.stored) for entry in self.entries if entry.stored], default=head_size)

    def _inline(self, head_size: int) -> bytes:
        made, data, end = self.made, bytearray(b"\0" * head_size), 0
        for entry in self.entries:
            data += bytes([made.fill]) * (-len(data) % made.row_align)
            record = b"".join(self._record(entry, item, {}, 0) for item in made.record)
            data += record
            data += bytes([made.fill]) * (-len(data) % made.align)
            entry.start, entry.end_before = len(data), end
            data += entry.stored
            end = len(data)
        data += b"\0" * (-len(data) % made.file_align)
        data[:head_size] = self._head(head_size, b"", b"", b"", len(data))
        return bytes(data)

    def _head(self, at: int, table: bytes, stored: bytes, behind: bytes, size: int) -> bytes:
        made, found, own = self.made, b"", None
        for item in made.head:
            if item.kind == "sum head":
                own = len(made.mark) + len(found)
                found += bytes(item.size)
            else:
                found += self.number(self._head_value(item, at, table, stored, behind, size), item.size)
        whole = made.mark + found
        if own is not None:
            whole = whole[:own] + self.number(checksum("crc32", whole), 4) + whole[own + 4 :]
        return whole

    def _head_value(self, item: Item, at: int, table: bytes, stored: bytes, behind: bytes, size: int) -> int:
        sizes = [len(entry.content) for entry in self.entries]
        kind = item.kind
        if kind == "sum table":
            return checksum(item.sum, stored if self.made.wrap else table) ^ item.by
        if kind == "file units":
            return size // item.by
        if kind == "kept":
            return self.kept.randrange(1, 1 << min(8 * item.size, 30))
        return {
            "count": len(sizes) + item.by,
            "both": len(sizes) * item.by + len(self.made.mark),
            "count more": len(sizes) + item.by * self.less,
            "kept const": self.less,
            "length table": len(table),
            "end table": at + len(stored),
            "stored table": len(stored),
            "start table": at - item.by,
            "start contents": self.base,
            "length pool": len(behind),
            "seed": self.seed_value,
            "file": size - item.by,
            "total": sum(sizes),
            "largest": max(sizes, default=0),
            "first": sizes[0] if sizes else 0,
            "copy": len(sizes),
            "const": item.by,
        }[kind]
