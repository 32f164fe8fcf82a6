"""A budget for everything that is parsed: a number of records, values or cells of a file, and then no more.

A few kilobytes may unpack to gigabytes of objects. Reaching the limit is an error that says so.
"""

from __future__ import annotations

from volvex.errors import TooLargeError

HINT = "a part of the file, or `volvex find --text`, which needs no memory"
LIMIT = 2_000_000  # objects that one file may become: some hundred megabytes
CELLS = 20_000_000  # cells of all columns of a sheet, which cost little where they are empty


class Budget:
    """What is left for one file."""

    def __init__(self, file: str, what: str = "values", limit: int = 0, hint: str = HINT) -> None:
        self.file, self.what, self.hint = file, what, hint
        self.limit = limit or LIMIT
        self.left = self.limit

    def spend(self, count: int = 1) -> None:
        """Take some of it; TooLargeError when there is not enough."""
        self.left -= count
        if self.left < 0:
            raise TooLargeError(
                f"{self.file}: more than {self.limit:,} {self.what}, too many to be held in memory at once", self.hint
            )
