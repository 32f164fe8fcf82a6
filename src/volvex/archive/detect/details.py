"""What stands in the heads of well-known kinds of files beside their kind: versions, sizes of pictures, codecs. A function a kind."""

from __future__ import annotations

import struct
from collections.abc import Callable

from volvex.archive.detect import lengths


def detail(kind: str, head: bytes) -> str:
    """The version and the like of a file of that kind that begins with `head` (some hundred bytes); empty where nothing is known."""
    of = _OF.get(kind)
    try:
        return of(head) if of is not None else ""
    except (struct.error, IndexError, KeyError, UnicodeDecodeError):  # shorter than such files are
        return ""


def _png(head: bytes) -> str:
    colours = {0: "grey", 2: "RGB", 3: "palette", 4: "grey with alpha", 6: "RGBA"}
    return "{} x {}, {} bits, {}".format(*struct.unpack_from(">IIB", head, 16), colours[head[25]])


def _bmp(head: bytes) -> str:
    if head[14] == 12:
        return "{} x {}, {} bits".format(*struct.unpack_from("<HH2xH", head, 18))
    width, height, bits = struct.unpack_from("<ii2xH", head, 18)
    return f"version { ({40: 3, 108: 4, 124: 5}.get(head[14], 3)) }, {width} x {abs(height)}, {bits} bits"


def _gif(head: bytes) -> str:
    return "{}, {} x {}".format(head[3:6].decode("ascii"), *struct.unpack_from("<HH", head, 6))


def _tga(head: bytes) -> str:
    width, height, depth = struct.unpack_from("<HHB", head, 12)
    return f"{width} x {height}, {depth} bits" + (", run-length" if head[2] > 8 else "")


def _dds(head: bytes) -> str:
    height, width, levels = struct.unpack_from("<II8xI", head, 12)
    code = head[84:88].rstrip(b"\0").decode("ascii")
    form = (
        f"DX10, format {int.from_bytes(head[128:132], 'little')}"
        if code == "DX10"
        else code or f"{int.from_bytes(head[88:92], 'little')} bits"
    )
    return f"{width} x {height}, {form}, {max(1, levels)} mip levels"


def _ktx(head: bytes) -> str:
    order = "<" if head[12:16] == b"\1\2\3\4" else ">"
    form, width, height, levels = struct.unpack_from(f"{order}I4x2I", head, 28)[:1] + struct.unpack_from(
        f"{order}2I12xI", head, 36
    )
    return f"version 1.1, {width} x {height}, internal format {form:#x}, {max(1, levels)} mip levels"


def _ktx2(head: bytes) -> str:
    form, width, height, levels = struct.unpack_from("<I4x2I12xI", head, 12)
    return f"version 2.0, {width} x {height}, format {form}, {max(1, levels)} mip levels"


def _midi(head: bytes) -> str:
    return "type {}, {} tracks, {} ticks a quarter".format(*struct.unpack_from(">HHH", head, 8))


def _mp3(head: bytes) -> str:
    if head.startswith(b"ID3"):
        return f"behind an ID3v2.{head[3]} tag"
    version, rate = head[1] >> 3 & 3, head[2] >> 2 & 3
    return f"MPEG { ({3: '1', 2: '2', 0: '2.5'}[version]) } layer III, {lengths.RATES[version][rate]:,} Hz, {'mono' if head[3] >> 6 == 3 else 'stereo'}"


def _wav(head: bytes) -> str:
    at = head.find(b"fmt ")
    form, channels, rate, bits = struct.unpack_from("<HHI6xH", head, at + 8)
    named = {1: "PCM", 2: "MS ADPCM", 3: "float", 6: "A-law", 7: "mu-law", 17: "IMA ADPCM", 0xFFFE: "extensible"}
    return f"{named.get(form, f'format {form:#x}')}, {channels} channels, {rate:,} Hz, {bits} bits"


def _ogg(head: bytes) -> str:
    body = head[27 + head[26] :]
    known = {
        b"\x01vorbis": "Vorbis",
        b"OpusHead": "Opus",
        b"\x7fFLAC": "FLAC",
        b"\x80theora": "Theora",
        b"Speex   ": "Speex",
    }
    return next((name for mark, name in known.items() if body.startswith(mark)), "")


def _sfnt(head: bytes) -> str:
    return f"{int.from_bytes(head[4:6], 'big')} tables"


def _ttc(head: bytes) -> str:
    return f"version {head[5]}.{head[7]}, {int.from_bytes(head[8:12], 'big')} fonts"


def _mo(head: bytes) -> str:
    order = "<" if head[0] == 0xDE else ">"
    revision, count = struct.unpack_from(f"{order}II", head, 4)
    return f"revision {revision >> 16}.{revision & 0xFFFF}, {count} texts, {'little' if order == '<' else 'big'} endian"


def _mp4(head: bytes) -> str:
    return f"brand {head[8:12].decode('ascii').strip()}"


def _class(head: bytes) -> str:
    return f"version {int.from_bytes(head[6:8], 'big')}.{int.from_bytes(head[4:6], 'big')}"


def _pdf(head: bytes) -> str:
    return f"version {head[5:8].decode('ascii')}"


_OF: dict[str, Callable[[bytes], str]] = {
    "png": _png, "bmp": _bmp, "gif": _gif, "tga": _tga, "dds": _dds, "ktx": _ktx, "ktx2": _ktx2, "midi": _midi, "mp3": _mp3, "wav": _wav,
    "ogg": _ogg, "ttf": _sfnt, "otf": _sfnt, "ttc": _ttc, "mo": _mo, "mp4": _mp4, "class": _class, "pdf": _pdf,
}  # fmt: skip
