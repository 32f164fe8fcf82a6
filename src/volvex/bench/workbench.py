"""The workbench: taking content out of a game into a folder, and remembering where it came from."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import asdict
from pathlib import Path, PurePosixPath

import numpy as np

from volvex.archive.access.match import Above, Variants, Way, leading_on, matching, within
from volvex.archive.access.near_misses import missing_entry, missing_file
from volvex.archive.access.nested import open_entry
from volvex.archive.access.paths import DESCRIPTION
from volvex.archive.access.patterns import WILD
from volvex.archive.archive import Archive
from volvex.archive.formats import format_of
from volvex.archive.safe_names import Refusal, disk_names, quoted, shown
from volvex.archive.transfer.pack import files_below
from volvex.archive.transfer.rebuild import file_chunks
from volvex.bench.aside import keep_aside
from volvex.bench.bases import LIMIT, keep_base
from volvex.bench.bench_file import FORMAT, Taken, read_description
from volvex.bench.game import Game
from volvex.bench.locate import FILES, Standing
from volvex.bench.lock import is_unfinished, lock_bench
from volvex.bench.opened import OpenedFile, record_of
from volvex.bench.originals import Originals, only
from volvex.data import encodings
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.source import Disk, FileSource, atomic
from volvex.source.digest import Fingerprint, digest_bytes, digest_file
from volvex.source.lock import Lock

MOST_SEARCHED = 500  # archives in which a path is looked for that the game does not have


class Workbench(Originals):
    """An open bench."""

    def __init__(self, folder: Path, game: Game, library: Library, disk: Disk) -> None:
        super().__init__(game, library)
        self.folder, self.disk = folder, disk
        self._lock: Lock | None = None
        self.fingerprints: dict[str, Fingerprint] = {}
        self.taken: dict[str, Taken] = {}  # by path below `files`
        self.dropped: set[str] = set()  # entries that are left out of what is built, by such a path
        self.opened: dict[str, OpenedFile] = {}  # by path below the bench
        self.layouts: dict[str, str] = {}  # patterns of paths, and the titles of the layouts to which they are tied
        self.encodings: dict[str, str] = {}  # patterns of paths of texts, and their encodings
        self.after: dict[str, str] = {}  # paths of new entries, and of those behind which they stand
        self._encoded: dict[str, str] = {}
        self._renewed: dict[str, bool] = {}
        self.newly_taken: list[str] = []
        self.on_kept: Callable[[str, str], None] = lambda place, kept: None  # an edited file was kept aside
        self.variants = Variants("")  # which of several variants of a path commands mean

    def __enter__(self) -> Workbench:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        super().close()
        if self._lock is not None:
            self._lock.release()

    @property
    def identity(self) -> str:
        """The bench's id in the journal of a game."""
        return digest_bytes(self.folder.as_posix().encode("utf-8", "surrogateescape"))[:32]

    @property
    def files(self) -> Path:
        """The tree that mirrors the game's."""
        return self.folder / FILES

    @property
    def built(self) -> Path:
        return self.folder / "built"

    # the description

    @classmethod
    def create(cls, folder: Path, game: Game, library: Library, disk: Disk) -> Workbench:
        """A new bench: the fingerprints of the game's archives, and nothing copied."""
        folder = folder.resolve()
        if folder.is_relative_to(game.folder):
            raise RefusedError(f"{folder} is within the game's folder", "a folder of its own for the bench")
        if folder.is_dir() and not is_unfinished(folder):
            raise RefusedError(f"{folder} is not empty", "another folder, or the bench that exists there")
        bench = cls(folder, game, library, disk)
        for name, original in game.files():
            with FileSource(original, name) as source:
                if library.match(source) is not None or format_of(source) is not None:
                    bench.fingerprints[name] = Fingerprint.of(original)
        disk.make_folder(bench.files)
        with contextlib.ExitStack() as held:
            held.callback(bench.close)
            bench._lock = lock_bench(folder, lambda: None)
            bench.save()
            held.pop_all()
        return bench

    def save(self) -> None:
        """Write the description."""
        value = {
            "bench": FORMAT,
            "game": str(self.game.folder),
            "described as": self.game.description.name,
            "fingerprints": {name: asdict(fingerprint) for name, fingerprint in sorted(self.fingerprints.items())},
            "taken": {name: asdict(taken) for name, taken in sorted(self.taken.items())},
            "dropped": sorted(self.dropped),
            **{what: dict(sorted(getattr(self, what).items())) for what in ("layouts", "encodings", "after")},
            "opened": {name: record_of(opened) for name, opened in sorted(self.opened.items())},
        }
        with atomic(self.disk, self.folder / DESCRIPTION) as file:
            self.disk.write(file, (json.dumps(value, indent=1, ensure_ascii=True) + "\n").encode())

    @classmethod
    def open(cls, folder: Path, game: Game, library: Library, disk: Disk, lock: Lock | None = None) -> Workbench:
        """The bench in a folder; closing it releases the lock."""
        found = read_description(folder)
        bench = cls(folder.resolve(), game, library, disk)
        bench.fingerprints, bench.taken = found.fingerprints, found.taken
        bench.dropped, bench.opened, bench.layouts = found.dropped, found.opened, found.layouts
        bench.encodings, bench.after = found.encodings, found.after
        bench._lock = lock
        return bench

    # the game's side

    def renewed(self, name: str) -> bool:
        """Whether a file of the game is another than when the bench was made."""
        name = self.file_of(name)
        if name not in self._renewed:
            original, known = self.game.original(name), self.fingerprints.get(name)
            self._renewed[name] = original is not None and known is not None and Fingerprint.of(original) != known
        return self._renewed[name]

    def within_game(self, path: str, here: Path) -> str:
        """A path that a user gave who stands `here`, relative to the game; of one in the tree that the game sees, where
        that lies."""
        standing = Standing(self.folder, self.game.folder, here)
        inside = standing.in_tree(path)
        if inside is None:
            return standing.in_game(path)
        return self.place_of(*only(self.seen(inside), path))

    def meant(self, path: str, here: Path) -> list[tuple[str, int | None]]:
        """What a path that a user gave means, in the game or in the tree that it sees."""
        inside = Standing(self.folder, self.game.folder, here).in_tree(path)
        return self.seen(inside) if inside is not None else list(self.select(self.within_game(path, here)))

    def select(self, path: str) -> Iterator[tuple[str, int | None]]:
        """What a path within the game means: file of the game, and row in it (None for a plain file)."""
        for name, row in self._select(path):
            archive = self.archive(name) if row is not None else None
            if archive is None or len(self.variants.picked(archive, np.array([row], np.int64))):
                yield name, row
        self.variants.check(path)

    def _select(self, path: str) -> Iterator[tuple[str, int | None]]:
        split = self.split(path)
        if split is not None:
            yield from self._select_in(*split)
        elif WILD.search(path):
            found = [one for name, _ in self.game.files() for one in self._match_file(name, path.split("/"))]
            if not found:
                raise NotFoundError(f"nothing in the game matches {shown(path)}")
            yield from found
        else:
            names = [name for name, _ in self.game.files() if not path or name.startswith(path + "/")]
            if not names:
                raise self._missing(path)
            for name in names:
                yield from self._select_in(name, "")

    def _missing(self, path: str) -> NotFoundError:
        """The error for a path that the game does not have, with what may have been meant."""
        return missing_file([name for name, _ in self.game.files()], path, self._within_archives)

    def _within_archives(self, path: str) -> str:
        """An entry whose path ends as this one does; empty when there is none."""
        wanted = "/" + path.casefold()
        for name in list(self.fingerprints)[:MOST_SEARCHED]:
            try:
                with self.library.keys.quiet():
                    archive = self.archive(name) if self.game.original(name) is not None else None
            except VolvexError:
                continue
            paths = archive.names if archive else ()
            found = next((path for path in paths if f"/{path}".casefold().endswith(wanted)), None)
            if found is not None:
                return f"{name}/{found}"
        return ""

    def _select_in(self, name: str, inner: str) -> Iterator[tuple[str, int | None]]:
        archive = self.archive(name)
        if archive is None:
            if inner:
                raise NotFoundError(f"{shown(name)} is not an archive of a known format")
            yield name, None
            return
        if not inner:
            yield from ((name, row) for row in range(len(archive)) if row not in archive.folders)
            return
        found = list(self._select_ways(name, archive, [inner.split("/")]))
        if not found:
            raise missing_entry(archive.names, name, inner)
        yield from found

    def _select_ways(self, name: str, archive: Archive, ways: list[Way]) -> Iterator[tuple[str, int]]:
        """What a path or pattern means in an archive; a pattern also in those within it."""

        def enter(outer: Archive, row: int, path: str, above: Above) -> tuple[Archive, str] | None:
            place = self.places_in(path)[row]
            inner = self._glimpsed(outer, row, f"{path}/{place}") if isinstance(place, str) else None
            return None if inner is None else (inner, f"{path}/{place}")

        wild = any(WILD.search("/".join(way)) for way in ways)
        for matched in within(archive, name, ways, enter if wild else lambda *_: None, whole=True):
            yield from ((matched.path, row) for row in matched.rows.tolist() if row not in matched.archive.folders)

    def _glimpsed(self, archive: Archive, row: int, within: str) -> Archive | None:
        """The archive that an entry plainly is: a wildcard meets many, and passes by what is locked or damaged."""
        if within not in self._archives:
            try:
                found = open_entry(archive, row, self.library, within, asked=False)
            except VolvexError:
                return None
            if found is None:
                return None
            self._archives[within] = found
        return self._archives[within]

    def _match_file(self, name: str, parts: list[str]) -> Iterator[tuple[str, int | None]]:
        """What a pattern means of one file of the game: itself, or entries of it."""
        if parts[-1] != "**" and len(matching([name], parts)):  # the file, or a folder that it lies in
            yield from self._select_in(name, "")
            return
        ways = leading_on([name], [parts]).get(0)
        archive = self.archive(name) if ways else None
        if archive is not None:
            yield from self._select_ways(name, archive, ways or [])
        elif len(matching([name], parts)):
            yield name, None

    # leaving out

    def drop(self, wanted: Sequence[tuple[str, int | None]]) -> list[str]:
        """Leave entries out of what is built, and files out of the game: where they would be in the bench."""
        places = [self.place_of(name, row) for name, row in wanted]
        self.dropped |= set(places)
        self.save()
        return places

    # taking

    def take(self, wanted: Sequence[tuple[str, int | None]], again: bool = False) -> tuple[list[str], list[str]]:
        """Put content into the bench's tree: what was put there, and what was there already and is left alone.

        RefusedError when one of them was edited since it was taken, unless `again`; nothing is taken then.
        """
        jobs = [(self.place_of(name, row), name, row) for name, row in wanted]
        wanted_places = {place for place, _, _ in jobs}
        for place, _, _ in jobs:
            self._check_free(self.files / place)
            above = next((folder for folder in map(str, PurePosixPath(place).parents) if folder in wanted_places), None)
            if above is not None:
                raise RefusedError(
                    f"{shown(above)} is meant, and what lies in it", "either the archive whole, or entries of it"
                )
        there = [place for place, _, _ in jobs if (self.files / place).exists()]
        edited = [place for place in there if self._edited(place)]
        if edited and not again:
            raise RefusedError(
                f"{edited[0]} was edited in the bench",
                "--overwrite to take the original again; your file is kept in `undone`",
            )
        left = [] if again else there
        done = []
        for place, name, row in jobs:
            if place in left and place in self.taken:
                continue
            self._take(place, name, row)
            done.append(place)
        self.save()
        return done, left

    def put(self, path: str, source: Path, new: bool = False) -> str:
        """Put a file of the user's in the place of something of the game, or beside it when it is `new`.

        Where it went in the bench; NotFoundError when the game has no such thing and `new` does not say so.
        """
        if not source.is_file():
            raise NotFoundError(f"there is no file {source}")
        try:
            place = self._new_place(path) if new else self._taken_place(path)
        except NotFoundError as error:
            meant = f"; or {error.hint}" if error.hint.casefold().strip("'") == path.casefold() else ""
            raise NotFoundError(error.message, f"--new, if it is to be a new file{meant}") from error
        self.keep_edited(place, digest_file(source))
        return self._store(place, file_chunks(source))

    def keep_edited(self, path: str, digest: str = "") -> None:
        """Keep what a user made of something of the bench, which is about to be replaced, unless by content of this
        digest."""
        file = self.files / path
        if file.is_file() and digest_file(file) != digest and self._edited(path):
            self.on_kept(path, keep_aside(self.folder, file, path, self.disk))

    def put_content(self, path: str, content: bytes) -> str:
        """Put content under a path that the game does not have; where it went in the bench."""
        self.keep_edited(self._new_place(path), digest_bytes(content))
        return self._store(self._new_place(path), [content])

    def _store(self, path: str, chunks: Iterable[bytes]) -> str:
        with atomic(self.disk, self.files / path, durable=False) as file:
            for chunk in chunks:
                self.disk.write(file, chunk)
        return path

    def put_variant(self, path: str, other: str) -> list[tuple[str, str, int]]:
        """Put one variant's content in the place of those that are meant of the same path.

        Where each went, whose content it is, and its size; NotFoundError where a path has no such variant.
        """
        done = []
        for name, row in list(self.select(path)):
            archive = self.archive(name)
            if archive is None or row is None or archive.variants is None:
                continue
            rows = [number for number in archive.rows_by_path[archive.paths[row]] if archive.variants[number] == other]
            if not rows:
                problem = f"{shown(archive.paths[row])} has no variant {shown(other)}"
                raise NotFoundError(problem, f"`volvex list {quoted(name)}` to see which it has")
            if rows[0] != row:
                done.append(self._put_entry(name, row, rows[0]))
        if not done:
            raise NotFoundError(
                f"{shown(path)} is stored once, or is that variant already", "--variant with the one to be replaced"
            )
        return done

    def _put_entry(self, name: str, row: int, other: int) -> tuple[str, str, int]:
        place, from_ = self.place_of(name, row), self.place_of(name, other)
        if place not in self.taken:
            self.take([(name, row)])
        content = b"".join(self.original_content(from_))
        there = self.files / from_
        if there.is_file():  # as it stands in the bench
            content = there.read_bytes()
        self.keep_edited(place, digest_bytes(content))
        return self._store(place, [content]), from_, len(content)

    def _taken_place(self, path: str) -> str:
        wanted = only(list(self.select(path)), path)
        place = self.place_of(*wanted)
        if place not in self.taken:
            reason = self.require_archive(wanted[0]).refusal(wanted[1]) if wanted[1] is not None else ""
            if reason:
                raise RefusedError(f"{shown(path)}: {reason}", "another entry: only files can be changed")
            self.take([wanted])
        return place

    def _new_place(self, path: str) -> str:
        name, inner = self.split(path) or (path, "")
        place = disk_names([path])[0]
        if isinstance(place, Refusal):
            raise RefusedError(f"{shown(path)}: {place.reason}")
        archive = self.archive(name) if inner else None
        if (
            (inner and archive is None)
            or (archive is not None and archive.rows_of(inner))
            or (name == place and self.game.original(name))
        ):
            raise RefusedError(f"{shown(path)} already exists", "leaving --new out")
        return place

    def current(self, path: str) -> bytes:
        """What something of the game is now: as it stands in the bench, or as the game has it."""
        if (self.files / path).is_file():
            return (self.files / path).read_bytes()
        place = self.place_of(*only(list(self.select(path)), path))
        file = self.files / place
        return file.read_bytes() if file.is_file() else b"".join(self.original_content(place))

    def open_for_edit(self, path: str) -> tuple[str, Path]:
        """Something of the game as a file in the bench, taken now unless it was before: its place, and where."""
        place = path if path in self.taken or (self.files / path).is_file() else self._taken_place(path)
        return place, self.files / place

    def _edited(self, path: str) -> bool:
        """Whether a file of the bench is another than when it was taken; than the original, where a killed `take` left
        no record."""
        known = self.taken.get(path)
        digest = known.digest if known is not None else digest_bytes(b"".join(self.original_content(path)))
        return digest_file(self.files / path) != digest

    def place_of(self, name: str, row: int | None) -> str:
        """Where in the bench's tree something goes."""
        if row is None:
            return name
        archive = self.require_archive(name)
        place = self.places_in(name)[row]
        if isinstance(place, Refusal):
            raise RefusedError(f"{archive.label(row)}: {place.reason}")
        return f"{name}/{place}"

    def _take(self, path: str, name: str, row: int | None) -> None:
        archive = self.archive(name)
        self.keep_edited(path)
        if row is None or archive is None:
            chunks = file_chunks(self.require_original(name))
        else:
            chunks = archive.chunks(row)
        self._store(path, chunks)
        home = self.file_of(name)
        if home not in self.fingerprints and archive is not None and (original := self.game.original(home)) is not None:
            self.fingerprints[home] = Fingerprint.of(original)
        entry = "" if row is None or archive is None else archive.names[row]
        self.newly_taken.append(path)
        target = self.disk.where(self.files / path)
        self.taken[path] = Taken(name, entry, target.stat().st_size, digest_file(target))
        if self.taken[path].size <= LIMIT:
            keep_base(self.folder, self.taken[path].digest, target.read_bytes(), self.disk)

    def _check_free(self, target: Path) -> None:
        """An archive within an archive is taken as a file, or entries of it are: not both."""
        above = [folder for folder in target.parents if folder.is_relative_to(self.files) and folder.is_file()]
        if target.is_dir() or above:
            there = above[0] if above else target
            raise RefusedError(
                f"{there} is in the bench already, as a {'file' if above else 'folder'}",
                "moving it away: an archive is taken whole, or entries of it are",
            )

    def home(self, path: str) -> tuple[str, str]:
        """For a path below `files`: the game's file or inner archive that it belongs to (or will be), and the rest of
        it."""
        known = self.taken.get(path)
        if known is not None:
            return known.file, path[len(known.file) + 1 :]
        return self.split(path) or (path, "")

    def row(self, path: str) -> int | None:
        """The entry that a path below `files` stands for; None when the archive has none such."""
        name, inner = self.home(path)
        known, archive = self.taken.get(path), self.archive(name)
        if known is not None and archive is not None and inner == known.entry and inner in archive.rows:
            return archive.rows[inner]  # a name that the disk did not change needs no map of all names
        row = self.rows_in(name).get(inner)
        if row is None and archive is not None:  # under a key, or a path that nobody knew when it was put there
            row = next(iter(archive.rows_of(inner)), None)
        return row

    def original_size(self, path: str) -> int | None:
        """The size of the original of something in the bench; None when the game has no such thing."""
        name, inner = self.home(path)
        archive = self.archive(name) if inner else None
        if archive is None:
            original = self.game.original(name)
            return original.stat().st_size if original is not None else None
        row = self.row(path)
        return None if row is None else int(archive.entries.size[row])

    def original_content(self, path: str) -> Iterator[bytes]:
        """The original of something in the bench, in pieces; nothing when the game has no such thing."""
        name, inner = self.home(path)
        archive = self.archive(name) if inner else None
        if archive is None:
            original = self.game.original(name)
            yield from file_chunks(original) if original is not None else ()
        elif (row := self.row(path)) is not None:
            yield from archive.chunks(row)

    def encoded(self, path: str) -> tuple[str, bool]:
        """The encoding of the original of something in the bench that is text, but not in UTF-8: its edited state is in
        the same."""
        if path not in self._encoded:
            file = self.files / path
            small = file.is_file() and file.stat().st_size <= LIMIT
            original = b"".join(self.original_content(path)) if small else b""
            self._encoded[path] = "" if encodings.is_utf8(original) else encodings.guessed(original)
        return self._encoded[path], False

    def places(self) -> list[str]:
        """Every file in the bench's tree."""
        return list(files_below(self.files)) if self.files.is_dir() else []
