"""Entries without names, all those whose keys are made in the same way together, and the testing of paths against
them."""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from volvex.archive.access.paths import Group
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.transfer.parallel import parallel
from volvex.codec.bulk_hash import SuffixTrie, Targets, bulk_hash
from volvex.layout.name_hash import Keying, KeyPart
from volvex.names import evidence
from volvex.names.evidence import EvidenceKind, Find

AT_ONCE = 1 << 22  # paths that are written out at once, where folder and file have keys of their own
RUN = 1 << 22  # paths of a product that one thread walks before it tells how far it is

Key = tuple[int, ...]


@dataclass(frozen=True)
class Place:
    """An entry without a name."""

    archive: LayoutArchive
    path: str
    row: int


@dataclass
class UnresolvedEntries:
    """The nameless entries whose keys are made by one rule."""

    keying: Keying
    places: dict[Key, list[Place]] = field(default_factory=dict)
    finds: dict[tuple[Key, str], Find] = field(default_factory=dict)
    tried: Counter[EvidenceKind] = field(default_factory=Counter)
    before: int = 0  # entries without a name at the start
    entries: int = 0  # all entries of these archives
    known: list[str] = field(default_factory=list)  # paths of the named ones

    def __post_init__(self) -> None:
        self._targets: Targets | None = None

    @property
    def rule(self) -> KeyPart:
        """The key by which a path is first looked for."""
        return self.keying.parts[0]

    @property
    def nameless(self) -> int:
        """How many entries have no name yet."""
        found = {key for key, _ in self.finds}
        return sum(len(places) for key, places in self.places.items() if key not in found)

    def targets(self) -> Targets:
        """The first keys of the entries that are looked for."""
        if self._targets is None:
            self._targets = Targets([key[0] for key in self.places])
        return self._targets

    @functools.cached_property
    def shares(self) -> dict[str, float]:
        """How common each kind of content is among the entries, by the ending that it suggests."""
        counter = Counter(
            place.archive.extension(place.row) for places in list(self.places.values())[:2000] for place in places[:1]
        )
        return {extension: count / max(1, counter.total()) for extension, count in counter.items()}

    # testing

    def test(self, paths: Sequence[str], how: EvidenceKind, where: Callable[[str], str]) -> list[str]:
        """Those of some paths that have an entry's key, and were not found before."""
        found = []
        for first in range(0, len(paths), AT_ONCE):
            texts = paths[first : first + AT_ONCE]
            self.tried[how] += len(texts)
            columns = self.keying.columns(texts)
            hits = np.flatnonzero(np.isin(columns[0], self.targets().keys))
            for at in hits.tolist():
                found += self._hit(tuple(int(column[at]) for column in columns), texts[at], how, where)
        return found

    def test_product(
        self,
        heads: Sequence[str],
        tails: Sequence[str],
        how: EvidenceKind,
        where: Callable[[str], str],
        on_progress: Callable[[int], None] = lambda count: None,
    ) -> list[str]:
        """Those of all paths made of one of the heads and one of the tails (which stays itself under the rule's
        letters)."""
        if not heads or not tails:
            return []
        if len(self.keying.parts) > 1 or self.keying.cuts:
            return self._test_written(heads, tails, how, where, on_progress)
        self.tried[how] += len(heads) * len(tails)
        tree, texts = tails_of(self.rule, tails)
        fronts = [front(self.rule, head) for head in heads]
        hits = [
            heads[run] + texts[node] for run, node in walked(self.rule, [fronts], tree, self.targets(), on_progress)
        ]
        keys = self.keying.columns(hits)[0].tolist()
        return [path for key, hit in zip(keys, hits, strict=True) for path in self._hit((key,), hit, how, where)]

    def _test_written(
        self,
        heads: Sequence[str],
        tails: Sequence[str],
        how: EvidenceKind,
        where: Callable[[str], str],
        on_progress: Callable[[int], None],
    ) -> list[str]:
        found, step = [], max(1, AT_ONCE // len(tails))
        for first in range(0, len(heads), step):
            texts = [head + tail for head in heads[first : first + step] for tail in tails]
            found += self.test(texts, how, where)
            on_progress(len(texts))
        return found

    def _hit(self, key: Key, path: str, how: EvidenceKind, where: Callable[[str], str]) -> list[str]:
        places = self.places.get(key)
        if places is None:
            return []
        spelt = self._spelt(path)
        before = self.finds.get((key, spelt))
        if before is not None and before.how <= how:
            return []
        place, learnt, path = places[0], where(path), spelt
        text = place.archive.extension(place.row)
        new = Find(
            path,
            place.path,
            place.archive.entries.names.raw(place.row).decode("ascii", "replace"),
            how,
            learnt,
            evidence.kind_of(path, text),
        )
        self.finds[key, path] = new
        return [path] if before is None else []

    def _spelt(self, path: str) -> str:
        """A path as the game itself spells it: spellings that give one key are one path."""
        traits = self.rule.rule.traits
        return path.lower() if "lower case" in traits else path.upper() if "upper case" in traits else path

    # what came of it

    def judged(self) -> list[Find]:
        """All finds with their doubt; of several for one key those that cannot be are left out when another is beyond
        doubt."""
        hits = Counter(find.how for find in self.finds.values())
        accidents = {how: self.expected(how) for how in hits}
        judged: dict[Key, list[Find]] = {}
        for (key, _), find in self.finds.items():
            place = self.places[key][0]
            share = self.shares.get(place.archive.extension(place.row), 0.0)
            odds = evidence.doubt(accidents[find.how], hits[find.how], find.kind, share)
            judged.setdefault(key, []).append(replace(find, doubt=odds))
        return [find for finds in judged.values() for find in best(finds)]

    def expected(self, how: EvidenceKind) -> float:
        """How many accidental hits that evidence should have had by now."""
        return evidence.expected(self.tried[how], self.before, self.keying.bits)


def best(finds: list[Find]) -> list[Find]:
    """Of several paths for one key at most one is right, so none of equals is beyond doubt."""
    finds.sort(key=lambda find: (find.kind, find.how, find.doubt, find.path))
    sure = [find for find in finds if find.beyond_doubt and find.kind is finds[0].kind]
    if len(finds) == 1 or len(sure) == 1:
        return sure or finds
    return [replace(find, doubt=max(find.doubt, 1 - 1 / len(finds))) for find in finds]


def quarries(groups: Sequence[Group]) -> list[UnresolvedEntries]:
    """The nameless entries of archives whose layouts say how keys are made, by the way in which they are."""
    found: dict[str, UnresolvedEntries] = {}
    for group in groups:
        archive = group.archive
        if not isinstance(archive, LayoutArchive) or archive.keying is None or not _is_hunted(archive):
            continue
        unresolved = found.setdefault(repr(archive.keying.parts), UnresolvedEntries(archive.keying))
        _fill(unresolved, archive, group.archive_path)
    for unresolved in found.values():
        unresolved.before = sum(map(len, unresolved.places.values()))
    return [unresolved for unresolved in found.values() if unresolved.entries]


def _is_hunted(archive: LayoutArchive) -> bool:
    return archive.keying is not None and archive.keying.numbering is None


def out_of_reach(groups: Sequence[Group]) -> int:
    """The entries without names that no hunt finds one for: they go by numbers, or nobody knows how their keys are
    made."""
    return sum(
        group.archive.is_unnamed(row)
        for group in groups
        if group.archive.entries.nameless
        and not (isinstance(group.archive, LayoutArchive) and _is_hunted(group.archive))
        for row in group.rows.tolist()
    )


def _fill(unresolved: UnresolvedEntries, archive: LayoutArchive, path: str) -> None:
    columns = [column.tolist() for column in archive.keys]
    order = [part.what for part in unresolved.keying.parts]
    assert len(columns) == len(order)
    unresolved.entries += len(archive)
    for row in range(len(archive)):
        if archive.is_unnamed(row):
            unresolved.places.setdefault(tuple(column[row] for column in columns), []).append(Place(archive, path, row))
        else:
            unresolved.known.append(archive.paths[row])


# products


def front(part: KeyPart, head: str) -> bytes:
    """The beginning of a path as it is hashed."""
    lead = "/" if "leading slash" in part.rule.traits else ""
    return part.plain(lead + head)


def tails_of(part: KeyPart, tails: Sequence[str]) -> tuple[SuffixTrie, dict[int, str]]:
    """Endings as a tree, and the ending that stands at each node where one does."""
    close = "/" if "closing slash" in part.rule.traits else ""
    if len(part.plain("\n")) == 1:
        whole = part.plain("\n".join([tail + close for tail in reversed(tails)]))
        texts = dict(zip(whole.split(b"\n"), reversed(tails), strict=True))
    else:
        texts = {part.plain(tail + close): tail for tail in reversed(tails)}
    nodes: list[tuple[bytes, int, bool]] = []
    names: dict[int, str] = {}
    _grow(sorted(texts), 0, 0, texts, nodes, names)
    return SuffixTrie(
        tuple(node[0] for node in nodes), tuple(node[1] for node in nodes), tuple(node[2] for node in nodes)
    ), names


def _grow(
    chunks: list[bytes],
    done: int,
    depth: int,
    texts: dict[bytes, str],
    nodes: list[tuple[bytes, int, bool]],
    names: dict[int, str],
) -> None:
    """Nodes for sorted texts that have their first `done` bytes in common."""
    at = 0
    if chunks and len(chunks[0]) == done:  # it ends where those above do
        nodes.append((b"", depth, True))
        names[len(nodes) - 1] = texts[chunks[0]]
        at = 1
    while at < len(chunks):
        first, until = chunks[at], at
        while until < len(chunks) and chunks[until][done] == first[done]:
            until += 1
        common = _common(first, chunks[until - 1], done)
        ends = len(first) == common
        nodes.append((first[done:common], depth, ends))
        if ends:
            names[len(nodes) - 1] = texts[first]
        rest = chunks[at + ends : until]
        if rest:
            _grow(rest, common, depth + 1, texts, nodes, names)
        at = until


def _common(data: bytes, other: bytes, at: int) -> int:
    size = min(len(data), len(other))
    while at < size and data[at] == other[at]:
        at += 1
    return at


def walked(
    part: KeyPart,
    parts: Sequence[Sequence[bytes]],
    tails: SuffixTrie,
    targets: Targets,
    on_progress: Callable[[int], None] = lambda count: None,
) -> Iterator[tuple[int, int]]:
    """The hits of a product, walked by all cores."""
    hasher, leaves = bulk_hash(part.rule.algorithm), max(1, sum(tails.leaf))
    total = 1
    for chunks in parts:
        total *= len(chunks)
    step = max(1, RUN // leaves)

    def run(first: int) -> tuple[int, list[tuple[int, int]]]:
        count = min(step, total - first)
        return count * leaves, hasher.walk(parts, first, count, tails, targets, part.bits)

    for count, hits in parallel(run, range(0, total, step)):
        on_progress(count)
        yield from hits
