"""Movies: known by their heads, drawn, replaced by clips of any form; decoders that die; containers of games' own."""

from __future__ import annotations

import io
import json
import os
import struct
import subprocess
import sys
import time
import unittest
import unittest.mock
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from PIL import Image

from tests.support import Case, KeptGame
from volvex.apart import apart, report
from volvex.asset.movie import encode, work
from volvex.asset.movie.model import Audio, Movie
from volvex.asset.movie.open import OpenedMovie, open_movie
from volvex.asset.movie.own_layout import LayoutMovie
from volvex.errors import FormatError, LayoutError, ManyErrors, RefusedError, VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

FORMS = (
    ("webm", "vp8", "opus", 48000),
    ("webm", "vp9", "vorbis", 44100),
    ("mp4", "h264", "aac", 44100),
    ("avi", "mpeg4", "mp3", 44100),
    ("avi", "mjpeg", "pcm_s16le", 22050),
    ("mpeg", "mpeg1video", "mp2", 44100),
    ("ogv", "vp8", "vorbis", 44100),
    ("flv", "flv1", "mp3", 44100),
    ("asf", "wmv2", "wmav2", 44100),
    ("mp4", "mpeg4", "", 0),
)
LAYOUT = """layout "films"  kind movie
little endian
known by "KFLM" at 0
block head at 0
    mark    4 bytes  is "KFLM"
    width   u16      width
    height  u16      height
    rate    u16      frame rate
    count   u16      count of index
    video   u8       video codec { 1 mpeg1video, 2 mjpeg, 3 vp8 }
block index after head repeats
    size    u32      size of packet
    key     u8       key frame
    odd     u8       kept
block data after index repeats until end
    byte    u8       packets
"""


