"""Keys of paths: what an archive stores in place of names, made of a path by the rules of its layout, for one or for
millions.

Numbers in place of names go by a rule that runs both ways: `numbered "{000}/{00}", 64 to a folder` makes 9743 of
`152/15` and `152/15` of 9743.
"""

from __future__ import annotations

import functools
import re
import string
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from volvex.errors import RefusedError
from volvex.layout.columns import Array
from volvex.layout.model import Attribute, Bits, KeyRule, Layout, Number

WHOSE_KEYS = {"names": "name hash", "folders": "folder hash", "extensions": "extension hash"}
KEYS = tuple(WHOSE_KEYS.values())
TRAITS = ("lower case", "upper case", "backslashes", "leading slash", "closing slash", "without extension")
UNNAMED = "unnamed"  # the folder of entries that have only a key
PLACE = re.compile(r"\{(0+)\}")
_LOWER = {ord(text): text.lower() for text in string.ascii_uppercase}
_UPPER = {ord(text): text.upper() for text in string.ascii_lowercase}
_LIKE_ASCII = ("utf-8", "ascii", "cp1252", "iso8859-1", "cp437")


@dataclass(frozen=True)
class KeyPart:
    """One of the keys of an entry: what it is of, the rule, and how many bits it has."""

    what: str
    rule: KeyRule
    bits: int

    @functools.cached_property
    def _cut(self) -> bool:
        return "without extension" in self.rule.traits

    def texts(self, lines: str) -> tuple[bytes, Array, Array]:
        """What is hashed of each path, given one a line: the texts, where each starts, and where it ends."""
        rule = self.rule
        lead, close = ("/" if "leading slash" in rule.traits else ""), ("/" if "closing slash" in rule.traits else "")
        if lead or close:
            lines = lead + lines.replace("\n", f"{close}\n{lead}") + close
        whole = self._cased(lines)
        if rule.encoding in _LIKE_ASCII or (whole.isascii() and len("\n".encode(rule.encoding)) == 1):
            data = whole.encode(rule.encoding, "surrogateescape" if rule.encoding == "utf-8" else "replace")
            ends = np.append(np.flatnonzero(np.frombuffer(data, np.uint8) == 10), len(data)).astype(np.int64)
            starts = np.append(0, ends[:-1] + 1).astype(np.int64)
        else:
            parts = [path.encode(rule.encoding, "replace") for path in whole.split("\n")]
            data, ends = b"".join(parts), np.cumsum(np.fromiter(map(len, parts), np.int64, len(parts)))
            starts = ends - np.fromiter(map(len, parts), np.int64, len(parts))
        return data, starts, ends

    def plain(self, text: str) -> bytes:
        """A piece of a path as it is hashed, without what is put around whole paths."""
        return self._cased(text).encode(self.rule.encoding, "replace")

    def _cased(self, text: str) -> str:
        """With the slashes and letters that the rule asks for; of letters only those of ASCII change, as games do
        it."""
        traits = self.rule.traits
        text = text.replace("/", "\\") if "backslashes" in traits else text
        if "lower case" in traits:
            return text.lower() if text.isascii() else text.translate(_LOWER)
        if "upper case" in traits:
            return text.upper() if text.isascii() else text.translate(_UPPER)
        return text

    def of(self, path: str, folders: bool, extensions: bool) -> str:
        """The part of a path that this key is of; `folders` and `extensions` when those have keys of their own."""
        folder, slash, last = path.rpartition("/")
        stem, _, extension = last.rpartition(".")
        if not stem:
            stem, extension = last, ""
        if self.what == "folder hash":
            return folder
        if self.what == "extension hash":
            return extension
        last = stem if extensions or self._cut else last
        return last if folders else f"{folder}{slash}{last}"


