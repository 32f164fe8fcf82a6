"""Hints from names: none of those that are known has one of an archive's hashes, and which function fits if one
does."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence

import numpy as np

from volvex.archive.layout_archive import LayoutArchive
from volvex.codec.bulk_hash import bulk_hash
from volvex.errors import VolvexError
from volvex.layout.columns import Array
from volvex.layout.inspect.hints import Hint
from volvex.layout.inspect.hints.checksums import algorithms
from volvex.layout.model import KeyRule, Layout
from volvex.layout.name_hash import Keying, KeyPart
from volvex.names.dictionary_set import DictionarySet

MOST = 20_000  # known names that are tried
TELLING = 200  # known names of which some should be in any archive of a game
LEAST = 3  # entries that an archive must have, and names that are known
CASES = ((), ("lower case",), ("upper case",))
SLASHES = ((), ("backslashes",))
EDGES = ((), ("leading slash",), ("without extension",))


def hash_hints(archive: LayoutArchive, names: DictionarySet) -> Iterator[Hint]:
    """That no known name has one of the hashes of an archive."""
    keying = archive.keying
    if archive.entries.nameless and keying is not None and len(keying.parts) == 1 and not archive.candidates:
        yield from hints_by(archive.layout, keying, archive.keys[0], names)


def hints_by(layout: Layout, keying: Keying, keys: Array, names: DictionarySet) -> Iterator[Hint]:
    """That no known name has one of some hashes."""
    if keying.numbering is not None or len(keys) < LEAST:
        return
    lists = dict.fromkeys([*names.of(layout), *names.dictionaries])  # a layout that is being written has no game yet
    known = list(
        itertools.islice((line for dictionary in lists for line in dictionary.lines() if " = " not in line), MOST)
    )
    if len(known) < LEAST:
        return
    part = keying.parts[0]
    if _count(part, part.rule, known, np.unique(keys.astype(np.uint64))):
        return
    seen = f"none of {len(known):,} known names has one of the hashes by {part.rule.algorithm}"
    fit = _fitting(part, known, keys)
    if fit is not None:
        rule, number = fit
        traits = "".join(f", {trait}" for trait in rule.traits)
        yield Hint(
            "hashes", f"{seen}, and {number:,} by {rule.algorithm}{traits}", f"hashes by {rule.algorithm}{traits}"
        )
    elif len(known) >= TELLING:  # fewer may all be of other archives
        yield Hint(
            "hashes", seen, "another function, case or slash in `hashes by`, or a list of names with `volvex names add`"
        )


def _fitting(part: KeyPart, known: Sequence[str], keys: Array) -> tuple[KeyRule, int] | None:
    """The function by which most known names have a hash of the archive, and how many do."""
    wanted = np.unique(keys.astype(np.uint64))
    best: tuple[KeyRule, int] | None = None
    names = [part.rule.algorithm, *algorithms(part.bits)]
    for traits in (sum(one, ()) for one in itertools.product(CASES, SLASHES, EDGES)):
        for algorithm in names:
            rule = KeyRule(part.what, part.rule.place, algorithm, tuple(traits), part.rule.encoding)
            count = _count(part, rule, known, wanted)
            if count > (best[1] if best else 0):
                best = rule, count
    return best


def _count(part: KeyPart, rule: KeyRule, known: Sequence[str], wanted: Array) -> int:
    """How many known names have one of some hashes by a rule."""
    other = Keying([KeyPart(part.what, rule, part.bits)])
    try:
        hashed = bulk_hash(rule.algorithm).of(*other.parts[0].texts(other.told(other.parts[0], "\n".join(known))))
    except VolvexError:  # no hash of names
        return 0
    return int(np.isin(hashed & np.uint64((1 << part.bits) - 1), wanted).sum())
