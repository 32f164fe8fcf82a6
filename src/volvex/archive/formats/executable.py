"""Executables of the PE format: a folder of their resources and of what stands behind their last section.

Headers and sections are not touched when the tail changes. A resource is written in its place when it fits there; when
it does not, it goes behind the others if their section is the last. Source: the PE format specification, sections 3 to
6.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from volvex.archive.formats._base import OpenFormatArchive, content_piece, entries_of, joined, span
from volvex.archive.formats._icons import apart, extension, image_ids, whole, whole_size
from volvex.errors import FormatError, RefusedError
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.keyring import KeyRing
from volvex.layout.write.plan import Edit, Piece, Plan
from volvex.source import Beside, JoinedSource, LazySource, Source

TITLE = "executable"
PRIORITY = 5
WHY = "valid headers and sections"
KINDS = {
    1: "cursors",
    2: "bitmaps",
    3: "icons",
    4: "menus",
    5: "dialogs",
    6: "strings",
    9: "accelerators",
    10: "data",
    11: "messages",
    12: "cursor-groups",
    14: "icon-groups",
    16: "version",
    23: "html",
    24: "manifest",
}
IMAGES = {14: 3, 12: 1}  # of icons and cursors: the type of their groups, and of their images
EXTENSIONS = {"manifest": ".xml", "html": ".html"}
RESOURCES, CERTIFICATES = 2, 4  # of the data directories
MOST = 100_000  # resources
DEEPEST = 3  # type, name, language
LARGEST_TABLE = 1 << 26


@dataclass(frozen=True)
class Section:
    """A section: where it is in memory and in the file."""

    header: int
    name: bytes
    memory: int
    memory_size: int
    start: int
    size: int


@dataclass(frozen=True)
class Resource:
    """A resource: where the record is that tells its place and size, and those."""

    name: str
    record: int
    start: int
    size: int
    path: tuple[int | str, ...] = ()  # type, name, language


@dataclass(frozen=True)
class Icon:
    """A whole icon or cursor: its group, the numbers of the resources that are its images by their ids, and its size as
    a file."""

    group: bytes
    images: dict[int, int]
    size: int


@dataclass(frozen=True)
class Image:
    """What is known of an executable."""

    sections: tuple[Section, ...]
    directories: tuple[tuple[int, int], ...]
    optional: int  # where the optional header starts
    section_alignment: int
    file_alignment: int
    end: int  # of the last section in the file


def knows(source: Source) -> bool:
    """Both marks, and sections that lie within the file."""
    try:
        return image_of(source) is not None
    except FormatError:
        return False


def opened(source: Source, keys: KeyRing) -> Executable:
    return Executable(source)


def image_of(source: Source) -> Image | None:
    """The headers; None when the file is no such executable, FormatError when it is a broken one."""
    head = source.peek(0, 64)
    if head[:2] != b"MZ" or len(head) < 64:
        return None
    at = int.from_bytes(head[60:64], "little")
    if source.peek(at, 4) != b"PE\0\0" if at < source.size else True:
        return None
    count, size = struct.unpack("<2xH12xH2x", source.read(at + 4, 20))
    optional = source.read(at + 24, size)
    wide = {0x10B: False, 0x20B: True}.get(int.from_bytes(optional[:2], "little"))
    first = 112 if wide else 96
    if wide is None or size < first:
        return None
    told = min(16, int.from_bytes(optional[first - 4 : first], "little"), (size - first) // 8)
    directories = tuple(struct.unpack_from("<II", optional, first + 8 * index) for index in range(told))
    sections = tuple(_section(source, at + 24 + size + 40 * index) for index in range(count))
    end = max(
        (section.start + section.size for section in sections if section.size), default=at + 24 + size + 40 * count
    )
    if end > source.size:
        raise FormatError(
            source.name,
            f"its sections reach to {end:#x}, past the end of the file at {source.size:#x}",
            offset=at,
            hint="a fresh copy of the file: it may be cut off",
        )
    alignments = struct.unpack_from("<II", optional, 32)
    return Image(sections, directories, at + 24, max(1, alignments[0]), max(1, alignments[1]), end)


def _section(source: Source, at: int) -> Section:
    name, memory_size, memory, size, start = struct.unpack("<8sIIII", source.read(at, 24))
    return Section(at, name.rstrip(b"\0"), memory, memory_size, start, size)


class Executable(OpenFormatArchive):
    """An executable as a folder."""

    title = TITLE

    def __init__(self, source: Source) -> None:
        super().__init__()
        self.source = source
        image = image_of(source)
        if image is None:
            raise FormatError(
                source.name, "its headers are not those of an executable", hint="a fresh copy of the file"
            )
        self.image = image
        self.tail = self._tail()
        self.resources = list(self._resources())
        self.icons = self._icons()
        named, at = list[tuple[bytes, int, int]](), source.size
        for number, resource in enumerate(self.resources):
            icon = self.icons.get(number)
            if icon is None:
                named.append((resource.name.encode(), resource.start, resource.size))
            else:  # made of several resources: its bytes come behind those of the file
                named.append(((resource.name + extension(icon.group)).encode(), at, icon.size))
                at += icon.size
        if self.tail[1] > self.tail[0]:
            named.append((b"tail", self.tail[0], self.tail[1] - self.tail[0]))
        names, starts, sizes = [list(column) for column in zip(*named, strict=True)] if named else ([], [], [])
        self.entries = entries_of(names, starts, sizes, sizes)
        icons = [LazySource("an icon", icon.size, partial(self._whole, icon)) for icon in self.icons.values()]
        self._stored: Source = JoinedSource([source, *icons], source.name) if icons else source

    def _tail(self) -> tuple[int, int]:
        """What stands behind the last section, without the certificates."""
        certificates = self.image.directories[CERTIFICATES] if len(self.image.directories) > CERTIFICATES else (0, 0)
        end = (
            certificates[0]
            if self.image.end <= certificates[0] <= self.source.size and certificates[1]
            else self.source.size
        )
        return self.image.end, end

    @property
    def stored_source(self) -> Source:
        """The file, and behind it the icons that are made of several resources."""
        return self._stored

    # resources

    def _icons(self) -> dict[int, Icon]:
        """The whole icons, by the number of the resource that is their group.

        A group stays as it is when it has an image twice, or one of another icon, which a change of it would reach.
        """
        images: dict[tuple[int | str, ...], dict[tuple[int | str, ...], int]] = {}  # by type and id, then by language
        for number, resource in enumerate(self.resources):
            images.setdefault(resource.path[:2], {}).setdefault(resource.path[2:], number)
        found, taken, left = dict[int, Icon](), set[int](), self.source.size
        for number, resource in enumerate(self.resources):
            if resource.path[0] not in IMAGES:
                continue
            left -= resource.size  # groups that lie over each other are not all read
            group = self._bytes(resource) if left >= 0 else b""
            ids = image_ids(group)
            there = {one: images.get((IMAGES[int(resource.path[0])], one)) for one in ids}
            places = {one: _of_language(known, resource.path[2:]) for one, known in there.items() if known}
            if ids and len(places) == len(ids) and taken.isdisjoint(places.values()):
                taken.update(places.values())
                sizes = {one: self.resources[place].size for one, place in places.items()}
                found[number] = Icon(group, places, whole_size(group, sizes))
        return found

    def _whole(self, icon: Icon) -> Iterator[bytes]:
        yield whole(icon.group, {one: self._bytes(self.resources[place]) for one, place in icon.images.items()})

    def _bytes(self, resource: Resource) -> bytes:
        return self.source.read(resource.start, resource.size)

    def _home(self) -> Section | None:
        """The section in which the resources are."""
        if len(self.image.directories) <= RESOURCES or not self.image.directories[RESOURCES][0]:
            return None
        place = self.image.directories[RESOURCES][0]
        return next(
            (
                section
                for section in self.image.sections
                if section.memory <= place < section.memory + max(section.size, 1)
            ),
            None,
        )

    def _resources(self) -> Iterator[Resource]:
        home = self._home()
        if home is None or home.size > LARGEST_TABLE:
            return
        shift = self.image.directories[RESOURCES][0] - home.memory
        table = self.source.read(home.start + shift, home.size - shift)
        try:
            for count, (path, record) in enumerate(_leaves(table, 0, ())):
                if count >= MOST:
                    raise FormatError(self.source.name, f"more than {MOST:,} resources", offset=home.start)
                memory, size = struct.unpack_from("<II", table, record)
                start = memory - home.memory + home.start
                if not home.start <= start <= start + size <= home.start + home.size:
                    continue  # in another section, or nowhere
                yield Resource(_name(path), home.start + shift + record, start, size, path)
        except struct.error as error:
            raise FormatError(
                self.source.name, "the table of resources reaches past its section", offset=home.start
            ) from error

    # writing

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        if edit.added or edit.removed:
            raise RefusedError(
                f"{self.source.name} is an executable: what is in it can be changed, not added or left out",
                "changing a resource, or what is in the tail",
            )
        patches: dict[int, bytes] = {}
        tail: Piece = span(self.source, *self.tail)
        grown = b""
        contents: dict[int, bytes] = {}
        for row, content in edit.replaced.items():
            if row == len(self.resources):
                tail = content_piece(content)
                continue
            data = b"".join(content.source.chunks(content.offset, content.stored))
            for number, part in self._parts(row, data).items():
                if contents.get(number, part) != part:
                    raise RefusedError(
                        f"{self.source.name}/{self.names[row]} was changed, and its images", "one of the two"
                    )
                contents[number] = part
        for number, data in contents.items():
            grown = self._put(self.resources[number], data, patches, grown)
        moved = len(grown) + -len(grown) % self.image.file_alignment
        if moved:
            self._grow(moved, len(grown), patches)
        pieces = [
            *self._patched(patches),
            Piece.of(grown.ljust(moved, b"\0")),
            tail,
            span(self.source, self.tail[1], self.source.size),
        ]
        if (moved and self.tail[1] < self.source.size) or tail.size != self.tail[1] - self.tail[0]:
            self._refuse_signed()
        return Plan(joined(pieces), sum(piece.size for piece in pieces))

    def _parts(self, row: int, data: bytes) -> dict[int, bytes]:
        """The resources that new content of an entry is made of."""
        if row not in self.icons:
            return {row: data}
        icon = self.icons[row]
        group, images = apart(data, icon.group, f"{self.source.name}/{self.names[row]}")
        return {row: group} | {icon.images[one]: image for one, image in images.items()}

    def _refuse_signed(self) -> None:
        if self.tail[1] < self.source.size:
            raise RefusedError(
                f"{self.source.name} is signed, and its certificates would move", "a change that keeps the size"
            )

    def _put(self, resource: Resource, content: bytes, patches: dict[int, bytes], grown: bytes) -> bytes:
        """Put a resource in its place, or behind all others; what is now behind them."""
        room, size = self._room(resource), len(content)
        if size <= room:
            patches[resource.record + 4] = size.to_bytes(4, "little")
            patches[resource.start] = content
            return grown
        home = self._home()
        assert home is not None
        if home.start + home.size != self.image.end or any(other.memory > home.memory for other in self.image.sections):
            raise RefusedError(
                f"{self.source.name}/{resource.name}: {size:,} bytes, there is room for {room:,}, and its section is "
                f"not the last",
                "a smaller one",
            )
        grown += bytes(-(home.size + len(grown)) % 8)
        patches[resource.record] = struct.pack("<II", home.memory + home.size + len(grown), size)
        return grown + content

    def _room(self, resource: Resource) -> int:
        """Bytes from a resource's start to whatever stands behind it."""
        home = self._home()
        assert home is not None
        starts = [other.start for other in self.resources if other.start > resource.start] + [home.start + home.size]
        records = [other.record for other in self.resources if other.record > resource.start]
        room = min([*starts, *records]) - resource.start
        data = self.source.read(resource.start + resource.size, room - resource.size)
        return resource.size + (len(data) if not data.strip(b"\0") and min(starts) != home.start + home.size else 0)

    def _grow(self, moved: int, used: int, patches: dict[int, bytes]) -> None:
        """Tell the larger section in the headers."""
        home, image = self._home(), self.image
        assert home is not None
        memory = home.size + used
        patches[home.header + 8] = struct.pack("<I", memory)
        patches[home.header + 16] = struct.pack("<I", home.size + moved)
        whole = home.memory + memory
        patches[image.optional + 56] = struct.pack("<I", whole + -whole % image.section_alignment)
        first = 112 if self.source.read(image.optional, 2) == b"\x0b\x02" else 96
        shift = image.directories[RESOURCES][0] - home.memory
        patches[image.optional + first + 8 * RESOURCES + 4] = struct.pack("<I", memory - shift)

    def _patched(self, patches: dict[int, bytes]) -> Iterator[Piece]:
        at = 0
        for start in sorted(patches):
            yield span(self.source, at, start)
            piece = Piece.of(patches[start])
            yield piece
            at = start + piece.size
        yield span(self.source, at, self.image.end)

    def reopened(self, source: Source, beside: Beside | None = None) -> Executable:
        return Executable(source)

    def covering(self, at: int) -> Stretch:
        return Stretch(at, 0, "content", "the tail" if at >= self.image.end else "headers or sections")


