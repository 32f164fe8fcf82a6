"""Whatever libraries raise at damaged files, as errors of ours: they promise nothing, so this is the one place that catches all."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from volvex.errors import FormatError, VolvexError

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
