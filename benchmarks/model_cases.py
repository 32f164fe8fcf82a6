"""The cases about models: a large one out, back and drawn; many with their textures."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np

from benchmarks import models
from benchmarks.timing import Result, compare

VOLVEX = str(Path(sys.executable).parent / "volvex")
PLAIN = [sys.executable, str(Path(__file__).parent / "plain_models.py")]


def _ours(work: Path, *words: str) -> list[str]:
    return ["env", f"VOLVEX_HOME={models.home(work / 'models-home')}", VOLVEX, *words, "-q"]


def out(work: Path, rounds: int) -> Result:
    """A mesh of a million triangles to glTF, against a script that has the format written into it."""
    file, glb = models.great(work / "great" / "great.grms"), work / "great" / "out.glb"
    ours = _ours(work, "convert", str(file), str(glb), "--overwrite")
    theirs = [*PLAIN, "out", str(file), str(work / "great" / "plain.glb")]
    return compare("1,000,000 triangles to glTF / NumPy alone", ours, theirs, rounds, lambda: None, "1 s after start")


def back(work: Path, rounds: int) -> Result:
    """The same back, with some vertices moved by the other side's program."""
    file, glb = models.great(work / "great" / "great.grms"), work / "great" / "edited.glb"
    if not glb.exists():
        subprocess.run(_ours(work, "convert", str(file), str(glb)), check=True, env=os.environ)
        data = bytearray(glb.read_bytes())
        start = 20 + int.from_bytes(data[12:16], "little") + 8  # of the numbers, the first of which are positions
        points = np.frombuffer(data, "<f4", 3 * 500_000, start).reshape(-1, 3)
        points[::50, 1] += 0.02
        glb.write_bytes(data)
    made = work / "great" / "made.grms"
    ours = _ours(work, "convert", str(glb), str(made), "--like", str(file), "--overwrite")
    theirs = [*PLAIN, "back", str(glb), str(file), str(work / "great" / "plain.grms")]
    return compare("the same back / trimesh and NumPy", ours, theirs, rounds, lambda: None, "2 s after start")


def drawn(work: Path, rounds: int) -> Result:
    """A picture of it, against reading it by NumPy alone."""
    file = models.great(work / "great" / "great.grms")
    ours = _ours(work, "picture", str(file), "--to", str(work / "great" / "great.png"), "--overwrite")
    theirs = [*PLAIN, "out", str(file), str(work / "great" / "plain.glb")]
    return compare("a picture of 1,000,000 triangles / reading them", ours, theirs, rounds, lambda: None, "2 s")


def bulk(work: Path, rounds: int) -> Result:
    """500 models with 1,000 textures on two cores, against two processes that do half of both each."""
    folder, target, plain = models.many(work / "many-models"), work / "models-out", work / "models-plain"

    def clear() -> None:
        for path in (target, plain):
            shutil.rmtree(path, ignore_errors=True)

    ours = _ours(work, "convert", str(folder / "models"), "--to", str(target), "--as", "glb")
    theirs = [*PLAIN, "bulk", str(folder), str(plain)]
    result = compare("500 models with 1,000 textures / two processes", ours, theirs, min(rounds, 2), clear, "")
    clear()
    return result


def parts(work: Path, rounds: int) -> Result:
    """The same against its parts, one after the other: the models where their textures are there already, and the
    textures."""
    folder, target, apart = models.many(work / "many-models"), work / "models-out", work / "models-apart"
    textures = work / "models-textures"
    ours = _ours(work, "convert", str(folder / "models"), "--to", str(target), "--as", "glb")
    if not textures.is_dir():
        subprocess.run(ours, check=True)
        (target / "textures").rename(textures)

    def clear() -> None:
        for path in (target, apart):
            shutil.rmtree(path, ignore_errors=True)
        shutil.copytree(textures, apart / "textures")

    models_alone = _ours(work, "convert", str(folder / "models"), "--to", str(apart), "--as", "glb", "--skip-existing")
    alone = _ours(work, "convert", str(folder / "textures"), "--to", str(apart / "alone"), "--as", "png")
    theirs = ["sh", "-c", f"{shlex.join(models_alone)} && {shlex.join(alone)}"]
    result = compare("500 models with 1,000 textures / its parts", ours, theirs, min(rounds, 2), clear, "1.2")
    for path in (target, apart):
        shutil.rmtree(path, ignore_errors=True)
    return result


CASES = {"model-out": out, "model-back": back, "model-picture": drawn, "models-bulk": bulk, "models-parts": parts}
