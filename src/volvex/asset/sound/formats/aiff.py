"""AIFF (Audio Interchange File Format, 1989; AIFF-C, 1991)."""

from __future__ import annotations

from volvex.asset.sound.formats._rare import rare_form

NAMES, EXTENSIONS, ENCODINGS, HOLDS, read, write = rare_form("aiff", "AIFF", ("aiff", "aif", "aifc"), tags=True)
