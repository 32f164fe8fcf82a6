"""Textures: pictures in a format of the game's own, with levels, faces, layers, palettes."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec.pixels.order import pixel_layout
from volvex.errors import UsageError
from volvex.layout.model import Attribute, Field, IntegerType, Layout, Number, Place
from volvex.layout.volumes import wrong_pattern

WIDTH, HEIGHT, DEPTH, LEVELS, FACES, LAYERS = SIZES = ("width", "height", "depth", "levels", "faces", "layers")
FORMAT, SPACE, PIXELS = "pixel format", "colour space", "pixels"
HERE, PALETTE = "levels here", "palette number"
START, STORED = LEVEL = ("start of level", "stored size of level")
RED, GREEN, BLUE, ALPHA = COLOURS = ("red", "green", "blue", "alpha")
SPACES = ("linear", "srgb")

ATTRIBUTES: dict[str, tuple[type, ...]] = dict.fromkeys(
    (*SIZES, FORMAT, SPACE, HERE, PALETTE, *LEVEL, PIXELS, *COLOURS), (IntegerType,)
)
SINGLE = (*SIZES, FORMAT, SPACE, HERE, PALETTE)  # of these a file has one
OF = {
    **dict.fromkeys(COLOURS, "palette"),
    **dict.fromkeys(LEVEL, "level"),
    **dict.fromkeys(SINGLE, "texture"),
    PIXELS: "pixels",
}
BESIDE = ("palette",)
TABLED = (FORMAT, SPACE)
WORDED = ()
NEEDS = (WIDTH, HEIGHT)
PARTS = ()


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What a texture's layout needs: a size, a pixel format, and where the pixels are."""
    given = {
        field.meaning.what: field
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Attribute) and not field.meaning.upper
    }
    for what in NEEDS:
        if what not in given:
            yield layout.place, f"no field gives the {what}", f"u16  {what}"
    apart = bool(layout.content.volumes)
    if PIXELS not in given and (not apart or HERE in given):
        yield layout.place, "no field has the pixels", "block pixels ... repeats until end, with `byte u8 pixels`"
    if apart and (problem := wrong_pattern(layout.content.volumes)):
        yield layout.place, problem, 'content in volumes "{name}.{0}", or one file by its name'
    if HERE in given and not apart:
        yield (
            given[HERE].place,
            "nothing gives the files of the other levels",
            'content in volumes "{name}.{0}"',
        )
    if layout.content.transforms and STORED not in given:
        yield (
            layout.place,
            "each level is wrapped, and nothing gives their stored sizes",
            "a row of records with `stored size of level`",
        )
    for block in layout.blocks:
        for field in block.fields:
            yield from _check_field(layout, field, block.repeats, len(block.fields))
    yield from _check_formats(layout, given)


def _check_formats(layout: Layout, given: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """What is wrong with the formats of the pixels."""
    formats = [spec for _, spec in getattr(given[FORMAT].meaning, "table", ())] if FORMAT in given else []
    if FORMAT in given and not formats:
        yield (
            given[FORMAT].place,
            "`pixel format` has no table of formats",
            "pixel format { 1 bc1, 3 rgba8 }",
        )
    if FORMAT in given and layout.content.codec:
        yield given[FORMAT].place, "the pixel format is given twice: here and by `content as`", "`kept`"
    if FORMAT not in given and not layout.content.codec:
        yield (
            layout.place,
            "no pixel format is given",
            "a field `pixel format { ... }`, or content as rgba8",
        )
    places = [
        (given[FORMAT].place if FORMAT in given else layout.content.place or layout.place, spec) for spec in formats
    ]
    if layout.content.codec:
        places.append((layout.content.place or layout.place, layout.content.codec))
    for place, spec in places:
        try:
            found = pixel_layout(spec)
        except UsageError as error:
            yield place, error.message, error.hint
            continue
        if found.format.kind == "index" and RED not in given:
            yield (
                place,
                f"{spec} needs a palette, and no block has one",
                "block colours ... repeats, with red, green and blue",
            )


def _check_field(layout: Layout, field: Field, repeats: bool, count: int) -> Iterator[tuple[Place, str, str]]:
    what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
    if what == PIXELS and (
        not repeats or count > 1 or (field.type != Number(8, False, None) and getattr(field.type, "bits", 0) != 8)
    ):
        yield (
            field.place,
            "pixels are a repeating block with one field of u8",
            "block pixels after head repeats until end",
        )
    if what in COLOURS and not repeats:
        yield field.place, "the colours of a palette are a repeating block", "block colours after head repeats"
    if what in LEVEL and not repeats:
        yield field.place, f"the {what} is in a row of records", "block levels after head repeats"
    if what in SINGLE and repeats:
        yield field.place, f"a texture has one {what}, and this block repeats", "a block that does not repeat"
    if what == SPACE and any(word not in SPACES for _, word in getattr(field.meaning, "table", ())):
        yield field.place, f"a colour space is one of {', '.join(SPACES)}", "colour space { 0 linear, 1 srgb }"
