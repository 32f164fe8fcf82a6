"""Bitmap fonts: the glyphs of a picture, each with its character, its rectangle, and how far the pen goes on."""

from __future__ import annotations

from volvex.layout.kinds._data import DataKind
from volvex.layout.kinds.sheet import IMAGE, RECTANGLE, check_rectangles

ADVANCE = "advance"

DATA_KIND = DataKind(("id", IMAGE, *RECTANGLE, ADVANCE, "value", "hidden"), check_rectangles)
