"""The game's content with all mods in it, file by file; and what they cannot agree on."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from volvex import __version__
from volvex.bench.workbench import Workbench
from volvex.data import Change, open_data
from volvex.data.encodings import of_text
from volvex.data.verify import edited
from volvex.errors import FormatError
from volvex.mods.combine.conflict import ABSENT, GAME, Conflict, Decisions, Side
from volvex.mods.combine.fields import combine_fields
from volvex.mods.combine.text import combine_lines
from volvex.mods.mod.content import FieldChanges, LineChanges, Mod, NewFile, Part, Removed
from volvex.mods.mod.lines import Hunk, text_of
from volvex.mods.mod.make import LARGEST, between
from volvex.source.digest import Fingerprint, digest_bytes, digest_chunks, digest_file

Given = list[tuple[str, Part]]  # the parts of one path, with their mods' ids, in the order of the mods


@dataclass(frozen=True)
class Combined:
    """What a file will be: these bytes, or those of a file, or removed; and how much each mod contributed."""

    path: str
    counts: Mapping[str, int]
    data: bytes | None = None
    file: Path | None = None
    merged: frozenset[str] = frozenset()  # the mods that were made for other content of the game
    key: str = ""  # a digest of all that it was made of
    kept: bool = False  # it is what an earlier combination made of the same

    @property
    def removed(self) -> bool:
        return self.data is None and self.file is None and not self.kept


@dataclass
class Combination:
    """All files that mods change, and what is undecided."""

    files: list[Combined] = field(default_factory=list)
    conflicts: list[Conflict] = field(default_factory=list)


def combine(
    bench: Workbench,
    mods: Sequence[Mod],
    decisions: Decisions,
    known: Callable[[str, str], Combined | None] = lambda path, key: None,
) -> Combination:
    """Combine mods, in their order, against the originals that `bench` reads. `known` gives what an earlier combination
    made of a path, when it was made of the same."""
    result = Combination()
    base = digest_bytes(
        "\0".join([__version__, *(file.read_text("utf-8", "replace") for file in bench.library.files())]).encode()
    )
    for path, given in _without_clashes(mods, decisions, result):
        key = _key(bench, path, given, decisions, base)
        earlier = known(path, key)
        if earlier is not None:
            result.files.append(earlier)
            continue
        made = _Path(bench, _Original(bench, path), decisions, result).combined(given)
        if made is not None:
            result.files.append(replace(made, key=key))
    return result


def _key(bench: Workbench, path: str, given: Given, decisions: Decisions, base: str) -> str:
    """A digest of all that decides what a path becomes: the game's file, the parts, and what was settled about it."""
    original = bench.game.original(bench.file_of(path))
    lines = [base, path, repr(Fingerprint.of(original)) if original is not None else "", repr(decisions.preferred)]
    lines += [f"{key} {decision}" for key, decision in sorted(decisions.settled.items()) if key.startswith(path)]
    for mod, part in given:
        lines += [mod, f"{digest_file(part.file)} {part.replaces}" if isinstance(part, NewFile) else repr(part)]
    return digest_bytes("\0".join(lines).encode("utf-8", "surrogatepass"))


class _Original:
    """The game's content at a path, of which no more is read than is asked for."""

    def __init__(self, bench: Workbench, path: str) -> None:
        self.bench, self.path = bench, path

    @functools.cached_property
    def exists(self) -> bool:
        split = self.bench.split(self.path)
        return split is not None and (not split[1] or self.bench.row(self.path) is not None)

    @functools.cached_property
    def content(self) -> bytes:
        """All of it, for what is changed by field or line; nothing where there is none."""
        return b"".join(self.bench.original_content(self.path)) if self.exists else b""

    @functools.cached_property
    def _measured(self) -> tuple[str | None, int]:
        if not self.exists:
            return None, 0
        return digest_chunks(self.bench.original_content(self.path))

    @property
    def digest(self) -> str | None:
        """Its digest; None when the game has no such file."""
        return self._measured[0]

    @property
    def size(self) -> int:
        return self._measured[1]


