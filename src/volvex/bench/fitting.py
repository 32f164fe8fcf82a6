"""Whether content can take the place of something of the game: it must be of the same kind, and sound where the game's
own is."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import quoted
from volvex.asset.content_kind import may_be_unsigned_model
from volvex.asset.kind import AssetKind, kind_of_layout, kind_of_type
from volvex.bench.content import original_kind, original_source
from volvex.bench.states import current_state
from volvex.bench.workbench import Workbench
from volvex.data import open_data
from volvex.errors import VolvexError
from volvex.layout import Layout
from volvex.source import FileSource, Source

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


def misfit(bench: Workbench, path: str, source: Source) -> Misfit | None:
    """Why a file cannot take the place of something of the game; None when it can, or nothing is known of the original.

    `source` is called by its place in the game, so that layouts which are tied to that place read it.
    """
    if bench.original_size(path) is None:
        return None
    kind = original_kind(bench, path)
    if kind in UNKNOWN:
        return None
    with original_source(bench, path) as original:
        if kind in filetypes.TEXT and may_be_unsigned_model(path):
            from volvex.asset.model.open import open_form

            form = open_form(original, kind)
            if form is not None and open_form(source) is not form:
                return Misfit("kind", f"this is no {form.EXTENSIONS[0]} model, as the game's own is", "a model")
        layout = _layout(bench, original) if kind == "binary" else None
        if kind == "binary" and layout is None:
            return None
        found = _other_kind(bench, path, kind, layout, source)
        if found is not None:
            return found
        if max(source.size, original.size) > LARGEST or not (error := _fault(bench, kind, layout, source)):
            return None
        return None if _fault(bench, kind, layout, original) else Misfit("file", error.message, error.hint)


def misfit_of_file(bench: Workbench, path: str, changed: str) -> Misfit | None:
    """The same for a file of the bench: `changed` is its path there."""
    with FileSource(bench.files / changed, path) as source:
        return misfit(bench, path, source)


def _layout(bench: Workbench, source: Source) -> Layout | None:
    return bench.library.match_data(source) or bench.library.match(source)


def _other_kind(bench: Workbench, path: str, kind: str, layout: Layout | None, source: Source) -> Misfit | None:
    head = source.peek(0, filetypes.WORDS)
    now = filetypes.kind_by_content(head[: filetypes.HEAD])
    if layout is not None:
        other = _layout(bench, source) if now == "binary" or now in filetypes.TEXT else None
        tied = bench.library.tied(path) is not None and now in PLAIN
        if other is not None and (tied or other == layout):
            return None
        what = f"{SUCH.get(layout.kind, f'a {layout.kind}')} ({layout.title})"
    elif now == kind or (kind == "text" and (now in filetypes.TEXT or filetypes.is_8bit_text(head) or now == "empty")):
        return None
    else:
        what = called(kind)
        now = "text" if now == "binary" and filetypes.is_8bit_text(head) else now
    return Misfit("kind", f"this is {called(now)}, the game's own is {what}", _hint(path, kind, layout, now))


def called(kind: str) -> str:
    """A type of files, in a sentence."""
    return {"binary": "of no known type", "empty": "an empty file", "text": "plain text"}.get(kind, kind)


def _hint(path: str, kind: str, layout: Layout | None, now: str) -> str:
    if layout is not None and layout.kind in ("table", "text", "scene"):
        return f"`volvex take {quoted(path)} --as csv`, and editing that"
    what = layout.kind if layout is not None else kind
    own = kind_of_type(what)
    if own is not None and own.replaces(what) and own.is_open(now):
        return "`volvex swap` without --as-is, which converts it"
    return SUCH.get(layout.kind, f"a {layout.kind}") if layout is not None else f"a {kind} file"


def _fault(bench: Workbench, kind: str, layout: Layout | None, source: Source) -> VolvexError | None:
    """What is wrong with content of a kind; None when it opens."""
    try:
        if kind in filetypes.TEXT or (layout is not None and layout.kind in ("table", "text", "scene")):
            _read_records(bench, source)
        else:
            _read_asset(bench, kind_of_layout(layout.kind) if layout is not None else kind_of_type(kind), source)
    except VolvexError as error:
        return error
    return None


def _read_asset(bench: Workbench, kind: AssetKind[Any] | None, source: Source) -> None:
    """Read all of an asset; its other files are as they stand on the bench."""
    if kind is None:
        return
    source.beside = functools.partial(current_state(bench).beside, source.name)
    asset = kind.opened(source, bench.library)
    if asset is not None:
        kind.is_whole(asset)


def _read_records(bench: Workbench, source: Source) -> None:
    document = open_data(source.read(0, source.size), bench.library, source.name)
    if document is not None:
        document.sheets  # noqa: B018  (read when they are asked for)
