"""What a file shows and its layout does not say: each a hint, with the line that says it.

A proof shows that a layout gives the same bytes again. It does not show that it would give the right ones for other
content: a number that is `kept` and is a size, records that are sorted without a word about it, content that lies at
multiples of 32. A game refuses what is built then, or reads it wrongly. Each module looks for one kind of them; a hint
needs evidence that chance does not give.
"""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.inspect.hints import checksums, measures, nameless, order, placing, pools, texts
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.read.blocks import Reading


def hints_of(reading: Reading) -> Iterator[Hint]:
    """All hints that the file itself gives."""
    for module in (placing, order, nameless, pools, texts, measures, checksums):
        yield from module.hints(reading)


__all__ = ["Hint", "hints_of"]
