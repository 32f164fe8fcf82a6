"""Order: records that are all sorted, where the layout does not say by what."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Iterator

from volvex.layout.columns import Array, Column, Texts
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, ChecksumOf, Field, Value
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.names import own_names

LEAST = 6  # records: so many are sorted by chance once in 720 times
# by what records are sorted where several fit, the likeliest first
LIKELY = (attributes.KEY, attributes.FOLDER_KEY, attributes.NAME, attributes.FOLDER_NAME, attributes.ID)


def hints(reading: Reading) -> Iterator[Hint]:
    for block in reading.blocks.values():
        sortable = block.block.repeats and not block.block.inline and block.block.sorted_by is None
        if not sortable or len(block.starts) < LEAST:
            continue
        hint = _of_block(reading, block)
        if hint is not None:
            yield hint


def _of_block(reading: Reading, block: BlockRead) -> Hint | None:
    name = block.block.name
    written = reading.original.block(name)  # columns that the file describes are not in it
    own = {field.name for field in written.fields} if written is not None else set[str]()
    found = {
        field.name: field
        for field in block.block.fields
        if field.name in own and _is_candidate(field) and _ascends(block.columns[field.name], block.owners)
    }
    by = min(found.values(), key=_rank, default=None)
    if by is not None:
        return Hint(
            name, f"all {len(block.starts):,} records are sorted by {by.name}", f"block {name} ... sorted by {by.name}"
        )
    names = own_names(reading) if _is_home(reading, block) else None
    if names is None or len(names) != len(block.starts):
        return None
    raws = names.raws()
    for what, key in (
        ("", lambda raw: raw),
        (" without regard to case", bytes.lower),
        (" by extension", _by_extension),
    ):
        wanted = [key(raw) for raw in raws]
        if len(set(wanted)) >= LEAST and wanted == sorted(wanted):
            return Hint(name, f"all {len(raws):,} records are in the order of their names{what}")
    return None


def _is_home(reading: Reading, block: BlockRead) -> bool:
    """Whether the records of a block are the entries, by their names."""
    return any(block is found[0] for what in attributes.NAMING if (found := reading.attribute(what)) is not None)


def _by_extension(raw: bytes) -> tuple[bytes, bytes]:
    return raw.rpartition(b".")[2].lower(), raw.lower()


def _is_candidate(field: Field) -> bool:
    meaning = field.meaning
    if field.when is not None or (isinstance(meaning, Attribute) and meaning.upper):
        return False
    hashed = isinstance(meaning, ChecksumOf) and meaning.part in attributes.NAMES
    return (
        hashed
        or (isinstance(meaning, Value) and meaning.role == "id")
        or (isinstance(meaning, Attribute) and meaning.what in LIKELY)
    )


def _rank(field: Field) -> tuple[int, int]:
    what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
    return (LIKELY.index(what) if what in LIKELY else len(LIKELY), field.place.line)


def _ascends(column: Column, owners: Array | None) -> bool:
    """Whether a column ascends, or does so within each owner, as it would by chance less than once in the factorial of
    LEAST times."""
    if not isinstance(column, Texts) and (column.dtype.kind not in "iuf" or column.ndim != 1):
        return False
    values = column.raws() if isinstance(column, Texts) else column.tolist()
    ways = 0.0
    for _, group in itertools.groupby(range(len(values)), key=lambda row: 0 if owners is None else int(owners[row])):
        own = [values[row] for row in group]
        if any(value > after for value, after in itertools.pairwise(own)):
            return False
        ways += math.lgamma(len(own) + 1) - sum(math.lgamma(number + 1) for number in Counter(own).values())
    return ways >= math.lgamma(LEAST + 1) - 1e-9
