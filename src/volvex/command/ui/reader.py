"""What every command that reads shares: what paths mean on a bench, and which layouts they are tied to."""

from __future__ import annotations

import argparse
import functools
import os
import posixpath
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.command.ui.context import Context
from volvex.errors import NotFoundError, UsageError, VolvexError

if TYPE_CHECKING:
    from volvex.archive import Walker
    from volvex.archive.access.merged import LoadOrder
    from volvex.archive.access.ties import Ties
    from volvex.bench.workbench import Workbench
    from volvex.layout import Layout, Library
    from volvex.source import Beside, Source


def add_layout(parser: argparse.ArgumentParser) -> None:
    """The option that names layouts."""
    parser.add_argument(
        "--layout",
        action="append",
        metavar="[PATTERN=]LAYOUT",
        help="read these files by this layout: its file or title",
    )
    parser.add_argument(
        "--encoding",
        action="append",
        metavar="[PATTERN=]NAME",
        help="encoding of texts that are not UTF-8 (default: guessed from the bytes)",
    )


def add_reading(parser: argparse.ArgumentParser) -> None:
    """The options of a command that reads paths: on a bench these are paths of its game."""
    add_layout(parser)
    add_bench_read(parser)


def add_bench_read(parser: argparse.ArgumentParser) -> None:
    """The option that names the bench of whose game paths are."""
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench whose game is meant (default: that of the current folder)"
    )


def bench_of(options: argparse.Namespace, context: Context) -> Path | None:
    """The bench that is worked on, if any."""
    named: Path | None = getattr(options, "bench", None)
    if named is not None and context.bench != named:
        from volvex.bench.bench_file import read_description

        read_description(named)  # refuses what is none
        context.bench = named
    return context.bench


EDITED = "on the bench"
_PATTERN = "--layout 'PATTERN=LAYOUT', with a pattern of paths as in the game"


@dataclass(frozen=True)
class Named:
    """A layout that the command line names, for what matches a pattern; without one, for what is named."""

    pattern: str
    layout: Layout
    file: Path | None


def named_layouts(options: argparse.Namespace, ties: Ties) -> Iterator[Named]:
    """The layouts that the options name."""
    for text in getattr(options, "layout", None) or ():
        pattern, _, name = text.rpartition("=")
        if Path(text).is_file():
            pattern, name = "", text
        if Path(name).is_file():
            from volvex.layout.language.parser import read_layout  # the parser takes a while to load

            yield Named(pattern, read_layout(Path(name)), Path(name))
        elif name.endswith(".layout"):
            raise NotFoundError(f"there is no file {name}", "`volvex layout list` to see which layouts there are")
        else:
            yield Named(pattern, ties.named(name), None)


def _paths(options: argparse.Namespace) -> list[str]:
    """The paths that a command was given."""
    found = []
    for name in ("path", "archive", "file", "dir", "game", "like"):
        value = getattr(options, name, None)
        found += [str(one) for one in (value if isinstance(value, list) else [value]) if one]
    return found


def tied_library(options: argparse.Namespace, context: Context) -> tuple[Library, Ties]:
    """All known layouts, and what ties paths from the current folder to them: their games' descriptions, and the
    options."""
    from volvex.archive.access.ties import Games, Ties

    library: Library = context.library()
    ties = Ties([context.cwd], library.every)
    games = Games([context.home])
    for path in _paths(options):
        games.tie_around(ties, context.cwd / path)
    if context.bench is not None:
        from volvex.bench.bench_file import read_description

        description = read_description(context.bench)
        games.tie(ties, Path(description.game))
        for pattern, title in description.layouts.items():
            ties.add(Path(description.game), pattern, title, "this bench")
        for pattern, name in description.encodings.items():
            ties.add_encoding(Path(description.game), pattern, name)
    _tie_named(options, ties, [context.cwd, *(context.cwd / path for path in _paths(options) if Path(path).is_dir())])
    _tie_encodings(options, ties, [context.cwd])
    library.tied, library.encoded, library.pictured = ties.layout, ties.encoding, ties.picture
    return library, ties


def _tie_named(options: argparse.Namespace, ties: Ties, roots: list[Path]) -> Layout | None:
    """Add the ties of the options; the layout of an archive that is for all files that are named, if there is one."""
    found = None
    for layout in named_layouts(options, ties):
        if layout.pattern:
            for root in dict.fromkeys(roots):
                ties.add(root, layout.pattern, layout.layout)
        elif layout.layout.kind == "archive":
            found = layout.layout
        else:
            for path in _paths(options):
                for root in roots[:1]:
                    ties.add(*_anchored(root, path), layout.layout)
    return found


