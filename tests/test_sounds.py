"""Sounds: encodings of samples, open forms, layouts of sounds, banks, and a user's sound in the place of a game's."""

from __future__ import annotations

import io
import math
import shutil
import struct
import subprocess
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from tests.sound_material import (
    BANK,
    BANK_SPECS,
    BELL,
    ENCODINGS,
    bank,
    bell,
    bells,
    read_bell,
    sound,
    tones,
    wav,
)
from volvex.archive.detect import filetypes
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.sound_hints import bank_hints, encoding_hints
from volvex.asset.sound.exchange import exported, mixed, replaced, resampled, taken_over
from volvex.asset.sound.formats import FORMS, by_extension, by_kind
from volvex.asset.sound.loudness import loudness_of, peak_of
from volvex.asset.sound.midi import read_midi
from volvex.asset.sound.model import Sound
from volvex.asset.sound.open import read_bytes
from volvex.asset.sound.proof import sound_change_faults, sound_hints
from volvex.asset.sound.waveform import drawn, reach_of
from volvex.codec.samples import ENCODINGS as FAMILIES
from volvex.codec.samples import Before
from volvex.codec.samples.convert import as_type
from volvex.codec.samples.layout import check_block, sample_layout
from volvex.codec.samples.riff import Cue, Loop, read_wave
from volvex.errors import ContentError, FormatError, LayoutError, ManyErrors, RefusedError, UsageError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.plan import Edit, PlannedSource
from volvex.source import BytesSource, Spool


def bytes_of(data: bytes) -> np.ndarray:
    return np.frombuffer(data, np.uint8)


class Encodings(unittest.TestCase):
    def wide(self, sample: str, channels: int = 2) -> np.ndarray:
        return as_type(tones(3000, channels), sample)[0]

    def test_every_family_is_tried(self) -> None:
        tried = {sample_layout(spec).encoding.name for spec in ENCODINGS}
        self.assertEqual(tried, {name for family in FAMILIES.all() for name in family.NAMES})

    def test_there_and_back(self) -> None:
        for spec in ENCODINGS:
            with self.subTest(spec):
                own = sample_layout(spec)
                given = self.wide(own.encoding.sample)
                data = bytes_of(own.encode(given))
                self.assertEqual(len(data), own.size(3000, 2))
                self.assertGreaterEqual(own.frames(len(data), 2), 3000)
                back = own.decode(data, 2, 3000)
                self.assertEqual((back.shape, back.dtype), (given.shape, np.dtype(own.encoding.sample)))
                missed = np.abs(back.astype(np.float64) - given).mean() / np.abs(given.astype(np.float64)).mean()
                exact = own.encoding.bits >= 16
                self.assertLess(missed, 1e-12 if exact else 0.12)

    def test_what_was_not_touched_keeps_its_bytes(self) -> None:
        for spec in ENCODINGS:
            with self.subTest(spec):
                own = sample_layout(spec)
                data = bytes_of(own.encode(self.wide(own.encoding.sample)))
                samples = own.decode(data, 2, own.frames(len(data), 2))
                before = Before(samples, data)
                self.assertEqual(own.encode(samples, before), data.tobytes())
                changed = samples.copy()
                changed[2000, 0] = -changed[2000, 0] // 2 if samples.dtype.kind == "i" else -0.25
                other = bytes_of(own.encode(changed, before))
                differing = np.flatnonzero(other != data)
                self.assertTrue(len(differing))
                again = own.decode(other, 2, 3000)
                if own.encoding.blocks and own.block:  # one block of one channel, or of both
                    self.assertLessEqual(differing[-1] - differing[0], own.block)
                np.testing.assert_array_equal(again[:1900], samples[:1900])

    def test_adpcm_as_another_program_decodes_it(self) -> None:
        for name, subtype in (("ima_adpcm", "IMA_ADPCM"), ("ms_adpcm", "MS_ADPCM")):
            for channels in (1, 2):
                with self.subTest(f"{name}, {channels}"):
                    out = io.BytesIO()
                    soundfile.write(out, tones(5000, channels), 22050, format="WAV", subtype=subtype)
                    theirs, _ = soundfile.read(io.BytesIO(out.getvalue()), dtype="int16", always_2d=True)
                    ours = read_bytes(out.getvalue(), "theirs.wav")
                    np.testing.assert_array_equal(ours.samples, theirs[: ours.frames])
                    made = by_extension()["wav"].write(sound(tones(5000, channels), encoding=name))
                    theirs, _ = soundfile.read(io.BytesIO(made), dtype="int16", always_2d=True)
                    own = read_bytes(made, "ours.wav")
                    self.assertEqual(own.frames, 5000)
                    np.testing.assert_array_equal(theirs[:5000], own.samples)

    def test_companded_as_another_program_decodes_it(self) -> None:
        for name, subtype in (("mulaw", "ULAW"), ("alaw", "ALAW")):
            every = np.arange(256, dtype=np.uint8)
            ours = sample_layout(name).decode(every, 1, 256)
            theirs, _ = soundfile.read(
                io.BytesIO(every.tobytes()), dtype="int16", samplerate=8000, channels=1, format="RAW", subtype=subtype, always_2d=True  # noqa: E501
            )  # fmt: skip
            np.testing.assert_array_equal(ours, theirs)

    def test_what_cannot_be(self) -> None:
        for spec, said in (
            ("pcm12", "no encoding of samples"),
            ("pcm16(nibbles low)", "no parameter nibbles"),
            ("ima_adpcm(group 3)", "ends within a byte"),
            ("ima_adpcm(table hex 01)", "numbers of 16 bits"),
            ("ms_adpcm(coefficients hex 01)", "pairs of numbers"),
            ("pcm16(order sideways)", "order cannot be"),
        ):
            with self.assertRaisesRegex(UsageError, said):
                sample_layout(spec)
        self.assertIn("no samples", check_block(sample_layout("ima_adpcm(block 4)"), 2))
        self.assertIn("within a sample", check_block(sample_layout("pcm24(order blocks, block 64)"), 2))
        self.assertIn("size of a block", check_block(sample_layout("pcm16(order blocks)"), 2))

    def test_any_bytes_decode_or_are_too_few(self) -> None:
        rng = np.random.default_rng(3)
        for spec in ENCODINGS:
            own = sample_layout(spec)
            for size in (0, 1, 3, 7, 40, 555):
                data = rng.integers(0, 256, size, dtype=np.uint8)
                for channels in (1, 2, 5):
                    if not check_block(own, channels):
                        self.assertLessEqual(len(own.decode(data, channels, 1 << 20)), own.frames(size, channels), spec)


