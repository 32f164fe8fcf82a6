"""AU, the audio files of early workstations."""

from __future__ import annotations

from volvex.asset.sound.formats._rare import rare_form

NAMES, EXTENSIONS, ENCODINGS, HOLDS, read, write = rare_form("au", "AU", ("au", "snd"))
