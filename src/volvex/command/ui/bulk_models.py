"""Many models converted by one command: each with all that belongs to it, the textures of all of them once, in a folder
of their own."""

from __future__ import annotations

import argparse
import os
import posixpath
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import Refusal, disk_names
from volvex.command.ui.bulk_state import BulkState
from volvex.command.ui.context import Context
from volvex.command.ui.reader import Content, each_content
from volvex.errors import RefusedError, VolvexError
from volvex.source import atomic

if TYPE_CHECKING:
    from volvex.asset.bulk import Job
    from volvex.asset.model.gather import Gathered
    from volvex.command.ui.model import Surroundings

FOLDER = "textures"  # below the folder that models go into


class ModelState(BulkState):
    """What is to be done and what was. Models are converted here, one at a time; their textures by the workers."""

    def __init__(self, options: argparse.Namespace) -> None:
        if options.extension.lstrip(".").lower() == "gltf":
            options.extension = "glb"  # in one file, so that nothing is lost on the way
        super().__init__(options)
        self.what = "model"
        self.textures = 0
        self._images: dict[tuple[int, int], str] = {}  # of files and their numbers: the file that has the texture
        self._named: set[str] = set()
        self._taken_textures: set[str] = set()

    def jobs(self, walker: Walker, context: Context) -> Iterator[Job]:
        """A job for each texture that the models need; the models are written on the way."""
        from volvex.command.ui.model import Surroundings

        around = Surroundings(walker, context)
        self.disk = context.disk
        for path in self.options.path:
            for content, file in each_content(path, walker, context, deep=True):
                try:
                    yield from self._model(content, file, walker, around, path)
                except VolvexError as error:
                    self.faults.append(error)
                finally:
                    content.source.close()

    def _model(
        self, content: Content, file: Path | None, walker: Walker, around: Surroundings, path: str
    ) -> Iterator[Job]:
        """Write one model, and yield what its textures need."""
        from volvex.asset.model.open import form_in, may_be_model, open_model
        from volvex.command.ui.bulk_state import above_of
        from volvex.command.ui.model import read_whole

        kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
        form = form_in(content.source, walker.library) if may_be_model(kind) else None
        own = getattr(form, "layout", None)
        if form is None or (own is not None and own.kind != "mesh" and content.path != path):
            return  # skeletons, animations and materials come with the models that they belong to
        target = self._target(
            content, file, own.title if own is not None else getattr(form, "EXTENSIONS", (kind,))[0], above_of(path)
        )
        if os.path.lexists(target) and self.options.skip_existing:
            self.skipped += 1
            return
        if os.path.lexists(target) and not self.options.overwrite:
            raise RefusedError(f"{target} already exists", "--skip-existing or --overwrite")
        opened = open_model(read_whole(content), walker.library)
        if opened is None or not opened.model.drawable:
            return
        found = around.gathered(opened, content)
        files, _, _ = around.around(content.path)
        images = {name: self._image(files, number) for name, number in found.textures.items() if number is not None}
        self._write(found, target, images)
        for number in {number for number in found.textures.values() if number is not None}:
            job = self._texture(files, number, walker)
            if job is not None:
                yield job

    def _image(self, files: Any, number: int) -> str:
        """The file below the folder of textures that a texture goes into: a name that no other of this run has."""
        key = (id(files), number)
        if key not in self._images:
            stem = posixpath.splitext(posixpath.basename(files.paths[number]))[0] or "texture"
            place, at = disk_names([f"{stem}.png"])[0], 2
            plain = place if not isinstance(place, Refusal) else "texture.png"
            while plain.casefold() in self._named:
                plain, at = f"{stem}~{at}.png", at + 1
            self._named.add(plain.casefold())
            self._images[key] = plain
        return self._images[key]

    def _write(self, found: Gathered, target: Path, images: dict[str, str]) -> None:
        from volvex.asset.model.exchange import exported

        up = os.path.relpath(Path(self.options.folder).absolute() / FOLDER, target.parent).replace(os.sep, "/")
        out = exported(
            found, self.options.extension, {name: f"{up}/{file}" for name, file in images.items()}, target.stem
        )
        first = next(iter(out.files))
        places = {target if one == first else target.with_suffix(f".{one}"): data for one, data in out.files.items()}
        there = [place for place in places if place != target and os.path.lexists(place)]
        if there and not self.options.overwrite:
            raise RefusedError(f"{there[0]} already exists", "--overwrite, or another folder")
        disk = self.disk
        disk.make_folder(target.parent)
        for own, data in places.items():
            with atomic(disk, own, durable=False) as opened:
                disk.write(opened, data)
            self.bytes += len(data)
        self.files += 1
        for note in out.notes:
            self.notes[note] = self.notes.get(note, 0) + 1

    def _texture(self, files: Any, number: int, walker: Walker) -> Job | None:
        """What converts a texture; None when that was done already."""
        from volvex.asset.bulk import Job, beside_of, layout_of
        from volvex.asset.picture.open import form_in

        name = self._images[id(files), number]
        if name in self._taken_textures:
            return None
        self._taken_textures.add(name)
        target = Path(self.options.folder).absolute() / FOLDER / name
        if os.path.lexists(target) and self.options.skip_existing:
            return None
        if os.path.lexists(target) and not self.options.overwrite:
            self.faults.append(RefusedError(f"{target} already exists", "--skip-existing or --overwrite"))
            return None
        try:
            with files.open(number) as source:
                form = form_in(source, walker.library)
                own = layout_of(form)
                beside = beside_of(form, source)
                data = source.read(0, source.size)
        except VolvexError as error:
            self.faults.append(error)
            return None
        roles = walker.library.pictured(files.paths[number])
        layout = own.file if own is not None else ""
        return Job(files.paths[number], str(target), "png", len(data), data, roles=roles, layout=layout, beside=beside)

    def take(self, outcome: Any) -> None:
        """Count one texture."""
        if outcome.fault:
            self.failed.append(outcome)
            return
        self.textures += 1
        self.bytes += outcome.size
        for note in outcome.notes:
            self.notes[note] = self.notes.get(note, 0) + 1

    def counted(self) -> str:
        """What was made, in words."""
        from volvex.command.ui.table import count

        return f"{count(self.files, 'model')}, {count(self.textures, 'texture')}"
