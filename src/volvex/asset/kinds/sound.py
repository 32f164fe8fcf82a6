"""Sounds."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

from volvex.asset.kind import Around, AssetKind, Drawn, Edited, Exported, Fault, Options, Proof, Result
from volvex.errors import FRESH, ContentError, FormatError, RefusedError
from volvex.layout import Library
from volvex.source import Source

if TYPE_CHECKING:
    from volvex.asset.sound.open import OpenedSound

ROWS = 14  # lines of the outline of all channels together
MOST_OUTLINES = 2  # channels that are drawn
AXIS_STEPS = 4
TAGS = 12  # that are named
QUICK = ("wav", "ogg", "flac", "mp3")  # types of which the head gives all that a list names


class SoundKind(AssetKind["OpenedSound"]):
    NAME, PRIORITY = "sound", 20
    LAYOUTS = ("sound",)
    OPTIONS = ("loudness",)

    def is_open(self, file_type: str) -> bool:
        from volvex.asset.sound.formats import by_kind

        return file_type in by_kind()

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> OpenedSound | None:
        from volvex.asset.sound.open import open_sound

        return open_sound(source, library)

    def proof(self, source: Source, library: Library) -> Proof | None:
        from volvex.asset.sound.describe import short_text
        from volvex.asset.sound.open import form_in
        from volvex.asset.sound.own_layout import LayoutSound
        from volvex.asset.sound.proof import sound_change_faults, sound_hints

        form = form_in(source, library)
        if not isinstance(form, LayoutSound):
            return None
        sound = form.read(source)
        return Proof(
            sound.extra["reading"],
            f"a sound of {short_text(sound)}",
            lambda: list(sound_hints(sound, form.spec_of(sound))),
            lambda: sound_change_faults(form, sound),
        )

    def form(self, asset: OpenedSound) -> str:
        return asset.sound.form

    def lines(self, asset: OpenedSound) -> Iterator[tuple[str, str]]:
        from volvex.asset.sound.describe import cues_text, duration_text, format_text, level_text, loops_text
        from volvex.asset.sound.loudness import loudness_of, peak_of

        sound = asset.sound
        yield "duration", f"{duration_text(sound.duration)}, {sound.frames:,} frames"
        yield "format", format_text(sound)
        if sound.loops:
            yield "loop", loops_text(sound)
        if sound.cues:
            yield "cues", cues_text(sound)
        yield from list(sound.tags.items())[:TAGS]
        samples = sound.samples
        loud = level_text(loudness_of(samples, sound.rate), "LUFS")
        yield "level", f"peak {level_text(peak_of(samples), 'dB')}, loudness {loud}" if samples.any() else "silent"
        yield from (("note", note) for note in sound.notes)
        if len(samples) != sound.frames:
            frames = "1 frame" if sound.frames == 1 else f"{sound.frames:,} frames"
            yield "note", f"its head gives {frames}, found {len(samples):,}"

    def preview(self, asset: OpenedSound, options: Options) -> Callable[[int], Drawn] | None:
        """The outline of each channel, as high as its loudest sample; what is looped is marked."""
        sound = asset.sound
        if not len(sound.samples):
            return None

        def draw(columns: int) -> Drawn:
            from volvex.asset.sound.describe import duration_text
            from volvex.asset.sound.waveform import drawn, reach_of

            channels = min(sound.channels, MOST_OUTLINES)
            found = [reach_of(sound.samples[:, channel], columns) for channel in range(channels)]
            most = max(max(-low, high) for reach in found for low, high in reach) or 1.0
            loops = [frame for loop in sound.loops[:1] for frame in (loop.start, loop.end)]
            edges = [0, *sorted(round(columns * frame / max(1, sound.frames)) for frame in loops), columns]
            lines: list[list[tuple[str, bool]]] = []
            for reach in found:
                lines.append([])
                for line in drawn(reach, ROWS // channels, most):
                    runs = (line[start:end] for start, end in pairwise(edges))
                    lines.append([(run, bool(number % 2)) for number, run in enumerate(runs)])
            times = [duration_text(sound.duration * step / AXIS_STEPS) for step in range(AXIS_STEPS + 1)]
            return Drawn(lines=lines, marked="green: the loop" if loops else "", times=times)

        return draw

    def short(self, source: Source, library: Library) -> str:
        from volvex.archive.detect import filetypes
        from volvex.asset.sound.describe import short_text
        from volvex.codec.samples.heads import head_of

        try:
            quick = filetypes.kind_by_content(source.peek(0, filetypes.HEAD)) in QUICK
            head = head_of(source.peek, source.size) if quick else None
        except ContentError as error:
            raise FormatError(source.name, error.message, hint=FRESH) from error
        return short_text(head) if head is not None else super().short(source, library)

    def brief(self, asset: OpenedSound) -> str:
        from volvex.asset.sound.describe import short_text

        return short_text(asset.sound)

    def differences(self, before: OpenedSound, after: OpenedSound) -> Iterator[str]:
        from volvex.asset.sound.describe import loops_text, short_text
        from volvex.asset.sound.exchange import differing_frames

        pair = before.sound, after.sound
        yield f"{differing_frames(*pair):,} of {max(sound.frames for sound in pair):,} frames differ"
        states = [short_text(sound) + (f", loop {loops_text(sound)}" if sound.loops else "") for sound in pair]
        if states[0] != states[1]:
            yield f"{states[0]} -> {states[1]}"

    def faults(self, before: OpenedSound | None, after: OpenedSound) -> Iterator[Fault]:
        from volvex.asset.sound.check import faults_between

        if before is not None:
            yield from faults_between(before.sound, after.sound)

    def is_whole(self, asset: OpenedSound) -> None:
        asset.sound.samples  # noqa: B018  (decoded when they are asked for)

    def extensions(self) -> Sequence[str]:
        from volvex.asset.sound.formats import by_extension

        return tuple(by_extension())

    def export(
        self, asset: OpenedSound, extension: str, part: str = "", stem: str = "", links: object = None
    ) -> Exported:
        from volvex.asset.sound.exchange import exported

        data, notes = exported(asset.sound, extension)
        return Exported({"": data}, (*asset.sound.notes, *notes))

    def take_over(self, base: OpenedSound, edits: Sequence[Edited], library: Library) -> Result:
        from volvex.archive.detect import filetypes
        from volvex.asset.sound.exchange import differing_frames, taken_over
        from volvex.asset.sound.open import open_sound

        (edit,) = edits
        user = open_sound(edit.source)
        if user is None:
            kind = filetypes.kind_by_content(edit.source.peek(0, filetypes.HEAD))
            raise RefusedError(f"this is no sound, but {kind}", "saving it again")
        result = taken_over(base.sound, user.sound, edit.extension)
        frames = differing_frames(base.sound, result.sound)
        what = f"{frames:,} frame{'s' if frames != 1 else ''} taken over"
        return Result({"": base.form.write(result.sound)}, what, tuple(result.notes))

    def replace(
        self, own: OpenedSound, user: OpenedSound | None, options: Options, on_progress: object = None
    ) -> Result | None:
        from volvex.asset.sound.describe import format_text
        from volvex.asset.sound.exchange import is_alike, replaced

        loudness = options.get("loudness") == "original"
        if user is None or (not options.get("like") and not loudness and is_alike(own.sound, user.sound)):
            return None
        result = replaced(own.sound, user.sound, loudness)
        form = f"{own.sound.form}: {format_text(result.sound)}"
        return Result({"": own.form.write(result.sound)}, notes=tuple(result.notes), form=form)


KIND = SoundKind()
