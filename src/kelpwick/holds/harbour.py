"""The harbour's vault: a TAR archive behind a repeating key, in it a ZIP archive, in that a pack."""

from __future__ import annotations

import io
import random
import tarfile
from pathlib import Path

from kelpwick import GameError
from kelpwick.holds._zips import unzipped, zipped
from kelpwick.pack import Item, packed, unpacked
from kelpwick.words import GOODS

NAME, KEY = "vault/harbour.kvx", b"sluice&tide"
MANIFEST, SHED, LEDGER = "manifest.txt", "sheds/north.kvz", "ledger.kwp"


def write(folder: Path, rng: random.Random) -> None:
    pages = [Item(f"pages/{good}.txt", _page(good, rng).encode(), 9) for good in GOODS]
    shed = zipped({LEDGER: packed(pages, rng.randbytes(12)), "keys.txt": b"The north shed is never locked.\n"})
    files = {MANIFEST: b"one ledger, in the north shed\n", SHED: shed, "sheds/empty.txt": b""}
    (folder / NAME).parent.mkdir(exist_ok=True)
    (folder / NAME).write_bytes(_masked(_tarred(files)))


def _page(good: str, rng: random.Random) -> str:
    return "\n".join(
        [
            f"{good}: {rng.randint(10, 90)} in store",
            *(f"{rng.randint(1, 9)} out on night {night}" for night in range(1, 9)),
            "",
        ]
    )


def _tarred(files: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.USTAR_FORMAT) as made:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(data), 1_768_478_400
            made.addfile(info, io.BytesIO(data))
    return out.getvalue()


def _masked(data: bytes) -> bytes:
    size = len(data)
    return (int.from_bytes(data, "big") ^ int.from_bytes((KEY * (size // len(KEY) + 1))[:size], "big")).to_bytes(
        size, "big"
    )


def read(folder: Path) -> dict[str, bytes]:
    try:
        with tarfile.open(fileobj=io.BytesIO(_masked((folder / NAME).read_bytes()))) as outer:
            files = {
                getmember.name: _content(outer, getmember) for getmember in outer.getmembers() if getmember.isfile()
            }
    except tarfile.TarError as error:
        raise GameError(f"{NAME}: {error}") from error
    if SHED not in files:
        raise GameError(f"{NAME}: there is no {SHED}")
    shed = unzipped(files[SHED], SHED)
    if LEDGER not in shed:
        raise GameError(f"{SHED}: there is no {LEDGER}")
    return {MANIFEST: files.get(MANIFEST, b""), **unpacked(shed[LEDGER], LEDGER)}


def _content(outer: tarfile.TarFile, info: tarfile.TarInfo) -> bytes:
    file = outer.extractfile(info)
    data = file.read() if file is not None else b""
    if len(data) != info.size:
        raise GameError(f"{NAME}: {info.name} is cut off")
    return data
