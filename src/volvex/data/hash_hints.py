"""Hints from names, for the ids of records that are stored as hashes."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.data.model.layout_document import LayoutDocument
from volvex.layout.inspect.hints import Hint
from volvex.layout.model import Value
from volvex.names.dictionary_set import DictionarySet
from volvex.names.hash_hints import hints_by


def hash_hints(document: LayoutDocument, names: DictionarySet) -> Iterator[Hint]:
    """That no known name has one of the hashes of a table, texts or a scene."""
    for block in document.reading.blocks.values():
        for field in block.block.fields:
            if isinstance(field.meaning, Value) and field.meaning.role == "id" and document.layout.keys:
                keying, ids = document.keying(field), block.numbers(field.name).astype(np.uint64)
                if not names.match(document.layout, keying, [ids]):
                    yield from hints_by(document.layout, keying, ids, names)
