"""Damaged sounds, of open forms and by layouts, banks, MIDI files: looked at, decoded, exported, replaced, written."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

from tests.fuzz.attempt import Attempt, mutate
from tests.sound_material import BANK, BELL, bank, bell, sound, tones
from volvex.archive.layout_archive import LayoutArchive
from volvex.asset.sound.describe import loops_text, short_text
from volvex.asset.sound.exchange import exported, replaced, taken_over
from volvex.asset.sound.formats import FORMS
from volvex.asset.sound.midi import read_midi
from volvex.asset.sound.open import open_sound, read_bytes
from volvex.codec.samples.layout import sample_layout
from volvex.codec.samples.riff import Cue, Loop
from volvex.errors import VolvexError
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.plan import Edit
from volvex.source import BytesSource, Spool

LIBRARY = Library(shipped=())
LAYOUT, BANK_LAYOUT = parse_layout(BELL, "bell.layout"), parse_layout(BANK, "bank.layout")
MIDI = b"\0\xff\x03\x04Bell\0\x90\x3c\x40\x60\x80\x3c\x40\0\xff\x51\x03\x0f\x42\x40\x60\x90\x3e\x40\0\xff\x2f\0"


def corpus() -> dict[str, bytes]:
    """A sound of each form and encoding, and of the layouts."""
    own = sound(tones(700, 2), loops=(Loop(10, 500),), cues=(Cue(5, "x"),), tags={"title": "Bell"})
    found = {}
    for form in FORMS.all():
        for encoding in form.ENCODINGS:
            extension = "opus" if encoding == "opus" else form.EXTENSIONS[0]
            made, _ = exported(own, extension)
            found[f"{encoding}.{extension}"] = made
    mono = tones(700, 1)
    for coding, spec, block in ((0, "pcm16", 0), (1, "ima_adpcm", 64), (2, "ms_adpcm", 64)):
        found[f"{spec}.bell"] = bell(
            sample_layout(spec, block=block).encode(mono), coding, 700, block=block, loop=(9, 300)
        )
    for coding, extension in ((3, "ogg"), (4, "mp3"), (7, "wav")):
        data = exported(sound(mono), extension)[0]
        found[f"{extension}.bell"] = bell(data[12:] if coding == 7 else data, coding, 700)
    found["voices.bank"] = bank()[0]
    found["bell.mid"] = b"MThd\0\0\0\6\0\0\0\1\0\x60MTrk" + len(MIDI).to_bytes(4, "big") + MIDI
    return found


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Files with some bytes changed."""
    samples = [(name, data) for name, data in sorted(corpus().items()) if name.startswith(only)]
    stream = bank()[1]
    while True:
        name, data = rng.choice(samples)
        made, seed = mutate(rng, data), rng.random()
        yield Attempt(
            f"{name.rpartition('.')[2]}: {name}",
            made,
            lambda name=name, data=made, seed=seed: exercise(name, data, stream, random.Random(seed)),  # type: ignore[misc]
        )


def exercise(name: str, data: bytes, stream: bytes, rng: random.Random) -> str | None:
    """All that can be done with a sound; what went wrong beyond our errors."""
    try:
        if name.endswith(".mid"):
            read_midi(BytesSource(data, name))
        elif name.endswith(".bank"):
            _bank(data, stream, rng)
        else:
            _sound(name, data, rng)
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"
    return None


def _sound(name: str, data: bytes, rng: random.Random) -> None:
    layout = LAYOUT if name.endswith(".bell") else None
    opened = open_sound(BytesSource(data, name), LIBRARY, layout)
    if opened is None:
        return
    own = opened.sound
    short_text(own), loops_text(own)
    if own.samples.nbytes > 1 << 24:
        return
    extension = rng.choice(("wav", "flac"))
    out = read_bytes(exported(own, extension)[0], "out")
    result = taken_over(own, out, extension)
    opened.form.write(result.sound)
    again = replaced(own, sound(tones(300, 2), 44100), rng.random() < 0.3)
    written = opened.form.write(again.sound)
    read = opened.form.read(BytesSource(written, name))
    assert own.lossy or abs(len(read.samples) - again.sound.frames) < 600, "it is read as another length"


def _bank(data: bytes, stream: bytes, rng: random.Random) -> None:
    source = BytesSource(data, "voices.kvi")
    archive = LayoutArchive(read_layout(BANK_LAYOUT, source, lambda name: BytesSource(stream, name)))
    for row in range(len(archive)):
        content, start = archive.content(row), archive.beginning(row, 64)
        assert content.startswith(start), "its beginning is not that of its content"
        if archive.bank is not None and archive.bank.facts(row) is not None:
            read_bytes(content, "entry").samples  # noqa: B018
    with Spool() as spool:
        if not len(archive):
            return
        row = rng.randrange(len(archive))
        made = archive.plan(Edit(replaced={row: archive.encode(spool, [archive.varied(row, "grown")], row)}))
        b"".join(made.chunks())
