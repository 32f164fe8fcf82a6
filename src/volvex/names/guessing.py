"""Guessing: all paths that a pattern stands for against the entries without names, in a compiled loop."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from itertools import product

from volvex.archive.work import WORKERS, Advance, ignore
from volvex.codec.bulk import Targets, bulk_hash
from volvex.errors import UsageError
from volvex.layout.keying import KeyPart
from volvex.names import patterns
from volvex.names.evidence import How
from volvex.names.patterns import Part, Pattern
from volvex.names.quarry import Quarry, front, tails_of, walked

TRIAL = 1 << 21  # paths that are tried to see how fast it goes
ENDINGS = 10_000  # extensions of which the one that suits the content is chosen


def guess(quarry: Quarry, pattern: Pattern, advance: Advance = ignore) -> list[str]:
    """The paths of a pattern that have an entry's key. `advance` is told how many were tried."""
    keying = quarry.keying
    if keying.folders:
        return list(_apart(quarry, pattern, advance))
    front_parts, endings = pattern.cut() if keying.cuts or keying.endings else (pattern.parts, (("",),))
    found = list(_walk(quarry.rule, front_parts, quarry.targets(), advance))
    return _tested(quarry, pattern.size, (stem + ending for stem in found for ending in _texts(endings)))


def _tested(quarry: Quarry, tried: int, paths: Iterator[str]) -> list[str]:
    """Those of few paths that have an entry's key, as found by guessing among `tried`."""
    some = list(dict.fromkeys(paths))
    found = quarry.test(some, How.GUESSED, lambda path: "")
    quarry.tried[How.GUESSED] += tried - len(some)
    return found


def _apart(quarry: Quarry, pattern: Pattern, advance: Advance) -> Iterator[str]:
    """Where folders and names have keys of their own, each is looked for by itself."""
    kinds = {part.what: index for index, part in enumerate(quarry.keying.parts)}
    folder_parts, last = pattern.split()
    endings: tuple[Part, ...] = (("",),)
    if quarry.keying.endings or quarry.keying.cuts:
        last, endings = Pattern(pattern.text, last).cut()
    names = _walk(quarry.rule, last, quarry.targets(), advance)
    which = kinds["folder key"]
    places = Targets([key[which] for key in quarry.places])
    folders = list(_walk(quarry.keying.parts[which], folder_parts, places, advance))
    texts = [
        f"{folder}/{name}{ending}".lstrip("/") for name in names for folder in folders for ending in _texts(endings)
    ]
    yield from _tested(quarry, pattern.size, iter(texts))


def _texts(parts: Sequence[Part]) -> list[str]:
    size = 1
    for part in parts:
        size *= len(part)
    if size > ENDINGS:
        raise UsageError(f"{size:,} extensions, where they do not count for the key", f"at most {ENDINGS:,}")
    return ["".join(texts) for texts in product(*parts)]


def _walk(part: KeyPart, places: Sequence[Part], targets: Targets, advance: Advance) -> Iterator[str]:
    heads, tails = patterns.heads_and_tails(places)
    tree, texts = tails_of(part, tails)
    lead = front(part, "")
    bare = [[part.plain(text) for text in some] for some in heads]
    for run, node in walked(part, [[lead], *bare], tree, targets, advance):
        yield patterns.combination(heads, run) + texts[node]


def seconds(quarry: Quarry, pattern: Pattern) -> float:
    """How long a pattern will take, as far as a short trial tells."""
    heads, tails = patterns.heads_and_tails(pattern.parts)
    tree, _ = tails_of(quarry.rule, tails)
    parts = [[front(quarry.rule, "")], *([quarry.rule.plain(text) for text in some] for some in heads)]
    runs = 1
    for some in heads:
        runs *= len(some)
    wanted = min(runs, max(1, TRIAL // len(tails)))
    hasher = bulk_hash(quarry.rule.rule.algorithm)
    hasher.walk(parts, 0, 1, tree, quarry.targets(), quarry.rule.bits)  # compiles it
    start = time.perf_counter()
    hasher.walk(parts, 0, wanted, tree, quarry.targets(), quarry.rule.bits)
    return (time.perf_counter() - start) * runs / wanted / min(WORKERS, max(1, runs // wanted))
