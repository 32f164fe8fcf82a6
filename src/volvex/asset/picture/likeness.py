"""Pictures that look alike, whatever their size and format: compared by small copies of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from volvex.asset.picture.model import Picture

EDGE = 16  # pixels of a copy
ALIKE = 0.94  # from which on two pictures are nearly the same
GREY = 128  # what shows where a picture is transparent


def thumbnail(picture: Picture) -> bytes:
    """A small copy: EDGE x EDGE x red, green, blue, alpha in 8 bits, the colours over grey."""
    level = next((at for at in range(picture.levels - 1, -1, -1) if min(picture.level_size(at)[:2]) >= 4 * EDGE), 0)
    image = Image.fromarray(np.ascontiguousarray(picture.rgba(level)))
    if min(image.size) >= 8 * EDGE:
        image = image.reduce(min(image.size) // (4 * EDGE))
    values = np.asarray(image, np.float32)
    alpha = values[..., 3:] / 255
    values = np.concatenate([values[..., :3] * alpha + GREY * (1 - alpha), values[..., 3:]], axis=2)
    made = [
        np.asarray(Image.fromarray(np.ascontiguousarray(values[..., at])).resize((EDGE, EDGE), Image.Resampling.BOX))
        for at in range(4)
    ]
    return bytes(np.rint(np.stack(made, axis=2)).astype(np.uint8))


def likeness(one: bytes, others: list[bytes]) -> NDArray[Any]:
    """How alike a copy and others are: from 0 to 1 for each. Alpha counts as little as it differs where colours are the
    same."""
    if not others:
        return np.zeros(0)
    table = np.frombuffer(b"".join(others), np.uint8).reshape(len(others), -1, 4).astype(np.int16)
    own = np.frombuffer(one, np.uint8).reshape(-1, 4).astype(np.int16)
    colours = np.abs(table[..., :3] - own[..., :3]).mean(axis=(1, 2))
    alpha = np.abs(table[..., 3] - own[..., 3]).mean(axis=1)
    spread = max(
        24.0, float(np.abs(own[..., :3] - own[..., :3].mean(axis=0)).mean()) * 4
    )  # of a flat picture little is much
    return np.asarray(np.clip(1 - colours / spread - alpha / 1024, 0, 1))
