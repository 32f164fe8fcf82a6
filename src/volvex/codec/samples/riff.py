"""RIFF WAVE: its chunks, what they say of the samples, loops, cues and tags (Microsoft and IBM, 1991 and 1994; RFC
2361)."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from volvex.errors import ContentError

Read = Callable[[int, int], bytes]  # offset, size -> the bytes there, fewer at the end
PCM, FLOAT, ALAW, MULAW, MS_ADPCM, IMA_ADPCM, EXTENSIBLE = 1, 3, 6, 7, 2, 17, 0xFFFE
COMPANDED = {ALAW: "alaw", MULAW: "mulaw"}
STANDARD = struct.pack("<14h", 256, 0, 512, -256, 0, 0, 192, 64, 240, 0, 460, -208, 392, -232)  # of MS ADPCM
MOST_CHUNKS = 4096
MOST_POINTS = 1 << 16  # loops or cues of a file
LARGEST_CHUNK = 1 << 24  # of those that are not samples
TAGS = {"INAM": "title", "IART": "artist", "IPRD": "album", "ICRD": "date", "IGNR": "genre", "ICMT": "comment", "ITRK": "tracknumber", "ISFT": "software", "ICOP": "copyright"}  # fmt: skip  # noqa: E501
READ = (b"smpl", b"cue ", b"LIST", b"fact")  # chunks that mean something here


@dataclass(frozen=True)
class Loop:
    """Frames that are played again and again: the first, and the one behind the last; `times`: 0 for ever."""

    start: int
    end: int
    times: int = 0


@dataclass(frozen=True)
class Cue:
    """A marked frame, with its name if it has one."""

    frame: int
    name: str = ""


@dataclass(frozen=True)
class Wave:
    """What a file's chunks say. `start`, `size`: the bytes of its samples; `total`: the frames that it gives, or
    None."""

    tag: int
    channels: int
    rate: int
    block: int
    bits: int
    start: int
    size: int
    extra: bytes = b""  # of the format, behind its 16 bytes
    total: int | None = None
    loops: tuple[Loop, ...] = ()
    cues: tuple[Cue, ...] = ()
    tags: Mapping[str, str] = field(default_factory=dict)
    chunks: tuple[tuple[bytes, bytes], ...] = ()  # others that there are, whole
    ends: bool = True  # whether it gives where its samples end
    form: bytes = b""  # the chunk of the format, whole

    @property
    def encoding(self) -> str:
        """The samples as a layout writes them; empty for an encoding that is none of ours."""
        if self.tag == PCM and self.bits in (8, 16, 24, 32):
            return f"pcm{self.bits}"
        if self.tag == FLOAT and self.bits in (32, 64):
            return f"float{self.bits}"
        if self.tag == IMA_ADPCM and self.bits == 4:
            return f"ima_adpcm(block {self.block})"
        if self.tag == MS_ADPCM and self.bits == 4:
            own = self.extra[4 : 4 + 4 * int.from_bytes(self.extra[2:4], "little")]
            own = own if own != STANDARD and len(own) % 4 == 0 else b""
            return f"ms_adpcm(block {self.block}{', coefficients hex ' + own.hex(' ') if own else ''})"
        return COMPANDED.get(self.tag, "")


def read_wave(read: Read, size: int, whole: bool = True) -> Wave:
    """What a file of some size gives; ContentError when it is damaged. Unless it is read `whole`, without chunks of
    other programs."""
    head = read(0, 12)
    if len(head) < 12 or head[:4] != b"RIFF" or head[8:] != b"WAVE":
        raise ContentError("no RIFF WAVE file")
    form, start, length = b"", -1, 0
    chunks, total, ends = list[tuple[bytes, bytes]](), None, True
    for name, at, has in _chunks(read, size):
        if name == b"data" and start < 0:
            start, length, ends = at, min(has, size - at), at + has <= size
        elif name == b"fmt " and not form:
            form = read(at, min(has, 4096))
        elif name in READ or (whole and has <= LARGEST_CHUNK):
            data = read(at, min(has, LARGEST_CHUNK))
            chunks.append((name, data))
            if name == b"fact" and len(data) >= 4:
                total = int.from_bytes(data[:4], "little")
    if len(form) < 16:
        raise ContentError("no format of its samples (chunk `fmt `)")
    tag, channels, rate, _, block, bits = struct.unpack_from("<HHIIHH", form)
    extra = form[18:] if len(form) > 18 else b""
    if tag == EXTENSIBLE and len(extra) >= 22:
        tag, extra = int.from_bytes(extra[6:8], "little"), extra[22:]
    if start < 0:
        start = size
    held = dict(chunks)
    loops, cues, tags = _loops(held.get(b"smpl", b"")), _cues(chunks), _tags(chunks)
    return Wave(
        tag, channels, rate, block, bits, start, length, extra, total, loops, cues, tags, tuple(chunks), ends, form
    )


def _chunks(read: Read, size: int) -> Iterator[tuple[bytes, int, int]]:
    at = 12
    for _ in range(MOST_CHUNKS):
        head = read(at, 8)
        if len(head) < 8 or at >= size:
            return
        has = int.from_bytes(head[4:], "little")
        yield head[:4], at + 8, has
        at += 8 + has + has % 2


def _loops(data: bytes) -> tuple[Loop, ...]:
    if len(data) < 36:
        return ()
    count = min(int.from_bytes(data[28:32], "little"), MOST_POINTS, (len(data) - 36) // 24)
    rows = (struct.unpack_from("<6I", data, 36 + 24 * number) for number in range(count))
    return tuple(Loop(start, end + 1, times) for _, _, start, end, _, times in rows)


def _cues(chunks: Sequence[tuple[bytes, bytes]]) -> tuple[Cue, ...]:
    data = dict(chunks).get(b"cue ", b"")
    count = min(int.from_bytes(data[:4], "little"), MOST_POINTS, max(0, len(data) - 4) // 24)
    names: dict[int, str] = {}
    for kind, item, text in _listed(chunks):
        if kind == b"adtl" and item == b"labl" and len(text) >= 4:
            names[int.from_bytes(text[:4], "little")] = _text(text[4:])
    rows = (struct.unpack_from("<II4sIII", data, 4 + 24 * number) for number in range(count))
    return tuple(Cue(frame, names.get(number, "")) for number, _, _, _, _, frame in rows)


def _tags(chunks: Sequence[tuple[bytes, bytes]]) -> dict[str, str]:
    found = ((item.decode("latin-1"), _text(text)) for kind, item, text in _listed(chunks) if kind == b"INFO")
    return {TAGS.get(name, name): text for name, text in found}


def _text(data: bytes) -> str:
    data = data.split(b"\0")[0]
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def _listed(chunks: Sequence[tuple[bytes, bytes]]) -> Iterator[tuple[bytes, bytes, bytes]]:
    """The items of all lists: of which list, what it is, its bytes."""
    for name, data in chunks:
        if name != b"LIST":
            continue
        at = 4
        while at + 8 <= len(data):
            has = int.from_bytes(data[at + 4 : at + 8], "little")
            yield data[:4], data[at : at + 4], data[at + 8 : at + 8 + has]
            at += 8 + has + has % 2


def chunk(name: bytes, data: bytes) -> bytes:
    """A chunk with its length, filled up to an even number of bytes."""
    return name + len(data).to_bytes(4, "little") + data + b"\0" * (len(data) % 2)


def header(
    encoding: str,
    channels: int,
    rate: int,
    size: int,
    behind: bytes = b"",
    frames: int = 0,
    block: int = 0,
    form: bytes = b"",
) -> bytes:
    """A file up to its samples, of `size` bytes and `frames` frames; `behind`: the chunks behind these.

    `encoding`: as a layout writes it, without parameters. `form`: the chunk of the format, where a file had one that is
    right.
    """
    bits = {"mulaw": 8, "alaw": 8, "ima_adpcm": 4, "ms_adpcm": 4}.get(encoding) or int(encoding.lstrip("pcmfloat"))
    tags = {"alaw": ALAW, "mulaw": MULAW, "ima_adpcm": IMA_ADPCM, "ms_adpcm": MS_ADPCM}
    tag = tags.get(encoding, FLOAT if encoding.startswith("float") else PCM)
    align, speed, extra = block or channels * bits // 8, rate * channels * bits // 8, b""
    if tag in (IMA_ADPCM, MS_ADPCM):
        from volvex.codec.samples.layout import sample_layout

        each = sample_layout(encoding, block=block).frames(block, channels)
        speed, extra = rate * block // max(1, each), struct.pack("<H", each)
        if tag == MS_ADPCM:
            extra += struct.pack("<H", len(STANDARD) // 4) + STANDARD
    if not form:
        form = struct.pack("<HHIIHH", tag, channels, rate, min(speed, 0xFFFFFFFF), align, bits)
        form += struct.pack("<H", len(extra)) + extra if tag != PCM else b""
    front = chunk(b"fmt ", form) + (chunk(b"fact", struct.pack("<I", frames)) if tag != PCM else b"")
    total = 4 + len(front) + 8 + size + size % 2 + len(behind)
    if total > 0xFFFFFFFF:
        raise ContentError(f"{total:,} bytes are more than a WAV file can have")
    return b"RIFF" + struct.pack("<I", total) + b"WAVE" + front + b"data" + struct.pack("<I", size)


def marks(
    loops: Sequence[Loop], cues: Sequence[Cue], tags: Mapping[str, str], rate: int, was: Wave | None = None
) -> bytes:
    """The chunks for loops, cues and tags; of a file that there `was`, those that say the same stay as they are, and so
    do others."""
    made = {b"smpl": b"", b"cue ": b"", b"adtl": b"", b"INFO": b""}
    kept = was if was is not None else Wave(0, 0, 0, 0, 0, 0, 0)
    made[b"smpl"] = _sampler(loops, rate, dict(kept.chunks).get(b"smpl", b"")) if loops else b""
    if cues:
        rows = b"".join(
            struct.pack("<II4sIII", number, one.frame, b"data", 0, 0, one.frame) for number, one in enumerate(cues, 1)
        )
        made[b"cue "] = chunk(b"cue ", struct.pack("<I", len(cues)) + rows)
        labels = ((number, one.name) for number, one in enumerate(cues, 1) if one.name)
        named = b"".join(chunk(b"labl", struct.pack("<I", number) + name.encode() + b"\0") for number, name in labels)
        made[b"adtl"] = chunk(b"LIST", b"adtl" + named) if named else b""
    ids = {word: name for name, word in TAGS.items()}
    items = ((ids.get(word, word), text) for word, text in tags.items())
    info = b"".join(
        chunk(name.encode("latin-1"), text.encode() + b"\0")
        for name, text in items
        if len(name) == 4 and name.isascii()
    )
    made[b"INFO"] = chunk(b"LIST", b"INFO" + info) if info else b""
    same = {b"smpl": tuple(loops) == tuple(kept.loops), b"INFO": dict(tags) == dict(kept.tags)}
    same |= dict.fromkeys((b"cue ", b"adtl"), tuple(cues) == tuple(kept.cues))
    out = b""
    for name, data in kept.chunks:
        what = data[:4] if name == b"LIST" else name
        if name != b"fact":
            out += chunk(name, data) if same.get(what, True) else made.get(what, b"")
            made[what] = b""
    return out + b"".join(made.values())


def _sampler(loops: Sequence[Loop], rate: int, old: bytes) -> bytes:
    """The chunk of a sampler, with what it had besides loops."""
    front = old[:28] if len(old) >= 36 else struct.pack("<7I", 0, 0, 1_000_000_000 // max(1, rate), 60, 0, 0, 0)
    rows = b"".join(
        struct.pack("<6I", number, 0, one.start, one.end - 1, 0, one.times) for number, one in enumerate(loops)
    )
    return chunk(b"smpl", front + struct.pack("<II", len(loops), 0) + rows)
