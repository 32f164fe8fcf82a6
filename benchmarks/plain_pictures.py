"""The other side of the picture cases: what the packages need alone for the same files, in one process."""

from __future__ import annotations

import io
import sys
import zipfile
from pathlib import Path

import imagecodecs
import numpy as np
from PIL import Image

FORMS = {b"DXT1": 1, b"DXT5": 3}
Image.MAX_IMAGE_PIXELS = None


def decoded(path: Path) -> Image.Image:
    """The largest level of a DDS: BC1 or BC3 by the older header, BC7 by the newer."""
    data = path.read_bytes()
    height, width = (int.from_bytes(data[at : at + 4], "little") for at in (12, 16))
    form = FORMS.get(data[84:88], 7)
    at = 128 if form != 7 else 148
    size = width * height * (8 if form == 1 else 16) // 16
    pixels = imagecodecs.bcn_decode(data[at : at + size], form, shape=(height, width, 4))
    return Image.fromarray(np.asarray(pixels))


def decode(folder: str, out: str) -> None:
    Path(out).mkdir(exist_ok=True)
    for path in sorted(Path(folder).glob("*.dds")):
        decoded(path).save(Path(out) / f"{path.stem}.png")


def encode(path: str, out: str) -> None:
    """A PNG whole into BC7."""
    import etcpak

    pixels = np.asarray(Image.open(path).convert("RGBA"))
    Path(out).write_bytes(etcpak.compress_bc7(pixels.tobytes(), pixels.shape[1], pixels.shape[0], None))


def thumbnails(folder: str, out: str) -> None:
    """All pictures of some archives on one sheet, by Pillow alone."""
    made = []
    for path in sorted(Path(folder).glob("*.zip")):
        with zipfile.ZipFile(path) as file:
            for name in file.namelist():
                image = Image.open(io.BytesIO(file.read(name))).convert("RGBA")
                image.thumbnail((96, 96))
                made.append(image)
    sheet = Image.new("RGBA", (40 * 100, (len(made) + 39) // 40 * 100))
    for number, image in enumerate(made):
        sheet.paste(image, (number % 40 * 100, number // 40 * 100))
    sheet.save(out)


if __name__ == "__main__":
    {"decode": decode, "encode": encode, "thumbnails": thumbnails}[sys.argv[1]](*sys.argv[2:])
