"""The cases about sounds: ADPCM, many converted, many listed."""

from __future__ import annotations

import io
import shutil
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np

from benchmarks import sounds
from benchmarks.timing import Result, compare, fastest
from volvex.codec.samples import Samples
from volvex.codec.samples.layout import sample_layout

VOLVEX = str(Path(sys.executable).parent / "volvex")
PLAIN = [sys.executable, str(Path(__file__).parent / "plain_sounds.py")]


def _read(data: bytes) -> None:
    import soundfile

    soundfile.read(io.BytesIO(data), dtype="int16")


def _write(samples: Samples, subtype: str) -> None:
    import soundfile

    soundfile.write(io.BytesIO(), samples, 44100, format="WAV", subtype=subtype)


def adpcm(work: Path, rounds: int) -> Result:
    """The slowest of IMA and MS ADPCM, decoded and encoded on one core within this process, against libsndfile's."""
    import soundfile

    samples = sounds.music(44100 * 60, 2, 5)
    slowest, theirs = 0.0, 0.0
    for name, subtype in (("ima_adpcm", "IMA_ADPCM"), ("ms_adpcm", "MS_ADPCM")):
        own = sample_layout(f"{name}(block 2048)")
        data = np.frombuffer(own.encode(samples), np.uint8)
        out = io.BytesIO()
        soundfile.write(out, samples, 44100, format="WAV", subtype=subtype)
        raw = out.getvalue()
        pairs: tuple[tuple[Callable[[], object], Callable[[], object]], ...] = (
            (partial(own.decode, data, 2, len(samples)), partial(_read, raw)),
            (partial(own.encode, samples), partial(_write, samples, subtype)),
        )
        for what, (ours, other) in zip(("decode", "encode"), pairs, strict=True):
            took = fastest(ours)
            print(
                f"  {name} {what}: {samples.nbytes / took / 1e6:.0f} MB/s, libsndfile "
                f"{samples.nbytes / fastest(other) / 1e6:.0f} MB/s"
            )
            if took > slowest:
                slowest, theirs = took, fastest(other)
    ratio = slowest / theirs
    return Result(
        "10.6 MB of ADPCM, the slowest way / libsndfile", slowest, theirs, ratio, ratio, ratio, 0, 0, "0.106 s"
    )  # fmt: skip


def flac(work: Path, rounds: int) -> Result:
    """1,000 WAV files (2 GB) to FLAC on two cores."""
    folder, out, plain = sounds.wavs(work / "tunes"), work / "flac", work / "flac-plain"

    def clear() -> None:
        for path in (out, plain):
            shutil.rmtree(path, ignore_errors=True)

    ours = [VOLVEX, "convert", str(folder), "--to", str(out), "--as", "flac", "-q"]
    result = compare(
        "1,000 sounds (2 GB) to FLAC / two processes",
        ours,
        [*PLAIN, "flac", str(folder), str(plain)],
        min(rounds, 2),
        clear,
        "1.2",
    )
    clear()
    return result


def heads(work: Path, rounds: int) -> Result:
    """The durations of 10,000 sounds in a ZIP."""
    path = sounds.archive(work / "sounds.zip")
    ours = [VOLVEX, "list", str(path), "--long"]
    return compare(
        "list --long of 10,000 sounds / soundfile.info", ours, [*PLAIN, "heads", str(path)], rounds, lambda: None, "2 s"
    )


def bank(work: Path, rounds: int) -> Result:
    """The durations of 10,000 sounds of a bank."""
    path = sounds.bank(work / "bank")
    ours = ["env", f"VOLVEX_HOME={path.parent / 'home'}", VOLVEX, "list", str(path), "--long"]
    return compare(
        "list --long of a bank of 10,000 / names alone", ours, [*PLAIN, "raw", str(path)], rounds, lambda: None, "2 s"
    )


CASES = {"sound-adpcm": adpcm, "sound-flac": flac, "sound-list": heads, "sound-bank": bank}
