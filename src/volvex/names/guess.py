"""Guessing: all paths that a pattern stands for against the entries without names, in a compiled loop."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import product

from volvex.archive.transfer.parallel import OnProgress, no_progress, workers
from volvex.codec.bulk_hash import Targets, bulk_hash
from volvex.errors import UsageError
from volvex.layout.name_hash import KeyPart
from volvex.names import patterns
from volvex.names.evidence import EvidenceKind
from volvex.names.patterns import Part, Pattern
from volvex.names.unresolved import UnresolvedEntries, front, tails_of, walked

TRIAL = 1 << 21  # paths that are tried to see how fast it goes
EXTENSIONS = 10_000  # extensions of which the one that suits the content is chosen


@dataclass(frozen=True)
class _Walk:
    """A part of a pattern that is hashed by itself, and the keys that it is looked for among."""

    key: KeyPart
    places: Sequence[Part]
    targets: Targets

    def texts(self, on_progress: OnProgress) -> Iterator[str]:
        """Those that have one of the keys."""
        heads, tails = patterns.heads_and_tails(self.places)
        tree, texts = tails_of(self.key, tails)
        for run, node in walked(self.key, self._parts(heads), tree, self.targets, on_progress):
            yield patterns.combination(heads, run) + texts[node]

    def _parts(self, heads: Sequence[Sequence[str]]) -> list[list[bytes]]:
        return [[front(self.key, "")], *([self.key.plain(text) for text in texts] for texts in heads)]

    def seconds(self) -> float:
        """How long it will take, as far as a short trial on one core tells."""
        heads, tails = patterns.heads_and_tails(self.places)
        tree, _ = tails_of(self.key, tails)
        runs = 1
        for texts in heads:
            runs *= len(texts)
        wanted, hasher = min(runs, max(1, TRIAL // len(tails))), bulk_hash(self.key.rule.algorithm)
        hasher.walk(self._parts(heads), 0, 1, tree, self.targets, self.key.bits)  # compiles it
        start = time.perf_counter()
        hasher.walk(self._parts(heads), 0, wanted, tree, self.targets, self.key.bits)
        return (time.perf_counter() - start) * runs / wanted / min(workers(), max(1, runs // wanted))


def _taken_apart(unresolved: UnresolvedEntries, pattern: Pattern) -> tuple[_Walk | None, _Walk, Sequence[Part]]:
    """What of a pattern is hashed: the folder where that has a key of its own, the name, and extensions that do not
    count with it."""
    keying = unresolved.keying
    kinds = [part.what for part in keying.parts]
    folder, name = pattern.split() if keying.folders else ((), pattern.parts)
    extensions: Sequence[Part] = (("",),)
    if keying.cuts or keying.extensions:
        name, extensions = Pattern(pattern.text, tuple(name)).cut()
    walk = _Walk(unresolved.rule, name, unresolved.targets())
    if not keying.folders:
        return None, walk, extensions
    which = kinds.index("folder hash")
    return _Walk(keying.parts[which], folder, Targets([key[which] for key in unresolved.places])), walk, extensions


def guess(unresolved: UnresolvedEntries, pattern: Pattern, on_progress: OnProgress = no_progress) -> list[str]:
    """The paths of a pattern that have an entry's key. `on_progress` is told how many were tried.

    KeyboardInterrupt leaves what was found by then with the quarry.
    """
    folder, name, extensions = _taken_apart(unresolved, pattern)
    names, folders, done = list[str](), list[str]() if folder is not None else [""], 0

    def counted(count: int) -> None:
        nonlocal done
        done += count
        on_progress(count)

    try:
        for stem in name.texts(counted):
            names.append(stem)
        if folder is not None:
            folders += [f"{text}/" for text in folder.texts(counted)]
        done = pattern.size
    except KeyboardInterrupt:
        _tested(unresolved, done, folders, names, extensions)
        raise
    return _tested(unresolved, done, folders, names, extensions)


def _tested(
    unresolved: UnresolvedEntries, tried: int, folders: Sequence[str], names: Sequence[str], extensions: Sequence[Part]
) -> list[str]:
    """Those of few paths that have an entry's key, as found by guessing among `tried`."""
    lasts = _texts(extensions)
    texts = list(
        dict.fromkeys(
            f"{folder}{stem}{extension}".lstrip("/") for folder in folders for stem in names for extension in lasts
        )
    )
    found = unresolved.test(texts, EvidenceKind.GUESSED, lambda path: "")
    unresolved.tried[EvidenceKind.GUESSED] += max(0, tried - len(texts))
    return found


def _texts(parts: Sequence[Part]) -> list[str]:
    size = 1
    for part in parts:
        size *= len(part)
    if size > EXTENSIONS:
        raise UsageError(f"{size:,} extensions, where they do not count for the hash", f"at most {EXTENSIONS:,}")
    return ["".join(texts) for texts in product(*parts)]


def seconds(unresolved: UnresolvedEntries, pattern: Pattern) -> float:
    """How long a pattern will take, as far as a short trial tells."""
    folder, name, _ = _taken_apart(unresolved, pattern)
    return name.seconds() + (folder.seconds() if folder is not None else 0.0)
