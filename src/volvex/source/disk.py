"""The only writer: each effect on the file system is a step, and steps can be made to fail."""

from __future__ import annotations

import contextlib
import errno
import glob
import os
import re
import zlib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

from volvex.source.source import Source

_NEW = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0)
PART = ".volvex-part"  # the end of every temporary file's name
LEFTOVER = re.compile(r".+\.\d+\.volvex-part", re.S)  # and such a whole name: no entry of an archive gets one on disk


def is_leftover(name: str) -> bool:
    """Whether a file has the name of a temporary one: left by a process that was killed, or in use by one that runs."""
    return name.endswith(PART) and LEFTOVER.fullmatch(name) is not None


def _part_name(name: str) -> str:
    """The temporary file's name, beside the target's: no longer than disks allow."""
    whole = name
    while len(name.encode("utf-8", "surrogateescape")) > 200:
        name = name[: len(name) * 3 // 4]
    if name != whole:
        name = f"{name}-{zlib.crc32(whole.encode('utf-8', 'surrogateescape')):08x}"
    return f"{name}.{os.getpid()}{PART}"


def clear_stale(target: Path) -> None:
    """Remove temporary files of a target whose processes have ended: what is secret must not lie about after a kill."""
    for path in target.parent.glob(f"{glob.escape(target.name)}.*{PART}") if target.parent.is_dir() else ():
        if is_stale(path):
            with contextlib.suppress(OSError):
                path.unlink()


def is_stale(path: Path) -> bool:
    """Whether a file is a temporary one of a process that has ended."""
    number = path.name.removesuffix(PART).rpartition(".")[2]
    return is_leftover(path.name) and not path.is_symlink() and path.is_file() and not _runs(int(number))


def _runs(process: int) -> bool:
    """Whether a process runs, and is not this one."""
    if process == os.getpid():
        return False
    if os.name == "nt":
        import ctypes

        handle = ctypes.windll.kernel32.OpenProcess(0x1000, False, process)  # type: ignore[attr-defined,unused-ignore]
        if handle:
            ctypes.windll.kernel32.CloseHandle(handle)  # type: ignore[attr-defined,unused-ignore]
        return bool(handle)
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return True


class Disk:
    """Writes to the file system. `step` is called before each effect, with its name.

    `require_allowed` is called with what a command is to write for its user: it raises RefusedError where nothing may
    be.
    """

    require_allowed: Callable[[Path], None] = staticmethod(lambda path: None)
    changes = True  # whether anything changes: a rehearsal only counts what would

    @property
    def real(self) -> Disk:
        """The disk on which things do change: for what has to be in order before a rehearsal."""
        return self

    def where(self, path: Path) -> Path:
        """Where the bytes are that were written to a path."""
        return path

    def step(self, name: str) -> None:
        """Nothing here; a faulty disk fails or stops."""

    def create(self, path: Path, private: bool = False) -> BinaryIO:
        """A new file, open for writing; FileExistsError when there is one. A private one is its owner's alone."""
        self.step(f"create {path.name}")
        if private:
            return os.fdopen(os.open(path, _NEW | os.O_EXCL, 0o600), "wb")
        return path.open("xb")

    def write(self, file: BinaryIO, data: bytes | memoryview) -> None:
        self.step("write")
        file.write(data)

    def write_atomic(self, target: str, chunks: Iterable[bytes]) -> int:
        """A file at `target`, whole or not at all, for work on thousands of them; its size.

        Not synced: for what can be made again.
        """
        self.step(f"create {target}")
        folder, slash, name = target.rpartition("/")
        part = f"{folder}{slash}{_part_name(name)}"
        handle = os.open(part, _NEW, 0o666)
        try:
            try:
                done = self._fill(handle, chunks)
            finally:
                os.close(handle)
            os.replace(part, target)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(part)
            raise
        return done

    def _fill(self, handle: int, chunks: Iterable[bytes]) -> int:
        done = 0
        for chunk in chunks:
            self.step("write")
            view = memoryview(chunk)
            while view:
                written = os.write(handle, view)
                view, done = view[written:], done + written
        return done

    def overwrite(self, file: BinaryIO, data: bytes | memoryview) -> None:
        """Write over bytes that the file has already, which takes no more room."""
        self.step("overwrite")
        file.write(data)

    def truncate(self, file: BinaryIO, size: int) -> None:
        """Cut an open file."""
        self.step("truncate")
        file.truncate(size)

    def allocate(self, file: BinaryIO, size: int) -> None:
        """Have an open file grow to a size, its room taken for good, so that writing there cannot fail for want of
        it."""
        self.step("allocate")
        before = os.fstat(file.fileno()).st_size
        if size <= before:
            return
        if hasattr(os, "posix_fallocate"):
            try:
                os.posix_fallocate(file.fileno(), before, size - before)
                return
            except OSError as error:
                if error.errno not in (errno.EINVAL, errno.EOPNOTSUPP, errno.ENOSYS):
                    raise
        file.seek(before)
        for start in range(before, size, 1 << 20):
            file.write(bytes(min(1 << 20, size - start)))
        file.flush()

    def link(self, old: Path, new: Path) -> None:
        """Give a file a second name; OSError where the disk has no such thing."""
        self.step(f"link {new.name}")
        os.link(old, new)

    def sync(self, file: BinaryIO) -> None:
        """Have the file's bytes on the device."""
        self.step("sync")
        file.flush()
        os.fsync(file.fileno())

    def sync_folder(self, folder: Path) -> None:
        """Have the folder's names on the device, where the system can (Windows does so by itself)."""
        self.step("sync folder")
        if os.name == "nt":
            return
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def replace(self, old: Path, new: Path) -> None:
        """Give `old` the name `new`, in one step, over what may be there."""
        self.step(f"replace {new.name}")
        old.replace(new)

    def remove(self, path: Path) -> None:
        """Remove a file; nothing happens when it is gone already."""
        self.step(f"remove {path.name}")
        path.unlink(missing_ok=True)

    def make_folder(self, folder: Path, durable: bool = False) -> None:
        """The folder and those above it."""
        if folder.is_dir():
            return
        self.step(f"make folder {folder.name}")
        folder.mkdir(parents=True, exist_ok=True)
        if durable:
            self.sync_folder(folder.parent)

    def remove_folder(self, folder: Path) -> None:
        """Remove a folder if it is empty."""
        self.step(f"remove folder {folder.name}")
        with contextlib.suppress(OSError):
            folder.rmdir()

    def copy_span(self, source: Source, offset: int, size: int, file: BinaryIO) -> None:
        """Append a span of a source to a file, within the system where it can be done."""
        self.step("copy")
        handle = source.fileno()
        if handle is not None:
            file.flush()
            done = _copy_within_system(handle, offset, size, file.fileno())
            if done:
                file.seek(0, os.SEEK_END)
            offset, size = offset + done, size - done
        for chunk in source.chunks(offset, size):
            file.write(chunk)


def _copy_within_system(source: int, offset: int, size: int, target: int) -> int:
    """Bytes copied without passing through this process; less than `size` when the system will not."""
    if not hasattr(os, "copy_file_range"):
        return 0
    done = 0
    while done < size:
        try:
            step = os.copy_file_range(source, target, min(size - done, 1 << 30), offset_src=offset + done)
        except OSError as error:
            if error.errno in (errno.EXDEV, errno.EINVAL, errno.ENOSYS, errno.EOPNOTSUPP, errno.EBADF):
                break
            raise
        if step == 0:
            break
        done += step
    return done


@contextlib.contextmanager
def atomic(disk: Disk, target: Path, durable: bool = True, private: bool = False) -> Iterator[BinaryIO]:
    """A file that stands at `target` once the block ends well, and nowhere when it does not.

    Durable means synced before and after it gets its name; what can be made again need not be.
    """
    disk.make_folder(target.parent, durable)
    if private:
        clear_stale(target)
    part = target.with_name(_part_name(target.name))
    part.unlink(missing_ok=True)
    file = disk.create(part, private)
    try:
        with file:
            yield file
            if durable:
                disk.sync(file)
        disk.replace(part, target)
    except BaseException:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)
        raise
    if durable:
        disk.sync_folder(target.parent)