def named_encodings(options: argparse.Namespace) -> Iterator[tuple[str, str]]:
    """The encodings that the options name: a pattern, empty for what is named, and the encoding."""
    from volvex.data.encodings import named

    for text in getattr(options, "encoding", None) or ():
        pattern, _, name = text.rpartition("=")
        yield pattern, named(name)


def _tie_encodings(options: argparse.Namespace, ties: Ties, roots: list[Path]) -> None:
    for pattern, name in named_encodings(options):
        for text in [pattern] if pattern else _paths(options):
            for root in roots:
                folder, below = _anchored(root, text)
                ties.add_encoding(folder, below, name)
                ties.add_encoding(folder, f"{below}/**", name)


def _anchored(root: Path, path: str) -> tuple[Path, str]:
    """The folder that a path below `root` starts from, and the rest of it as a pattern: `../game/x` starts above, `/x`
    at the top."""
    text = os.path.normpath(path).replace(os.sep, "/")
    if Path(path).is_absolute():
        return Path(Path(path).anchor), text.removeprefix(Path(path).anchor.replace(os.sep, "/"))
    folder = Path(os.path.normpath(root.absolute()))
    while text.startswith("../"):
        folder, text = folder.parent, text[3:]
    return folder, text


def tie_patterns(options: argparse.Namespace, ties: Ties, root: Path) -> None:
    """Add the ties of the options, all of which must have a pattern."""
    for layout in named_layouts(options, ties):
        if not layout.pattern:
            raise UsageError("no path is given for this layout", _PATTERN)
        ties.add(root, layout.pattern, layout.layout)


def bench_library(
    library: Library, game: Path, layouts: dict[str, str], context: Context, encodings: dict[str, str] | None = None
) -> Ties:
    """Tie paths of a bench's game to layouts, as its description says and the bench; and all that there is."""
    from volvex.archive.access.ties import Games, Ties

    ties = Ties([game, context.cwd], library.every)
    Games([context.home]).tie(ties, game)
    for pattern, title in layouts.items():
        ties.add(game, pattern, title, "this bench")
    for pattern, name in (encodings or {}).items():
        ties.add_encoding(game, pattern, name)
    library.tied, library.encoded, library.pictured = ties.layout, ties.encoding, ties.picture
    return ties


def open_walker(options: argparse.Namespace, context: Context) -> Walker:
    """What finds paths: on a bench those of its game, as it was before anything was installed."""
    from volvex.archive import Walker

    variant = getattr(options, "variant", None) or ""
    bench = bench_of(options, context)
    if bench is None:
        library, _ = tied_library(options, context)
        walker = Walker(library, layout_of_all(options, library, context), variant)
        walker.order = functools.partial(_load_order, context)
        return walker
    from volvex.bench.bench_file import read_description
    from volvex.bench.locate import Standing
    from volvex.command.ui.recovery import finish_interrupted
    from volvex.mods import originals

    description = read_description(bench)
    game = Path(description.game)
    if not game.is_dir():
        raise NotFoundError(
            f"the game of this bench is not at {game}", "`volvex changes --game DIR` with the folder where it is now"
        )
    finish_interrupted([game], context)
    library = context.library(bench)
    ties = bench_library(library, game, description.layouts, context, description.encodings)
    standing = Standing(bench.resolve(), game.resolve(), context.cwd)
    named = argparse.Namespace(**vars(options) | {"path": [standing.locate(path)[1] for path in _paths(options)]})
    layout = _tie_named(named, ties, [game])
    _tie_encodings(named, ties, [game])
    replaced = {standing.game / name: there for name, there in originals(standing.game).items()}
    walker = Walker(library, layout, variant, standing.locate, replaced)
    walker.order = functools.partial(_load_order, context)
    return walker


def _load_order(context: Context, game: Path) -> LoadOrder:
    """The order in which a game loads its archives, by its description."""
    from volvex.archive.access.ties import Games

    return Games([context.home]).order(game)


