"""Sounds through the program: shown, listed, converted in bulk, opened for editing, put back, checked."""

from __future__ import annotations

import json
import unittest
import zipfile
from pathlib import Path

import numpy as np

from tests.sound_material import sound, tones, wav
from tests.support import Case, KeptGame
from volvex.asset.sound.exchange import exported
from volvex.asset.sound.model import Sound
from volvex.asset.sound.open import read_bytes
from volvex.codec.samples.riff import Cue, Loop


def opened(path: Path) -> Sound:
    return read_bytes(path.read_bytes(), path.as_posix())


class Files(Case):
    def setUp(self) -> None:
        super().setUp()
        self.sounds = self.folder / "sounds"
        self.sounds.mkdir()
        bell = sound(tones(22050, 2), loops=(Loop(100, 9000),), cues=(Cue(5000, "ring"),), tags={"title": "Dawn"})
        for extension in ("wav", "ogg", "mp3", "flac", "aiff", "caf", "voc"):
            (self.sounds / f"bell.{extension}").write_bytes(exported(bell, extension)[0])
        with zipfile.ZipFile(self.sounds / "more.kpz", "w") as file:
            file.writestr("02 fog.wav", wav(tones(500, 1)))
            file.writestr("note.txt", "no sound")

    def test_show(self) -> None:
        out = self.volvex("show", "sounds/bell.wav")
        for word in (
            "duration  1.000 s, 22,050 frames",
            "22,050 Hz, stereo, pcm16",
            "frames 100 to 9,000 (0.404 s)",
            "ring at 0.227 s",
            "title     Dawn",
            "peak -11",
            "LUFS",
        ):
            self.assertIn(word, out)
        for extension in ("ogg", "mp3", "flac", "aiff", "caf", "voc"):
            self.assertIn("1.000 s, 22,050 frames", self.volvex("show", f"sounds/bell.{extension}"), extension)
        self.assertIn("52494646", self.volvex("show", "sounds/bell.wav", "--hex").replace(" ", ""))

    def test_show_a_midi_file(self) -> None:
        track = b"\0\x90\x3c\x40\x60\x80\x3c\x40\0\xff\x2f\0"
        head = b"MThd\0\0\0\6\0\0\0\1\0\x60MTrk" + len(track).to_bytes(4, "big")
        (self.folder / "bell.mid").write_bytes(head + track)
        self.assertIn("1, 1 note", self.volvex("show", "bell.mid"))
        (self.folder / "bell.mid").write_bytes(head + track[:5])
        self.assertIn("ends behind the file", self.complaint("show", "bell.mid", status=4))

    def test_list(self) -> None:
        out = self.volvex("list", "sounds", "--long")
        self.assertIn("1.000 s, 22,050 Hz, stereo, vorbis", out)
        self.assertEqual(out.count("1.000 s"), 7)
        self.assertIn("0.023 s, 22,050 Hz, mono, pcm16", self.volvex("list", "sounds/more.kpz", "--long"))
        (self.sounds / "bad.flac").write_bytes(b"fLaC" + bytes(10))
        self.assertIn("STREAMINFO", self.run_program("list", "sounds", "--long", status=4).stderr)

    def test_convert_one(self) -> None:
        self.volvex("convert", "sounds/bell.wav", "bell.flac")
        made = opened(self.folder / "bell.flac")
        np.testing.assert_array_equal(made.samples, tones(22050, 2))
        self.assertEqual((made.loops, dict(made.tags)), ((Loop(100, 9000),), {"title": "Dawn"}))
        self.assertIn("no loops", self.run_program("convert", "sounds/bell.wav", "bell.mp3").stderr)
        self.assertIn("22,050 to 24,000", self.run_program("convert", "sounds/bell.wav", "bell.opus").stderr)
        (self.folder / "mine.wav").write_bytes(wav(tones(4000, 1), 11025))
        words = ("convert", "mine.wav", "like.ogg", "--like", "sounds/bell.ogg", "--loudness", "original")
        self.assertIn("as the game's own", self.run_program(*words).stderr)
        like = opened(self.folder / "like.ogg")
        self.assertEqual((like.rate, like.channels, like.encoding, like.frames), (22050, 2, "vorbis", 8000))
        self.assertIn("already exists", self.complaint("convert", "sounds/bell.wav", "bell.flac", status=5))

    def test_convert_all(self) -> None:
        self.assertIn("8 sounds", self.volvex("convert", "sounds", "--to", "music", "--as", "flac"))
        made = opened(self.folder / "music" / "sounds" / "more.kpz" / "02 fog.flac")
        self.assertEqual(dict(made.tags), {"title": "02 fog", "album": "more.kpz", "tracknumber": "2"})
        self.assertEqual(dict(opened(self.folder / "music" / "sounds" / "bell.flac").tags).get("title"), "Dawn")
        self.assertIn(
            "8 files left", self.volvex("convert", "sounds", "--to", "music", "--as", "flac", "--skip-existing")
        )
        (self.sounds / "bad.ogg").write_bytes((self.sounds / "bell.ogg").read_bytes()[:5000])
        out = self.run_program("convert", "sounds", "--to", "again", "--as", "mp3", status=4).stderr
        self.assertIn("bad.ogg", out)
        self.assertEqual(len(list((self.folder / "again").rglob("*.mp3"))), 8)
        self.assertIn(
            "no sound", self.complaint("convert", "sounds/more.kpz/note.txt", "--to", "x", "--as", "flac", status=3)
        )
        self.assertIn(
            "pictures, sounds or models", self.complaint("convert", "sounds", "--to", "x", "--as", "xyz", status=2)
        )


