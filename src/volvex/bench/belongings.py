"""What something of a game refers to: the files of a model, the objects of a package, the files that data names."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.archive import LayoutArchive
from volvex.archive.object_references import referenced_rows
from volvex.archive.safe_names import Refusal
from volvex.asset.kinds.model import KIND
from volvex.bench.content import original_kind
from volvex.bench.semantic_diff import catalogues
from volvex.bench.states import original_state
from volvex.bench.workbench import Workbench
from volvex.data.references import Catalogue
from volvex.errors import VolvexError

DEEPEST = 8  # references behind references
MOST = 10_000  # things that are taken for one


def referenced(bench: Workbench, places: list[str]) -> tuple[list[str], list[str]]:
    """The places of all that some things refer to, without themselves; and notes.

    Of models and objects also what those refer to in turn; of data the files that it names, since through these all of
    a game hangs together.
    """
    found: dict[str, None] = dict.fromkeys(places)
    notes: list[str] = []
    waiting, catalogue = list(places), catalogues(bench)[0]
    for depth in range(DEEPEST):
        new: dict[str, None] = {}
        for place in waiting:
            new |= dict.fromkeys(_references(bench, place, notes, bool(depth)))
            if not depth:
                new |= dict.fromkeys(_of_data(bench, catalogue, place))
        waiting = [place for place in new if place not in found][: MOST - len(found)]
        found |= dict.fromkeys(waiting)
        if not waiting:
            break
    return [place for place in found if place not in places], list(dict.fromkeys(notes))


def _references(bench: Workbench, path: str, notes: list[str], below: bool) -> Iterator[str]:
    try:
        yield from _of_object(bench, path)
        if KIND.may_be(original_kind(bench, path)):
            yield from _of_model(bench, path, notes, below)
    except VolvexError as error:
        notes.append(str(error))


def _of_object(bench: Workbench, path: str) -> Iterator[str]:
    """The objects of the same package."""
    name, inner = bench.home(path)
    archive = bench.archive(name) if inner else None
    row = bench.row(path) if inner else None
    if not isinstance(archive, LayoutArchive) or row is None:
        return
    places = bench.places_in(name)
    for other in referenced_rows(archive, row):
        where = places[other]
        if not isinstance(where, Refusal):
            yield f"{name}/{where}"


def _of_model(bench: Workbench, path: str, notes: list[str], below: bool) -> Iterator[str]:
    """The skeleton, animations, materials and textures of a model. `below`: something refers to it, and has named what
    it needs of a file of materials or animations."""
    whole = original_state(bench).opened(KIND, path)
    if whole is None or (below and whole.opened.kind != "mesh"):
        return
    yield from whole.others
    yield from whole.textures.values()
    notes += [f"{path}: the texture {name} is not in the game" for name in whole.gathered.missing]


def _of_data(bench: Workbench, catalogue: Catalogue, place: str) -> Iterator[str]:
    """The files with the records that data refers to, and those that it names by their paths."""
    if not bench.game.description.meanings.references:
        return
    document = catalogue.document(place)
    for sheet in document.sheets if document is not None else ():
        for name, column in sheet.columns.items():
            if catalogue.is_path(place, sheet, name):
                for text in dict.fromkeys(map(str, column.values)):
                    yield from _at_path(catalogue, text)
                continue
            for path, target in catalogue.targets(place, sheet, name) or ():
                if path != place and any(target.row(str(key)) is not None for key in dict.fromkeys(column.values)):
                    yield path


def _at_path(catalogue: Catalogue, text: str) -> Iterator[str]:
    path = text.replace("\\", "/").strip("/")
    for one in catalogue.index.by_name.get(path.rpartition("/")[2], []):
        if path and f"/{one}".endswith(f"/{path}"):
            yield one
