"""Pictures in the terminal: half blocks in 24 bits, or whole pixels where the terminal says that it draws them."""

from __future__ import annotations

import argparse
import base64
import io
import os
from collections.abc import Mapping
from typing import Any

from volvex.command.ui.context import Context

ROWS = 24  # lines of a picture where the terminal's height is not known
CELL = (8, 16)  # pixels of a character, as terminals that draw pixels have it about


def add_picture_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--level", type=int, default=0, metavar="N", help="of a picture: this level (default: 0, the largest)"
    )
    parser.add_argument("--channel", choices=("r", "g", "b", "a"), help="of a picture: this channel alone, in grey")
    parser.add_argument(
        "--face", type=int, default=0, metavar="N", help="of a picture: this face or layer (default: 0)"
    )
    parser.add_argument(
        "--zoom", type=int, default=0, metavar="N", help="of a picture: N columns for a pixel, cut off at the edges"
    )


def draw(pixels: Any, zoom: int, context: Context, above: int = 6) -> None:
    """Draw pixels as large as they are, or as large as the terminal below the lines that are `above`."""
    from PIL import Image

    from volvex.asset.sheet import over_chequers

    columns, rows = context.width, ROWS
    try:
        rows = max(8, os.get_terminal_size(context.out.fileno()).lines - above)
    except OSError:
        pass
    way = graphics(context.environment)
    wide, high = (columns * CELL[0], rows * CELL[1]) if way else (columns, rows * 2)
    if zoom > 0:
        unit = zoom * (CELL[0] if way else 1)
        pixels = pixels[: max(1, high // unit), : max(1, wide // unit)]
        image = Image.fromarray(pixels).resize(
            (pixels.shape[1] * unit, pixels.shape[0] * unit), Image.Resampling.NEAREST
        )
    else:
        image = Image.fromarray(pixels)
        scale = min(wide / image.width, high / image.height, 1 if max(image.size) > 32 else 32 // max(image.size))
        size = max(1, round(image.width * scale)), max(1, round(image.height * scale))
        image = image.resize(size, Image.Resampling.BOX if scale < 1 else Image.Resampling.NEAREST)
    image = over_chequers(image)
    if way:
        context.out.write(WAYS[way](image) + "\n")
    elif context.colour:
        context.out.write(half_blocks(image))


def graphics(environment: Mapping[str, str]) -> str:
    """How a terminal draws pixels, as it says itself: kitty, iterm or sixel; empty for not at all."""
    program, term = environment.get("TERM_PROGRAM", ""), environment.get("TERM", "")
    if "TMUX" in environment or "STY" in environment:
        return ""
    if "KITTY_WINDOW_ID" in environment or "kitty" in term or program == "ghostty":
        return "kitty"
    if program in ("iTerm.app", "WezTerm"):
        return "iterm"
    return "sixel" if "sixel" in term or program == "foot" or term.startswith(("foot", "mlterm")) else ""


def half_blocks(image: Any) -> str:
    """Two rows of pixels in a line: the upper one as the colour of a half block, the lower one as that behind it."""
    import numpy as np

    pixels = np.asarray(image)
    if len(pixels) % 2:
        pixels = np.concatenate([pixels, np.zeros_like(pixels[:1])])
    lines = []
    for upper, lower in zip(pixels[::2].tolist(), pixels[1::2].tolist(), strict=True):
        cells, last = [], ""
        for (red, green, blue), (r, g, b) in zip(upper, lower, strict=True):
            style = f"\x1b[38;2;{red};{green};{blue};48;2;{r};{g};{b}m"
            cells.append(("" if style == last else style) + "▀")
            last = style
        lines.append("".join(cells) + "\x1b[0m\n")
    return "".join(lines)


def _png(image: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def _kitty(image: Any) -> str:
    data, parts = base64.b64encode(_png(image)).decode(), []
    for at in range(0, len(data), 4096):
        more = int(at + 4096 < len(data))
        head = f"a=T,f=100,m={more}" if not at else f"m={more}"
        parts.append(f"\x1b_G{head};{data[at : at + 4096]}\x1b\\")
    return "".join(parts)


def _iterm(image: Any) -> str:
    data = _png(image)
    return f"\x1b]1337;File=inline=1;size={len(data)}:{base64.b64encode(data).decode()}\x07"


def _sixel(image: Any) -> str:
    """Six rows of pixels in a line, in 256 colours (DEC STD 070)."""
    import numpy as np

    small = image.convert("RGB").quantize(256)
    numbers, colours = np.asarray(small), small.getpalette() or []
    out = ["\x1bPq"]
    out += [
        f"#{at};2;{colours[3 * at] * 100 // 255};{colours[3 * at + 1] * 100 // 255};{colours[3 * at + 2] * 100 // 255}"
        for at in np.unique(numbers).tolist()
    ]
    for top in range(0, len(numbers), 6):
        band = numbers[top : top + 6]
        weights = (1 << np.arange(len(band)))[:, None]
        for at in np.unique(band).tolist():
            bits = ((band == at) * weights).sum(axis=0)
            out.append(f"#{at}" + "".join(map(chr, (bits + 63).tolist())) + "$")
        out.append("-")
    return "".join(out) + "\x1b\\"


WAYS = {"kitty": _kitty, "iterm": _iterm, "sixel": _sixel}
