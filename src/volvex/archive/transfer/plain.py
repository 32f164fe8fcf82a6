"""Plain archives of open formats, made without another one as a model: ZIP, and TAR bare or compressed, as the file's
name says.

An archive with one entry stands in for the model: what is packed is like that entry (deflated, readable by all, without
a time, so that the same files give the same bytes), and the entry itself is left out.
"""

from __future__ import annotations

import io
import tarfile
import zipfile
from pathlib import Path

from volvex.archive.archive import Archive
from volvex.archive.envelope import Compressed
from volvex.archive.formats.tar import Tar
from volvex.archive.formats.zip import Zip
from volvex.layout.keyring import KeyRing
from volvex.source import BytesSource

MODEL = "-"  # the entry's name; no file on disk that is packed can have it
OUTER = {
    ".tar": "",
    ".tar.gz": "gzip",
    ".tgz": "gzip",
    ".tar.bz2": "bzip2",
    ".tbz2": "bzip2",
    ".tar.xz": "xz",
    ".txz": "xz",
    ".tar.zst": "zstd",
}


def plain_model(target: Path, keys: KeyRing) -> Archive | None:
    """The model for an archive of that name; None when the name does not say which format is meant."""
    name = target.name.lower()
    if name.endswith(".zip"):
        return Zip(BytesSource(_zip(), target.name), keys)
    codec = next(
        (OUTER[extension] for extension in sorted(OUTER, key=len, reverse=True) if name.endswith(extension)), None
    )
    if codec is None:
        return None
    made = Tar(BytesSource(_tar(), target.name))
    made.envelope = Compressed(codec) if codec else None
    return made


def _zip() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo(MODEL), MODEL, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        entry = tarfile.TarInfo(MODEL)
        entry.size = len(MODEL)
        archive.addfile(entry, io.BytesIO(MODEL.encode()))
    return out.getvalue()
