"""A sound in words: its duration, how it is stored, its loops and cues."""

from __future__ import annotations

import math

from volvex.asset.sound.model import Sound
from volvex.codec.samples.heads import Head

LAYOUTS = {1: "mono", 2: "stereo"}
SHOWN = 4  # loops or cues that are named


def duration_text(seconds: float) -> str:
    """`0.250 s`, `12.50 s`, `3:05.2`, `1:02:05`."""
    if seconds < 60:
        return f"{seconds:.3f} s" if seconds < 10 else f"{seconds:.2f} s"
    minutes, rest = divmod(seconds, 60)
    if minutes < 60:
        return f"{int(minutes)}:{math.floor(rest * 10) / 10:04.1f}"
    return f"{int(minutes) // 60}:{int(minutes) % 60:02}:{int(rest):02}"


def channels_text(channels: int) -> str:
    """`mono`, `stereo`, `6 channels`."""
    return LAYOUTS.get(channels, f"{channels} channels")


def format_text(sound: Sound | Head) -> str:
    """How it is stored: `22,050 Hz, mono, ima_adpcm`."""
    return f"{sound.rate:,} Hz, {channels_text(sound.channels)}, {sound.encoding}"


def short_text(sound: Sound | Head) -> str:
    """In a list: `3:05.2, 44,100 Hz, stereo, vorbis`."""
    return f"{duration_text(sound.frames / max(1, sound.rate))}, {format_text(sound)}"


def level_text(level: float, unit: str) -> str:
    """`-3.2 dB`; `silent` where there is nothing."""
    return "silent" if math.isinf(level) else f"{level + 0.0:.1f} {unit}"


def loops_text(sound: Sound) -> str:
    """`frames 0 to 4,410 (0.100 s)`, and how often."""
    parts = []
    for loop in sound.loops[:SHOWN]:
        times = f", {loop.times} times" if loop.times else ""
        parts.append(
            f"frames {loop.start:,} to {loop.end:,} ({duration_text((loop.end - loop.start) / sound.rate)}{times})"
        )
    return "; ".join([*parts, *([f"and {len(sound.loops) - SHOWN} more"] if len(sound.loops) > SHOWN else [])])


def cues_text(sound: Sound) -> str:
    """`ring at 0.150 s`, and so on."""
    parts = [
        f"{cue.name or f'cue {number}'} at {duration_text(cue.frame / sound.rate)}"
        for number, cue in enumerate(sound.cues[:SHOWN], 1)
    ]
    return ", ".join([*parts, *([f"and {len(sound.cues) - SHOWN} more"] if len(sound.cues) > SHOWN else [])])
