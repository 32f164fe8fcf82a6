"""Mining: what is written in a game's files, and what follows from it, tested against the entries without names.

Paths as they are written come first. Each round then derives what is likely from all that is known, and goes on
until nothing new is found. Where a product of folders, words and extensions is too large it is left out, and told.
"""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from volvex.archive.access.paths import Found
from volvex.archive.transfer.parallel import OnProgress, no_progress
from volvex.names import derive, evidence
from volvex.names.derive import Parts, Product
from volvex.names.evidence import EvidenceKind, Find
from volvex.names.scan import ScanResult, scanned
from volvex.names.scan_cache import ReadMemory
from volvex.names.unresolved import UnresolvedEntries, quarries

ROUNDS = 40
BUDGET = 300_000_000  # paths of one product that are tried against keys of 64 bits
NUMBERS = 20_000_000  # paths with numbers that are gone through as a whole
A_ROUND = 3_000_000_000  # paths that are tried in one round: a minute or so
EXPECTED = 0.5  # accidents that a single product may bring along: narrow keys bear smaller ones
HEADS = 1 << 14  # the first halves of a product that are tried at once
Tell = Callable[[str], None]


@dataclass
class Mined:
    """The names that mining found, and what was tried."""

    read: ScanResult
    quarries: list[UnresolvedEntries]
    rounds: int = 0
    left_out: int = 0  # products that were too large
    finds: list[Find] = field(default_factory=list)

    @property
    def before(self) -> int:
        """Entries without a name when it began."""
        return sum(unresolved.before for unresolved in self.quarries)


def mine(
    found: Found, memory: ReadMemory, on_progress: OnProgress = no_progress, tell: Tell = lambda text: None
) -> Mined:
    """Read everything that was found, and look for the names of what has none among it."""
    sought = quarries(found.groups)
    done = Mined(ScanResult(), sought)
    if not done.before:
        return done
    done.read = scanned(found, memory, on_progress)
    everywhere = known_paths(found)
    for unresolved in sought:
        _Miner(unresolved, done, everywhere, tell).run()
    done.finds = sorted(
        (find for unresolved in sought for find in unresolved.judged()),
        key=lambda one: (one.archive, one.how, one.path),
    )
    return done


def known_paths(found: Found) -> list[str]:
    """The paths of all entries that have one: those of one archive may be told in another."""
    return [
        group.archive.paths[row]
        for group in found.groups
        for row in group.rows.tolist()
        if row not in group.archive.folders and not group.archive.is_unnamed(row)
    ]


