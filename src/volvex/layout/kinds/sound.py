"""Sounds in a format of the game's own: a head, and samples in some encoding, or a whole open file."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec.samples.layout import BLOCKS, ORDERS, sample_layout
from volvex.errors import UsageError
from volvex.layout.model import Attribute, ChecksumOf, Field, IntegerType, Layout, Number, Place

RATE, CHANNELS, BITS, ENCODING, BLOCK, FRAMES = ("rate", "channels", "bits", "encoding", "block size", "frames")
LOOP_START, LOOP_END, ORDER = ("loop start", "loop end", "sample order")
SAMPLES = "samples"
FACTS = (RATE, CHANNELS, BITS, ENCODING, BLOCK, FRAMES, LOOP_START, LOOP_END, ORDER)

ATTRIBUTES: dict[str, tuple[type, ...]] = dict.fromkeys((*FACTS, SAMPLES), (IntegerType,))
SINGLE = FACTS  # of these a file has one
OF = {**dict.fromkeys(FACTS, "sound"), SAMPLES: "samples"}
TABLED = (ENCODING, ORDER)
WORDED = (RATE,)
NEEDS = (SAMPLES,)
PARTS = ()
WHOLE = ("wav", "aiff", "au", "flac", "vorbis", "opus", "mp3")  # whole open files in place of samples
HEADLESS = ("wav", "aiff", "flac")  # of which the head may be made of fields
HERTZ = "hz"  # before a rate in a table
PLAIN = "pcm"  # whole numbers of as many bits as a field gives


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What a sound's layout needs: samples, their encoding, and a rate unless an open file gives it."""
    given = {
        field.meaning.what: field
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Attribute) and not field.meaning.upper
    }
    if SAMPLES not in given:
        yield layout.place, "no field has the samples", "block data ... repeats until end, with `byte u8 samples`"
    for block in layout.blocks:
        for field in block.fields:
            what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
            if what == SAMPLES and (not block.repeats or len(block.fields) > 1 or not _is_byte(field)):
                yield (
                    field.place,
                    "samples are a repeating block with one field of u8",
                    "block data after head repeats until end",
                )
            if what in SINGLE and block.repeats:
                yield field.place, f"a sound has one {what}, and this block repeats", "a block that does not repeat"
    yield from check_encodings(layout, given)


def _is_byte(field: Field) -> bool:
    return field.type == Number(8, False, None) or getattr(field.type, "bits", 0) == 8


def check_encodings(layout: Layout, given: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """What is wrong with the encodings of samples, of a sound or of the sounds of a bank."""
    told = given.get(ENCODING)
    specs = [spec for _, spec in getattr(told.meaning, "table", ())] if told is not None else []
    place = told.place if told is not None else layout.content.place or layout.place
    if told is not None and not specs:
        yield place, "`encoding` has no table of encodings", "encoding { 0 pcm16, 1 ima_adpcm }"
    if layout.kind == "sound":
        if told is not None and layout.content.codec:
            yield place, "the encoding is given twice: here and by `content as`", "`kept`"
        if told is None and not layout.content.codec:
            yield place, "no encoding of samples is given", "a field `encoding { ... }`, or content as pcm16"
        specs = specs or [spec for spec in (layout.content.codec,) if spec]
    else:
        specs = specs or [layout.content.sounds]
    for spec in specs:
        try:
            if PLAIN in (spec, spec.partition("(")[0]):
                if BITS not in given:
                    yield place, "samples of `pcm`, and no field gives their bits", "pcm16, or a field `bits`"
            elif whole_file(spec) is None:
                made = sample_layout(spec)
                if made.order == BLOCKS and not made.block and BLOCK not in given:
                    yield (
                        place,
                        f"{spec}: channels take turns by blocks of no size",
                        "`block 512`, or a field `block size`",
                    )
            if whole_file(spec) in (None, True) and RATE not in given and not _has_rate(spec):
                yield place, f"no field gives the rate of {spec}", f"u32  {RATE}"
        except UsageError as error:
            yield place, error.message, error.hint
    orders = getattr(given[ORDER].meaning, "table", ()) if ORDER in given else ()
    if ORDER in given and (not orders or any(word not in ORDERS for _, word in orders)):
        yield (
            given[ORDER].place,
            f"a sample order is one of {', '.join(ORDERS)}",
            "sample order { 0 frames, 1 channels }",
        )
    if LOOP_END in given and LOOP_START not in given:
        yield given[LOOP_END].place, "the end of a loop, and no field gives where it begins", f"u32  {LOOP_START}"
    rates = getattr(given[RATE].meaning, "table", ()) if RATE in given else ()
    for _, word in rates:
        digits = word.removeprefix(HERTZ)
        if digits == word or not digits.isdigit() or not int(digits):
            yield given[RATE].place, f"{word} is no rate", "rate { 0 hz11025, 1 hz22050 }"


def check_bank(layout: Layout, attributes: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """Of a bank, that the encodings of its samples are known, and what is checked are stored bytes."""
    there = [attributes[what] for what in FACTS if what in attributes]
    if not layout.content.sounds and ENCODING not in attributes:
        for field in there[:1]:
            yield (
                field.place,
                f"the {field.words} of sounds, and no encoding is given",
                "content sounds pcm16",
            )
        return
    if layout.content.sounds and ENCODING in attributes:
        yield attributes[ENCODING].place, "the encoding is given twice: here and by `content sounds`", "`kept`"
    yield from check_encodings(layout, attributes)
    for _, spec in getattr(attributes[ENCODING].meaning, "table", ()) if ENCODING in attributes else ():
        if "head none" in spec:
            yield attributes[ENCODING].place, f"{spec}: in a bank, a file has its own head", spec.partition("(")[0]
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, ChecksumOf) and field.meaning.part == "content":
                yield (
                    field.place,
                    "of sounds only what is stored can be checked",
                    f"{field.meaning.algorithm} of stored content",
                )


def _has_rate(spec: str) -> bool:
    from volvex.codec.parameters import parse_spec

    return any(name == "rate" for name, _ in parse_spec(spec).given)


def whole_file(spec: str) -> bool | None:
    """Whether an encoding is a whole open file without its head (True), with it (False), or samples (None).

    UsageError for what cannot be without its head.
    """
    from volvex.codec.parameters import Parameter, parse_spec, settled

    found = parse_spec(spec)
    if found.name not in WHOLE:
        return None
    words = ("own", "none") if found.name in HEADLESS else ("own",)
    return bool(settled(found, {"head": Parameter("own", words=words)})["head"] == "none")
