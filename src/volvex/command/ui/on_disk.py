"""Files that commands take by their path on disk, when they lie in an archive or are named as in the game."""

from __future__ import annotations

import argparse
import contextlib
import posixpath
from pathlib import Path

from volvex.archive.safe_names import disk_names, shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import each_content, open_walker
from volvex.errors import UsageError
from volvex.source.source import CHUNK


def on_disk(path: Path, options: argparse.Namespace, context: Context, folder: Path) -> Path:
    """A file or folder at a path; what is in an archive, or on a bench named as in the game, is written to `folder`.

    NotFoundError when there is none, UsageError when several files match.
    """
    if path.exists():
        return path
    named = argparse.Namespace(**vars(options) | {"path": [str(path)]})
    with contextlib.ExitStack() as stack:
        walker = stack.enter_context(open_walker(named, context))
        written = None
        for content, file in each_content(str(path), walker, context):
            stack.callback(content.source.close)
            if written is not None:
                raise UsageError(f"several files match {shown(str(path))}", "one path")
            if file is not None:
                written = file
                continue
            name = disk_names([posixpath.basename(content.path)])[0]
            written = folder / (name if isinstance(name, str) else "content")
            with written.open("xb") as out:
                for start in range(0, content.source.size, CHUNK):
                    out.write(content.source.read(start, min(CHUNK, content.source.size - start)))
        for fault in walker.faults:
            raise fault
        assert written is not None  # the walker has found one or has raised
        return written
