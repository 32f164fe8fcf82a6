"""Pictures to measure on: block compressed textures, a large one with an edit, archives and folders of many small
ones."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np
from PIL import Image

from volvex.asset.picture.formats import form_of
from volvex.asset.picture.model import Picture
from volvex.codec.pixels.format import FORMATS, Pixels
from volvex.codec.pixels.surface import encode

BLOCKS = ("bc1", "bc3", "bc7")


def waves(size: int, seed: int, grain: int = 6) -> Pixels:
    """A picture as textures are: smooth, with some grain, opaque."""
    y, x = np.mgrid[0:size, 0:size].astype(np.float32)
    rng = np.random.default_rng(seed)
    made = np.full((size, size, 4), 255, np.uint8)
    for channel in range(3):
        a, b, c = rng.uniform(0.005, 0.05, 3)
        made[..., channel] = 120 + 60 * np.sin(a * x + b * y) + 50 * np.sin(c * (x - y))
    made[..., :3] += rng.integers(0, grain, (size, size, 1), np.uint8)
    return made


def texture(path: Path, size: int, form: str, seed: int) -> None:
    """A DDS in a block format, in the large without its smaller levels."""
    if path.exists():
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    own = FORMATS[form]
    path.write_bytes(form_of("dds").write(Picture(size, size, own, [[own.pack(waves(size, seed))]])))


def textures(folder: Path, count: int = 20, size: int = 2048) -> Path:
    """A number of textures in three block formats: nine that differ, and copies of them."""
    first = [folder / f"{form}-{number}.dds" for number in range(3) for form in BLOCKS]
    for seed, path in enumerate(first):
        texture(path, size, path.stem.partition("-")[0], seed)
    for number in range(len(first), count):
        path = folder / f"copy-{number:03}.dds"
        if not path.exists():
            path.write_bytes(first[number % len(first)].read_bytes())
    return folder


def edited(folder: Path, size: int = 4096) -> tuple[Path, Path]:
    """A large texture in BC7, and as PNG with 64 x 64 pixels painted over."""
    path, png = folder / "large.dds", folder / "large.png"
    texture(path, size, "bc7", 1)
    if not png.exists():
        from volvex.source import BytesSource

        pixels = form_of("dds").read(BytesSource(path.read_bytes(), path.name)).rgba().copy()
        pixels[500:564, 700:764] = [200, 30, 30, 255]
        Image.fromarray(pixels).save(png, compress_level=1)
    return path, png


def archives(folder: Path, count: int = 1000, archives: int = 4, size: int = 256) -> Path:
    """A number of PNGs in a few archives."""
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(archives):
        path = folder / f"art-{number}.zip"
        if path.exists():
            continue
        with zipfile.ZipFile(path, "w") as file:
            for index in range(count // archives):
                picture = Image.fromarray(waves(size, index + 1000 * number))
                with file.open(f"pictures/p{index:04}.png", "w") as out:
                    picture.save(out, "PNG")
    return folder


def small(folder: Path, count: int = 10_000) -> Path:
    """Many small loose PNGs."""
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(len(list(folder.iterdir())), count):
        Image.fromarray(waves(32, number)).save(folder / f"icon-{number:05}.png")
    return folder


def huge(folder: Path, size: int = 16384) -> Path:
    """One texture of 1 GB of pixels: BC1, the same waves in every part."""
    path = folder / "huge.dds"
    if not path.exists():
        own = FORMATS["bc1"]
        folder.mkdir(parents=True, exist_ok=True)
        part = np.frombuffer(encode(own, waves(1024, 1, 1)), np.uint8).reshape(256, 256 * 8)
        path.write_bytes(
            form_of("dds").write(Picture(size, size, own, [[np.tile(part, (size // 1024, size // 1024)).tobytes()]]))
        )
    return path
