"""Property lists in binary: read and edited as those in XML are, and written in binary again."""

from __future__ import annotations

import plistlib
from collections.abc import Sequence
from functools import cached_property
from typing import Any

from volvex.data.budget import Budget
from volvex.data.model.sheet import Change, Document, Sheet
from volvex.data.text.formats.plist import PlistData
from volvex.errors import FormatError

BEGIN = b"bplist0"
DAMAGE = (plistlib.InvalidFileException, ValueError, OverflowError, RecursionError, MemoryError, TypeError)
DEEPEST = 200  # dictionaries and arrays within each other


class BinaryPlist(Document):
    """A property list in binary. What refers to objects by number (an archive of them) is read, but not edited."""

    form = "plist"

    def __init__(self, data: bytes, file: str) -> None:
        self.file, self.data = file, data
        self.numbered = False
        self.inner  # noqa: B018  (what is damaged is told at once)

    @cached_property
    def inner(self) -> PlistData:
        """The same in XML."""
        try:
            tree = plistlib.loads(self.data, fmt=plistlib.FMT_BINARY)
            self._measure(tree)
            # Control characters and keys that are no texts are refused: XML cannot hold them.
            text = plistlib.dumps(_plain(tree), sort_keys=False)
        except DAMAGE as error:
            raise FormatError(self.file, "this is no sound property list in binary", hint="the original") from error
        return PlistData(text, self.file)

    def _measure(self, tree: Any) -> None:
        """What is in it is counted before it is written out: one object may be in many places."""
        budget, left = Budget(self.file), [(tree, 0)]
        while left:
            value, depth = left.pop()
            budget.spend()
            if depth > DEEPEST:
                raise FormatError(self.file, f"more than {DEEPEST} dictionaries and arrays within each other")
            self.numbered = self.numbered or isinstance(value, plistlib.UID)
            if isinstance(value, (bytes, str)):
                budget.spend(len(value) >> 6)
            children = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
            left += ((child, depth + 1) for child in children)

    @property
    def sheets(self) -> list[Sheet]:
        return self.inner.sheets

    def reread(self, data: bytes) -> Document:
        return BinaryPlist(data, self.file)

    def written(self, changes: Sequence[Change]) -> bytes:
        if not changes:
            return self.data
        if self.numbered:
            raise FormatError(
                self.file, "this refers to objects by number, which edits would lose", hint="`volvex swap`"
            )
        text = self.inner.written(changes)
        try:
            tree = plistlib.loads(text, fmt=plistlib.FMT_XML)
            return plistlib.dumps(tree, fmt=plistlib.FMT_BINARY, sort_keys=False)
        except DAMAGE as error:
            raise FormatError(
                self.file, f"this cannot be a property list in binary: {error}", hint="another value"
            ) from error


def _plain(value: Any) -> Any:
    """A tree without numbers of objects, which XML does not have: those are told as integers."""
    if isinstance(value, dict):
        return {row_id: _plain(child) for row_id, child in value.items()}
    if isinstance(value, list):
        return [_plain(child) for child in value]
    return value.data if isinstance(value, plistlib.UID) else value
