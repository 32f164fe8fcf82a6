"""A strict reader of a drawn format: everything in the file must be as the format has it, down to padding and order."""

from __future__ import annotations

import zlib

from benchmarks.formats.draw import Format, Item
from benchmarks.formats.plain import checksum, text_of, unpacked, xored
from benchmarks.formats.writer import Entry, content_key, sort_key


class Wrong(Exception):
    """What is not as the format has it."""


def expect(found: object, wanted: object, what: str) -> None:
    if found != wanted:
        raise Wrong(f"{what}: {found!r}, expected {wanted!r}")


class StrictReader:
    """One file of a format, read."""

    def __init__(self, made: Format, data: bytes) -> None:
        self.made, self.data, self.head = made, data, dict[str, int]()
        self.covered: list[tuple[int, int]] = []

    def number(self, data: bytes, at: int, size: int) -> int:
        if at < 0 or at + size > len(data):
            raise Wrong("the file ends within a number")
        return int.from_bytes(data[at : at + size], "big" if self.made.big else "little")

    def read(self) -> dict[str, bytes]:
        """The contents by their names."""
        made, data = self.made, self.data
        size = len(made.mark) + sum(item.size for item in made.head)
        begin = len(data) - size if made.foot else 0
        expect(begin >= 0, True, "room for a head")
        expect(data[begin : begin + len(made.mark)], made.mark, "mark")
        at = begin + len(made.mark)
        for item in made.head:
            self.head[item.name] = self.number(data, at, item.size)
            at += item.size
        self.head_at, self.head_size = begin, at
        rows, size = self._rows(at)
        entries, found = [], dict[str, bytes]()
        for number, row in enumerate(rows):
            entry = self._entry(number, row)
            entries.append(entry)
            name = entry.name.replace("\\", "/")
            expect(name in found, False, f"{name} twice")
            found[name] = entry.content
        if made.order:
            keys = [sort_key(made, entry) for entry in entries]
            expect(keys, sorted(keys), "order")  # type: ignore[type-var]
        end = 0
        for entry, row in zip(entries, rows, strict=True):
            entry.end_before, end = end, entry.end
            self._check_around(entry)
            for item in made.record:
                self._check(entry, item, row)
        self._check_head(entries, size)
        self._check_gaps()
        if made.tight and made.form != "inline":
            starts = [entry.start for entry in entries if entry.end > entry.start]
            expect(starts, sorted(starts), "order of contents")
        return found

    # the directory

    def _rows(self, at: int) -> tuple[list[dict[str, object]], int]:
        made, head = self.made, self.head
        items = {item.kind: item for item in made.head}
        start = head[items["start table"].name] + items["start table"].by if "start table" in items else at
        self.covered.append((self.head_at, at))
        if made.form == "inline":
            return self._inline(at, head["count"] - items["count"].by), 0
        table = self.data[start:]
        if made.wrap:
            stored = self.data[start : start + head["packed"]]
            expect(len(stored), head["packed"], "bytes of the directory")
            table, self.stored_table = self._unwrapped(stored), stored
        if made.counted == "count":
            count = head["count"] - items["count"].by
        elif made.counted == "plus":
            count = head["more"] - head["less"] * items["count more"].by
        else:
            count = -1
            reach = head["reach"] if made.counted == "length" else head["reach"] - start
            table = table[:reach]
            expect(len(table), reach, "length of the directory")
        rows, place = list[dict[str, object]](), 0
        split = made.form == "arrays" and made.names != "pool"
        while len(rows) < count or (count < 0 and place < len(table)):
            row, place = self._row(table, place, not split)
            rows.append(row)
        self.table_size = place
        if split:
            for row in rows:
                row["name"], place = self._name(table, place)
        if made.wrap:
            expect(len(table), place, "what the directory holds")
            self.covered.append((start, start + len(self.stored_table)))
            if "whole" in head:
                expect(head["whole"], place, "length of the directory")
        else:
            self.stored_table = table[:place]
            self.covered.append((start, start + place))
        if made.names == "pool":
            self._pool(rows, start + place)
        self.table_end = start + self.table_size
        self._places(rows)
        return rows, place

    def _pool(self, rows: list[dict[str, object]], at: int) -> None:
        size = self.head["pool"]
        pool = self.data[at : at + size]
        expect(len(pool), size, "length of the pool")
        expect(pool[-1:] in (b"", b"\0"), True, "end of the pool")
        self.covered.append((at, at + size))
        for row in rows:
            first = int(row["name"])  # type: ignore[call-overload]
            if not (0 <= first < size) or (first and pool[first - 1]):
                raise Wrong(f"a name at {first} of the pool")
            row["name"] = pool[first : pool.index(b"\0", first)].decode()

    def _unwrapped(self, stored: bytes) -> bytes:
        made = self.made
        if made.wrap == "zlib":
            return zlib.decompress(stored)
        if made.wrap == "xor":
            return xored(stored, bytes([made.wrap_key]))
        key = (self.head["seed"] + made.wrap_key) % (1 << 32)
        return xored(stored, key.to_bytes(4, "big" if made.big else "little"))

    def _name(self, data: bytes, at: int) -> tuple[object, int]:
        names = self.made.names
        if names == "pool":
            return self.number(data, at, 4), at + 4
        if names == "zero":
            end = data.find(b"\0", at)
            if end < 0:
                raise Wrong("a name without an end")
            return data[at:end].decode(), end + 1
        if names == "fixed":
            raw = data[at : at + 64]
            expect(len(raw), 64, "a name's bytes")
            if self.made.wide:
                return self._decoded(raw).rstrip("\0"), at + 64
            text, _, rest = raw.partition(b"\0")
            expect(rest.strip(b"\0"), b"", "what is behind a name")
            return text.decode(), at + 64
        width = 1 if names == "u8" else 2
        size = self.number(data, at, width)
        expect(at + width + size <= len(data), True, "a name within the directory")
        return self._decoded(data[at + width : at + width + size]), at + width + size

    def _decoded(self, raw: bytes) -> str:
        return raw.decode(self.made.encoding)

    def _row(self, data: bytes, at: int, named: bool) -> tuple[dict[str, object], int]:
        row: dict[str, object] = {}
        for item in self.made.record:
            if item.kind == "name":
                if named:
                    row["name"], at = self._name(data, at)
                continue
            if item.flag and not int(row["flags"]) & 1:  # type: ignore[call-overload]
                continue
            row[item.name], at = self._formed(data, at, item)
        return row, at

    def _formed(self, data: bytes, at: int, item: Item) -> tuple[int, int]:
        """A number in the form that its item has, and where it ends."""
        if item.form == "varint":
            value = shift = 0
            while True:
                expect(at < len(data), True, "the rest of a varint")
                value, shift, at = value | (data[at] & 127) << shift, shift + 7, at + 1
                if data[at - 1] < 128:
                    expect(shift == 7 or data[at - 1] > 0, True, "a short varint")
                    return value, at
        if item.form:
            size = 8 if item.form == "digits" else 2 * item.size
            text = data[at : at + size]
            value = int(text, 10 if item.form == "digits" else 16)
            expect(text, b"%8d" % value if item.form == "digits" else b"%0*x" % (size, value), "digits")
            return value, at + size
        return self.number(data, at, item.size), at + item.size

    def _inline(self, at: int, count: int) -> list[dict[str, object]]:
        made, rows = self.made, []
        for _ in range(count):
            self._filled(at, -at % made.row_align)
            at += -at % made.row_align
            begin = at
            row, at = self._row(self.data, at, True)
            self.covered.append((begin, at))
            self._filled(at, -at % made.align)
            at += -at % made.align
            row["start"] = at
            at += int(row["stored" if "stored" in row else "size"])  # type: ignore[call-overload]
            rows.append(row)
        return rows

    def _filled(self, at: int, size: int) -> None:
        expect(self.data[at : at + size], bytes([self.made.fill]) * size, f"padding at {at}")

    def _places(self, rows: list[dict[str, object]]) -> None:
        """The true starts, from what starts count from."""
        made = self.made
        item = next(item for item in made.record if item.kind == "start")
        base = {"": 0, "table": self.table_end}.get(made.base, self.head.get("first", 0))
        for row in rows:
            row["start"] = (int(row["start"]) ^ item.by) * made.unit + base  # type: ignore[call-overload]

    # entries

    def _entry(self, number: int, row: dict[str, object]) -> Entry:
        made, name = self.made, str(row["name"])
        value = {key: int(one) for key, one in row.items() if isinstance(one, int)}
        stored_size, size, start = value.get("stored", value["size"]), value["size"], value["start"]
        flags, codec = (
            value.get("flags", 0),
            int(bool(made.codec)) if made.codec != "differ" else int(stored_size != size),
        )
        codec = value.get("packing", codec)
        begin, front = start, self._around(start, made.local)
        start += front[1]
        stored = self.data[start : start + stored_size]
        expect(len(stored), stored_size, f"bytes of {name}")
        behind = self._around(start + stored_size, made.last)
        end = start + stored_size + behind[1]
        if end > begin:
            expect(begin % made.align, 0, f"alignment of {name}")
            self.covered.append((begin, end))
        entry = Entry(number, name, bytes(size), flags, codec, stored, begin)
        entry.around, entry.end = {**front[0], **behind[0]}, end
        data = stored
        if made.cipher and (made.ciphered == "all" or flags & 1):
            data = xored(stored, content_key(made, entry, self.head.get("seed", 0)))
        if codec == 1:
            data = unpacked(made.codec, data)
        elif codec:
            raise Wrong(f"codec {codec} of {name}")
        expect(len(data), size, f"size of {name}")
        entry.content = data
        if made.backslashes:
            expect("/" in name, False, f"a slash in {name}")
        return entry

    def _around(self, at: int, items: list[Item]) -> tuple[dict[str, object], int]:
        """The record around a content, and how many bytes it has."""
        found, begin = dict[str, object](), at
        for item in items:
            if item.kind == "own name":
                size = self.number(self.data, at, 1)
                found[item.name] = self._decoded(self.data[at + 1 : at + 1 + size])
                at += 1 + size
            else:
                found[item.name] = self.number(self.data, at, item.size)
                at += item.size
        return found, at - begin

    def _check_around(self, entry: Entry) -> None:
        for item in (*self.made.local, *self.made.last):
            value = entry.around[item.name]
            wanted: object = {
                "own name": entry.name,
                "own start": entry.start,
                "size": len(entry.content),
                "stored": len(entry.stored),
                "number": entry.number + item.by,
                "sum": checksum(item.sum, entry.content) ^ item.by if item.sum else 0,
                "const": item.by,
            }.get(item.kind, value)
            expect(value, wanted, f"{item.name} at the content of {entry.name}")

    def _check(self, entry: Entry, item: Item, row: dict[str, object]) -> None:
        made = self.made
        if item.name not in row or item.kind in ("start", "size", "stored", "codec", "flags", "kept", "name"):
            return
        if item.kind == "sum":
            wanted = checksum(item.sum, entry.content if item.of == "content" else entry.stored) ^ item.by
        elif item.kind == "name sum":
            wanted = checksum(item.sum, text_of(item.of, entry.name, made.encoding)) ^ item.by
        else:
            wanted = {
                "number": lambda: entry.number + item.by,
                "gap": lambda: entry.start - entry.end_before,
                "units": lambda: -(-len(entry.content) // item.by),
                "length": lambda: len(text_of(item.of, entry.name, made.encoding)) + item.by,
                "const": lambda: item.by,
            }[item.kind]()
        expect(row[item.name], wanted % (1 << 8 * item.size), f"{item.name} of {entry.name}")

    # the head, and all bytes

    def _check_head(self, entries: list[Entry], size: int) -> None:
        made, data, at = self.made, self.data, self.head_at + len(self.made.mark)
        sizes = [len(entry.content) for entry in entries]
        table = getattr(self, "stored_table", b"")
        starts = [entry.start for entry in entries if entry.end > entry.start]
        for item in made.head:
            whole = data[self.head_at : at] + bytes(item.size) + data[at + item.size : self.head_size]
            wanted = {
                "both": len(sizes) * item.by + len(made.mark),
                "file": len(data) - item.by,
                "file units": len(data) // max(1, item.by),
                "total": sum(sizes),
                "largest": max(sizes, default=0),
                "first": sizes[0] if sizes else 0,
                "sum table": checksum(item.sum, table) ^ item.by if item.kind == "sum table" else 0,
                "sum head": checksum("crc32", whole),
                "start contents": min(starts, default=self.head.get("first", 0)),
                "const": item.by,
            }.get(item.kind)
            if wanted is not None:
                expect(self.head[item.name], wanted % (1 << 8 * item.size), item.name)
            at += item.size

    def _check_gaps(self) -> None:
        """No two parts overlap, and between them lies nothing but padding."""
        made, at = self.made, 0
        for start, end in sorted(set(self.covered)):
            if start < at:
                raise Wrong(f"two parts overlap at {start}")
            if start - at >= max(made.align, made.row_align):
                raise Wrong(f"{start - at} bytes at {at} belong to nothing")
            if made.form != "inline":
                self._filled(at, start - at)
            at = max(at, end)
        rest, most = self.data[at:], max(made.align, made.row_align, made.file_align)
        expect(set(rest) <= {0, made.fill}, True, "only padding at the end")
        expect(len(self.data) % made.file_align, 0, "length of the file")
        if len(rest) >= max(most, 1) and rest:
            raise Wrong(f"{len(rest)} bytes too many at the end")