def layout_of_all(options: argparse.Namespace, library: Library, context: Context) -> Layout | None:
    """The layout of an archive that the options name for all files, if they do."""
    from volvex.archive.access.ties import Ties

    ties = Ties([context.cwd], library.every)
    return next(
        (
            layout.layout
            for layout in named_layouts(options, ties)
            if not layout.pattern and layout.layout.kind == "archive"
        ),
        None,
    )


def folder_of(path: Path, options: argparse.Namespace, context: Context) -> tuple[Path, str]:
    """A folder that a user names, on a bench as in the game; and what stands before the paths in it that is not
    shown."""
    bench = bench_of(options, context)
    if bench is None:
        return path, ""
    from volvex.bench.bench_file import read_description
    from volvex.bench.locate import Standing

    game = Path(read_description(bench).game).resolve()
    base, found = Standing(bench.resolve(), game, context.cwd).locate(path.as_posix())
    return (base / found, f"{game.as_posix()}/") if base != Path() else (path, "")


def game_path(path: str, walker: Walker, context: Context) -> str | None:
    """A path as one in the bench's game; None when it leads elsewhere, or there is no bench."""
    base, found = walker.located(path)
    return found if context.bench is not None and base != Path() else None


def bench_file(path: str, walker: Walker, context: Context) -> tuple[str, Path] | None:
    """What the bench has of something of its game: the place in its tree, and the file; None when it has nothing of
    it."""
    from volvex.archive.access.merged import MARK

    inner = game_path(path, walker, context) if not path.startswith(MARK) else ""
    if inner is None or context.bench is None:
        return None
    files = context.bench / "files"
    if inner and (files / inner).is_file():
        return inner, files / inner
    try:
        found = walker.find(path, whole=True)
    except VolvexError:
        return None
    if len(found) == 1 and found.homes:
        own = next(iter(found.homes.values()))
        return (own, files / own) if (files / own).is_file() else None
    if len(found) != 1 or not found.groups:
        return None
    place = found.groups[0].disk_path(int(found.groups[0].rows[0]))
    return (place, files / place) if place is not None and (files / place).is_file() else None


def finds_beside(path: str, walker: Walker, context: Context, edited: bool = False) -> Beside:
    """What finds other files by their paths from the folder of a file or entry; `edited`: as they stand on the
    bench."""

    from volvex.archive.access.merged import MARK
    from volvex.source import FileSource

    def find(name: str) -> Source | None:
        root, mark, inner = path.rpartition(MARK)
        other = root + mark + posixpath.normpath(posixpath.join(posixpath.dirname(inner), name))
        try:
            mine = bench_file(other, walker, context) if edited else None
            if mine is not None:
                return FileSource(mine[1], mine[0])
            found = list(_found_content(other, walker, deep=False))
        except (NotFoundError, UsageError):
            return None
        return found[0][0].source if len(found) == 1 else None

    return find


@dataclass(frozen=True)
class Content:
    """The one file or entry that a path means: its bytes, its whole path, and what is known of how it is stored."""

    source: Source
    path: str
    stored: str = ""
    of_package: bool = False  # whether it is an object that has a type

    @property
    def edited(self) -> bool:
        """Whether it is what the bench has, rather than the game."""
        return self.stored == EDITED


def content_at(path: str, walker: Walker, context: Context) -> Content:
    """The content of the one file or entry that a path means; on a bench what the bench has of it, if it has.

    NotFoundError when it means none, UsageError when it means several.
    """
    found = _content_at(path, walker, context)
    found.source.beside = finds_beside(found.path, walker, context, found.edited)
    return found


def file_at(path: str, file: Path, walker: Walker, context: Context) -> Source:
    """The content of a file on disk that is no archive; on a bench what the bench has of it, if it has."""
    from volvex.source import FileSource

    edited = bench_file(path, walker, context)
    source = FileSource(edited[1], edited[0]) if edited is not None else FileSource(file, path)
    source.beside = finds_beside(source.name, walker, context, edited is not None)
    return source


def _content_at(path: str, walker: Walker, context: Context) -> Content:
    from volvex.archive.access.nested import content_source
    from volvex.archive.safe_names import quoted, shown
    from volvex.source import FileSource

    edited = bench_file(path, walker, context)
    if edited is not None:
        return Content(FileSource(edited[1], edited[0]), edited[0], EDITED)
    found = walker.find(path)
    if not len(found):
        raise UsageError(f"{shown(path)} is an archive without entries", "another path")
    if len(found) > 1:
        raise UsageError(
            f"{shown(path)}: {len(found):,} files match; give one path", f"`volvex list {quoted(path)}` to see them"
        )
    if found.files:
        name, file = found.files[0]
        return Content(FileSource(file, name), name)
    archive, row, name = walker.one_entry(path)
    codec = archive.codec_labels[archive.entries.codec[row]]
    text = f"{int(archive.entries.stored[row]):,} stored as {codec}" if codec != "none" else ""
    return Content(content_source(archive, row, name), name, text)