def _without_clashes(mods: Sequence[Mod], decisions: Decisions, result: Combination) -> Iterator[tuple[str, Given]]:
    """All paths with their parts; a path that is an archive whole in one mod, and entered by another, is a conflict."""
    given: dict[str, Given] = {}
    for mod in mods:
        for path, part in mod.parts.items():
            given.setdefault(path, []).append((mod.id, part))
    left = set(given)
    for path in sorted(given):
        above = next((path[:end] for end in range(len(path)) if path[end] == "/" and path[:end] in given), None)
        if above is None or path not in left or above not in left:
            continue
        sides = [Side(mod, "the whole file") for mod, _ in given[above]]
        sides += [Side(mod, f"something in it, such as {path[len(above) + 1 :]}") for mod, _ in given[path]]
        conflict = Conflict(above, "file", tuple(sides), "the game's file")
        chosen = decisions.of(conflict)
        if chosen is None:
            result.conflicts.append(conflict)
        whole = chosen in [mod for mod, _ in given[above]]
        left -= {text for text in left if text.startswith(above + "/")} if whole or chosen is None else {above}
        if chosen is None or chosen == GAME:
            left.discard(above)
    yield from ((path, given[path]) for path in sorted(left))


class _OfFile(_Original):
    """The content of a mod's file, in the place of the game's."""

    def __init__(self, path: str, file: Path) -> None:
        self.path, self.file = path, file

    exists = True

    @functools.cached_property
    def content(self) -> bytes:
        return self.file.read_bytes()

    @functools.cached_property
    def _measured(self) -> tuple[str | None, int]:
        return digest_file(self.file), self.file.stat().st_size


