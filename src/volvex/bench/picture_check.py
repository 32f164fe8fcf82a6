"""What is wrong with a changed picture, compared with the game's own: size, format, levels, channels."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import Opened, may_be_picture
from volvex.bench.changes import FileChange
from volvex.bench.content import current_of, original_kind, original_of
from volvex.bench.opened import SPRITE
from volvex.bench.picture_files import picture_at, picture_in
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, WARNING, Problem
from volvex.errors import VolvexError

LARGEST = 1 << 28  # bytes of a picture that is looked at


def picture_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed file, when it is a picture and stays one."""
    if change.what != "changed" or max(change.before or 0, change.after) > LARGEST:
        return
    kind = original_kind(bench, change.path)
    if not may_be_picture(kind) or (kind != change.kind and kind != "binary"):
        return  # reported as another kind
    try:
        before = picture_at(bench, change.path, original_of(bench))
    except VolvexError:
        return  # the game's own cannot be read: nothing can be compared
    try:
        after = picture_in(bench, change.path, (bench.files / change.source).read_bytes(), current_of(bench))
    except VolvexError as error:
        yield _problem(ERROR, change, "file", error.message, error.hint or "saving it again")
        return
    if before is not None and after is not None and before.picture.form == after.picture.form:
        stem = change.path.rpartition(".")[0]
        packed = any(one.kind == SPRITE and one.path.rpartition(".")[0] == stem for one in bench.opened.values())
        for problem in _compared(change, before, after):
            if not (packed and problem.level == WARNING and problem.kind == "picture size"):  # its list has it too
                yield problem
    elif before is not None:
        said = f"this is {_called(change.kind)}, the game's own is a picture of {before.picture.form}"
        yield _problem(ERROR, change, "kind", said, "`volvex swap` with a picture, which converts it")


def _called(kind: str) -> str:
    return "of no known kind" if kind == "binary" else kind


def _compared(change: FileChange, before: Opened, after: Opened) -> Iterator[Problem]:
    old, new = before.picture, after.picture
    whole = f"a picture of {old.width} x {old.height}, or `volvex swap` with --resize"
    if (old.width, old.height) != (new.width, new.height):
        said = f"it has {new.width} x {new.height} pixels, the game's own has {old.width} x {old.height}"
        wide, high = new.format.block
        if (new.width % wide or new.height % high) and not (old.width % wide or old.height % high):
            yield _problem(ERROR, change, "size", f"{said}: no multiples of {wide}, as blocks are", whole)
        elif _is_power(old) and not _is_power(new):
            level = ERROR if old.levels > 1 else WARNING
            yield _problem(level, change, "size", f"{said}: no powers of two, as the game's own are", whole)
        else:
            yield _problem(WARNING, change, "size", said, whole)
    if old.form == new.form and old.format != new.format:
        said = f"its pixels are {new.format}, the game's own are {old.format}"
        yield _problem(WARNING, change, "format", said, "`volvex swap` with the picture as PNG, which converts it")
    if old.levels > 1 and new.levels == 1:
        said = f"it has no smaller levels, the game's own has {old.levels}"
        yield _problem(WARNING, change, "levels", said, "`volvex swap` with the picture as PNG, which makes them")
    elif old.levels != new.levels and (old.width, old.height) == (new.width, new.height):
        yield _problem(
            WARNING, change, "levels", f"it has {new.levels} levels, the game's own has {old.levels}", "as many"
        )
    if old.alpha and not new.alpha:
        role = "" if old.roles.alpha == "alpha" else f", which is {old.roles.alpha}"
        yield _problem(WARNING, change, "alpha", f"the alpha channel is gone{role}", "saving it with alpha")
    if (old.images, old.depth) != (new.images, new.depth):
        said = f"it has {new.images} faces or layers, {new.depth} deep; the game's own {old.images}, {old.depth} deep"
        yield _problem(ERROR, change, "faces", said, "as many")


def _is_power(picture: Picture) -> bool:
    return not (picture.width & (picture.width - 1) or picture.height & (picture.height - 1))


def _problem(level: str, change: FileChange, kind: str, message: str, hint: str) -> Problem:
    return Problem(level, f"picture {kind}", change.path, "", "", "", message, hint)
