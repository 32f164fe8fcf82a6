"""What can go wrong, as few classes with fields; each words its own message for the user.

A message is one lower-case sentence (which file, where in it, what was expected, what was found) and
at most one line "try ..." with what to do. Imports nothing of ours.
"""

from __future__ import annotations

from enum import IntEnum
from pathlib import Path

FRESH_COPY = "a fresh copy of the file"
FRESH = f"{FRESH_COPY}: it is damaged, cut off, or of another version"  # for the player, who has no other


class Status(IntEnum):
    """Exit statuses; documented in docs/commands.md, stable."""

    OK = 0
    DIFFERS = 1  # the question was answered, and the answer is no: not identical, nothing found
    USAGE = 2
    NOT_FOUND = 3
    BAD_DATA = 4  # a file is not what it should be
    REFUSED = 5  # doing it would overwrite or lose something
    SYSTEM = 6  # disk full, no permission
    LOCKED = 7  # a key is missing, or is the wrong one
    FAULT = 70  # a mistake in Volvex itself
    INTERRUPTED = 130


class VolvexError(Exception):
    """Base of all errors that are told to the user."""

    status = Status.BAD_DATA

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint

    def lines(self, author: bool = False) -> list[str]:
        """The message, and what to do when something can be done: for a player, or for the author of a layout."""
        hint = (getattr(self, "asked", "") if author else "") or self.hint
        if author and hint.startswith(FRESH_COPY):  # while a layout is written, that is what is wrong
            hint = (
                "`volvex layout explain` for the bytes before it: a field there, or where this starts, may be another"
            )
        return [self.message, *([f"try {hint}"] if hint else [])]


class UsageError(VolvexError):
    """The arguments do not go together."""

    status = Status.USAGE


class NotFoundError(VolvexError):
    """A path, entry, record or game that does not exist."""

    status = Status.NOT_FOUND


class RefusedError(VolvexError):
    """Doing this would overwrite, lose or escape."""

    status = Status.REFUSED


class TooLargeError(RefusedError):
    """It would take more memory than anybody wants to give; said before it is taken."""


class LockedError(VolvexError):
    """A key is missing, or none of those available is the right one."""

    status = Status.LOCKED


class FormatError(VolvexError):
    """A file does not hold what its layout, codec or kind says."""

    def __init__(
        self,
        file: str | Path,
        problem: str,
        *,
        offset: int | None = None,
        field: str = "",
        hint: str = "",
        asked: str = "",
    ) -> None:
        """`hint` is for a player, `asked` for the author of the layout that may be wrong."""
        where = f" at {offset:#x}" if offset is not None else ""
        what = f", field {field}" if field else ""
        super().__init__(f"{file}{where}{what}: {problem}", hint)
        self.file, self.offset, self.field, self.problem, self.asked = str(file), offset, field, problem, asked


class FileError(VolvexError):
    """A file of many that could not be worked on, for a reason that is not its content."""

    def __init__(self, file: str | Path, problem: str, status: Status, hint: str = "") -> None:
        super().__init__(f"{file}: {problem}", hint)
        self.status = status


class UnfitError(FormatError):
    """A value that a field cannot hold, as the user gave it."""

    status = Status.USAGE


class CapacityError(FormatError):
    """What is to be written is more than the format has room for: a name that is too long, a number that is too
    large."""

    status = Status.REFUSED


class ContentError(VolvexError):
    """Stored bytes that their codec cannot decode; the caller knows which file they are from."""


class OverlapError(FormatError):
    """Edits of one file that would write into each other, and must be made one after the other."""


class LayoutError(VolvexError):
    """A mistake in a layout, told at its line."""

    def __init__(
        self, file: str | Path, line: int, column: int, problem: str, *, expected: str = "", hint: str = ""
    ) -> None:
        wanted = f"; expected {expected}" if expected else ""
        super().__init__(f"{file}:{line}:{column}: {problem}{wanted}", hint)
        self.file, self.line, self.column, self.expected = str(file), line, column, expected
        self.problem = problem


class ManyErrors(VolvexError):
    """Several errors of one piece of work, all of them reported."""

    def __init__(self, errors: list[VolvexError]) -> None:
        super().__init__("; ".join(error.message for error in errors))
        self.errors = errors
        self.status = max(error.status for error in errors)

    def lines(self, author: bool = False) -> list[str]:
        return [line for error in self.errors for line in error.lines(author)]
