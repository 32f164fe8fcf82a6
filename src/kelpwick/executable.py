"""The game's executable: a small, valid PE file with resources, and an archive at its tail. It is made and loaded here.

Two sections, `.text` with a single return instruction and `.rsrc`; the archive stands behind the last of them, as
installers and games of one file have it.
"""

from __future__ import annotations

import struct

from kelpwick import GameError

ALIGN, PAGE = 0x200, 0x1000
CODE, RESOURCES = 0x1000, 0x2000  # where the sections are in memory
PE = 0x80
OPTIONAL = 224
FIRST = PE + 24  # of the optional header

Table = dict[tuple[int, int], bytes]  # (type, id) -> content


def make(tail: bytes, resources: Table) -> bytes:
    """The file's bytes."""
    table = _table(resources)
    code = b"\xc3".ljust(ALIGN, b"\0")
    stored = table.ljust(-(-max(1, len(table)) // ALIGN) * ALIGN, b"\0")
    pages = RESOURCES + -(-len(stored) // PAGE) * PAGE
    head = b"MZ".ljust(60, b"\0") + struct.pack("<I", PE)
    head = head.ljust(PE, b"\0") + b"PE\0\0" + struct.pack("<HHIIIHH", 0x14C, 2, 0, 0, 0, OPTIONAL, 0x102)
    optional = struct.pack("<HBBIIIIII", 0x10B, 1, 0, ALIGN, len(stored), 0, CODE, CODE, RESOURCES)
    optional += struct.pack("<IIIHHHHHHIIIIHH", 0x400000, PAGE, ALIGN, 4, 0, 0, 0, 4, 0, 0, pages, ALIGN, 0, 3, 0)
    optional += struct.pack("<IIIIII", 0x100000, 0x1000, 0x100000, 0x1000, 0, 16)
    directories = bytearray(16 * 8)
    struct.pack_into("<II", directories, 2 * 8, RESOURCES, len(table))
    sections = _section(b".text", 1, CODE, ALIGN, ALIGN) + _section(
        b".rsrc", len(table), RESOURCES, len(stored), 2 * ALIGN
    )
    return (head + optional + bytes(directories) + sections).ljust(ALIGN, b"\0") + code + stored + tail


def _section(name: bytes, used: int, memory: int, size: int, start: int) -> bytes:
    return name.ljust(8, b"\0") + struct.pack("<IIIIIIHHI", used, memory, size, start, 0, 0, 0, 0, 0x60000020)


def _table(resources: Table) -> bytes:
    """Three levels of tables (type, id, language), the records, the contents."""
    kinds: dict[int, list[int]] = {}
    for kind, number in sorted(resources):
        kinds.setdefault(kind, []).append(number)
    count = len(resources)
    types = 16 + 8 * len(kinds)
    ids = types + sum(16 + 8 * len(numbers) for numbers in kinds.values())
    records = ids + count * 24
    place, out, second, third, data = records + count * 16, [_level(kinds, types, kinds)], b"", b"", b""
    told, language, record = b"", ids, records
    for kind, numbers in kinds.items():
        second += struct.pack("<12xHH", 0, len(numbers))
        for number in numbers:
            second += struct.pack("<II", number, language | 0x80000000)
            third += struct.pack("<12xHHII", 0, 1, 0, record)
            content = resources[kind, number]
            told += struct.pack("<IIII", RESOURCES + place + len(data), len(content), 0, 0)
            data += content + bytes(-len(content) % 8)
            language, record = language + 24, record + 16
    return b"".join([*out, second, third, told, data])


def _level(kinds: dict[int, list[int]], place: int, _: object) -> bytes:
    out = struct.pack("<12xHH", 0, len(kinds))
    for kind, numbers in kinds.items():
        out += struct.pack("<II", kind, place | 0x80000000)
        place += 16 + 8 * len(numbers)
    return out


def load(data: bytes) -> tuple[bytes, Table]:
    """What stands at the tail, and the resources; GameError when a system would not load the file."""
    try:
        return _load(data)
    except (struct.error, IndexError) as error:
        raise GameError(f"the executable is cut off: {error}") from error


def _load(data: bytes) -> tuple[bytes, Table]:
    if data[:2] != b"MZ" or data[PE : PE + 4] != b"PE\0\0" or struct.unpack_from("<H", data, FIRST)[0] != 0x10B:
        raise GameError("the executable has no sound head")
    count, size = struct.unpack_from("<H", data, PE + 6)[0], struct.unpack_from("<I", data, FIRST + 56)[0]
    at, end, home = FIRST + OPTIONAL, 0, (0, 0, 0)
    for index in range(count):
        used, memory, stored, start = struct.unpack_from("<IIII", data, at + 40 * index + 8)
        pages = memory + -(-max(used, 1) // PAGE) * PAGE
        if start % ALIGN or stored % ALIGN or start + stored > len(data) or pages > size or memory < end:
            raise GameError(f"section {index} of the executable does not lie where it must")
        end, home = pages, (memory, start, stored)
    if size % PAGE or size != end:
        raise GameError("the size of the executable in memory is wrong")
    place, told = struct.unpack_from("<II", data, FIRST + 96 + 16)
    if place != home[0] or told > home[2]:
        raise GameError("the resources of the executable are not in its last section")
    return data[home[1] + home[2] :], _resources(data[home[1] : home[1] + home[2]], home[0])


def _resources(table: bytes, memory: int) -> Table:
    found: Table = {}
    for kind, ids in _entries(table, 0):
        for number, languages in _entries(table, ids & 0x7FFFFFFF):
            for _, record in _entries(table, languages & 0x7FFFFFFF):
                place, size = struct.unpack_from("<II", table, record)
                content = table[place - memory : place - memory + size]
                if len(content) != size:
                    raise GameError(f"resource {number} of type {kind} lies outside")
                found[kind, number] = content
    return found


def _entries(table: bytes, at: int) -> list[tuple[int, int]]:
    count = struct.unpack_from("<H", table, at + 14)[0]
    return [struct.unpack_from("<II", table, at + 16 + 8 * index) for index in range(count)]
