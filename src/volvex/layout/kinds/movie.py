"""Movies in a container of the game's own around open streams: a head, an index of packets, and these."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.model import Attribute, IntegerType, Layout, Number, Place

WIDTH, HEIGHT, FRAMES, RATE, BASE = ("width", "height", "frames", "frame rate", "frame rate base")
VIDEO, AUDIO, SOUND_RATE, CHANNELS = ("video codec", "audio codec", "rate", "channels")
START, SIZE, STREAM, KEY, TIME = PACKET = (
    "start of packet",
    "size of packet",
    "stream of packet",
    "key frame",
    "time of packet",
)
PACKETS = "packets"
FACTS = (WIDTH, HEIGHT, FRAMES, RATE, BASE, VIDEO, AUDIO, SOUND_RATE, CHANNELS)

ATTRIBUTES: dict[str, tuple[type, ...]] = dict.fromkeys((*FACTS, *PACKET, PACKETS), (IntegerType,))
SINGLE = FACTS  # of these a file has one
OF = {**dict.fromkeys(FACTS, "movie"), **dict.fromkeys(PACKET, "packet"), PACKETS: "packets"}
TABLED = (VIDEO, AUDIO, STREAM)
WORDED = ()
NEEDS = (WIDTH, HEIGHT, RATE, VIDEO, SIZE, PACKETS)
PARTS = ()
STREAMS = ("video", "audio")


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What a movie's layout needs: size, rate, codec, an index, and the packets."""
    given = {
        field.meaning.what: field
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Attribute) and not field.meaning.upper
    }
    for what in NEEDS:
        if what not in given:
            yield layout.place, f"no field gives the {what}", f"u32  {what}"
    for block in layout.blocks:
        for field in block.fields:
            what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
            if what in SINGLE and block.repeats:
                yield field.place, f"a movie has one {what}, and this block repeats", "a block that does not repeat"
            if what in PACKET and not block.repeats:
                yield field.place, f"the {what} is in a row of records", "block index after head repeats"
            plain = field.type == Number(8, False, None) or getattr(field.type, "bits", 0) == 8
            if what == PACKETS and (not block.repeats or len(block.fields) > 1 or not plain):
                yield (
                    field.place,
                    "packets are a repeating block with one field of u8",
                    "block data after index repeats until end",
                )
    if AUDIO in given and not {STREAM, SOUND_RATE, CHANNELS} <= set(given):
        yield (
            given[AUDIO].place,
            "a stream of sound needs `stream of packet`, `rate` and `channels`",
            f"u8  {STREAM} {{ 0 video, 1 audio }}",
        )
    words = [word for _, word in getattr(given[STREAM].meaning, "table", ())] if STREAM in given else ["video"]
    if "video" not in words or set(words) - set(STREAMS):
        yield given[STREAM].place, "streams are `video` and `audio`", f"{STREAM} {{ 0 video, 1 audio }}"