class Keying:
    """How the keys of a layout's entries are made of their paths."""

    def __init__(self, parts: Sequence[KeyPart]) -> None:
        self.parts = tuple(parts)
        kinds = {part.what for part in self.parts}
        self.folders, self.extensions = "folder hash" in kinds, "extension hash" in kinds
        numbered = next((part.rule for part in self.parts if part.rule.numbered), None)
        self.numbering = Numbering(numbered) if numbered is not None else None

    @classmethod
    def of(cls, layout: Layout) -> Keying | None:
        """The keying of a layout; None when it says nothing of that, or has names."""
        rules = {rule.what: rule for rule in layout.keys}
        if "name hash" not in rules:
            return None
        found = {
            field.meaning.what: field
            for block in layout.blocks
            for field in block.fields
            if isinstance(field.meaning, Attribute) and field.meaning.what in KEYS
        }
        if "name hash" not in found:
            return None
        return cls(
            [
                KeyPart(what, rules.get(what, rules["name hash"]), bits_of(found[what].type))
                for what in KEYS
                if what in found
            ]
        )

    @property
    def bits(self) -> int:
        """The bits of all keys of an entry together."""
        return sum(part.bits for part in self.parts)

    @property
    def cuts(self) -> bool:
        """Whether paths that differ in nothing but their extension have one key."""
        return any("without extension" in part.rule.traits for part in self.parts) and not self.extensions

    def spelt(self, path: str) -> str:
        """A path in the letters in which it is hashed, with forward slashes: the same for all spellings of one key."""
        traits = self.parts[0].rule.traits
        return path.lower() if "lower case" in traits else path.upper() if "upper case" in traits else path

    def told(self, part: KeyPart, lines: str) -> str:
        """The parts of paths that a key is of, one a line."""
        if self.folders or self.extensions or self.cuts:
            return "\n".join([part.of(path, self.folders, self.extensions) for path in lines.split("\n")])
        return lines

    def columns(self, paths: Sequence[str]) -> list[Array]:
        """The keys of paths (none with a line end in it), a column (uint64) for each part."""
        return self.columns_of_lines("\n".join(paths)) if paths else [np.zeros(0, np.uint64) for _ in self.parts]

    def columns_of_lines(self, lines: str) -> list[Array]:
        """The same for paths that stand one a line; at least one."""
        from volvex.codec.bulk_hash import bulk_hash  # only where keys are made

        return [
            bulk_hash(part.rule.algorithm).of(*part.texts(self.told(part, lines))) & _mask(part.bits)
            for part in self.parts
        ]

    def text(self, path: str) -> str:
        """The key of a path as entries are called by it; RefusedError when numbers stand for names and it is none."""
        if self.numbering is not None:
            if self.numbering.number(path) is None:
                raise RefusedError(
                    f"{path}: this archive goes by numbers, and no rule makes one of that",
                    f"a number such as {self.numbering.path(0)}, or `volvex names add` with the line `{path} = NUMBER`",
                )
            return path
        return "/".join(f"{int(self._one(part, path)):0{part.bits // 4}x}" for part in self.in_order())

    def in_order(self) -> list[KeyPart]:
        """The parts in the order in which an entry's key is told: folder, name, extension."""
        order = ("folder hash", "name hash", "extension hash")
        return sorted(self.parts, key=lambda part: order.index(part.what))

    def _one(self, part: KeyPart, path: str) -> int:
        from volvex.codec.bulk_hash import bulk_hash

        data, starts, ends = part.texts(part.of(path, self.folders, self.extensions))
        return bulk_hash(part.rule.algorithm).one(data[int(starts[0]) : int(ends[0])]) & int(_mask(part.bits))


def _mask(bits: int) -> np.uint64:
    return np.uint64((1 << bits) - 1)


def bits_of(kind: object) -> int:
    """How many bits a key's field has."""
    if isinstance(kind, Bits):
        return kind.high - kind.low + 1
    return kind.bits if isinstance(kind, Number) else 32


class Numbering:
    """Numbers in place of names: a path of numbers <-> one number."""

    def __init__(self, rule: KeyRule) -> None:
        self.unit = rule.unit
        self._pieces = PLACE.split(rule.numbered)  # text, digits, text, digits, ... text
        self._form = re.compile(
            "".join(r"(\d+)" if at % 2 else re.escape(piece) for at, piece in enumerate(self._pieces))
        )

    def path(self, number: int) -> str:
        """The path of a number."""
        widths = self._pieces[1::2]
        digits: list[int] = []
        for _ in widths[1:]:
            number, low = divmod(number, self.unit)
            digits.insert(0, low)
        digits.insert(0, number)
        lines = [f"{digit:0{len(width)}d}" for digit, width in zip(digits, widths, strict=True)]
        return "".join(lines[at // 2] if at % 2 else piece for at, piece in enumerate(self._pieces))

    def number(self, path: str) -> int | None:
        """The number of a path, an extension left aside; None when it is none."""
        match = self._form.fullmatch(path) or self._form.fullmatch(path.rpartition(".")[0])
        if match is None:
            return None
        number = int(match[1])
        for digits in match.groups()[1:]:
            if int(digits) >= self.unit:
                return None
            number = number * self.unit + int(digits)
        return number


class Names(Protocol):
    """Whoever knows names for keys."""

    def match(self, layout: Layout, keying: Keying | None, keys: Sequence[Array]) -> dict[int, list[str]]:
        """The known paths for entries with these keys (a column for each part), by row; several when in doubt."""
        ...
