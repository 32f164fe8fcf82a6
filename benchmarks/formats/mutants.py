"""Wrong layouts of drawn formats: a computed field made `kept`, alone and in pairs. Which of them matter the strict
reader says; which are noticed the proof says."""

from __future__ import annotations

import itertools
import random
from collections import Counter
from collections.abc import Iterator

from benchmarks.formats.draw import Format, drawn
from benchmarks.formats.reader import StrictReader
from benchmarks.formats.trial import contents, edits
from benchmarks.formats.words import layout_of
from benchmarks.formats.writer import Writer
from volvex.archive.content_hints import content_hints
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.errors import VolvexError
from volvex.layout.inspect.equal import moving
from volvex.layout.inspect.hints import hints_of
from volvex.layout.language.parser import parse_layout
from volvex.layout.model import Layout
from volvex.layout.read.open import read
from volvex.source import BytesSource, Spool

COUNT = 20  # entries


def mutated(text: str, most: int) -> Iterator[tuple[str, str]]:
    """Layouts with a field, or two, made kept: what was done, and the text."""
    lines = text.splitlines()
    found = [number for number, line in enumerate(lines) if _is_computed(line)]
    chosen = [*((one,) for one in found), *itertools.combinations(found, 2)]
    for numbers in chosen[:most]:
        changed = list(lines)
        for number in numbers:
            name, kind = lines[number].split("  ")[2:4]
            when = "  when" + lines[number].partition("  when")[2] if "  when" in lines[number] else ""
            changed[number] = f"    {name}  {kind.split()[0]}  kept{when}"
        yield " and ".join(lines[number].split("  ", 3)[-1] for number in numbers), "\n".join(changed) + "\n"


def _is_computed(line: str) -> bool:
    words = line.split("  ")
    if len(words) < 5 or not line.startswith("    "):
        return False
    meaning = words[4]
    constant = meaning.startswith("is ") and meaning[3:].isdigit()
    return not constant and not meaning.startswith(("kept", "name", "is hex", "start of name", "names"))


def judged(seed: int) -> list[tuple[int, str, str]]:
    """What came of the mutants of a format: seed, outcome, what was done."""
    made, results = drawn(seed), []
    files = contents(seed, COUNT, any(item.kind == "flags" for item in made.record))
    data = Writer(made, files, seed).write()
    wanted = {name: content for name, (content, _) in files.items()}
    for what, text in mutated(layout_of(made), 12):
        try:
            layout = parse_layout(text, f"{seed}.layout")
            archive = LayoutArchive(read(layout, BytesSource(data, f"{seed}.bin")))
            noticed = (
                bool([*hints_of(archive.reading), *content_hints(archive)]) or archive.prove().difference is not None
            )
            noticed = noticed or any(trial.fault and not trial.refused for trial in prove_harder(archive))
        except VolvexError:
            results.append((seed, "refused", what))
            continue
        matters = _matters(archive, made, wanted)
        missed = "noticed with three files" if not noticed and _moves(layout, made, seed, archive) else "MISSED"
        outcome = ("noticed" if noticed else missed) if matters else ("harmless, noticed" if noticed else "harmless")
        results.append((seed, outcome, what))
    return results


def _moves(layout: Layout, made: Format, seed: int, archive: LayoutArchive) -> bool:
    """Whether two more files show with what a kept number moves."""
    readings = [archive.reading]
    for number, count in ((1, 7), (2, 33)):
        files = contents(seed + number, count, any(item.kind == "flags" for item in made.record))
        data = Writer(made, files, seed + number).write()
        readings.append(read(layout, BytesSource(data, f"{seed}.bin")))
    return any(one.words for one in moving(readings))


def _matters(archive: LayoutArchive, made: Format, wanted: dict[str, bytes]) -> bool:
    """Whether the strict reader refuses what is written by the mutant."""
    with Spool() as spool:
        for _, edit, now in edits(archive, wanted, spool, random.Random(1).randrange(99)):
            try:
                written = b"".join(archive.plan(edit).chunks())
            except VolvexError:
                continue
            try:
                if StrictReader(made, written).read() != now:
                    return True
            except Exception:
                return True
    return False


def table(results: list[tuple[int, str, str]]) -> str:
    """The outcomes, and what was missed."""
    counts = Counter(outcome for _, outcome, _ in results)
    missed = [f"  {seed}: {what}" for seed, outcome, what in results if outcome == "MISSED"]
    return "\n".join([*missed, f"{len(results)} mutants: {dict(counts)}"])
