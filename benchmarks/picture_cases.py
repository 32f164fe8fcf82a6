"""The cases about pictures: decoded in bulk, one edited, on a sheet, found by their looks, a very large one."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Callable
from pathlib import Path

from benchmarks import pictures
from benchmarks.timing import Result, compare

VOLVEX = str(Path(sys.executable).parent / "volvex")
PLAIN = [sys.executable, str(Path(__file__).parent / "plain_pictures.py")]


def _away(*paths: Path) -> Callable[[], None]:
    def clear() -> None:
        for path in paths:
            shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)

    return clear


def decode(work: Path, rounds: int) -> Result:
    """20 textures of 2048 x 2048 to PNG: more would take longer, and show nothing else."""
    folder, out, plain = pictures.textures(work / "textures"), work / "png", work / "png-plain"
    clear = _away(out, plain)
    ours = [VOLVEX, "convert", str(folder), "--to", str(out), "--as", "png", "-q"]
    theirs = [*PLAIN, "decode", str(folder), str(plain)]
    result = compare("20 textures of 2048 to PNG / plain loop", ours, theirs, min(rounds, 2), clear, "0.72")
    clear()
    return result


def edit(work: Path, rounds: int) -> Result:
    """64 x 64 pixels of 4096 x 4096 put back into BC7, against encoding all of them."""
    original, png = pictures.edited(work / "edited")
    out, plain = work / "edited.dds", work / "edited.bc7"
    clear = _away(out, plain)
    ours = [VOLVEX, "convert", str(png), str(out), "--like", str(original)]
    result = compare(
        "64 x 64 edited in BC7 of 4096 / encoded whole",
        ours,
        [*PLAIN, "encode", str(png), str(plain)],
        min(rounds, 2),
        clear,
        "0.05",
    )
    clear()
    return result


def sheet(work: Path, rounds: int) -> Result:
    """A contact sheet of 1,000 pictures in archives."""
    folder, out, plain = pictures.archives(work / "art"), work / "sheet.png", work / "sheet-plain.png"

    def clear() -> None:  # one page or several
        _away(*work.glob("sheet*.png"))()

    ours = [VOLVEX, "picture", str(folder), "--to", str(out)]
    result = compare(
        "sheet of 1,000 pictures / plain loop",
        ours,
        [*PLAIN, "thumbnails", str(folder), str(plain)],
        rounds,
        clear,
        "20 s",
    )
    clear()
    return result


def like(work: Path, rounds: int) -> Result:
    """A picture sought among 10,000 that were seen before."""
    folder = pictures.small(work / "icons")
    ours = [VOLVEX, "find", str(folder), "--like", str(folder / "icon-00007.png")]
    theirs = ["find", str(folder), "-type", "f", "-exec", "sha256sum", "{}", "+"]
    return compare("find --like in 10,000, again / sha256sum", ours, theirs, rounds, lambda: None, "5 s")


def huge(work: Path, rounds: int) -> Result:
    """A texture of 16,384 x 16,384 to PNG: 1 GB of pixels."""
    path, out, plain = pictures.huge(work / "huge-texture"), work / "huge.png", work / "huge-plain"
    clear = _away(out, plain)
    theirs = [*PLAIN, "decode", str(path.parent), str(plain)]
    result = compare(
        "a texture of 16,384 to PNG / plain", [VOLVEX, "convert", str(path), str(out)], theirs, 1, clear, "3.2 GB"
    )
    clear()
    return result


CASES = {
    "picture-decode": decode,
    "picture-edit": edit,
    "picture-sheet": sheet,
    "picture-like": like,
    "picture-huge": huge,
}