class _Miner:
    """Works on one quarry."""

    def __init__(self, unresolved: UnresolvedEntries, done: Mined, everywhere: Sequence[str], tell: Tell) -> None:
        self.unresolved, self.done, self.tell = unresolved, done, tell
        self.known = dict.fromkeys(unresolved.known)
        self.everywhere = everywhere
        self.left = A_ROUND  # paths that may still be tried in this round

    def run(self) -> None:
        new = self._written()
        new = [*new, *self.unresolved.known]
        for number in range(ROUNDS):
            if not new or not self.unresolved.nameless:
                return
            self.done.rounds += 1
            self.tell(
                f"round {number + 1}: {self.unresolved.nameless:,} without a name, {len(self.unresolved.finds):,} found"
            )
            self.known |= dict.fromkeys(new)
            self.left = A_ROUND
            new = self._derived(new)

    # what is written

    def _written(self) -> list[str]:
        """Paths as files have them, and those of other archives: as they are, without their first folders, from where
        they are read."""
        where: dict[str, str] = {}
        for path in self.everywhere:
            where.setdefault(path, "the name of another entry")
        for text, (_, file) in self.done.read.paths.items():
            for form in self._forms(text, file):
                where.setdefault(form, file)
        return self.unresolved.test(list(where), EvidenceKind.WRITTEN, lambda path: where.get(path, ""))

    @staticmethod
    def _forms(text: str, file: str) -> Iterable[str]:
        bare = derive.plain(text)
        yield bare
        yield from derive.shorter(bare)
        folder, slash, _ = file.rpartition("/")
        while slash:  # the folder of the file that tells it, within whatever archive that lies in
            yield derive.within(folder + slash, text)
            folder, slash = folder.partition("/")[2], slash if "/" in folder else ""

    # what follows

    def _derived(self, new: list[str]) -> list[str]:
        known = list(self.known)
        found = self._rooted(new, known)
        if len(known) == len(new):  # the first round: all that was read, in all folders
            found += self._pieced(known, derive.folders(known))
        else:
            before = set(derive.folders(self._before(new)))
            fresh = [folder for folder in derive.folders(new) if folder not in before]
            found += self._pieced(known, fresh)
        every = derive.extensions(known)
        for product in derive.other_folders(new, known, list(self.done.read.words)):
            found += self._try(product, EvidenceKind.PIECED, self._named_folder)
        like = self._like(new)
        for product in self._products(new, known, every):
            found += self._try(product, EvidenceKind.SIBLING, like)
        return list(dict.fromkeys(found))

    def _before(self, new: Sequence[str]) -> list[str]:
        recent = set(new)
        return [path for path in self.known if path not in recent]

    def _products(self, new: list[str], known: list[str], every: list[str]) -> Iterable[Product]:
        yield from derive.other_endings(new, every)
        yield from derive.numbered(new, lambda size: size <= NUMBERS and self._bears(size, EvidenceKind.SIBLING))
        yield from derive.sides(new, known)
        yield from derive.same_names_elsewhere(new, known)

    def _rooted(self, new: Sequence[str], known: Sequence[str]) -> list[str]:
        """Paths that files tell without the folders in front, or without their extension: the commonest folders, as
        many as bear it."""
        before = set(derive.roots(self._before(new))) if len(new) < len(known) else set[str]()
        heads = [root for root in derive.roots(known) if root not in before]
        source = self.plain_paths
        found = self._try(
            (self._borne(heads, len(source)), list(source)),
            EvidenceKind.PIECED,
            lambda path: _source(path, heads, source),
        )
        bare, every = [text for text in source if not Parts.of(text).extension], derive.extensions(known)[:40]
        fronts = self._borne(["", *heads], len(bare) * len(every))
        if fronts:
            found += self._try(
                (fronts, [text + extension for text in bare for extension in every]),
                EvidenceKind.PIECED,
                lambda path: _source(path[: path.rfind(".")], fronts, source),
            )
        return found

    def _borne(self, heads: Sequence[str], tails: int) -> Sequence[str]:
        """As many of the heads as can be tried with so many tails."""
        count = len(heads)
        while count and not self._bears(count * tails, EvidenceKind.PIECED):
            count //= 2
        return heads[:count]

    @functools.cached_property
    def plain_paths(self) -> dict[str, str]:
        """What is written as a path, without what leads to where it starts, and the file in which it is."""
        return {derive.plain(text): file for text, (_, file) in reversed(self.done.read.paths.items())}

    def _pieced(self, known: Sequence[str], heads: Sequence[str]) -> list[str]:
        """Words from files as names in known folders, with known extensions."""
        words, every = self.done.read.words, derive.extensions(known)[:24]
        lasts = {path.rpartition("/")[2]: file for path, file in self.plain_paths.items()}

        def where(path: str) -> str:
            parts = Parts.of(path)
            return words[parts.stem][1] if parts.stem in words else lasts.get(parts.stem + parts.extension, "")

        found = self._try((self._borne(heads, len(lasts)), list(lasts)), EvidenceKind.PIECED, where)
        if self._bears(len(heads) * len(words) * len(every), EvidenceKind.PIECED):
            return found + self._try(
                (heads, [word + extension for word in words for extension in every]), EvidenceKind.PIECED, where
            )
        self.done.left_out += 1
        return found + [
            path for product in self._nearby(heads, every) for path in self._try(product, EvidenceKind.PIECED, where)
        ]

    def _nearby(self, heads: Sequence[str], every: Sequence[str]) -> Iterable[Product]:
        """Where all words in all folders are too many: those of a file, in its own folder and those beside it."""
        by_file: dict[str, list[str]] = {}
        for word, (_, file) in self.done.read.words.items():
            by_file.setdefault(file, []).append(word)
        for file, words in by_file.items():
            inner = [folder for folder in heads if folder and f"/{folder}" in file]
            above = {folder.rstrip("/").rpartition("/")[0] for folder in inner}
            beside = [folder for folder in heads if folder.rstrip("/").rpartition("/")[0] in above] if inner else []
            yield beside, [word + extension for word in words for extension in every]

    def _named_folder(self, path: str) -> str:
        """The file in which the name of a path's folder is written."""
        return self.done.read.words.get(path.rpartition("/")[0].rpartition("/")[2], ("", ""))[1]

    def _like(self, new: Sequence[str]) -> Callable[[str], str]:
        """The known path that another is most like: one in its folder, or of its name."""
        by_folder = {Parts.of(path).folder: path for path in reversed(new)}
        by_stem = {Parts.of(path).stem: path for path in reversed(new)}

        def like(path: str) -> str:
            parts = Parts.of(path)
            return by_stem.get(parts.stem) or by_folder.get(parts.folder) or (new[0] if new else "")

        return like

    def _try(self, product: Product, how: EvidenceKind, where: Callable[[str], str]) -> list[str]:
        """A product, unless it is so large that it would take too long, or bring accidents along."""
        heads, tails = product
        if not self._bears(len(heads) * len(tails), how):
            self.done.left_out += 1
            return []
        found = []
        self.left -= len(heads) * len(tails)
        for first in range(0, len(heads), HEADS):
            found += self.unresolved.test_product(heads[first : first + HEADS], tails, how, where)
        return found

    def _bears(self, size: int, how: EvidenceKind) -> bool:
        """Whether so many paths can be tried."""
        unresolved = self.unresolved
        accidents = evidence.expected(size, unresolved.before, unresolved.keying.bits)
        return size <= min(BUDGET, self.left) and (size <= 1000 or how is EvidenceKind.WRITTEN or accidents <= EXPECTED)


def _source(path: str, heads: Sequence[str], source: dict[str, str]) -> str:
    """The file in which the part of a path behind one of the heads is written."""
    for head in heads:
        if path.startswith(head) and path[len(head) :] in source:
            return source[path[len(head) :]]
    return ""
