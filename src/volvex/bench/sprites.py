"""Sprite sheets of a bench: one picture a frame in the folder `open`, and back into the sheet and its list."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from volvex.archive.safe_names import Refusal, disk_names, quoted
from volvex.asset.kind import Result, path_beside
from volvex.asset.kinds import picture as pictures
from volvex.asset.picture.exchange import replaced, taken_over
from volvex.asset.picture.formats import by_extension, form_of
from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import OpenedPicture, open_picture
from volvex.asset.sprite.lists import added_frame, changes_for, frames_of, image_named, removed_frame, size_changes
from volvex.asset.sprite.model import Frame, grid_frames, on_page, page_names
from volvex.asset.sprite.packing import Edit, Packed, check_inside, cut, put_in, whole_size
from volvex.bench.assets import put_result
from volvex.bench.content import Read, current_of
from volvex.bench.open_folder import FOLDER, SyncResult, asset_of, is_edited, settle_edited, write_file
from volvex.bench.opened import SPRITE, OpenedAsset
from volvex.bench.states import BenchState
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.codec.pixels.format import FORMATS, Pixels
from volvex.data import Change, Document, open_data
from volvex.data.verify import edited as edited_data
from volvex.errors import NotFoundError, RefusedError, UsageError
from volvex.source import BytesSource
from volvex.source.digest import digest_bytes, digest_file

SUFFIX = ".sprites"  # of the folder with a sheet's frames
LISTS = ("json", "xml", "plist", "csv", "txt", "atlas")  # extensions of lists beside their pictures
PAGE = re.compile(r"[-_]?[0-9]+$")  # the number of a page behind the name of the list
GRID = re.compile(r"([0-9]+)x([0-9]+)(?:\+([0-9]+))?(?:/([0-9]+))?")


@dataclass(frozen=True)
class SpriteSheet:
    """A sheet: the picture, its list (none for a grid), and all frames."""

    image: str
    listing: str
    opened: OpenedPicture
    document: Document | None
    frames: list[Frame]
    paged: bool = False  # the list is of other pictures too

    def require_sound(self) -> None:
        """FormatError for a frame outside of its sheet."""
        check_inside(self.frames, self.opened.picture.width, self.opened.picture.height, self.listing)


def find_sheet(bench: Workbench, path: str, grid: str = "", sound: bool = True) -> SpriteSheet:
    """The sheet that a picture or a list belongs to, both taken into the bench; NotFoundError when one of them is
    missing.

    `sound`: every frame must be inside its sheet.
    """
    place, _ = bench.open_for_edit(path)
    if grid:
        found = BenchState(bench, current_of(bench)).opened(pictures.KIND, place)
        if found is None:
            raise UsageError(f"{place} is no picture", "--grid with a picture")
        return SpriteSheet(place, "", found, None, _grid(grid, found.picture))
    sheet = sheet_of(bench, current_of(bench), place)
    if sheet is None:
        raise UsageError(
            f"{place} has no frames", "a sheet's picture or its list; --grid 32x32 for a sheet without a list"
        )
    for other in (sheet.image, sheet.listing):
        bench.open_for_edit(other)
    if sound:
        sheet.require_sound()
    return sheet


def sheet_of(bench: Workbench, read: Read, place: str) -> SpriteSheet | None:
    """The sheet that a picture or a list belongs to, as `read` gives the files; None when it is neither.

    NotFoundError when a picture has no list, or a list no picture.
    """
    found, document = _either(bench, place, read(place), read)
    if document is None and found is None:
        return None
    stem, named = place.rpartition(".")[0], image_named(document) if document is not None else ""
    pages = page_names(frames_of(document)) if document is not None else []
    if named:  # games often keep the picture in another format than the list names
        stem = posixpath.join(posixpath.dirname(place), named.rpartition(".")[0])
    if len(pages) > 1:
        raise UsageError(f"{place} is of {len(pages)} pictures", "the path of one of them")
    stems = [stem, *(one for page in pages for one in page_stems(stem, page)), *list_stems(stem if found else "")]
    wanted = [f"{stem}.{extension}" for stem in stems for extension in (LISTS if found is not None else by_extension())]
    if named:
        wanted.insert(0, posixpath.join(posixpath.dirname(place), named))
    for path in [*wanted, *(other for stem in stems for other in same_stem(bench, stem) if other != place)]:
        data = _read_if(read, path)
        if data is None:
            continue
        other, second = _either(bench, path, data, read)
        if document is None and second is not None and found is not None:
            return _paired(place, path, found, second)
        if found is None and other is not None and document is not None:
            return _paired(path, place, other, document)
    if document is None:
        raise NotFoundError(f"{place} has no list of frames beside it", "the path of the list, or --grid 32x32")
    raise NotFoundError(
        f"{place} is of {named or 'a picture'}, which is not beside it", "the picture in the same folder"
    )


def sheets_of(bench: Workbench, read: Read, listing: str) -> Iterator[SpriteSheet]:
    """The sheets of a list: one for each picture that it is of; NotFoundError when one of these is missing."""
    _, document = _either(bench, listing, read(listing), read)
    pages = page_names(frames_of(document)) if document is not None else []
    stem = listing.rpartition(".")[0]
    for page in pages if len(pages) > 1 else ():
        stems = page_stems(stem, page)
        places = [f"{stem}.{extension}" for stem in stems for extension in by_extension()]
        places += [other for stem in stems for other in same_stem(bench, stem)]
        image = next((place for place in places if _read_if(read, place) is not None), None)
        if image is None:
            raise NotFoundError(
                f"{listing} has a page {page}, which is not beside it", "its picture in the same folder"
            )
        sheet = sheet_of(bench, read, image)
        if sheet is not None:
            yield sheet
    if len(pages) < 2 and (sheet := sheet_of(bench, read, listing)) is not None:
        yield sheet


def page_stems(stem: str, page: str) -> list[str]:
    """The paths that the picture of a page may have beside its list, but for the extension."""
    if "." in page:
        return [posixpath.join(posixpath.dirname(stem), page.rpartition(".")[0])]
    return [*(f"{stem}{between}{page}" for between in ("_", "-", "")), posixpath.join(posixpath.dirname(stem), page)]


def list_stems(stem: str) -> list[str]:
    """The paths that the list of a picture may have besides its own, but for the extension: without the number of a
    page."""
    bare = PAGE.sub("", stem)
    return [bare] if bare != stem else []


def _read_if(read: Read, path: str) -> bytes | None:
    try:
        return read(path)
    except (NotFoundError, UsageError):
        return None


def same_stem(bench: Workbench, stem: str) -> list[str]:
    """The places in the game that are a path and one more extension: lists in formats of the game's own are among
    them."""
    name, inner = bench.split(f"{stem}.") or (stem, "")
    if inner:
        archive = bench.archive(name)
        places = [] if archive is None else [f"{name}/{one}" for one in bench.places_in(name) if isinstance(one, str)]
    else:
        folder, slash, _ = stem.rpartition("/")
        here = bench.game.folder / folder
        names = {child.name for child in here.iterdir()} if here.is_dir() else set[str]()
        places = sorted({f"{folder}{slash}{name}" for name in names} | set(bench.game.originals))
        places = [place for place in places if bench.game.original(place) is not None]
    return [place for place in places if place.rpartition(".")[0] == stem]


def _paired(image: str, listing: str, picture: OpenedPicture, document: Document) -> SpriteSheet:
    """A picture and its list: of several pages the frames that lie in this one."""
    frames = frames_of(document, (picture.picture.width, picture.picture.height))
    own = on_page(frames, image.rpartition("/")[2])
    return SpriteSheet(image, listing, picture, document, own, len(own) < len(frames))


def _either(bench: Workbench, place: str, data: bytes, read: Read) -> tuple[OpenedPicture | None, Document | None]:
    """A file as a picture, or as a list of frames."""
    found = BenchState(bench, lambda path: data if path == place else read(path)).opened(pictures.KIND, place)
    if found is not None:
        return found, None
    document = open_data(data, bench.library, place)
    return None, document if document is not None and frames_of(document) else None


def _grid(text: str, picture: Picture) -> list[Frame]:
    match = GRID.fullmatch(text)
    if match is None or not int(match[1]) or not int(match[2]):
        raise UsageError(f"{text!r} is no grid", "--grid 32x48, or 32x48+2/1 with a margin of 2 and a spacing of 1")
    frames = grid_frames(
        picture.width, picture.height, (int(match[1]), int(match[2])), int(match[3] or 0), int(match[4] or 0)
    )
    if not frames:
        raise UsageError(f"no cell of {text} fits into {picture.width} x {picture.height}", "smaller cells")
    return frames


def open_sprites(bench: Workbench, path: str, grid: str = "", again: bool = False) -> tuple[str, int, int]:
    """Write each frame of a sheet as a PNG: the folder below the bench, how many there are, and how many have no
    pixels."""
    sheet = find_sheet(bench, path, grid, sound=not again)
    if again and sheet.listing:  # a sheet and its list go together
        bench.take([one for place in (sheet.image, sheet.listing) for one in bench.select(place)], again=True)
        sheet = find_sheet(bench, path)
    place = sheet.image if sheet.paged else sheet.listing or sheet.image
    folder = f"{FOLDER}/{place}{SUFFIX}"
    page = sheet.opened.picture.rgba()
    frames = [frame for frame in sheet.frames if whole_size(frame)[0] and whole_size(frame)[1]]
    files = _files(frames)
    digest = _digest(bench, sheet)
    settle_edited(bench, [f"{folder}/{file}" for file in files.values()], again)
    for file in [file for file in bench.opened if file.startswith(f"{folder}/")]:
        bench.disk.remove(bench.folder / file)
        del bench.opened[file]
    for frame in frames:
        file = f"{folder}/{files[frame.name]}"
        data = form_of("png").write(_picture(cut(page, frame)))
        write_file(bench, bench.folder / file, data)
        bench.opened[file] = OpenedAsset(
            place, "png", digest_bytes(data), digest, asset=SPRITE, part=frame.name, grid=grid
        )
    bench.save()
    return folder, len(frames), len(sheet.frames) - len(frames)


def _files(frames: Sequence[Frame]) -> dict[str, str]:
    """A file for each frame, by its name."""
    wanted = [frame.name if frame.name.lower().endswith(".png") else f"{frame.name}.png" for frame in frames]
    made = disk_names(wanted)
    return {
        frame.name: f"frame-{number}.png" if isinstance(place, Refusal) else place
        for number, (frame, place) in enumerate(zip(frames, made, strict=True))
    }


def _picture(pixels: Pixels) -> Picture:
    form = FORMATS["rgba8"]
    return Picture(pixels.shape[1], pixels.shape[0], form, [[form.pack(pixels)]])


def _digest(bench: Workbench, sheet: SpriteSheet) -> str:
    """What a sheet and its list are now."""
    files = [bench.files / place for place in (sheet.image, sheet.listing) if place]
    return digest_bytes("".join(digest_file(file) for file in files).encode())


def sync_sprites(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    """Put what was edited, added, removed and renamed among a sheet's frames back.

    A PNG that is new in the folder is a new frame, one that is gone takes its frame out, one under another name renames
    it; a folder without any of its frames changes nothing. RefusedError when the sheet was edited too.
    """
    grid = asset_of(bench, files[0]).grid
    edit, there = _edit_of(bench, files)
    if edit is None:
        return []
    sheet = find_sheet(bench, path, grid)
    if any(bench.opened[file].of != _digest(bench, sheet) for file in files):
        raise RefusedError(
            f"{posixpath.dirname(files[0])} and {path} were both edited",
            f"`volvex undo {quoted(files[0])}` to keep the other one",
        )
    packed = put_in(sheet.opened.picture.rgba(), sheet.frames, edit)
    if sheet.document is None and (packed.repacked or edit.renamed or edit.removed):
        raise RefusedError(
            f"{path} is cut by a grid: its sprites stay as many, and of one size",
            f"sprites of {grid.partition('+')[0]}",
        )
    beside = (path_beside(sheet.image, name) for name in sheet.opened.beside)
    with taking_over(bench, files, [sheet.image, *([sheet.listing] if sheet.listing else []), *beside]):
        _store(bench, sheet, packed)
        digest = _digest(bench, find_sheet(bench, path, grid))
        known = asset_of(bench, files[0])
        for file in files:
            del bench.opened[file]
        for file, name in there.items():
            own = digest_file(bench.folder / file)
            bench.opened[file] = replace(known, part=name, digest=own, of=digest)
        bench.save()
    size = f"{packed.pixels.shape[1]} x {packed.pixels.shape[0]}"
    said = _summary(edit) + (f"; sheet repacked to {size}" if packed.repacked else "")
    return [SyncResult(path, f"{FOLDER}/{path}{SUFFIX}", said)]


def _summary(edit: Edit) -> str:
    """What was done: `frames: 1 edited`."""
    counts = (
        ("edited", len(edit.sprites)),
        ("added", len(edit.added)),
        ("removed", len(edit.removed)),
        ("renamed", len(edit.renamed)),
    )
    return f"frames: {', '.join(f'{number} {what}' for what, number in counts if number)}"


def _edit_of(bench: Workbench, files: Sequence[str]) -> tuple[Edit | None, dict[str, str]]:
    """What is wanted of a sheet by the files in its folder, and the frame that each of them is now."""
    folder = posixpath.dirname(files[0])
    folder = folder[: folder.index(SUFFIX) + len(SUFFIX)]
    found = [
        path.relative_to(bench.folder).as_posix()
        for path in sorted((bench.folder / folder).rglob("*"))
        if path.suffix.lower() == ".png" and not path.name.startswith(".")
    ]
    gone: dict[str, list[str]] = {}
    for file in files:
        if file not in found:
            gone.setdefault(bench.opened[file].digest, []).append(file)
    if not set(files) & set(found):
        return None, {}
    bare = not any(asset_of(bench, file).part.lower().endswith(".png") for file in files)
    there = {file: asset_of(bench, file).part for file in files if file in found}
    sprites = {name: _read(bench, file) for file, name in there.items() if is_edited(bench, file)}
    renamed, added = {}, {}
    for file in found:
        if file in there:
            continue
        name = file[len(folder) + 1 : -len(".png") if bare else None]
        there[file] = name
        old = gone.get(digest_file(bench.folder / file))
        if old:
            renamed[asset_of(bench, old.pop()).part] = name
        else:
            added[name] = _read(bench, file)
    removed = frozenset(asset_of(bench, file).part for left in gone.values() for file in left)
    if not (sprites or renamed or added or removed):
        return None, {}
    return Edit(sprites, renamed, added, removed), there


def _store(bench: Workbench, sheet: SpriteSheet, packed: Packed) -> None:
    """Write the sheet, and its list where frames lie elsewhere now: both are made before one is written."""
    own, user = sheet.opened.picture, _picture(packed.pixels)
    same = (own.width, own.height) == (user.width, user.height)
    result = taken_over(own, user, "png") if same else replaced(own, user, any_size=True)
    files = sheet.opened.files(result.picture)
    if sheet.document is not None:
        changes = list(_changes(packed))
        changes += size_changes(sheet.document, (own.width, own.height), (user.width, user.height))
        if changes:
            write_file(bench, bench.files / sheet.listing, edited_data(sheet.document, changes))
    put_result(bench, sheet.image, Result(files))


def _changes(packed: Packed) -> Iterator[Change]:
    """The changes of the list."""
    like = next(before for before, _ in packed.pairs if before is not None)
    for before, after in packed.pairs:
        if before is not None and after is not None:
            yield from changes_for(before, after)
        elif before is not None:
            yield removed_frame(before)
        elif after is not None:
            yield added_frame(after, like)


def _read(bench: Workbench, file: str) -> Pixels:
    found = open_picture(BytesSource((bench.folder / file).read_bytes(), file))
    if found is None:
        raise RefusedError(f"{file} is no picture any more", "saving it again as PNG")
    return found.picture.rgba()
