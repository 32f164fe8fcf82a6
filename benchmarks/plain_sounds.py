"""The other side of the sound cases: what the packages need alone for the same files."""

from __future__ import annotations

import sys
import zipfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import soundfile


def one(words: tuple[str, str]) -> None:
    samples, rate = soundfile.read(words[0], dtype="int16")
    soundfile.write(words[1], samples, rate, format="FLAC")


def flac(folder: str, out: str) -> None:
    """Each WAV file to FLAC, on two processes."""
    Path(out).mkdir(exist_ok=True)
    jobs = [(str(path), f"{out}/{path.stem}.flac") for path in sorted(Path(folder).glob("*.wav"))]
    with ProcessPoolExecutor(2) as pool:
        list(pool.map(one, jobs, chunksize=8))


def heads(path: str) -> None:
    """The duration of each sound of a ZIP, by its head."""
    import io

    with zipfile.ZipFile(path) as file:
        for name in file.namelist():
            print(name, soundfile.info(io.BytesIO(file.read(name))).duration)


def raw(path: str) -> None:
    """The names of a bank, and nothing else of it."""
    data = Path(path).read_bytes()
    for at in range(8, len(data), 28):
        print(data[at : at + 12].rstrip(b"\0").decode())


if __name__ == "__main__":
    flac(*sys.argv[2:]) if sys.argv[1] == "flac" else heads(sys.argv[2]) if sys.argv[1] == "heads" else raw(sys.argv[2])