class Forms(unittest.TestCase):
    def setUp(self) -> None:
        self.sound = sound(
            tones(), loops=(Loop(100, 2000),), cues=(Cue(7, "ring"),), tags={"title": "Dawn bell", "artist": "Kelp"}
        )

    def test_every_form_there_and_back(self) -> None:
        for form in FORMS.all():
            for encoding in form.ENCODINGS:
                with self.subTest(f"{form.NAMES[0]}, {encoding}"):
                    rate = 48000 if encoding == "opus" else 22050
                    made = form.write(replace(self.sound, encoding=encoding, rate=rate))
                    self.assertEqual(made, form.write(replace(self.sound, encoding=encoding, rate=rate)))
                    self.assertEqual(filetypes.kind_by_content(made[: filetypes.HEAD]), form.NAMES[0])
                    back = read_bytes(made, "back")
                    known = soundfile.info(io.BytesIO(made))
                    self.assertEqual((back.channels, back.encoding), (2, encoding))
                    self.assertEqual((back.rate, back.frames), (known.samplerate, 3000))
                    self.assertEqual(len(back.samples), 3000)
                    for what in form.HOLDS:
                        self.assertEqual(getattr(back, what), getattr(self.sound, what), what)
                    if encoding in ("pcm16", "pcm24", "pcm32", "float32", "float64"):
                        np.testing.assert_array_equal(as_type(back.samples, "i2")[0], self.sound.samples)

    def test_a_wav_file_of_another_program_keeps_what_is_not_samples(self) -> None:
        note = b"LIST" + struct.pack("<I", 16) + b"adtlnote" + struct.pack("<II", 4, 1)
        chunks = (
            note + b"inst" + struct.pack("<I", 7) + bytes(range(7)) + b"\0" + b"bext" + struct.pack("<I", 4) + b"keep"
        ) + b"kelp\4\0\0\0mine"
        data = wav(tones(), loops=(Loop(5, 90, 3),), cues=(Cue(1), Cue(9, "end")))
        data = data[:4] + struct.pack("<I", len(data) - 8 + len(chunks)) + data[8:] + chunks
        opened = read_bytes(data, "theirs.wav")
        self.assertEqual(by_extension()["wav"].write(opened), data)
        self.assertEqual((opened.loops, opened.cues), ((Loop(5, 90, 3),), (Cue(1), Cue(9, "end"))))
        changed = by_extension()["wav"].write(replace(opened, loops=(Loop(1, 2),), cues=(Cue(3, "mid"),)))
        again = read_bytes(changed, "changed.wav")
        self.assertEqual((again.loops, again.cues), ((Loop(1, 2),), (Cue(3, "mid"),)))
        self.assertIn(b"bext", changed)
        self.assertIn(b"kelp\4\0\0\0mine", changed)

    def test_a_wav_file_keeps_its_own_way_of_encoding(self) -> None:
        data = bytearray(by_extension()["wav"].write(replace(self.sound, encoding="ms_adpcm")))
        at = data.index(b"fmt ") + 8 + 22  # the first pairs of coefficients
        data[at + 4 : at + 8] = struct.pack("<hh", 480, -224)
        opened = read_bytes(bytes(data), "theirs.wav")
        self.assertEqual(by_extension()["wav"].write(opened), data)
        samples = opened.samples.copy()
        samples[-5:] //= 2
        changed = read_bytes(by_extension()["wav"].write(opened.with_samples(samples)), "changed.wav")
        half = len(samples) // 2
        np.testing.assert_array_equal(changed.samples[:half], opened.samples[:half])
        slower = by_extension()["wav"].write(replace(opened, rate=11025))
        self.assertEqual(read_bytes(slower, "slower.wav").rate, 11025)

    def test_lengths_by_heads_are_those_of_the_samples(self) -> None:
        for extension in ("mp3", "ogg", "flac"):
            for frames in (1, 1152, 5000):
                data = exported(sound(tones(frames, 1)), extension)[0]
                opened = read_bytes(data, extension)
                self.assertEqual((opened.frames, len(opened.samples)), (frames, frames), extension)
                self.assertTrue(opened.seekable)
        data = exported(sound(tones(50000, 1)), "mp3")[0]
        without = data[data.find(b"\xff\xfb", 20) :]  # its first frame, which counts the others
        self.assertEqual(read_bytes(without, "stream.mp3").form, "mp3")

    def test_other_programs_agree(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for extension in ("wav", "flac", "ogg", "mp3", "aiff", "au"):
                (folder / f"bell.{extension}").write_bytes(exported(self.sound, extension)[0])
            raw = self.sound.samples.astype("<i2").tobytes()
            ran = 0
            for command, wanted in (
                (("sox", "bell.wav", "-t", "raw", "-"), raw),
                (("sox", "bell.aiff", "-t", "raw", "-L", "-"), raw),
                (("sox", "bell.au", "-t", "raw", "-L", "-"), raw),
                (("flac", "-dcs", "--force-raw-format", "--endian=little", "--sign=signed", "bell.flac"), raw),
                (("flac", "-ts", "bell.flac"), None),
                (("ogginfo", "bell.ogg"), None),
                (("oggz", "validate", "bell.ogg"), None),
                (("mpg123", "-qt", "bell.mp3"), None),
            ):
                if shutil.which(command[0]):
                    done = subprocess.run(command, cwd=folder, capture_output=True)
                    self.assertEqual((done.returncode, wanted or done.stdout), (0, done.stdout), command)
                    ran += 1
            if not ran:
                self.skipTest("none of sox, flac, ogginfo, oggz, mpg123 is installed")

    def test_the_decoders_of_movies_agree(self) -> None:
        import av

        for extension in ("wav", "flac", "aiff", "au"):
            made = io.BytesIO(exported(self.sound, extension)[0])
            with av.open(made) as container:
                resampler = av.AudioResampler("s16p", "stereo", 22050)
                parts = [
                    one.to_ndarray() for frame in container.decode(audio=0) for one in resampler.resample(frame)  # type: ignore[union-attr]
                ]  # fmt: skip
            np.testing.assert_array_equal(np.concatenate(parts, axis=1).T, self.sound.samples)

    def test_damaged_files_are_errors_of_ours(self) -> None:
        for extension in ("wav", "flac", "ogg", "mp3"):
            data = exported(sound(tones(600, 1)), extension)[0]
            form = by_kind()[extension]
            for at in [*range(0, min(len(data), 400), 7), *range(400, len(data), max(1, len(data) // 60))]:
                for made in (data[:at], data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]):
                    try:
                        opened = form.read(BytesSource(made, "damaged"))
                        self.assertLess(opened.samples.nbytes, 1 << 27)
                    except VolvexError:
                        pass

    def test_heads_that_lie(self) -> None:
        data = wav(tones(100, 1))
        at = data.index(b"fmt ") + 8
        for offset, value in ((at + 4, bytes(4)), (at + 2, b"\xff\xff"), (at + 2, bytes(2)), (at + 4, b"\xff" * 4)):
            with self.assertRaises(FormatError):
                read_bytes(data[:offset] + value + data[offset + len(value) :], "lie.wav")
        flac = bytearray(exported(sound(tones(100, 1)), "flac")[0])
        flac[21:26] = b"\xff" * 5  # billions of frames
        with self.assertRaisesRegex(FormatError, "more than"):
            read_bytes(bytes(flac), "lie.flac").samples  # noqa: B018

    def test_midi(self) -> None:
        track = (
            b"\0\xff\x03\x04Bell\0\x90\x3c\x40\x60\x80\x3c\x40\0\xff\x51\x03\x0f\x42\x40\x60\x90\x3e\x40\0\xff\x2f\0"
        )
        data = b"MThd\0\0\0\6\0\0\0\1\0\x60MTrk" + len(track).to_bytes(4, "big") + track
        midi = read_midi(BytesSource(data, "bell.mid"))
        self.assertEqual((midi.tracks, midi.notes, midi.names), (1, 2, ("Bell",)))
        self.assertAlmostEqual(midi.seconds, 1.5)  # a quarter at the usual speed, one of a whole second
        for cut in range(14, len(data)):
            with self.assertRaises(FormatError):
                read_midi(BytesSource(data[:cut], "cut.mid"))


class Exchange(unittest.TestCase):
    def test_rate_channels_and_type(self) -> None:
        own, user = (
            sound(tones(2000, 1), 11025),
            sound(tones(8000, 2, 44100).astype(np.float32) / 32768, 44100, "float32"),
        )
        result = replaced(own, user)
        self.assertEqual((result.sound.rate, result.sound.channels, result.sound.sample), (11025, 1, "i2"))
        self.assertEqual(result.sound.frames, 2000)
        self.assertEqual(len([note for note in result.notes if "mixed" in note or "resampled" in note]), 2)
        time = np.arange(2000) / 11025
        expected = 9000 * (np.sin(2 * np.pi * 440 * time) + np.sin(2 * np.pi * 550 * time)) / 2
        self.assertLess(np.abs(result.sound.samples[50:-50, 0] - expected[50:-50]).mean(), 60)

    def test_samples_that_fit_are_the_same(self) -> None:
        own, user = sound(tones(2000, 2)), sound(tones(3000, 2, pitch=300))
        np.testing.assert_array_equal(replaced(own, user).sound.samples, user.samples)

    def test_mixing(self) -> None:
        one = np.array([[100], [200]], np.int16)
        np.testing.assert_array_equal(mixed(one, 2), [[100, 100], [200, 200]])
        np.testing.assert_array_equal(mixed(np.array([[100, 300]], np.int16), 1), [[200]])
        self.assertEqual(mixed(np.ones((5, 6), np.int16), 2).shape, (5, 2))
        self.assertEqual(mixed(np.ones((5, 2), np.int16), 6).shape, (5, 6))

    def test_too_loud(self) -> None:
        loud = sound(np.full((100, 1), 1.5, np.float32), encoding="float32")
        result = replaced(sound(tones(100, 1)), loud)
        self.assertIn("100 samples were too loud and are cut", result.notes)
        self.assertEqual(int(result.sound.samples.max()), 32767)

    def test_loops_and_cues(self) -> None:
        own = sound(tones(2000, 1), loops=(Loop(500, 2000),), cues=(Cue(1900, "late"),))
        self.assertEqual(replaced(own, sound(tones(3000, 1))).sound.loops, (Loop(500, 3000),))  # to the end
        short = replaced(own, sound(tones(400, 1)))
        self.assertEqual((short.sound.loops, short.sound.cues), ((Loop(0, 400),), ()))
        self.assertEqual(len(short.notes), 2)
        theirs = sound(tones(4000, 1), 44100, loops=(Loop(1000, 3000),), cues=(Cue(2000),))
        result = replaced(own, theirs)
        self.assertEqual((result.sound.loops, result.sound.cues), ((Loop(500, 1500),), (Cue(1000),)))

    def test_loudness(self) -> None:
        quiet, loud = sound(tones(22050, 1) // 8), sound(tones(44100, 1))
        result = replaced(quiet, loud, loudness=True)
        wanted = loudness_of(quiet.samples, 22050)
        self.assertAlmostEqual(loudness_of(result.sound.samples, 22050), wanted, places=1)
        silent = replaced(sound(np.zeros((900, 1), np.int16)), loud, loudness=True)
        self.assertIn("silent", silent.notes[0])
        high = replaced(
            sound(np.full((9000, 1), 32767, np.int16) * np.sign(tones(9000, 1)).astype(np.int16)), quiet, loudness=True
        )
        self.assertLessEqual(peak_of(high.sound.samples), 0.01)

    def test_loudness_as_another_library_measures_it(self) -> None:
        import av

        samples, rate = tones(48000 * 3, 2, 48000), 48000
        graph = av.filter.Graph()
        steps = [
            graph.add_abuffer(format="s16", sample_rate=rate, layout="stereo"),
            graph.add("ebur128", "metadata=1"),
            graph.add("abuffersink"),
        ]
        graph.link_nodes(*steps).configure()
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples.reshape(1, -1)), format="s16", layout="stereo")
        frame.sample_rate, frame.pts = rate, 0
        graph.push(frame)
        graph.push(None)
        found = -math.inf
        while True:
            try:
                one = graph.pull()
            except (av.BlockingIOError, av.EOFError):
                break
            found = float(dict(getattr(one, "metadata", {})).get("lavfi.r128.I", found))
        self.assertAlmostEqual(loudness_of(samples, rate), found, delta=0.1)
        tone = np.sin(2 * np.pi * 997 * np.arange(rate) / rate)[:, None].astype(np.float32)
        self.assertAlmostEqual(loudness_of(tone, rate), -3.01, places=2)  # as the recommendation has it
        self.assertAlmostEqual(peak_of(np.full((10, 1), 16384, np.int16)), -6.02, places=2)
        self.assertTrue(math.isinf(loudness_of(np.zeros((9000, 1), np.int16), rate)))
        self.assertFalse(math.isinf(loudness_of(samples[:2000], rate)))  # shorter than a block

    def test_edits_of_what_was_taken_out(self) -> None:
        own = read_bell(bell(sample_layout("ima_adpcm(block 64)").encode(tones(3000, 1)), 1, 3000, block=64))
        out = read_bytes(exported(own, "wav")[0], "open.wav")
        changed = out.samples.copy()
        changed[1500:1510] = 0
        result = taken_over(own, out.with_samples(changed), "wav")
        before, after = bells().write(own), bells().write(result.sound)
        self.assertEqual(before, bell(sample_layout("ima_adpcm(block 64)").encode(tones(3000, 1)), 1, 3000, block=64))
        body = bytes_of(before)[34:], bytes_of(after)[34:]
        differing = np.flatnonzero(body[0] != body[1])
        self.assertTrue(0 < differing[-1] - differing[0] < 64)

    def test_resampling_is_bounded(self) -> None:
        with self.assertRaises(RefusedError):
            resampled(np.zeros((1 << 20, 1), np.int16), 1, 10_000_000)

    def test_outline(self) -> None:
        samples = np.concatenate([np.zeros(100), np.full(100, 0.9), np.full(100, -0.9)]).astype(np.float32)
        lines = drawn(reach_of(samples, 3), 4)
        self.assertEqual(len(lines), 4)
        self.assertEqual([line[0] for line in lines], [" ", " ", "▀", " "])  # silence is a line
        self.assertEqual("".join(line[1] for line in lines), "▀   ")
        self.assertEqual("".join(line[2] for line in lines), "   ▄")
        self.assertEqual("".join(line[1] for line in drawn([(0, 0), (-0.5, 0.5)], 4, 0.5)), "████")
        self.assertEqual(reach_of(samples[:0], 2), [(0.0, 0.0)] * 2)


class Layouts(unittest.TestCase):
    def each(self) -> list[tuple[str, bytes]]:
        samples, made = tones(3000, 1), list[tuple[str, bytes]]()
        for coding, spec, block in ((0, "pcm16", 0), (1, "ima_adpcm", 64), (2, "ms_adpcm", 128), (6, "pcm16", 0)):
            made.append(
                (
                    spec,
                    bell(sample_layout(spec, block=block).encode(samples), coding, 3000, block=block, loop=(100, 2000)),
                )
            )
        for coding, extension in ((3, "ogg"), (4, "mp3"), (5, "flac"), (7, "wav"), (8, "opus")):
            data = exported(sound(samples), extension)[0]
            if coding == 5:
                from volvex.asset.sound.formats import flac

                data = data[flac.frames_at(data) :]
            made.append((extension, bell(data[12:] if coding == 7 else data, coding, 3000, loop=(100, 2000))))
        return made

    def test_read_written_and_changed(self) -> None:
        for name, data in self.each():
            with self.subTest(name):
                own = read_bell(data)
                self.assertEqual(
                    (own.rate if name != "opus" else 22050, own.channels, own.loops), (22050, 1, (Loop(100, 2000),))
                )
                frames = 3265 if name == "opus" else 3000  # at the next rate that Opus has
                self.assertLess(abs(len(own.samples) - frames), 2)
                longer = replaced(own, sound(tones(5000, 2), 22050))
                again = read_bell(bells().write(longer.sound))
                self.assertEqual((len(again.samples), again.encoding), (longer.sound.frames, own.encoding))
                if not own.lossy and "adpcm" not in own.encoding:
                    np.testing.assert_array_equal(again.samples, longer.sound.samples)

    def test_proof(self) -> None:
        for name, data in self.each():
            with self.subTest(name):
                own = read_bell(data)
                if name != "opus":  # its rate is not that which the head gives
                    faults = [(what, fault) for what, fault in sound_change_faults(bells(), own) if fault]
                    self.assertEqual(faults, [])
                hints = [hint.seen for hint in sound_hints(own, bells().spec_of(own))]
                self.assertEqual([hint for hint in hints if "samples" in hint], [], name)

    def test_a_wrong_encoding_is_noticed(self) -> None:
        samples = tones(6000, 2)
        for wrong, right in (
            ("pcm16(endian big)", "pcm16(endian little)"),
            ("pcm16", "pcm16(order channels)"),
            ("ima_adpcm(nibbles high, block 128)", "ima_adpcm(nibbles low, block 128)"),
            ("alaw", "mulaw"),
            ("pcm8_signed", "pcm8"),
        ):
            own, data = sample_layout(wrong), bytes_of(sample_layout(right).encode(samples))
            self.assertEqual([hint.line for hint in encoding_hints(wrong, own, data, 2)], [right], wrong)
            self.assertEqual(list(encoding_hints(right, sample_layout(right), data, 2)), [])
        behind = bell(samples[:, :1].astype("<i2").tobytes() + bytes(64), 0, 6000)
        self.assertTrue(any("behind the last frame" in hint.seen for hint in sound_hints(read_bell(behind), "pcm16")))

    def test_longer_than_its_field_counts(self) -> None:
        own = read_bell(bell(sample_layout("pcm16").encode(tones(100, 1)), 0, 100))
        with self.assertRaisesRegex(RefusedError, r"up to 65,535, which is 2\.97 s"):
            bells().write(replaced(own, sound(tones(70000, 1))).sound)

    def test_damaged(self) -> None:
        good = bell(sample_layout("pcm16").encode(tones(100, 1)), 0, 100)
        for at, value, said in (
            (4, b"\0\0", "rate of 0"),
            (6, b"\0", "0 channels"),
            (7, b"\x09", "no encoding"),
            (12, b"\xff\xff", "its samples are 100"),
        ):
            with self.assertRaisesRegex(FormatError, said):
                read_bell(good[:at] + value + good[at + len(value) :])
        with self.assertRaisesRegex(FormatError, "no samples of 1 channels"):
            read_bell(bell(bytes(64), 1, 10, block=2))

    def test_layouts_that_are_not_sound(self) -> None:
        for old, new, said in (
            ("rate      u16      rate\n", "rate      u16      kept\n", "no field gives the rate"),
            ("u8       samples", "u8       kept", "no field has the samples"),
            ("0 pcm16,", "0 pcm17,", "no encoding of samples"),
            ("bits      u8       bits", "bits      u8       kept", "no field gives their bits"),
            ("{ 0 frames, 1 channels }", "{ 0 frames, 1 rows }", "a sample order is one of"),
            ("5 flac(head none)", "5 mp3(head none)", "head cannot be none"),
            ("loop start\n", "kept\n", "no field gives where it begins"),
            ("u32      crc32 of data", "u32      frames", "frames"),
        ):
            with self.assertRaisesRegex((LayoutError, ManyErrors), said):
                parse_layout(BELL.replace(old, new), "wrong.layout")


class Banks(unittest.TestCase):
    def setUp(self) -> None:
        self.archive = self.opened(*bank())

    def opened(self, index: bytes, stream: bytes, layout: str = BANK) -> LayoutArchive:
        found = {"voices.kvd": stream}
        source = BytesSource(index, "voices.kvi")
        return LayoutArchive(
            read_layout(parse_layout(layout, "bank.layout"), source, lambda name: BytesSource(found[name], name))
        )

    def test_each_sound_is_a_file(self) -> None:
        for row, spec in enumerate(BANK_SPECS):
            content = self.archive.content(row)
            self.assertEqual(len(content), int(self.archive.entries.size[row]))
            self.assertEqual(b"".join(self.archive.chunks(row)), content)
            opened = read_bytes(content, spec)
            self.assertEqual(
                (opened.frames, opened.rate, opened.channels), (900 + row, 22050, 2 if row in (1, 4) else 1)
            )
            self.assertEqual(bool(opened.loops), row < 3)
            self.assertEqual(opened.form, "ogg" if spec == "vorbis" else "wav")
            for size in (4, 44, 100, 1024, 2000):
                start = self.archive.beginning(row, size)
                self.assertTrue(start and content.startswith(start))
        np.testing.assert_array_equal(read_bytes(self.archive.content(0), "").samples, tones(900, 1))

    def test_proved(self) -> None:
        self.assertIsNone(self.archive.prove().difference)
        trials = list(prove_harder(self.archive))
        self.assertEqual([(one.what, str(one.fault)) for one in trials if one.fault and not one.refused], [])
        self.assertGreater(len(trials), 15)
        self.assertEqual(list(bank_hints(self.archive)), [])

    def test_a_wrong_encoding_is_noticed(self) -> None:
        wrong = self.opened(*bank(), BANK.replace("4 pcm24(endian big,", "4 pcm24(endian little,"))
        self.assertTrue(any("pcm24" in hint.seen for hint in bank_hints(wrong)))

    def replaced(self, row: int, content: bytes) -> LayoutArchive:
        with Spool() as spool:
            made = self.archive.plan(Edit(replaced={row: self.archive.encode(spool, [content], row)}))
            others = {name: b"".join(plan.chunks()) for name, plan in made.others.items()}
            return self.opened(b"".join(made.chunks()), others["voices.kvd"])

    def test_new_content_brings_its_facts(self) -> None:
        for row in (0, 1, 2, 4, 5, 6):
            again = self.replaced(row, wav(tones(1500, 2), 11025, loops=(Loop(10, 1200),)))
            opened = read_bytes(again.content(row), "")
            self.assertEqual(
                (opened.rate, opened.channels, opened.frames, opened.loops), (11025, 2, 1500, (Loop(10, 1200),))
            )
            self.assertIsNone(again.prove().difference)
            again = self.replaced(row, wav(tones(700, 1)))
            self.assertEqual(read_bytes(again.content(row), "").loops, ())

    def test_what_a_bank_refuses(self) -> None:
        for row, content, said in (
            (0, b"no sound at all", "WAV files"),
            (3, exported(sound(tones()), "opus")[0], "opus, and here the game has vorbis"),
            (0, wav(tones(50, 1), 96000), "up to 65,535"),
        ):
            with self.assertRaisesRegex(RefusedError, said):
                self.replaced(row, content)
        index, stream = bank()
        self.archive = self.opened(index, stream, BANK.replace("3 vorbis", "3 aiff"))
        with self.assertRaisesRegex(RefusedError, "no aiff whose length"):
            self.replaced(3, b"no sound at all")

    def test_one_rate_for_all(self) -> None:
        fixed = """layout "plain"  kind archive
known by "KPLN" at 0
block head at 0
    mark   4 bytes  is "KPLN"
    count  u8       count of rows
block rows after head repeats
    name   text u8  name
    start  u8       start of content
    size   u8       stored size of content
content sounds pcm8(rate 8000, channels 2)
"""
        data = b"KPLN\x01\x01a\x09\x14" + bytes(range(20))
        archive = LayoutArchive(read_layout(parse_layout(fixed, "plain.layout"), BytesSource(data, "plain.bin")))
        opened = read_bytes(archive.content(0), "a")
        self.assertEqual((opened.rate, opened.channels, opened.frames, opened.encoding), (8000, 2, 10, "pcm8"))
        with Spool() as spool:
            with self.assertRaisesRegex(RefusedError, "have rate 8,000, this has 22,050"):
                archive.encode(spool, [wav(tones(5, 2))], 0)
            content = archive.encode(spool, [wav(tones(5, 2), 8000)], 0)
            self.assertEqual((content.stored, dict(content.facts)), (10, {}))
            again = archive.reopened(PlannedSource(archive.plan(Edit(replaced={0: content})), "plain.bin"))
            self.assertEqual(read_bytes(again.content(0), "").frames, 5)

    def test_facts_that_cannot_be_leave_bytes(self) -> None:
        index, stream = bank()
        at = index.index(b"pcm160") + 6
        broken = self.opened(index[:at] + b"\0\0" + index[at + 2 :], stream)  # a rate of 0
        self.assertEqual(broken.content(0), tones(900, 1).astype("<i2").tobytes())

    def test_damage(self) -> None:
        index, stream = bank()
        for at in range(0, len(index), 5):
            changed = bytearray(index)
            changed[at] ^= 0xFF
            for made in (bytes(changed), index[:at]):
                try:
                    archive = self.opened(made, stream)
                    for row in range(len(archive)):
                        archive.beginning(row, 64)
                        archive.content(row)
                except VolvexError:
                    pass

    def test_layouts_that_are_not_sound(self) -> None:
        for old, new, said in (
            ("crc32 of stored content", "crc32 of content", "only what is stored"),
            ("encoding {", "kept {", "and no encoding is given"),
            ("align 16\n", "align 16 sounds pcm16\n", "given twice"),
            ("3 vorbis", "3 flac(head none)", "its own head"),
        ):
            with self.assertRaisesRegex((LayoutError, ManyErrors), said):
                parse_layout(BANK.replace(old, new), "wrong.layout")


class Riff(unittest.TestCase):
    def test_cut_and_turned(self) -> None:
        data = wav(tones(20, 1), loops=(Loop(1, 9),), cues=(Cue(3, "x"),), tags={"title": "T"})
        for at in range(len(data)):
            for made in (data[:at], data[:at] + bytes([data[at] ^ 255]) + data[at + 1 :]):
                try:
                    read_wave(BytesSource(made, "cut.wav").peek, len(made))
                except ContentError:
                    pass

    def test_a_stream_without_a_length(self) -> None:
        data = bytearray(wav(tones(20, 1)))
        at = data.index(b"data")
        data[at + 4 : at + 8] = b"\xff" * 4
        opened: Sound = read_bytes(bytes(data), "stream.wav")
        self.assertEqual((opened.frames, opened.seekable), (20, False))


if __name__ == "__main__":
    unittest.main()
