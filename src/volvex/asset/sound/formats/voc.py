"""VOC, the voice files of early sound cards."""

from __future__ import annotations

from volvex.asset.sound.formats._rare import rare_form

NAMES, EXTENSIONS, ENCODINGS, HOLDS, read, write = rare_form("voc", "VOC", ("voc",), ("pcm16", "pcm8", "mulaw", "alaw"))