class _Path:
    """One path of the game."""

    def __init__(self, bench: Workbench, original: _Original, decisions: Decisions, result: Combination) -> None:
        self.bench, self.path, self.original = bench, original.path, original
        self.decisions, self.result = decisions, result

    def combined(self, given: Given) -> Combined | None:
        """What comes of its parts; None when nothing changes, or nothing is decided."""
        removing = [mod for mod, part in given if isinstance(part, Removed)]
        if removing:
            return self._removed(given, removing)
        files = [one for one in given if isinstance(one[1], NewFile)]
        if len(files) == 1 == len(given):
            return self._file(*files[0])
        if len(files) == 1 and not self.original.exists and given[0] is files[0]:
            return self._new_and_changed(files[0], given[1:])
        if files:
            converted = [(mod, self._as_changes(part)) for mod, part in given]
            if any(part is None for _, part in converted):
                return self._several(given)
            given = [(mod, part) for mod, part in converted if part is not None]
        if not self.original.exists:
            return self._chosen(given, "file", [Side(mod, "changes it") for mod, _ in given], ABSENT, stale=True)
        return self._changed(given)

    def _new_and_changed(self, new: tuple[str, Part], given: Given) -> Combined | None:
        """A file that one mod adds, with what later ones change in it."""
        mod, part = new
        assert isinstance(part, NewFile)
        undecided = len(self.result.conflicts)
        made = _Path(self.bench, _OfFile(self.path, part.file), self.decisions, self.result)._changed(given)
        if len(self.result.conflicts) > undecided:
            return None
        if made is None:
            return Combined(self.path, {mod: 1}, file=part.file)
        return replace(made, counts={mod: 1, **made.counts})

    def _as_changes(self, part: Part) -> Part | None:
        """A file as field or line changes; None when it cannot be told so."""
        if not isinstance(part, NewFile):
            return part
        original = self.original
        if (
            max(original.size, part.file.stat().st_size) > LARGEST
            or part.replaces is None
            or part.replaces != original.digest
        ):
            return None
        return between(self.path, original.content, part.file.read_bytes(), self.bench.library)

    def _changed(self, given: Given) -> Combined | None:
        """Field changes and line changes of all mods in one file."""
        data, counts = self.original.content, dict[str, int]()
        fields = [(mod, part.changes) for mod, part in given if isinstance(part, FieldChanges)]
        hunks = [(mod, part.hunks) for mod, part in given if isinstance(part, LineChanges)]
        undecided = len(self.result.conflicts)
        if fields:
            data = self._with_fields(data, fields, counts)
        if hunks:
            data = self._with_lines(data, hunks, counts)
        if len(self.result.conflicts) > undecided or data == self.original.content:
            return None
        made_for_other = {mod for mod, part in given if _base(part) not in ("", self.original.digest)}
        return Combined(self.path, counts, data, merged=frozenset(made_for_other))

    def _with_fields(
        self, data: bytes, wanted: Sequence[tuple[str, Sequence[Change]]], counts: dict[str, int]
    ) -> bytes:
        document = open_data(data, self.bench.library, self.path) if data else None
        if document is None:
            raise FormatError(
                self.path,
                "mods change fields of it, and it is not data of a known format",
                hint="the layout that the mod's author used",
            )
        made = combine_fields(self.path, document, wanted, self.decisions)
        self.result.conflicts += made.conflicts
        _add(counts, made.counts)
        return edited(document, made.changes) if made.changes and not made.conflicts else data

    def _with_lines(self, data: bytes, wanted: Sequence[tuple[str, Sequence[Hunk]]], counts: dict[str, int]) -> bytes:
        text = text_of(data, of_text(self.bench.library.encoded(self.path), data) or "utf-8")
        if text is None:
            raise FormatError(
                self.path, "mods change lines of it, and it is not a text", hint="`volvex show` to see what it is"
            )
        made = combine_lines(self.path, text, wanted, self.decisions)
        self.result.conflicts += made.conflicts
        _add(counts, made.counts)
        return text.encoded(made.lines)

    def _removed(self, given: Given, removing: list[str]) -> Combined | None:
        if len(removing) < len(given):
            sides = [Side(mod, "removes it" if isinstance(part, Removed) else "changes it") for mod, part in given]
            return self._chosen(given, "file", sides, self._state())
        if not self.original.exists:
            return None
        now = self.original.digest
        stale = [mod for mod, part in given if isinstance(part, Removed) and part.replaces != now]
        if stale:
            sides = [Side(GAME, f"changed since: {self._state()}"), *(Side(mod, "removes it") for mod in stale)]
            if self._decided("file", sides) in (None, GAME):
                return None
        return Combined(self.path, dict.fromkeys(removing, 1))

    def _file(self, mod: str, part: Part) -> Combined | None:
        """A file of one mod alone, made for the content that the game has."""
        assert isinstance(part, NewFile)
        now = self.original.digest
        digest = digest_file(part.file)
        if digest == now:
            return None
        if part.replaces != now:
            sides = [Side(GAME, self._state()), Side(mod, f"made for other content: {digest[:12]}")]
            if self._decided("file", sides) in (None, GAME):
                return None
        return Combined(self.path, {mod: 1}, file=part.file)

    def _several(self, given: Given) -> Combined | None:
        """Files of several mods that cannot be told as changes: the same bytes, or one of them."""
        contents = {digest_file(part.file) if isinstance(part, NewFile) else "" for _, part in given}
        if len(contents) == 1 and "" not in contents:
            made = self._file(*given[0])
            return None if made is None else Combined(self.path, {mod: 1 for mod, _ in given}, file=made.file)
        sides = [
            Side(
                mod,
                f"a file of {part.file.stat().st_size:,} bytes, {digest_file(part.file)[:12]}"
                if isinstance(part, NewFile)
                else "changes in it",
            )
            for mod, part in given
        ]
        return self._chosen(given, "file", sides, self._state())

    def _chosen(
        self, given: Given, kind: str, sides: Sequence[Side], base: str, stale: bool = False
    ) -> Combined | None:
        """Only the parts of the mod that was chosen."""
        chosen = self._decided(kind, sides, base)
        if stale and chosen not in (None, GAME):  # nothing is there that could be changed
            self.result.conflicts.append(Conflict(self.path, kind, tuple(sides), base))
        if chosen is None or chosen == GAME or stale:
            return None
        return self.combined([one for one in given if one[0] == chosen])

    def _decided(self, kind: str, sides: Sequence[Side], base: str | None = None) -> str | None:
        conflict = Conflict(self.path, kind, tuple(sides), self._state() if base is None else base)
        chosen = self.decisions.of(conflict)
        if chosen is None:
            self.result.conflicts.append(conflict)
        return chosen

    def _state(self) -> str:
        digest = self.original.digest
        return ABSENT if digest is None else f"{self.original.size:,} bytes, {digest[:12]}"


def _base(part: Part) -> str:
    return part.base if isinstance(part, FieldChanges | LineChanges) else ""


def _add(counts: dict[str, int], more: Mapping[str, int]) -> None:
    for mod, count in more.items():
        counts[mod] = counts.get(mod, 0) + count
