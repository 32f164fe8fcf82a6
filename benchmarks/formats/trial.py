"""One drawn format put to the test: checked, read, proved, changed, and every result given to its strict reader."""

from __future__ import annotations

import random
import traceback
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from benchmarks.formats.draw import Format, drawn
from benchmarks.formats.plain import Files
from benchmarks.formats.reader import StrictReader
from benchmarks.formats.words import layout_of
from benchmarks.formats.writer import Writer
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.errors import CapacityError, NotFoundError, RefusedError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read
from volvex.layout.write.plan import Added, Edit
from volvex.source import BytesSource, Spool

FOLDERS = ("lamps", "lamps/spare", "fog/bells", "boats", "letters/de", "")
LEAVES = ("wick", "Lens", "tallow", "keeper", "tide_table", "mood", "fuel", "arrival", "bell")
EXTENSIONS = (".txt", ".tbl", ".dat", ".LMP", "")


@dataclass
class Result:
    """What came of a format: `right`, `refused` (with the reason), `wrong` (with what was
    wrong), or `disagreed`, where its own writer and reader do not fit."""

    seed: int
    outcome: str
    why: str = ""
    edits: Counter[str] = field(default_factory=Counter)


def contents(seed: int, count: int, flags: bool) -> Files:
    """Files as a game has them: of many sizes, some empty, some alike."""
    rng, found = random.Random(seed), Files()
    while len(found) < count:
        name = "/".join(part for part in (rng.choice(FOLDERS), f"{rng.choice(LEAVES)}{len(found)}") if part)
        size = rng.choice((0, 1, 7, 40, 300, 300, 2000, 6000)) if found else 40
        data = rng.choice((rng.randbytes, lambda size: (b"the lamp is lit; " * size)[:size]))(size)
        found[name + rng.choice(EXTENSIONS)] = (data, rng.randrange(2) if flags else 0)
    return found


def tried(seed: int, count: int | None = None) -> Result:
    """The result of a format."""
    made = drawn(seed)
    rng = random.Random(seed)
    number = count if count is not None else rng.choice((1, 3, 8, 8, 20, 60))
    flags = any(item.kind == "flags" for item in made.record)
    files = contents(seed, number, flags)
    try:
        layout = parse_layout(layout_of(made), f"{seed}.layout")
    except VolvexError as error:
        return Result(seed, "refused", f"check: {error}")
    data = Writer(made, files, seed).write()
    wanted = {name: content for name, (content, _) in files.items()}
    try:
        agreed = StrictReader(made, data).read() == wanted
    except Exception:
        return Result(seed, "disagreed", f"writer and reader: {traceback.format_exc(limit=-2)}")
    if not agreed:
        return Result(seed, "disagreed", "writer and reader")
    result = Result(seed, "right")
    try:
        for what, fault in _faults(made, layout, data, wanted, result):
            return Result(seed, "wrong", f"{what}: {fault}", result.edits)
    except VolvexError as error:
        return Result(seed, "wrong", f"error: {error}", result.edits)
    except Exception:
        return Result(seed, "wrong", traceback.format_exc(limit=-3), result.edits)
    return result


def _faults(
    made: Format, layout: object, data: bytes, wanted: dict[str, bytes], result: Result
) -> Iterator[tuple[str, object]]:
    archive = LayoutArchive(read(layout, BytesSource(data, f"{made.seed}.bin")))  # type: ignore[arg-type]
    found = {name.replace("\\", "/"): archive.content(row) for row, name in enumerate(archive.names)}
    if found != wanted:
        yield "read", sorted(set(found.items()) ^ set(wanted.items()))[:2]
    proof = archive.prove()
    if proof.difference is not None:
        yield "prove", proof.difference
    for trial in prove_harder(archive):
        if trial.fault is not None and not trial.refused:
            yield f"harder, {trial.what}", trial.fault
    with Spool() as spool:
        for what, edit, now in edits(archive, wanted, spool, made.seed):
            try:
                written = b"".join(archive.plan(edit).chunks())
            except (RefusedError, CapacityError, NotFoundError) as error:
                result.edits[f"refused: {error.message[:60]}"] += 1
                continue
            try:
                judged = StrictReader(made, written).read()
            except Exception as error:
                yield f"{what}, strict reader", f"{type(error).__name__}: {error}"
                return
            if judged != now:
                yield f"{what}, content", sorted(name for name in {*judged, *now} if judged.get(name) != now.get(name))
            result.edits["right"] += 1


def edits(
    archive: LayoutArchive, wanted: dict[str, bytes], spool: Spool, seed: int
) -> Iterator[tuple[str, Edit, dict[str, bytes]]]:
    """15 edits, each with what the archive then holds."""
    rng, rows = random.Random(seed), range(len(archive))
    names = [name.replace("\\", "/") for name in archive.names]
    news = (b"", b"x", b"lit" * 40, rng.randbytes(5000), b"\0" * 300, rng.randbytes(17))
    for number, new in enumerate(news):
        row = (0, len(rows) - 1, len(rows) // 2)[number % 3]
        yield f"replaced {number}", Edit(replaced={row: archive.encode(spool, [new], row)}), {**wanted, names[row]: new}
    for what, gone in (("first", {0}), ("last", {len(rows) - 1}), ("half", set(rows[::2]))):
        left = {name: wanted[name] for row, name in enumerate(names) if row not in gone}
        yield f"removed {what}", Edit(removed=gone), left
    added = [("aaa/new.txt", b"new" * 9), ("zzz.dat", rng.randbytes(700)), ("lamps/Mid", b"")]
    for count in (1, 2, 3):
        edit, now = Edit(), dict(wanted)
        for name, content in added[:count]:
            like = rng.choice(rows)
            stored = name.replace("/", "\\") if any("\\" in one for one in archive.entries.names.all()) else name
            raw = stored.encode(archive.entries.names.encoding)
            edit.added.append(Added(raw, like, archive.encode(spool, [content], like)))
            now[name] = content
        yield f"added {count}", edit, now
    for number in range(3):
        edit, now = Edit(), dict(wanted)
        for row in rows:
            chosen = rng.randrange(4)
            if chosen == 0:
                edit.removed.add(row)
                del now[names[row]]
            elif chosen == 1:
                new = rng.randbytes(rng.randrange(400))
                edit.replaced[row] = archive.encode(spool, [new], row)
                now[names[row]] = new
        edit.added.append(
            Added("mixed.txt".encode(archive.entries.names.encoding), 0, archive.encode(spool, [b"mixed"], 0))
        )
        now["mixed.txt"] = b"mixed"
        yield f"mixed {number}", edit, now