def each_content(
    path: str, walker: Walker, context: Context, deep: bool = False
) -> Iterator[tuple[Content, Path | None]]:
    """The content of every file and entry that a path means; and where it is on disk, if it is.

    An archive is what it is itself, or with `deep` what it holds, to any depth. What cannot be read is among the
    walker's faults.
    """
    for content, file in _each_content(path, walker, context, deep):
        content.source.beside = finds_beside(content.path, walker, context, content.edited)
        yield content, file


def _each_content(path: str, walker: Walker, context: Context, deep: bool) -> Iterator[tuple[Content, Path | None]]:
    from volvex.source import FileSource

    edited = bench_file(path, walker, context)
    if edited is not None:
        yield Content(FileSource(edited[1], edited[0]), edited[0], EDITED), edited[1]
    else:
        yield from _found_content(path, walker, deep)


def _found_content(path: str, walker: Walker, deep: bool) -> Iterator[tuple[Content, Path | None]]:
    from volvex.archive.access.nested import content_source
    from volvex.archive.object_types import is_package
    from volvex.source import FileSource

    found = walker.find(path, whole=not deep, deep=deep, nested=deep)
    for name, file in found.files:
        yield Content(FileSource(file, name), name), file
    for group in found.groups:
        for row in group.rows.tolist():
            if row in group.archive.folders:
                continue
            name = f"{group.path}/{group.archive.names[row]}"
            try:
                typed = is_package(group.archive)
                yield Content(content_source(group.archive, row, name), name, of_package=typed), None
            except VolvexError as error:
                walker.faults.append(error)


def remember_layouts(options: argparse.Namespace, bench: Workbench, ties: Ties, context: Context) -> None:
    """Tie what the options name to its layout for good: the bench keeps it, and a layout file in its folder
    `layouts`."""
    told = list(named_layouts(options, ties))
    for named in told:
        for pattern in [named.pattern] if named.pattern else _patterns(options, bench, named.layout, context):
            bench.layouts[pattern] = named.layout.title
            ties.add(bench.game.folder, pattern, named.layout, "this bench")
        if named.file is not None:
            _keep_layout(bench, named.file)
    for pattern, name in named_encodings(options):
        paths = getattr(options, "path", None) or []
        for path in [pattern] if pattern else [paths] if isinstance(paths, str) else paths:
            place = pattern or bench.within_game(path, context.cwd)
            bench.encodings[place] = name
            ties.add_encoding(bench.game.folder, place, name)
    if told or getattr(options, "encoding", None):
        bench.save()


def _patterns(options: argparse.Namespace, bench: Workbench, layout: Layout, context: Context) -> Iterator[str]:
    """What a layout without a pattern is for: the data that is named, or the file of the game that is."""
    text = getattr(options, "path", None) or []
    paths = [bench.within_game(path, context.cwd) for path in ([text] if isinstance(text, str) else text)]
    if not paths:
        raise UsageError("no path is given for this layout", _PATTERN)
    for path in paths:
        name = bench.file_of(path)
        known = bench.archive(name) if layout.kind == "archive" and bench.game.original(name) is not None else None
        if known is not None and name != path:
            raise UsageError(
                f"{name} opens as {known.called}, so this layout is not for the whole of it",
                "--layout 'PATTERN=LAYOUT' with the path of what it is for",
            )
        yield name if layout.kind == "archive" else path


def _keep_layout(bench: Workbench, file: Path) -> None:
    from volvex.archive.access.paths import LAYOUTS
    from volvex.source import atomic

    target = bench.folder / LAYOUTS / file.name
    if target.is_file() and target.samefile(file):
        return
    if target.is_file() and target.read_bytes() != file.read_bytes():
        raise UsageError(f"the bench has another {LAYOUTS}/{file.name}", "another name for the layout's file")
    with atomic(bench.disk, target) as out:
        bench.disk.write(out, file.read_bytes())