def clip(
    form: str, codec: str, sound: str, rate: int, size: tuple[int, int] = (64, 48), fps: int = 25, seconds: float = 0.6
) -> bytes:
    """A bright bar that moves from left to right, over a tone."""
    wide, high = size
    pixels = "yuvj420p" if codec == "mjpeg" else "yuv420p"
    audio = (Audio(sound, rate, 2, "stereo", 128_000),) if sound else ()
    like = Movie(form, codec, wide, high, Fraction(fps), 0, 0, pixels, 300_000, audio)
    count = round(fps * seconds)

    def frames() -> Iterator[Any]:
        for number in range(count):
            rows = np.zeros((high, wide, 3), np.uint8)
            rows[:, number * wide // count :][:, : wide // 6] = 250
            yield av.VideoFrame.from_ndarray(rows, format="rgb24")

    tone = np.stack([np.sin(np.arange(round(rate * seconds)) / 20) / 2] * 2).astype(np.float32) if sound else None
    wanted = encode.Wanted(encode.MUXERS[form], like)
    return encode._Encoder(wanted, Movie("", "", 1, 1, Fraction(1), 0, seconds, ""), []).run(frames(), tone)


def opened(data: bytes) -> OpenedMovie:
    found = open_movie(BytesSource(data, "movie"))
    assert found is not None
    return found


def bar(opened_movie: OpenedMovie) -> list[int]:
    """Where the bright bar is in some frames, as shares of the width in hundredths; -1 where there is none."""
    found = []
    for _, pixels in opened_movie.pictures("movie", 3, 64, 64):
        columns = np.flatnonzero(pixels[pixels.shape[0] // 2, :, 1] > 128)
        found.append(round(100 * float(columns.mean()) / pixels.shape[1]) if len(columns) else -1)
    return found


def _sleep(seconds: float) -> int:
    report(1)
    time.sleep(seconds)
    return 7


def _nothing_encodes(name: str, function: object, *values: object, **more: object) -> object:
    raise RefusedError("nothing here encodes vp8", "another file")


def _number() -> int:
    return os.getpid()


def _die() -> None:
    os._exit(3)


def _fail() -> None:
    raise KeyError("a mistake")


class Apart(unittest.TestCase):
    def test_a_process_that_dies_or_hangs(self) -> None:
        with self.assertRaisesRegex(FormatError, "film.bin.*stopped working"):
            apart("film.bin", _die)
        with self.assertRaisesRegex(FormatError, "did not end within"):
            apart("film.bin", _sleep, 60.0, patience=0.5)
        heard: list[int] = []
        self.assertEqual(apart("film.bin", _sleep, 0.0, on_progress=heard.append), 7)
        self.assertEqual(heard, [1])
        with self.assertRaisesRegex(RuntimeError, "a mistake"):  # ours is not the file's
            apart("film.bin", _fail)

    def test_a_process_ends_with_that_which_started_it(self) -> None:
        program = (
            "import os; from volvex.apart import apart; from tests.test_movies import _number;"
            "print(apart('film.bin', _number), flush=True); os._exit(1)"  # without a word to anyone
        )
        done = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, cwd=Path(__file__).parents[1]
        )
        number = int(done.stdout)
        for _ in range(100):
            try:
                os.kill(number, 0)
            except OSError:
                return
            time.sleep(0.05)
        self.fail(f"process {number} is still there")


class Encoding(unittest.TestCase):
    def test_each_form_is_known_and_replaced(self) -> None:
        user = clip("mp4", "mpeg4", "aac", 48000, (80, 80), 20, 1.0)
        for form, codec, sound, rate in FORMS:
            with self.subTest(f"{form}, {codec}"):
                data = clip(form, codec, sound, rate)
                if form in ("webm", "avi"):  # the same bytes each time
                    self.assertEqual(data, clip(form, codec, sound, rate))
                own = opened(data)
                like = own.movie
                self.assertEqual((like.form, like.codec, like.width, like.height, like.rate), (form, codec, 64, 48, 25))
                self.assertEqual(
                    [(one.codec, one.rate, one.channels) for one in like.audio], [(sound, rate, 2)] if sound else []
                )
                self.assertLess(abs(like.duration - 0.6), 0.1)
                positions = bar(own)
                self.assertTrue(positions[0] < positions[1] < positions[2], positions)
                wanted = encode.Wanted(encode.MUXERS[form], like, longest=like.duration)
                made, notes = encode.encoded(user, "user.mp4", wanted)
                again = opened(made)
                for what in ("form", "codec", "width", "height", "rate", "container", "pixels"):
                    self.assertEqual(getattr(again.movie, what), getattr(like, what))
                self.assertEqual([one.codec for one in again.movie.audio], [one.codec for one in like.audio])
                self.assertLess(abs(again.movie.duration - like.duration), 0.15)
                self.assertTrue(any("fit" in note for note in notes) and any("20 to 25" in note for note in notes))
                self.assertTrue(any("cut at" in note for note in notes))

    def test_fit_and_fill(self) -> None:
        like = opened(clip("avi", "mjpeg", "", 0)).movie
        tall = Movie("avi", "mjpeg", 40, 80, Fraction(25), 0, 0, "yuvj420p", 300_000)
        white = [av.VideoFrame.from_ndarray(np.full((80, 40, 3), 250, np.uint8), format="rgb24")]
        user = encode._Encoder(encode.Wanted("avi", tall), tall, []).run(iter(white), None)
        for scale, edges in (("fit", True), ("fill", False)):
            made, _ = encode.encoded(user, "user.avi", encode.Wanted("avi", like, scale))
            pixels = opened(made).pictures("movie", 1, 64, 64)[0][1]
            self.assertEqual(pixels.shape[:2], (48, 64))
            self.assertGreater(int(pixels[:, 24:40].min()), 200)
            self.assertEqual(int(pixels[:, :15].max()) < 40, edges)

    def test_silence_and_blank(self) -> None:
        for form, codec, sound, rate in FORMS[:7]:
            with self.subTest(f"{form}, {codec}"):
                like = opened(clip(form, codec, sound, rate)).movie
                wanted = encode.Wanted(encode.MUXERS[form], like, mute=True)
                muted, _ = encode.encoded(clip("mp4", "mpeg4", "aac", 44100), "user.mp4", wanted)
                _, samples = work.sound_of(muted, "muted")
                self.assertLess(float(np.abs(samples).max()), 0.001)
                blank, _ = encode.encoded(None, "blank", wanted)
                own = opened(blank)
                self.assertEqual((own.movie.codec, len(own.movie.audio)), (codec, len(like.audio)))
                found = own.pictures("blank", 5, 64, 64)
                self.assertEqual(len(found), 1)
                self.assertLess(int(found[0][1].max()), 12)
        silent = clip("mp4", "mpeg4", "", 0)
        _, notes = encode.encoded(silent, "user.mp4", encode.Wanted("avi", opened(clip(*FORMS[3])).movie))
        self.assertIn("the clip has no sound: the movie's is silent", notes)

    def test_what_nothing_here_encodes(self) -> None:
        like = opened(clip(*FORMS[0])).movie
        for changed, said in (
            ({"codec": "theora"}, "nothing here encodes theora"),
            ({"codec": "opus"}, "nothing here encodes opus"),
            ({"audio": (Audio("cook", 44100, 2, "stereo"),)}, "nothing here encodes cook"),
        ):
            values = {**like.__dict__, **changed}
            with self.assertRaisesRegex(RefusedError, said):
                encode.require_encoders(encode.Wanted("webm", Movie(**values)))
        with self.assertRaisesRegex(RefusedError, "nothing here writes movies"):
            encode.require_encoders(encode.Wanted("thp", like))

    def test_the_page_lists_what_can_be_written(self) -> None:
        page = (Path(__file__).parents[1] / "docs" / "movies.md").read_text(encoding="utf-8")
        there = encode.encoders()
        for kind in ("video", "audio"):
            listed = page.split(f"<!-- {kind} -->")[1].split("<!--")[0]
            names = {word.strip("`,. ") for word in listed.split() if word.startswith("`")}
            self.assertTrue(names)
            self.assertEqual(names - set(there[kind]), set())

    def test_damaged(self) -> None:
        for form, codec, sound, rate in (FORMS[0], FORMS[2], FORMS[4]):
            data = clip(form, codec, sound, rate)
            for at in range(0, len(data), max(1, len(data) // 25)):
                for made in (data[:at], data[:at] + bytes([data[at] ^ 0xFF]) + data[at + 1 :]):
                    try:
                        found = open_movie(BytesSource(made, "damaged"))
                        if found is not None:
                            found.pictures("damaged", 2, 32, 32)
                    except VolvexError:
                        pass


class OwnContainer(unittest.TestCase):
    def made(self, codec: str = "mpeg1video") -> bytes:
        number = {"mpeg1video": 1, "mjpeg": 2, "vp8": 3}[codec]
        found = list[tuple[bytes, bool]]()
        with av.open(io.BytesIO(clip("avi" if codec != "vp8" else "webm", codec, "", 0))) as container:
            for packet in container.demux(container.streams.video[0]):  # type: ignore[union-attr]
                if packet.size:
                    found.append((bytes(packet), packet.is_keyframe))
        index = b"".join(struct.pack("<IBB", len(data), key, 5) for data, key in found)
        head = b"KFLM" + struct.pack("<HHHHB", 64, 48, 25, len(found), number)
        return head + index + b"".join(data for data, _ in found)

    def setUp(self) -> None:
        self.form = LayoutMovie(parse_layout(LAYOUT, "films.layout"))

    def test_there_and_back(self) -> None:
        for codec in ("mpeg1video", "mjpeg", "vp8"):
            with self.subTest(codec):
                data = self.made(codec)
                source = BytesSource(data, "film.kfm")
                inner = self.form.as_open(source)
                movie = opened(inner)
                self.assertEqual((movie.movie.codec, movie.movie.width, movie.movie.frames), (codec, 64, 15))
                positions = bar(movie)
                self.assertTrue(positions[0] < positions[1] < positions[2], positions)
                self.assertEqual(self.form.written(source, inner), data)
                wanted = encode.Wanted("matroska", movie.movie, bare=True)
                user = clip("mp4", "mpeg4", "", 0, (30, 30), 10, 1.2)
                new = self.form.written(source, encode.encoded(user, "user.mp4", wanted)[0])
                again = BytesSource(new, "film.kfm")
                self.assertEqual(len(self.form.read(again)[2]), 30)
                self.assertEqual(
                    {row[5] for row in struct.iter_unpack("<4BBB", new[13 : 13 + 6 * 30])}, {5}
                )  # what is kept
                self.assertEqual(opened(self.form.as_open(again)).movie.codec, codec)

    def test_damaged(self) -> None:
        data = self.made("mjpeg")
        for at, value, said in (
            (4, b"\0\0", "pictures of 0"),
            (8, b"\0\0", "0 / 1 a second"),
            (12, b"\x09", "9 is no video codec"),
            (13, b"\xff\xff\xff\x7f", "packet 0 ends"),
        ):
            with self.assertRaisesRegex(FormatError, said):
                self.form.read(BytesSource(data[:at] + value + data[at + len(value) :], "film.kfm"))
        for at in range(0, len(data), len(data) // 30):
            try:
                movie = opened(
                    self.form.as_open(BytesSource(data[:at] + bytes([data[at] ^ 255]) + data[at + 1 :], "film.kfm"))
                )
                movie.pictures("film", 2, 20, 20)
            except VolvexError:
                pass

    def test_layouts_that_are_not_sound(self) -> None:
        for old, new, said in (
            ("width   u16      width", "width   u16      kept", "no field gives the width"),
            ("u8       packets", "u8       kept", "no field gives the packets"),
            ("u16      frame rate", "u16      size of packet", "in a row of records"),
            ("key frame", "video codec { 1 mjpeg }", "this block repeats"),
            ("odd     u8       kept", "odd     u8       stream of packet { 0 audio }", "streams are"),
        ):
            with self.assertRaisesRegex((LayoutError, ManyErrors), said):
                parse_layout(LAYOUT.replace(old, new), "wrong.layout")


class Commands(Case):
    def test_show_list_and_draw(self) -> None:
        (self.folder / "film.webm").write_bytes(clip(*FORMS[0]))
        out = self.volvex("show", "film.webm")
        for word in ("64 x 48, 25 frames a second, vp8", "48,000 Hz, stereo, opus", "15 frames"):
            self.assertIn(word, out)
        self.assertIn("vp8, opus", self.volvex("list", "film.webm", "--long"))
        self.assertIn("pictures", self.volvex("picture", "film.webm", "--to", "film.png"))
        with Image.open(self.folder / "film.png") as sheet:
            self.assertGreater(sheet.width, 400)
        self.volvex("convert", "film.webm", "film.wav")
        self.assertIn("48,000 Hz, stereo", self.volvex("show", "film.wav"))
        (self.folder / "cut.webm").write_bytes((self.folder / "film.webm").read_bytes()[:60])
        self.assertIn("not a valid movie", self.complaint("show", "cut.webm", status=4))


class InTheGame(KeptGame):
    def setUp(self) -> None:
        super().setUp()
        self.kept = self.game()
        self.at = self.bench(self.kept)
        (self.folder / "clip.mp4").write_bytes(clip("mp4", "mpeg4", "aac", 44100, (90, 60), 15, 3.0))

    def test_swap_blank_and_drop(self) -> None:
        done = self.run_program("swap", "opening/opening.webm", "../clip.mp4", "--framing", "fill", cwd=self.at)
        self.assertIn("from 15 to 10 frames a second", done.stderr)
        self.assertIn("it lasts 3.0", done.stderr)
        self.volvex("swap", "opening/makers.kwm", "../clip.mp4", "--trim", "--mute", cwd=self.at)
        self.assertIn("64 x 36, 10 frames a second, vp8, opus", self.volvex("changes", cwd=self.at))
        problems = json.loads(self.volvex("check", "--json", cwd=self.at))
        self.assertTrue(any("it lasts" in problem["message"] for problem in problems))
        self.volvex("build", cwd=self.at)
        self.volvex("install", cwd=self.at)
        out = self.play(self.kept)
        self.assertIn("opening.webm    64 x 36, 30 frames, 3.00 s", out)
        self.assertRegex(out, r"makers.kwm      64 x 36, 20 frames, 2.00 s, 11025 Hz silent")
        self.volvex("swap", "opening/opening.webm", "--blank", cwd=self.at)
        self.volvex("build", cwd=self.at)
        self.volvex("install", cwd=self.at)
        self.assertRegex(self.play(self.kept), r"opening.webm    64 x 36, 1 frame, .*black")
        self.assertIn("does not start without", self.complaint("drop", "opening/makers.kwm", cwd=self.at, status=5))
        self.volvex("drop", "opening/opening.webm", cwd=self.at)
        self.volvex("build", cwd=self.at)
        self.volvex("install", cwd=self.at)
        self.assertIn("the game begins at once", self.play(self.kept))
        self.volvex("restore", cwd=self.at)
        self.assertIn("20 frames, 2.00 s, 48000 Hz", self.play(self.kept))

    def test_what_is_like_it_and_what_is_not(self) -> None:
        own = (self.kept / "opening/opening.webm").read_bytes()
        (self.folder / "same.webm").write_bytes(own + b"\xec\x81\0")  # an empty element behind it
        self.assertIn("put in as it is", self.volvex("swap", "opening/opening.webm", "../same.webm", cwd=self.at))
        self.assertEqual((self.at / "files/opening/opening.webm").read_bytes(), own + b"\xec\x81\0")
        with unittest.mock.patch("volvex.asset.movie.exchange.apart", side_effect=_nothing_encodes):
            said = self.complaint("swap", "opening/opening.webm", "../clip.mp4", cwd=self.at, status=5)
        self.assertIn("nothing here encodes vp8", said)
        self.assertIn("its size is 90 x 60, the game's own has 64 x 36", said)
        letter = "data/main.kwp/letters/en/01-arrival.txt"
        self.assertIn("is no movie", self.complaint("swap", letter, "--blank", cwd=self.at, status=2))
        self.assertIn("--trim", self.complaint("swap", letter, "../clip.mp4", "--trim", cwd=self.at, status=2))
        self.complaint("swap", "opening/no_such.webm", "--blank", cwd=self.at, status=3)
        self.volvex("swap", "opening/opening.webm", "../clip.mp4", "--as-is", cwd=self.at)
        problems = json.loads(self.volvex("check", "--json", cwd=self.at, status=1))
        self.assertTrue(any("this is mp4, the game's own is webm" in problem["message"] for problem in problems))


if __name__ == "__main__":
    unittest.main()
