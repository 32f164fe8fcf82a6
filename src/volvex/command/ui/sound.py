"""Sounds in the terminal: what they are, how loud, and their outline."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.table import count, number
from volvex.source import Source

if TYPE_CHECKING:
    from volvex.asset.sound.model import Sound

ROWS = 14  # lines of the outline of all channels together
MOST_OUTLINES = 2  # channels that are drawn
AXIS_STEPS = 4


def show_sound(sound: Sound, path: str, size: int, context: Context) -> None:
    """What there is to say about a sound, and its outline on a terminal."""
    from volvex.asset.sound.describe import cues_text, duration_text, format_text, level_text, loops_text
    from volvex.asset.sound.loudness import loudness_of, peak_of

    context.print(f"{context.paint(shown(path), 'bold')}  {sound.form}, {number(size)} bytes")
    context.print(f"  duration  {duration_text(sound.duration)}, {number(sound.frames)} frames")
    context.print(f"  format    {format_text(sound)}")
    if sound.loops:
        coloured = ", green below" if context.terminal and context.colour else ""
        context.print(f"  loop      {loops_text(sound)}{coloured}")
    if sound.cues:
        context.print(f"  cues      {shown(cues_text(sound))}")
    for name, text in list(sound.tags.items())[:12]:
        context.print(f"  {shown(name):<9} {shown(text)}")
    samples = sound.samples
    loud = loudness_of(samples, sound.rate)
    loudness = f"peak {level_text(peak_of(samples), 'dB')}, loudness {level_text(loud, 'LUFS')}"
    context.print(f"  level     {loudness if samples.any() else 'silent'}")
    for note in sound.notes:
        context.print(f"  note      {shown(note)}")
    if len(samples) != sound.frames:
        context.print(f"  note      its head gives {count(sound.frames, 'frame')}, found {number(len(samples))}")
    if context.terminal and len(samples):
        _draw(sound, context)


def _draw(sound: Sound, context: Context) -> None:
    """The outline of each channel, as high as its loudest sample; what is looped in another colour."""
    from volvex.asset.sound.describe import duration_text
    from volvex.asset.sound.waveform import drawn, reach_of

    columns = max(40, context.width)
    channels = min(sound.channels, MOST_OUTLINES)
    found = [reach_of(sound.samples[:, channel], columns) for channel in range(channels)]
    most = max(max(-low, high) for reach in found for low, high in reach) or 1.0
    edges = [
        0,
        *sorted(
            round(columns * frame / max(1, sound.frames)) for one in sound.loops[:1] for frame in (one.start, one.end)
        ),
        columns,
    ]
    for reach in found:
        context.print("")
        for line in drawn(reach, ROWS // channels, most):
            parts = (line[start:end] for start, end in pairwise(edges))
            context.print(
                "".join(context.paint(part, ("cyan", "green")[number % 2]) for number, part in enumerate(parts))
            )
    step = columns // AXIS_STEPS
    marks = "".join(duration_text(sound.duration * place / AXIS_STEPS).ljust(step) for place in range(AXIS_STEPS))
    end = duration_text(sound.duration)
    context.print(context.paint(f"{marks[: columns - len(end) - 1].ljust(columns - len(end))}{end}", "dim"))


def show_midi(source: Source, path: str, context: Context) -> None:
    """What there is to say about a MIDI file: notes for instruments, which are not played."""
    from volvex.asset.sound.describe import duration_text
    from volvex.asset.sound.midi import read_midi

    midi = read_midi(source)
    context.print(f"{context.paint(shown(path), 'bold')}  midi, {number(source.size)} bytes")
    context.print(f"  duration  {duration_text(midi.seconds)}")
    context.print(f"  tracks    {midi.tracks}, {count(midi.notes, 'note')}")
    if midi.names:
        context.print(f"  names     {shown(', '.join(midi.names[:12]))}")
