"""Tags of FLAC and Ogg (Xiph.Org, "Ogg Vorbis I format specification: comment field and header specification").

Games give loops there as LOOPSTART and LOOPLENGTH or LOOPEND, in frames.
"""

from __future__ import annotations

from collections.abc import Mapping

from volvex.asset.sound.model import Sound
from volvex.codec.samples.riff import Loop

START, LENGTH, END = "LOOPSTART", "LOOPLENGTH", "LOOPEND"
VENDOR = b"Volvex"
MOST = 4096


def read_tags(data: bytes) -> dict[str, str]:
    """The tags in a block of comments; as many as are whole."""
    found: dict[str, str] = {}
    if len(data) < 8:
        return found
    at = 4 + int.from_bytes(data[:4], "little")
    count = int.from_bytes(data[at : at + 4], "little")
    at += 4
    for _ in range(min(count, MOST)):
        size = int.from_bytes(data[at : at + 4], "little")
        text = data[at + 4 : at + 4 + size]
        if at + 4 + size > len(data):
            break
        name, sign, value = text.decode("utf-8", "replace").partition("=")
        if sign and name.upper() not in ("METADATA_BLOCK_PICTURE", "COVERART"):
            found.setdefault(name.lower(), value)
        at += 4 + size
    return found


def loops_of(tags: Mapping[str, str], frames: int) -> tuple[Loop, ...]:
    """The loop that tags give."""
    numbers = {
        name.upper(): int(text) for name, text in tags.items() if text.isascii() and text.isdigit() and len(text) < 12
    }
    start = numbers.get(START)
    if start is None:
        return ()
    end = start + numbers[LENGTH] if LENGTH in numbers else numbers.get(END, frames)
    return (Loop(start, end),) if start < end else ()


def plain(tags: Mapping[str, str]) -> dict[str, str]:
    """Tags without those that give the loop."""
    return {name: text for name, text in tags.items() if name.upper() not in (START, LENGTH, END)}


def with_loops(sound: Sound) -> dict[str, str]:
    """The tags of a sound, with its loop among them."""
    tags = plain(sound.tags)
    if sound.loops:
        tags |= {START: str(sound.loops[0].start), LENGTH: str(sound.loops[0].end - sound.loops[0].start)}
    return tags


def written(tags: Mapping[str, str]) -> bytes:
    """A block of comments."""
    out = len(VENDOR).to_bytes(4, "little") + VENDOR + len(tags).to_bytes(4, "little")
    for name, text in tags.items():
        item = f"{name.upper()}={text}".encode()
        out += len(item).to_bytes(4, "little") + item
    return out
