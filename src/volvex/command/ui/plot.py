"""The entropy along a file as a picture: a bar for each window, high ones are compressed or encrypted."""

from __future__ import annotations

from typing import BinaryIO

from volvex.archive.detect.identify import entropy_along
from volvex.source import Source

WIDTH, HEIGHT, EDGE = 1024, 300, 48
LOW, HIGH = (90, 160, 210), (225, 95, 60)  # colours at no entropy and at eight bits a byte


def draw(source: Source, file: BinaryIO) -> None:
    """Write the picture as PNG."""
    from PIL import Image, ImageDraw  # only here: it is slow to load

    picture = Image.new("RGB", (WIDTH + 2 * EDGE, HEIGHT + 2 * EDGE), "white")
    pen = ImageDraw.Draw(picture)
    values = entropy_along(source, WIDTH // 2)[1]
    step = WIDTH / max(1, len(values))
    for index, value in enumerate(values):
        share = value / 8
        colour = tuple(round(a + (b - a) * share) for a, b in zip(LOW, HIGH, strict=True))
        left, right = EDGE + round(index * step), EDGE + max(round((index + 1) * step) - 1, round(index * step))
        pen.rectangle((left, EDGE + HEIGHT - round(HEIGHT * share), right, EDGE + HEIGHT), fill=colour)
    for bits in range(0, 9, 2):
        y = EDGE + HEIGHT - HEIGHT * bits // 8
        pen.line((EDGE, y, EDGE + WIDTH, y), fill=(200, 200, 200))
        pen.text((EDGE - 8, y), str(bits), fill="black", anchor="rm")
    for quarter in range(5):
        pen.text(
            (EDGE + WIDTH * quarter // 4, EDGE + HEIGHT + 8),
            f"{source.size * quarter // 4:#x}",
            fill="black",
            anchor="mt",
        )
    pen.text(
        (EDGE, EDGE - 12),
        f"{source.name.rpartition('/')[2]}: {source.size:,} bytes; entropy in bits a byte",
        fill="black",
        anchor="ls",
    )
    picture.save(file, "PNG")
