"""Whether content can take the place of something of the game: it must be of the same kind, and sound where the game's own is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import quoted
from volvex.asset.content_kind import may_be_unsigned_model
from volvex.bench.content import current_of, original_kind, original_source
from volvex.bench.workbench import Workbench
from volvex.data import open_data
from volvex.errors import VolvexError
from volvex.layout import Layout
from volvex.source import FileSource, Source

if TYPE_CHECKING:
    from volvex.asset.sound.open import Opened as OpenedSound

LARGEST = 1 << 26  # bytes of content that is read to the end
UNKNOWN = ("empty", "folder", "?")  # originals of no kind that could be compared
SUCH = {
    "texture": "a picture",
    "sheet": "a picture",
    "movie": "a clip",
    "mesh": "a model",
    "archive": "an archive of that format",
}
PLAIN = ("text", "binary")  # what text in another encoding may look like


@dataclass(frozen=True)
class Misfit:
    """Why content does not fit: `kind` (of another kind) or `file` (damaged), in words, and what to do."""

    kind: str
    message: str
    hint: str


def misfit(bench: Workbench, place: str, source: Source) -> Misfit | None:
    """Why a file cannot take the place of something of the game; None when it can, or nothing is known of the original.

    `source` is called by its place in the game, so that layouts which are tied to that place read it.
    """
    if bench.original_size(place) is None:
        return None
    kind = original_kind(bench, place)
    if kind in UNKNOWN:
        return None
    with original_source(bench, place) as original:
        if kind in filetypes.TEXT and may_be_unsigned_model(place):
            from volvex.asset.model.open import open_form

            form = open_form(original, kind)
            if form is not None and open_form(source) is not form:
                return Misfit("kind", f"this is no {form.EXTENSIONS[0]} model, as the game's own is", "a model")
        layout = _layout(bench, original) if kind == "binary" else None
        if kind == "binary" and layout is None:
            return None
        found = _other_kind(bench, place, kind, layout, source)
        if found is not None:
            return found
        if max(source.size, original.size) > LARGEST or not (error := _fault(bench, kind, layout, source)):
            return None
        return None if _fault(bench, kind, layout, original) else Misfit("file", error.message, error.hint)


def misfit_of_file(bench: Workbench, place: str, changed: str) -> Misfit | None:
    """The same for a file of the bench: `changed` is its path there."""
    with FileSource(bench.files / changed, place) as source:
        return misfit(bench, place, source)


def _layout(bench: Workbench, source: Source) -> Layout | None:
    return bench.library.match_data(source) or bench.library.match(source)


def _other_kind(bench: Workbench, place: str, kind: str, layout: Layout | None, source: Source) -> Misfit | None:
    head = source.peek(0, filetypes.WORDS)
    now = filetypes.kind_by_content(head[: filetypes.HEAD])
    if layout is not None:
        other = _layout(bench, source) if now == "binary" or now in filetypes.TEXT else None
        tied = bench.library.tied(place) is not None and now in PLAIN
        if other is not None and (tied or other == layout):
            return None
        what = f"{SUCH.get(layout.kind, f'a {layout.kind}')} ({layout.title})"
    elif now == kind or (kind == "text" and (now in filetypes.TEXT or filetypes.is_8bit_text(head) or now == "empty")):
        return None
    else:
        what = called(kind)
        now = "text" if now == "binary" and filetypes.is_8bit_text(head) else now
    return Misfit("kind", f"this is {called(now)}, the game's own is {what}", _hint(place, kind, layout, now))


def called(kind: str) -> str:
    """A type of files, in a sentence."""
    return {"binary": "of no known type", "empty": "an empty file", "text": "plain text"}.get(kind, kind)


def _hint(place: str, kind: str, layout: Layout | None, now: str) -> str:
    if layout is not None and layout.kind in ("table", "text", "scene"):
        return f"`volvex take {quoted(place)} --as csv`, and editing that"
    from volvex.asset.movie.open import is_movie
    from volvex.asset.picture.open import is_picture
    from volvex.asset.sound.open import is_sound

    same = {"texture": is_picture, "sheet": is_picture, "sound": is_sound, "movie": is_movie}
    tests = [is_picture, is_sound, is_movie] if layout is None else [same[layout.kind]] if layout.kind in same else []
    if any(test(now) and (layout is not None or test(kind)) for test in tests):
        return "`volvex swap` without --as-is, which converts it"
    return SUCH.get(layout.kind, f"a {layout.kind}") if layout is not None else f"a {kind} file"


def _fault(bench: Workbench, kind: str, layout: Layout | None, source: Source) -> VolvexError | None:
    """What is wrong with content of a kind; None when it opens."""
    try:
        if layout is not None:
            _open_own(bench, layout, source)
        elif kind in filetypes.TEXT:
            _read_records(bench, source)
        else:
            _open_asset(bench, kind, source)
    except VolvexError as error:
        return error
    return None


def _open_asset(bench: Workbench, kind: str, source: Source) -> None:
    """Open a file of an open format of pictures, sounds, movies or models."""
    from volvex.asset.model.open import open_form, open_model  # only here: most changes are to data
    from volvex.asset.movie.open import is_movie, open_movie
    from volvex.asset.picture.open import is_picture, open_picture
    from volvex.asset.sound.open import is_sound, open_sound

    if is_picture(kind):
        open_picture(source, bench.library)
    elif is_sound(kind):
        _read_samples(open_sound(source, bench.library))
    elif is_movie(kind):
        open_movie(source, bench.library)
    elif open_form(source, kind) is not None:
        open_model(source, bench.library)


def _open_own(bench: Workbench, layout: Layout, source: Source) -> None:
    """Open a file of a format of the game's own."""
    if layout.kind in ("table", "text", "scene"):
        _read_records(bench, source)
        return
    from volvex.asset.model.open import open_model
    from volvex.asset.movie.open import open_movie
    from volvex.asset.sound.open import open_sound
    from volvex.bench.picture_files import picture_at

    if layout.kind == "texture":
        picture_at(bench, source.name, lambda place: _read(bench, place, source))
    elif layout.kind == "sound":
        _read_samples(open_sound(source, bench.library))
    elif layout.kind == "movie":
        open_movie(source, bench.library)
    elif layout.kind != "archive":
        open_model(source, bench.library)


def _read_samples(opened: OpenedSound | None) -> None:
    if opened is not None:
        opened.sound.samples  # noqa: B018  (decoded when they are asked for)


def _read_records(bench: Workbench, source: Source) -> None:
    document = open_data(source.read(0, source.size), bench.library, source.name)
    if document is not None:
        document.sheets  # noqa: B018  (read when they are asked for)


def _read(bench: Workbench, place: str, source: Source) -> bytes:
    return source.read(0, source.size) if place == source.name else current_of(bench)(place)
