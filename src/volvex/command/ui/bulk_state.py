"""What a command that converts many things keeps count of: what is meant, where each goes, what became of it."""

from __future__ import annotations

import argparse
import os
import posixpath
import re
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.access.merged import MARK
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import Refusal, disk_names, shown
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import Content, each_content
from volvex.command.ui.table import count, number
from volvex.errors import NotFoundError, RefusedError, Status, VolvexError

if TYPE_CHECKING:
    from volvex.asset.bulk import Job, Outcome
    from volvex.asset.picture.formats import PictureFormat
    from volvex.asset.sound.formats import SoundFormat
    from volvex.source import Source

FEW = 4  # pictures for which no process is started
TOLD = 20


class BulkState:
    """What is to be done and what was."""

    def __init__(self, options: argparse.Namespace) -> None:
        from volvex.asset.bulk import is_sound_form

        self.options = options
        self.faults: list[VolvexError] = []
        self.failed: list[Outcome] = []
        self.files = self.bytes = self.skipped = 0
        self.notes: dict[str, int] = {}
        self._taken: set[str] = set()
        self.sounds = is_sound_form(options.extension)
        self.what = "sound" if self.sounds else "picture"

    def expected(self, options: argparse.Namespace) -> int:
        """About how many bytes there are to be read: of the files that are named."""
        total = 0
        for path in map(Path, options.path):
            files = [path] if path.is_file() else path.rglob("*") if path.is_dir() else ()
            total += sum(file.stat().st_size for file in files if file.is_file())
        return total

    def jobs(self, walker: Walker, context: Context) -> Iterator[Job]:
        """A job for each picture that is not there yet."""
        for path in self.options.path:
            for content, file in each_content(path, walker, context, deep=True):
                try:
                    job = self._job(content, file, walker, above_of(path))
                except VolvexError as error:
                    self.faults.append(error)
                    continue
                finally:
                    content.source.close()
                if job is not None:
                    yield job

    def _job(self, content: Content, file: Path | None, walker: Walker, above: str) -> Job | None:
        from volvex.asset.bulk import Job, beside_of, layout_of

        kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
        form = self._form(content.source, walker)
        if form is None:
            return None
        own = layout_of(form)
        layout, kind = (own.file, own.title) if own is not None else ("", kind)
        target = self._target(content, file, kind, above)
        if os.path.lexists(target) and self.options.skip_existing:
            self.skipped += 1
            return None
        if os.path.lexists(target) and not self.options.overwrite:
            raise RefusedError(f"{target} already exists", "--skip-existing or --overwrite")
        roles, size = walker.library.pictured(content.path), content.source.size
        extension = self.options.extension.lstrip(".").lower()
        beside = beside_of(form, content.source)
        tags = _tags(content.path.rpartition(MARK)[2]) if self.sounds else ()
        if file is not None:
            return Job(
                content.path, str(target), extension, size, None, str(file.absolute()), 0, roles, layout, beside, tags
            )
        data = content.source.read(0, size)
        return Job(
            content.path, str(target), extension, size, data, roles=roles, layout=layout, beside=beside, tags=tags
        )

    def _form(self, source: Source, walker: Walker) -> PictureFormat | SoundFormat | None:
        """The form of what is in some bytes, if that is what is converted: pictures, or sounds."""
        from volvex.asset.picture.open import form_in
        from volvex.asset.sound.open import form_in as sound_form_in

        return (sound_form_in if self.sounds else form_in)(source, walker.library)

    def _target(self, content: Content, file: Path | None, kind: str, above: str) -> Path:
        """Where a picture goes: a name that no other of this run has, on no disk."""
        name = content.path.rpartition("/")[2]
        whole = content.path.rpartition(MARK)[2]  # of the tree that a game sees, without the game's folder
        inside = whole.removeprefix(above).removeprefix("/").replace("../", "")
        if self.options.by == "kind":
            inside = f"{kind}/{name}"
        elif self.options.by == "type":
            inside = f"{self._type_of(content, kind)}/{inside}"
        elif self.options.by == "archive":
            package = content.path.removesuffix(f"/{name}") if file is not None else _package(content.path)
            inside = f"{package.rpartition('/')[2] or 'files'}/{content.path.removeprefix(package).removeprefix('/')}"
        stem, dot, _ = inside.rpartition(".")
        extension = self.options.extension.lstrip(".").lower()
        wanted = [f"{stem if dot and '/' not in inside[len(stem) :] else inside}.{extension}", f"{inside}.{extension}"]
        wanted += [f"{inside}~{again}.{extension}" for again in range(2, 1000)]
        for one in wanted:
            place = disk_names([one])[0]
            if isinstance(place, Refusal):
                raise RefusedError(f"{content.path}: {place.reason}")
            if place.casefold() not in self._taken:
                self._taken.add(place.casefold())
                return Path(self.options.folder).absolute() / place
        raise RefusedError(f"{content.path}: a thousand {self.what}s have this name", "--by path")

    def _type_of(self, content: Content, kind: str) -> str:
        """The type of an object of a package, which is the extension of its name; the kind of anything else."""
        name = content.path.rpartition("/")[2]
        return name.rpartition(".")[2] if content.of_package and "." in name else kind

    def take(self, outcome: Outcome) -> None:
        """Count one outcome."""
        if outcome.fault:
            self.failed.append(outcome)
            return
        self.files += 1
        self.bytes += outcome.size
        for note in outcome.notes:
            self.notes[note] = self.notes.get(note, 0) + 1

    def counted(self) -> str:
        """What was made, in words."""
        return count(self.files, self.what)

    def print_summary(self, options: argparse.Namespace, context: Context) -> int:
        """Print the summary; the status."""
        if not (self.files or self.failed or self.skipped or self.faults):
            raise NotFoundError(f"no {self.what} at this path", "`volvex list` to list the files")
        skipped = f"; {count(self.skipped, 'file')} left as they were" if self.skipped else ""
        folder = shown(str(options.folder))
        context.print(f"{self.counted()}, {number(self.bytes)} bytes in {folder}{skipped}")
        for note, times in sorted(self.notes.items(), key=lambda pair: -pair[1])[:TOLD]:
            context.note(f"note: {count(times, self.what)}: {note}")
        for outcome in self.failed[:TOLD]:
            context.complain(f"failed: {shown(outcome.fault)}" + (f"; try {outcome.hint}" if outcome.hint else ""))
        if len(self.failed) > TOLD:
            context.complain(f"and {len(self.failed) - TOLD:,} more that failed")
        status = note_faults(self.faults, context)
        return Status(status) if status else Status.BAD_DATA if self.failed else Status.OK


def _tags(path: str) -> tuple[tuple[str, str], ...]:
    """What the path of a sound says of it: its title, the album that its folder is, its number where the name begins
    with one."""
    folder, _, name = path.rpartition("/")
    stem = name.rpartition(".")[0] or name
    found = {"title": stem, "album": folder.rpartition("/")[2]}
    if track := re.match(r"[0-9]{1,3}(?=[ ._-])", stem):
        found["tracknumber"] = str(int(track[0]))
    return tuple((what, text) for what, text in found.items() if text)


def above_of(path: str) -> str:
    """What leads to a path that was named from the root or from a folder above: it is no folder of the result."""
    fixed = re.split(r"[*?[]", path.replace(os.sep, "/").rstrip("/"))[0]
    return f"{posixpath.dirname(fixed)}/" if Path(path).is_absolute() or path.startswith("..") else ""


def _package(path: str) -> str:
    """The archive that an entry lies in: the part of its path up to the last name with an extension, but for its
    own."""
    parts = path.split("/")
    last = next((at for at in range(len(parts) - 2, -1, -1) if "." in parts[at].lstrip(".")), 0)
    return "/".join(parts[: last + 1])