class InTheGame(KeptGame):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.game()
        self.at = self.bench(self.kept)

    def run_in(self, *words: object, status: int = 0) -> str:
        if status:
            return self.complaint(*words, status=status, cwd=self.at)
        return self.volvex(*words, cwd=self.at)

    def edit(self, file: str, start: int, count: int) -> None:
        path = self.at / "open" / file
        own = opened(path)
        samples = own.samples.copy()
        samples[start : start + count] //= 2
        path.write_bytes(wav(samples, own.rate, loops=own.loops))

    def test_edited_in_another_program(self) -> None:
        self.run_in("take", "belfry/tide_bell.kba", "belfry/chorus.kbi/cook", "belfry/dawn_bell.kbl", "--as", "wav")
        self.assertIn("no changes", self.run_in("changes"))
        self.edit("belfry/tide_bell.kba.wav", 3000, 20)
        self.edit("belfry/chorus.kbi/cook.wav", 1000, 30)
        out = self.run_in("changes")
        self.assertIn("of 6,615 frames differ", out)
        self.assertIn("30 of 4,410 frames differ", out)
        self.assertIn("no errors", self.run_in("check"))
        self.run_in("build")
        before = (self.kept / "belfry/tide_bell.kba").read_bytes()
        after = (self.at / "built/belfry/tide_bell.kba").read_bytes()
        differing = [at for at, (one, other) in enumerate(zip(before, after, strict=True)) if one != other]
        self.assertLess(differing[-1] - differing[0], 2 * 260)  # all other blocks keep their bytes
        streams = [(folder / "belfry/chorus.kbd").read_bytes() for folder in (self.kept, self.at / "built")]
        differing = [at for at, (one, other) in enumerate(zip(*streams, strict=True)) if one != other]
        self.assertLess(differing[-1] - differing[0], 2 * 132)
        self.run_in("install")
        self.play(self.kept)
        self.run_in("restore")
        self.assertEqual((self.kept / "belfry/tide_bell.kba").read_bytes(), before)

    def test_edited_twice_and_elsewhere(self) -> None:
        self.run_in("take", "belfry/fog_bell.kbl", "--as", "wav")
        self.run_in("take", "belfry/fog_bell.kbl", "--as", "flac")
        self.edit("belfry/fog_bell.kbl.wav", 100, 10)
        self.run_in("changes")
        np.testing.assert_array_equal(
            opened(self.at / "open/belfry/fog_bell.kbl.flac").samples,
            opened(self.at / "open/belfry/fog_bell.kbl.wav").samples,
        )  # the other form follows
        self.edit("belfry/fog_bell.kbl.wav", 100, 10)
        (self.at / "open/belfry/fog_bell.kbl.flac").write_bytes(exported(sound(tones(10, 1)), "flac")[0])
        self.assertIn("both edited", self.run_in("changes", status=5))
        (self.at / "open/belfry/fog_bell.kbl.flac").unlink()
        (self.folder / "mine.wav").write_bytes(wav(tones(50, 1), 11025))
        self.run_in("swap", "belfry/fog_bell.kbl", "../mine.wav")
        self.assertIn("both edited", self.run_in("changes", status=5))
        self.run_in("take", "belfry/fog_bell.kbl", "--overwrite", "--as", "wav")
        (self.at / "open/belfry/fog_bell.kbl.wav").write_bytes(b"no sound")
        self.assertIn("no sound", self.run_in("changes", status=5))

    def test_no_sound_any_more(self) -> None:
        """What was taken out as a sound, and is then replaced by something else, is left as it was."""
        self.run_in("take", "belfry/fog_bell.kbl", "--as", "wav")
        before = (self.at / "open/belfry/fog_bell.kbl.wav").read_bytes()
        (self.folder / "note.txt").write_text("The fog bell is away for repair.", "utf-8")
        self.run_in("swap", "belfry/fog_bell.kbl", "../note.txt", "--as-is")
        self.assertIn("left as it was", self.run_program("changes", cwd=self.at).stderr)
        self.assertEqual((self.at / "open/belfry/fog_bell.kbl.wav").read_bytes(), before)

    def test_swap(self) -> None:
        (self.folder / "gong.ogg").write_bytes(exported(sound(tones(30000, 2, 44100), 44100), "ogg")[0])
        for path in ("belfry/fog_bell.kbl", "belfry/tide_bell.kba", "belfry/shanty.kbs", "belfry/chorus.kbi/mate"):
            self.assertIn("was converted to", self.run_in("swap", path, "../gong.ogg", "--loudness", "original"))
        self.run_in("check")
        self.run_in("build")
        self.run_in("install")
        out = self.play(self.kept)
        self.assertIn("fog_bell.kbl      0.680 s  11025 Hz mono", out)
        self.assertIn("shanty.kbs        0.680 s  22050 Hz stereo", out)
        self.assertIn("chorus/mate       0.680 s  11025 Hz mono", out)
        self.run_in("restore")
        self.assertIn(
            "--loudness converts",
            self.run_in(
                "swap", "data/main.kwp/letters/en/01-arrival.txt", "../gong.ogg", "--loudness", "original", status=2
            ),
        )
        self.assertIn("--trim", self.run_in("swap", "belfry/fog_bell.kbl", "../gong.ogg", "--trim", status=2))
        self.assertIn(
            "--mute", self.run_in("swap", "belfry/fog_bell.kbl", "../gong.ogg", "--as-is", "--mute", status=2)
        )

    def test_check(self) -> None:
        (self.folder / "gong.wav").write_bytes(wav(np.full((9000, 2), 32767, np.int16), 44100))
        self.run_in("swap", "belfry/chorus.kbi/bass", "../gong.wav", "--as-is")
        self.run_in("swap", "belfry/dawn_bell.kbl", "../gong.wav", "--as-is")
        own = bytearray((self.kept / "belfry/fog_bell.kbl").read_bytes())
        own[16:20] = (1 << 20).to_bytes(4, "little")  # a loop behind the end
        (self.folder / "fog.kbl").write_bytes(own)
        self.run_in("swap", "belfry/fog_bell.kbl", "../fog.kbl")
        problems = json.loads(self.volvex("check", "--json", cwd=self.at, status=1))
        said = " ".join(problem["message"] for problem in problems)
        for word in (
            "its rate is 44,100 Hz, the game's own is 11,025",
            "it is stereo, the game's own is mono",
            "as loud as can be",
            "its loop ends at frame 1,048,576",
            "this is wav, the game's own is a sound (Kelpwick bell)",
        ):
            self.assertIn(word, said)


if __name__ == "__main__":
    unittest.main()
