"""Of two large XML files the part in which they differ, with what is around it: small enough to be compared by id and
field."""

from __future__ import annotations

from dataclasses import dataclass
from xml.parsers import expat

from volvex.data.text.document import decoded
from volvex.data.text.formats._xml_tree import IDS, doctype, parse, tag_at

STEP = 1 << 20


@dataclass(slots=True)
class _Open:
    """An element that has begun, and those of its children that lie around where the files differ."""

    tag: str
    start: int
    keyed: bool
    left: int = -1  # where the last child starts that begins before the difference
    right: int = -1  # where the first one ends that ends behind it
    plain: bool = False  # whether one of them, or between them, is no record: its number among others counts then
    end: int = -1
    told: bool = False  # whether its id stands in an element in it


def excerpts(before: bytes, after: bytes, file: str) -> tuple[bytes, bytes] | None:
    """Both files without what they have in common, as files of the same records; None when that is not to be had.

    FormatError when one is not valid XML.
    """
    _, encoding, old = decoded(before, file)
    _, other, new = decoded(after, file)
    if encoding != other:
        return None
    head = _common(old, new)
    tail = _common_end(old, new, min(len(old), len(new)) - head)
    one, two = (_around(data, head, len(data) - tail, file) for data in (old, new))
    depth = 0  # of the innermost element that is around the difference in both
    while depth < min(len(one), len(two)) and one[depth].start == two[depth].start:
        depth += 1
    if not depth:
        return None
    keyed = next((at for at in range(depth) if one[at].told or two[at].told), depth)
    if keyed < depth:  # its id must not be left out
        return _excerpt(old, one[: keyed + 1], True), _excerpt(new, two[: keyed + 1], True)
    whole = any(
        chain[depth - 1].plain or chain[depth - 1].left < 0 or chain[depth - 1].right < 0 for chain in (one, two)
    )
    return _excerpt(old, one[:depth], whole), _excerpt(new, two[:depth], whole)


def _common(old: bytes, new: bytes) -> int:
    """How many bytes two files begin with alike."""
    at, end = 0, min(len(old), len(new))
    while at < end:
        size = min(STEP, end - at)
        data, other = old[at : at + size], new[at : at + size]
        if data != other:
            return at + next(place for place in range(size) if data[place] != other[place])
        at += size
    return end


def _common_end(old: bytes, new: bytes, most: int) -> int:
    """How many of at most so many bytes two files end with alike."""
    done = 0
    while done < most:
        size = min(STEP, most - done)
        data, other = old[len(old) - done - size : len(old) - done], new[len(new) - done - size : len(new) - done]
        if data != other:
            return done + next(place for place in range(size) if data[-1 - place] != other[-1 - place])
        done += size
    return most


def _excerpt(data: bytes, chain: list[_Open], whole: bool) -> bytes:
    """Elements within each other, with nothing in the innermost but what lies around the difference, or all of it."""
    inner = chain[-1]
    around = chain[:-1] if whole else chain
    inside = bytes(data[inner.start : inner.end] if whole else data[inner.left : inner.right])
    closing = b"".join(f"</{one.tag}>".encode() for one in reversed(around))
    return doctype(data) + b"".join(tag_at(data, one.start) for one in around) + inside + closing


def _around(data: bytes, head: int, end: int, file: str) -> list[_Open]:
    """The elements around a stretch, the outermost first: found in one pass that keeps nothing else."""
    parser = expat.ParserCreate("utf-8")
    opened: list[_Open] = []
    found: list[_Open] = []

    def begin(tag: str, attributes: dict[str, str]) -> None:
        keyed = bool(attributes) and any(name in attributes for name in IDS)
        opened.append(_Open(tag, parser.CurrentByteIndex, keyed))

    def finish(tag: str) -> None:
        ended = opened.pop()
        if not opened:
            ended.end = _end(data, ended.start, parser.CurrentByteIndex)
            found.append(ended)
            return
        parent = opened[-1]
        if tag in IDS and not parent.keyed:
            parent.keyed = parent.told = True
        if parser.CurrentByteIndex < head:  # all of it before the difference
            parent.left, parent.plain = ended.start, not ended.keyed
        elif parent.right < 0:
            ended.end = _end(data, ended.start, parser.CurrentByteIndex)
            if ended.start < head:
                parent.left, parent.plain = ended.start, not ended.keyed
                if ended.end > end:
                    found.append(ended)
            parent.plain = parent.plain or not ended.keyed
            parent.right = ended.end if ended.end > end else -1

    parser.StartElementHandler, parser.EndElementHandler = begin, finish
    parse(parser, data, file)
    return found[::-1]


def _end(data: bytes, start: int, close: int) -> int:
    """Where an element ends that starts at a place, and whose end tag starts at `close` if it has one."""
    tag = tag_at(data, start)
    return start + len(tag) if tag.endswith(b"/>") else data.find(b">", close) + 1