def _leaves(table: bytes, at: int, path: tuple[int | str, ...]) -> Iterator[tuple[tuple[int | str, ...], int]]:
    """The resources below a table: their path of numbers and names, and where the record of each is."""
    named, numbered = struct.unpack_from("<12xHH", table, at)
    for index in range(named + numbered):
        key, place = struct.unpack_from("<II", table, at + 16 + 8 * index)
        name: int | str = key
        if key & 0x80000000:
            begin = key & 0x7FFFFFFF
            size = struct.unpack_from("<H", table, begin)[0]
            name = table[begin + 2 : begin + 2 + 2 * size].decode("utf-16-le", "replace")
        if not place & 0x80000000:
            yield (*path, name), place
        elif len(path) + 1 < DEEPEST:
            yield from _leaves(table, place & 0x7FFFFFFF, (*path, name))


def _of_language(known: dict[tuple[int | str, ...], int], language: tuple[int | str, ...]) -> int:
    """The resource in a language, or the first that there is."""
    return known.get(language, next(iter(known.values())))


def _name(path: tuple[int | str, ...]) -> str:
    """A name that stays the same whatever the content becomes."""
    kind = KINDS.get(path[0], f"type-{path[0]}") if isinstance(path[0], int) else path[0].lower()
    rest = "-".join(str(part).replace("/", "_").replace("\\", "_") for part in path[1:])
    return f"resources/{kind}/{rest}{EXTENSIONS.get(kind, '')}"
