"""Whatever is raised at damaged or unreadable files, as errors of ours: this is the one place that catches all.

Libraries promise nothing (`library_errors`), and of many files one must never stop the work on the others
(`one_of_many`).
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from volvex.errors import FileError, FormatError, Status, TooLargeError, VolvexError

FAULT = "saving it again with the program that made it"


@contextlib.contextmanager
def library_errors(file: str | Path, what: str, hint: str = FAULT) -> Iterator[None]:
    """Whatever a library raises at a damaged file becomes a FormatError: it is not a valid `what`."""
    try:
        yield
    except (VolvexError, MemoryError):
        raise
    except Exception as error:
        said = str(error).partition("\n")[0].partition("<")[0].strip().rstrip(":") or type(error).__name__
        raise FormatError(file, f"not a valid {what}: {said}", hint=hint) from error


@contextlib.contextmanager
def one_of_many(file: str) -> Iterator[None]:
    """Whatever one of many files raises becomes an error of that file, which the caller collects: what the system
    refuses, what needs too much memory, and a fault of ours too."""
    try:
        yield
    except VolvexError:
        raise
    except OSError as error:
        raise unreadable(file, error) from error
    except (MemoryError, RecursionError) as error:
        raise TooLargeError(f"{file}: it needs more memory than there is") from error
    except Exception as error:
        problem = f"a fault in Volvex: {type(error).__name__}: {error}"
        raise FileError(file, problem, Status.FAULT, "the same for this file alone with --debug") from error


def unreadable(file: str, error: OSError) -> FileError:
    """The error for a file that the system does not let be read."""
    return FileError(file, f"cannot be read: {(error.strerror or str(error)).lower()}", Status.SYSTEM)
