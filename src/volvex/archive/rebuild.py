"""Archives written anew: new content is encoded into a spool, the rest is copied as it lies."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

from volvex import source
from volvex.archive.archive import Archive, open_archive
from volvex.archive.work import Advance, ignore
from volvex.codec import COMPRESS, SEAL
from volvex.errors import FormatError, NotFoundError
from volvex.layout import Library
from volvex.layout.edits import Edit, NewContent
from volvex.layout.library import require_writable
from volvex.layout.writing import plan
from volvex.source import Disk, atomic
from volvex.source.reading import CHUNK


class Spool(source.Spool):
    """A temporary file that holds new contents as they will be stored, but for ciphers; gone when it is closed."""

    def add(self, chunks: Iterable[bytes], like: Archive, codec: str) -> NewContent:
        """Encode a content for an archive like `like`. Safe to call from several threads."""
        size = 0
        seals = {
            (seal.algorithm, seal.part): SEAL.get(seal.algorithm).new() for _, _, seal in like.reading.content_seals()
        }

        def update(part: str, data: bytes) -> None:
            for key in seals:
                if key[1] == part:
                    seals[key].update(data)

        def counted() -> Iterator[bytes]:
            nonlocal size
            for chunk in chunks:
                size += len(chunk)
                update("content", chunk)
                yield chunk

        def sealed() -> Iterator[bytes]:
            for out in COMPRESS.get(codec).encode_stream(counted()):
                update("stored content", out)
                yield out

        offset, length = self.append(sealed())
        if length == size and codec != "none" and like.reading.layout.content.differing:
            # sizes that are equal mean that the content is bare, so it has to be
            return self.add(
                [b"".join(COMPRESS.get(codec).decode_stream(self.chunks(offset, length), size))], like, "none"
            )
        return NewContent(self, offset, length, size, codec, {key: total.value() for key, total in seals.items()})


def codec_for(archive: Archive, row: int) -> str:
    """The codec in which new content of an entry is stored: its own, or the first of the layout."""
    codec = archive.codec(row)
    if archive.reading.layout.content.differing:
        return archive.entries.codecs[-1]
    return archive.entries.codecs[0] if codec == "?" else codec


def kin(archive: Archive, name: str) -> int:
    """The entry most like a new one: in the same folder, with the same ending; NotFoundError in an empty archive."""
    if not len(archive):
        raise NotFoundError(f"{archive.source.name} has no entry that a new one could be like")
    folder, _, last = name.rpartition("/")
    key = (folder, last.rpartition(".")[2])
    if key not in archive.kin:  # the same for all new entries of a folder with one ending
        archive.kin[key] = max(range(len(archive)), key=lambda row: _likeness(archive.names[row], *key))
    return archive.kin[key]


def _likeness(name: str, folder: str, ending: str) -> tuple[int, bool]:
    """How many folders a name shares with another from the top, and whether its ending is the same."""
    other, _, base = name.rpartition("/")
    common = 0
    for ours, theirs in zip(folder.split("/"), other.split("/"), strict=False):
        if ours != theirs:
            break
        common += 1
    return common, base.rpartition(".")[2] == ending


def file_chunks(path: Path) -> Iterator[bytes]:
    """A file's bytes in pieces."""
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk


def rebuild(
    archive: Archive, edit: Edit, target: Path, disk: Disk, advance: Advance = ignore, durable: bool = False
) -> int:
    """Write an archive with changes to `target`, whole or not at all; its size in bytes.

    What was written is opened again before it gets its name.
    """
    require_writable(archive.layout)
    made = plan(archive.reading, edit, folder=target.parent)
    with atomic(disk, target, durable) as file:
        for piece in made.pieces:
            if piece.source is None:
                disk.write(file, piece.data)
            else:
                disk.copy_span(piece.source, piece.offset, piece.size, file)
            advance(piece.size)
        file.flush()
        _check_written(Path(file.name), archive, edit, made.size)
    return made.size


def _check_written(path: Path, archive: Archive, edit: Edit, size: int) -> None:
    written = open_archive(path, Library(), layout=archive.layout)
    assert written is not None
    with written:
        wanted = len(archive) + len(edit.added) - len(edit.removed)
        if written.source.size != size or len(written) != wanted:
            raise FormatError(
                path,
                f"{written.source.size} bytes and {len(written)} entries were written, {size} and {wanted} were planned",
            )
