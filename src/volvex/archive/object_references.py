"""Which objects of a package an object refers to: by the ids in its content, as the record of its type says."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.archive.layout_archive import LayoutArchive
from volvex.errors import FormatError
from volvex.layout.inspect.coverage import object_record
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Value
from volvex.layout.types.nested import decode_fields


def referenced_rows(archive: LayoutArchive, row: int) -> list[int]:
    """The entries that an object refers to; none when its record says nothing of that, or it is not as its record
    says."""
    record = object_record(archive.reading, row)
    found = archive.reading.attribute(attributes.ID)
    if record is None or found is None:
        return []
    fields = [field.name for field in record.fields if isinstance(field.meaning, Value)]
    if not fields:
        return []
    values: dict[str, Any] = {}
    try:
        for _ in decode_fields(record.fields, archive.content(row), 0, values):
            pass
    except FormatError:
        return []  # reported by `layout prove`
    ids = np.asarray(archive.reading.decode_numbers(*found))
    rows: list[int] = []
    for name in fields:
        rows += np.flatnonzero(ids == values.get(name, -1)).tolist()
    return [one for one in dict.fromkeys(rows) if one != row]
