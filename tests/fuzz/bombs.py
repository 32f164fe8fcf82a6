"""Small files that claim to be huge: each whole command on them is a process with bounded memory and processor time."""

from __future__ import annotations

import functools
import io
import json
import random
import shutil
import struct
import subprocess
import sys
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.fuzz.attempt import Attempt

MEMORY, PROCESSOR = 1 << 31, 60  # bytes beyond the program's own (address space), seconds of one command
SECONDS = 90.0
COMMANDS = (
    ("survey", "{folder}"),
    ("list", "{folder}", "--long"),
    ("list", "{folder}", "--deep"),
    ("show", "{file}"),
    ("find", "{folder}", "--text", "keeper"),
)
_START = """
import resource, sys
resource.setrlimit(resource.RLIMIT_CPU, (%d, %d))
import numpy, pandas
size = int(open('/proc/self/statm').read().split()[0]) * resource.getpagesize()
resource.setrlimit(resource.RLIMIT_AS, (size + %d, size + %d))
from volvex.__main__ import main
sys.exit(main())
"""


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """A bomb of some kind and size, and a command."""
    work = (folder / "bombs").resolve()
    work.mkdir(parents=True, exist_ok=True)
    names = [name for name in BOMBS if name.startswith(only)]
    while True:
        name, power, command = rng.choice(names), rng.randint(3, 8), rng.choice(COMMANDS)
        data = BOMBS[name](10**power)
        yield Attempt(f"{name}: 10^{power}", data, functools.partial(_tried, work, name, data, command))


def _tried(work: Path, name: str, data: bytes, command: tuple[str, ...]) -> str | None:
    place = work / "tried"
    shutil.rmtree(place, ignore_errors=True)
    place.mkdir()
    (place / name).write_bytes(data)
    (place / "note.txt").write_text("from the keeper of the light")
    words = [word.format(folder=place, file=place / name) for word in command]
    start = _START % (PROCESSOR, PROCESSOR, MEMORY, MEMORY)
    done = subprocess.run(
        [sys.executable, "-c", start, *words],
        capture_output=True,
        text=True,
        cwd=work,
        timeout=SECONDS * 2,
        check=False,
    )
    said = done.stdout + done.stderr
    if done.returncode < 0 or done.returncode == 70 or "Traceback" in said or "out of memory" in said:
        return f"{' '.join(words)}: status {done.returncode}: {said[-600:]}"
    return None


def _glb(count: int) -> bytes:
    nodes = min(count, 300_000)
    root = {
        "asset": {"version": "2.0"},
        "nodes": [{"mesh": 0}] * nodes,
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"componentType": 5126, "type": "VEC3", "count": count}],
    }
    text = json.dumps(root).encode()
    text += b" " * (-len(text) % 4)
    return b"glTF" + struct.pack("<II", 2, 20 + len(text)) + struct.pack("<I4s", len(text), b"JSON") + text


def _png(count: int) -> bytes:
    def chunk(name: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    side = min(count, 0x7FFFFFFF)
    head = struct.pack(">IIBBBBB", side, side, 8, 6, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(bytes(min(count, 1 << 22))))
        + chunk(b"IEND", b"")
    )


def _zip(count: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(min(30, count)):
            archive.writestr(f"{number}.txt", bytes(min(count, 1 << 25)))
    return out.getvalue()


def _wav(count: int) -> bytes:
    size = min(count * 4, 0xFFFFFFFF - 36)
    return (
        b"RIFF"
        + struct.pack("<I", size + 36)
        + b"WAVEfmt "
        + struct.pack("<IHHIIHH", 16, 1, 2, 44100, 176400, 4, 16)
        + b"data"
        + struct.pack("<I", size)
        + bytes(64)
    )


def _json(count: int) -> bytes:
    depth = min(count, 100_000)
    return b'{"a":' * depth + b"1" + b"}" * depth


def _wide(count: int) -> bytes:
    return b"[" + b"{}," * min(count, 3_000_000) + b"{}]"


def _xml(count: int) -> bytes:
    entities = "".join(f'<!ENTITY e{n} "{f"&e{n - 1};" * 10}">' for n in range(1, 12))
    return f'<!DOCTYPE a [<!ENTITY e0 "x">{entities}]><a>&e{min(11, len(str(count)))};</a>'.encode()


def _tar(count: int) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for _ in range(min(count, 30_000)):
            archive.addfile(tarfile.TarInfo("a.txt"))
    return out.getvalue()


def _obj(count: int) -> bytes:
    return b"v 0 0 0\nv 1 0 0\nv 0 1 0\n" + b"".join(
        b"o p%d\nf 1 2 3\n" % number for number in range(min(count, 300_000))
    )


BOMBS: dict[str, Callable[[int], bytes]] = {
    "model.glb": _glb,
    "picture.png": _png,
    "files.zip": _zip,
    "sound.wav": _wav,
    "deep.json": _json,
    "wide.json": _wide,
    "names.xml": _xml,
    "names.tar": _tar,
    "parts.obj": _obj,
}
