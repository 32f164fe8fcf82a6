"""Damaged pictures, of open forms and by layouts, with files beside them; and lists of frames: looked at, exported,
edited, written."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from kelpwick import executable
from tests.fuzz.attempt import Attempt, mutate, mutate_text
from tests.test_open_formats import icon_group
from tests.test_picture_files import APART, BARE, FLAGS, PACKED, PLACES, apart, bare, listed, packed
from tests.test_pictures import TEXTURE, picture, texture
from tests.test_sprites import PLACES as BIRDS
from tests.test_sprites import SIZE, as_json, as_json_list, as_plist, as_xml, sheet
from volvex.archive import open_source
from volvex.asset.picture.exchange import exported, taken_over
from volvex.asset.picture.formats import FORMS, form_of
from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import open_picture
from volvex.asset.picture.own_layout import LayoutForm
from volvex.asset.picture.put_back import put_back
from volvex.asset.sprite.lists import frames_of
from volvex.asset.sprite.packing import Edit, check_inside, cut, put_in
from volvex.codec.pixels.blocks import can_encode
from volvex.data import open_data
from volvex.errors import VolvexError
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

LIBRARY = Library(shipped=())
TEXTS = ("json", "xml", "plist")
BESIDE = apart(1, picture("bc3", 32, 16), 2)


def corpus() -> dict[str, bytes]:
    """A picture of each form and layout, and a list of each form."""
    found = {}
    for form in FORMS.all():
        for own in (form.FORMATS or ("bc1", "bc3", "bc5", "bc7", "rgba8", "rgba16f", "pal8"))[:6]:
            try:
                found[f"{own}.{form.EXTENSIONS[0]}"] = form.write(picture(own, 24, 12))
            except VolvexError:
                continue
    found |= {f"{number}.lens": texture(number, 32, 16)[0] for number in range(1, 9)}
    found |= {"x.lens": BESIDE["x.lens"], "x.pack": packed(picture("rgba8", 16, 8)), "flags.kwa": listed(PLACES)}
    found["x.bare"] = bare(picture("rgba8", 16, 8), b"wick")
    found |= {
        "birds.json": as_json(BIRDS, SIZE),
        "list.json": as_json_list(BIRDS, SIZE),
        "birds.xml": as_xml(BIRDS, SIZE),
    }
    found |= {"birds.plist": as_plist(BIRDS, SIZE), "icons.exe": executable.make(b"", icon_group((32, 16)))}
    return found


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Files with some bytes changed."""
    samples = [(name, data) for name, data in sorted(corpus().items()) if name.startswith(only)]
    while True:
        name, data = rng.choice(samples)
        extension = name.rpartition(".")[2]
        made = (mutate_text if extension in TEXTS else mutate)(rng, data)
        seed = rng.random()
        yield Attempt(
            f"{extension}: {name}",
            made,
            lambda name=name, data=made, seed=seed: exercise(name, data, random.Random(seed)),  # type: ignore[misc]
        )


def exercise(name: str, data: bytes, rng: random.Random) -> str | None:
    """All that can be done with a picture or a list; what went wrong beyond our errors."""
    try:
        if name.endswith(".exe"):
            archive = open_source(BytesSource(data, name), LIBRARY)
            for row in range(len(archive) if archive is not None else 0):
                archive.content(row)  # type: ignore[union-attr]
            return None
        if name.endswith((*TEXTS, ".kwa")):
            return _list(name, data)
        return _picture(name, data, rng)
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"


def _list(name: str, data: bytes) -> str | None:
    layout = parse_layout(FLAGS, "flags.layout") if name.endswith(".kwa") else None
    document = open_data(data, LIBRARY, name, layout)
    frames = frames_of(document, SIZE) if document is not None else []
    check_inside(frames, *SIZE, name)
    page = sheet()
    for frame in frames:
        cut(page, frame)
    if frames:
        put_in(page, frames, Edit({}, added={"new": page[:4, :4].copy()}))
    return None


def _picture(name: str, data: bytes, rng: random.Random) -> str | None:
    source = BytesSource(data, name)
    beside = {other: content for other, content in BESIDE.items() if other != "x.lens"}
    source.beside = lambda other: BytesSource(beside[other], other) if other in beside else None
    text = {"x.lens": APART, "x.pack": PACKED, "x.bare": BARE}.get(name, TEXTURE if name.endswith(".lens") else "")
    opened = open_picture(source, LIBRARY, parse_layout(text, "fuzz.layout") if text else None)
    if opened is None:
        return None
    found = opened.picture
    for level in range(found.levels):
        found.pixels(level)
    out = exported(found, rng.choice(("png", "tiff", "dds", "tga")))
    if not can_encode(found.format):
        return None
    pixels = found.pixels().copy()
    pixels[:2, :2] = pixels[-1, -1]
    made = put_back(found, {0: pixels}).picture
    _written(name, opened.form, made, found)
    taken_over(found, out.picture, "png") if out.picture.levels == 1 else None
    return None


def _written(name: str, form: object, made: Picture, before: Picture) -> None:
    """What was written is read again, where the form stores pixels as they are."""
    if name.endswith(("jpg", "jpeg", "webp", "gif", "ico")):
        form_of("png").write(exported(made, "png").picture)
        return
    files = form.files(made) if isinstance(form, LayoutForm) else {"": form.write(made)}  # type: ignore[attr-defined]
    again = BytesSource(files.pop(""), name)
    own = before.extra["reading"].source.beside if isinstance(form, LayoutForm) else None
    again.beside = lambda other: BytesSource(files[other], other) if other in files else own and own(other)
    read = form.read(again)  # type: ignore[attr-defined]
    assert np.array_equal(read.pixels(), made.pixels(), equal_nan=read.format.kind == "float"), (
        "it is read as something else"
    )
