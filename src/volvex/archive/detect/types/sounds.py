"""Sounds and movies. Sources: Standard MIDI Files 1.0; ISO/IEC 11172-3 and 13818-3 (MPEG audio); RFC 3533 (Ogg)."""

from __future__ import annotations

import struct

from volvex.archive.detect.types._base import FileType, Measured, riff_length
from volvex.codec.samples.heads import MP3_RATES, mp3_frame
from volvex.source import Source

_LEAST_FRAMES, _MOST_FRAMES = 6, 1 << 16


def _midi_length(source: Source, at: int) -> Measured:
    head = source.peek(at, 14)
    if len(head) < 14 or head[4:8] != b"\0\0\0\6":
        return None
    place, tracks = at + 14, int.from_bytes(head[10:12], "big")
    for _ in range(tracks):
        chunk = source.peek(place, 8)
        if chunk[:4] != b"MTrk":
            return None
        place += 8 + int.from_bytes(chunk[4:8], "big")
    return (place - at, None) if tracks and place <= source.size else None


def _mod_detail(head: bytes) -> str:
    """The title: the first 20 bytes."""
    return head[:20].partition(b"\0")[0].decode("cp437").strip()


def _midi_detail(head: bytes) -> str:
    return "type {}, {} tracks, {} ticks a quarter".format(*struct.unpack_from(">HHH", head, 8))


def _frame_size(head: bytes) -> int:
    frame = mp3_frame(head)
    return frame.size if frame is not None else 0


def _mp3_length(source: Source, at: int) -> Measured:
    place = at
    head = source.peek(at, 10)
    if head[:3] == b"ID3":
        if head[3] not in (2, 3, 4) or any(byte & 0x80 for byte in head[6:10]):
            return None
        place += 10 + sum((byte & 0x7F) << shift for byte, shift in zip(head[6:10], (21, 14, 7, 0), strict=True))
    frames = 0
    while frames < _MOST_FRAMES and (size := _frame_size(source.peek(place, 4))) and place + size <= source.size:
        place, frames = place + size, frames + 1
    if frames < _LEAST_FRAMES:
        return None
    return place + (128 if source.peek(place, 3) == b"TAG" else 0) - at, None


def _mp3_detail(head: bytes) -> str:
    if head.startswith(b"ID3"):
        return f"behind an ID3v2.{head[3]} tag"
    version, rate = head[1] >> 3 & 3, head[2] >> 2 & 3
    return (
        f"MPEG { ({3: '1', 2: '2', 0: '2.5'}[version]) } layer III, {MP3_RATES[version][rate]:,} Hz, "
        f"{'mono' if head[3] >> 6 == 3 else 'stereo'}"
    )


def _wav_detail(head: bytes) -> str:
    at = head.find(b"fmt ")
    form, channels, rate, bits = struct.unpack_from("<HHI6xH", head, at + 8)
    named = {1: "PCM", 2: "MS ADPCM", 3: "float", 6: "A-law", 7: "mu-law", 17: "IMA ADPCM", 0xFFFE: "extensible"}
    return f"{named.get(form, f'format {form:#x}')}, {channels} channels, {rate:,} Hz, {bits} bits"


def _ogg_length(source: Source, at: int) -> Measured:
    place = at
    while source.peek(place, 4) == b"OggS":
        head = source.peek(place, 27)
        if len(head) < 27 or head[4]:
            break
        laces = source.peek(place + 27, head[26])
        place += 27 + len(laces) + sum(laces)
    return (min(place, source.size) - at, None) if place > at else None


def _ogg_detail(head: bytes) -> str:
    body = head[27 + head[26] :]
    known = {
        b"\x01vorbis": "Vorbis",
        b"OpusHead": "Opus",
        b"\x7fFLAC": "FLAC",
        b"\x80theora": "Theora",
        b"Speex   ": "Speex",
    }
    return next((name for mark, name in known.items() if body.startswith(mark)), "")


def _is_theora(head: bytes) -> bool:
    body = head[27 + head[26] :] if len(head) > 27 else b""
    return body.startswith((b"\x80theora", b"fishead", b"\x01video", b"OVP80"))


def _is_mp4(head: bytes) -> bool:
    return len(head) > 12 and all(32 <= byte < 127 for byte in head[8:12])


def _mp4_detail(head: bytes) -> str:
    return f"brand {head[8:12].decode('ascii').strip()}"


SOUNDS = ("wav", "aiff", "au", "caf", "voc", "ogg", "flac", "mp3")  # those that have samples
MOVIES = ("mp4", "webm", "avi", "ogv", "mpeg", "flv", "asf")  # those that have pictures
TYPES = (
    FileType("wav", ((b"WAVE", 8),), b"RIFF", detail=_wav_detail, embedded=rb"RIFF.{4}WAVE", measure=riff_length),
    FileType("avi", ((b"AVI ", 8),), b"RIFF", embedded=rb"RIFF.{4}AVI\x20", measure=riff_length),
    FileType("aiff", ((b"AIFF", 8), (b"AIFC", 8)), b"FORM"),
    FileType("au", ((b".snd\0\0\0", 0),)),
    FileType("caf", ((b"caff\0\x01", 0),)),
    FileType("voc", ((b"Creative Voice File\x1a", 0),)),
    FileType("ogv", ((b"OggS", 0),), fits=_is_theora, detail=_ogg_detail, measure=_ogg_length),
    FileType("ogg", ((b"OggS", 0),), detail=_ogg_detail, embedded=rb"OggS", measure=_ogg_length),
    FileType("flac", ((b"fLaC", 0),)),
    FileType("mp3", ((b"ID3", 0),), detail=_mp3_detail, embedded=rb"ID3[\x02-\x04]", measure=_mp3_length),
    FileType(
        "mp3",
        fits=lambda head: _frame_size(head[:4]) > 0,
        detail=_mp3_detail,
        embedded=rb"\xff[\xe2\xe3\xf2\xf3\xfa\xfb][\x10-\xef]",
        measure=_mp3_length,
    ),
    FileType(
        "midi",
        ((b"MThd\0\0\0\6", 0),),
        detail=_midi_detail,
        embedded=rb"MThd\0\0\0\x06",
        measure=_midi_length,
        extension="mid",
    ),
    FileType("xm", ((b"Extended Module: ", 0),)),
    FileType(  # tracker modules of four channels and more: their mark is behind title, samples and order
        "mod",
        tuple(
            (mark, 1080) for mark in (b"M.K.", b"M!K!", b"FLT4", b"FLT8", b"4CHN", b"6CHN", b"8CHN", b"CD81", b"OCTA")
        ),
        detail=_mod_detail,
    ),
    FileType("it", ((b"IMPM", 0),)),
    FileType("s3m", ((b"SCRM", 44),), holds=True),
    FileType("mp4", ((b"ftyp", 4),), fits=_is_mp4, detail=_mp4_detail, holds=True),
    FileType("mpeg", ((b"\0\0\1\xba", 0), (b"\0\0\1\xb3", 0))),
    FileType("flv", ((b"FLV\1", 0),)),
    FileType("asf", ((bytes.fromhex("3026b2758e66cf11a6d900aa0062ce6c"), 0),)),
    FileType("webm", ((b"\x1a\x45\xdf\xa3", 0),)),
)
