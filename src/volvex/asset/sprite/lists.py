"""The list of a sprite sheet's frames, whatever its form: known by the names of its fields, changed through the same
document."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from operator import attrgetter

from volvex.asset.sprite.model import YES, Frame, ListField
from volvex.asset.sprite.own_layout import image_of, is_frame_list, layout_frames
from volvex.data import Change, Document
from volvex.data.model.sheet import NUMBERED
from volvex.errors import FormatError, RefusedError

MOST = 1 << 17  # records of a list
NUMBER = r"\s*(-?[0-9]{1,9}(?:\.[0-9]{1,9})?)\s*"
RECT = re.compile(rf"\{{\s*\{{{NUMBER},{NUMBER}\}}\s*,\s*\{{{NUMBER},{NUMBER}\}}\s*\}}")
PAIR = re.compile(rf"\{{{NUMBER},{NUMBER}\}}")
HOLDERS = ("", "frame", "rect", "region", "bounds")  # what a rectangle's fields may be in
SIZES = (("w", "h"), ("width", "height"))
RECTS = ("frame", "textureRect", "rect")  # of texts with four numbers
TRIMS = ("sourceColorRect", "spriteColorRect")
OFFSETS = ("offset", "spriteOffset")  # from the middle of the whole to the middle of the trimmed, up
WHOLES = ("sourceSize", "spriteSourceSize")
NAMES = ("filename", "name", "id", "key", "n")
TURNED = ("rotated", "rotate", "textureRotated", "turned", "r")
IMAGES = ("image", "imagePath", "realTextureFileName", "textureFileName", "texture", "page")
PLACED = ("x", "y", "width", "height", "turned")
TRIMMED = ("left", "top", "whole_width", "whole_height")
# Fields for what is trimmed, with the sign of their number.
SIGNED = (
    {"left": ("spriteSourceSize/x", 1), "top": ("spriteSourceSize/y", 1)},
    {"left": ("trim/x", 1), "top": ("trim/y", 1)},
    {
        "left": ("frameX", -1),
        "top": ("frameY", -1),
        "whole_width": ("frameWidth", 1),
        "whole_height": ("frameHeight", 1),
    },
    {"left": ("oX", 1), "top": ("oY", 1), "whole_width": ("oW", 1), "whole_height": ("oH", 1)},
    {"whole_width": ("sourceSize/w", 1), "whole_height": ("sourceSize/h", 1)},
    {"whole_width": ("orig/w", 1), "whole_height": ("orig/h", 1)},
)
AGAIN = {"width": ("spriteSourceSize/w", "trim/w"), "height": ("spriteSourceSize/h", "trim/h")}


def frames_of(document: Document, size: tuple[int, int] | None = None) -> list[Frame]:
    """All frames of a list, those that it gives as shares for a page of that `size`; none when the document is no list
    of frames.

    FormatError for two of one name.
    """
    found: list[Frame] = []
    odd: list[str] = []
    if is_frame_list(document):
        return _named_once(document, layout_frames(document, size))
    if not may_have_frames(document):
        return found
    for sheet in document.sheets:
        for row, key in enumerate(sheet.ids):
            values = {name: text for name, column in sheet.columns.items() if (text := column.text(row)) is not None}
            own = list(_in_record(document, key, values, odd))
            found += [replace(frame, sheet=sheet.name, key=key) for frame in own]
    if found and odd:
        raise FormatError(document.file, f"{odd[0]} is no number of pixels", hint="a whole number")
    return _named_once(document, found)


def _named_once(document: Document, found: list[Frame]) -> list[Frame]:
    names = [frame.name for frame in found]
    twice = next((name for name in names if names.count(name) > 1), None) if len(set(names)) != len(names) else None
    if twice is not None:
        raise FormatError(document.file, f"two frames are called {twice}", hint="a list in which each has its name")
    return found


def may_have_frames(document: Document) -> bool:
    """Whether a document has the fields of a list of frames, and is no large table."""
    return is_frame_list(document) or any(
        len(sheet) <= MOST and any(map(_is_placed, sheet.columns)) for sheet in document.sheets
    )


def _is_placed(name: str) -> bool:
    holder, _, last = name.rpartition("/")
    return last in RECTS or (last == "x" and holder.rpartition("/")[2] in HOLDERS)


def image_named(document: Document) -> str:
    """The name of the picture that a list is of; empty when the list does not give it."""
    if is_frame_list(document):
        return image_of(document).replace("\\", "/").rpartition("/")[2]
    for sheet in document.sheets:
        for name, column in sheet.columns.items():
            if name.rpartition("/")[2] in IMAGES:
                text = next((text for text in column.texts() if text and "." in text), "")
                if text:
                    return text.replace("\\", "/").rpartition("/")[2]
    return ""


def _in_record(document: Document, key: str, values: Mapping[str, str], odd: list[str]) -> Iterator[Frame]:
    """The frames that one record has: itself, or each object within it. Fields that should be numbers are added to
    `odd`."""
    for name, text in values.items():
        holder, _, last = name.rpartition("/")
        outer, _, inner = holder.rpartition("/")
        if last == "x" and inner in HOLDERS:
            base = holder if inner == "" else outer
            reader = _Reader(values, f"{base}/" if base else "")
            frame = reader.of_numbers(f"{holder}/" if holder else "", document.form == "xml")
            odd += [f"{key}: {field} {values[field]!r}" for field in reader.odd]
        elif last in RECTS and RECT.fullmatch(text):
            reader = _Reader(values, f"{holder}/" if holder else "")
            frame = reader.of_texts(name)
        else:
            continue
        if frame is not None:
            name, fields = reader.name(key)
            yield replace(
                frame,
                name=name,
                fields=(*frame.fields, *fields),
                alone=bool(key) and not (reader.base or key.startswith(NUMBERED)),
            )


class _Reader:
    """Reads one frame from the fields below `base`."""

    def __init__(self, values: Mapping[str, str], base: str) -> None:
        self.values = values
        self.base = base
        self.fields: list[ListField] = []
        self.numbers: dict[str, int] = {}
        self.odd: list[str] = []

    def of_numbers(self, at: str, as_it_lies: bool) -> Frame | None:
        """A frame whose numbers are fields of their own; in XML the size is that of the rectangle in the sheet."""
        size = next((pair for pair in SIZES if all(f"{at}{one}" in self.values for one in pair)), None)
        if size is None or f"{at}y" not in self.values:
            return None
        for what, field in (
            ("x", f"{at}x"),
            ("y", f"{at}y"),
            ("width", f"{at}{size[0]}"),
            ("height", f"{at}{size[1]}"),
        ):
            if not self._number(what, field):
                return None
        turned = self._turned()
        if as_it_lies and turned:
            self.numbers |= {"width": self.numbers["height"], "height": self.numbers["width"]}
        if as_it_lies:
            lying = {"width": lambda frame: str(frame.box[2]), "height": lambda frame: str(frame.box[3])}
            self.fields = [
                replace(field, write=lying[field.what[0]], what=("width", "height", "turned"))
                if field.what[0] in lying
                else field
                for field in self.fields
            ]
        for fields in SIGNED:
            for what, (field, sign) in fields.items():
                if what not in self.numbers and self.base + field in self.values:
                    self._number(what, self.base + field, sign)
        for what, again in AGAIN.items():
            for field in again:
                self._also(what, self.base + field)
        self._flag_trimmed()
        return self._frame(turned)

    def of_texts(self, field: str) -> Frame:
        """A frame whose rectangle is one text."""
        self._four(field, ("x", "y", "width", "height"))
        turned = self._turned()
        for name in TRIMS:
            if RECT.fullmatch(self.values.get(self.base + name, "")):
                self._four(self.base + name, ("left", "top", "width", "height"))
        for name in WHOLES:
            if match := PAIR.fullmatch(self.values.get(self.base + name, "")):
                self.numbers |= {"whole_width": round(float(match[1])), "whole_height": round(float(match[2]))}
                write = lambda frame: f"{{{frame.whole_width},{frame.whole_height}}}"  # noqa: E731
                self._add(self.base + name, ("whole_width", "whole_height"), write)
        for name in OFFSETS:
            if match := PAIR.fullmatch(self.values.get(self.base + name, "")):
                right, up = float(match[1]), float(match[2])
                wide, high = (self.numbers.get(f"whole_{one}", self.numbers[one]) for one in ("width", "height"))
                self.numbers.setdefault("left", round((wide - self.numbers["width"]) / 2 + right))
                self.numbers.setdefault("top", round((high - self.numbers["height"]) / 2 - up))
                self._add(self.base + name, (*TRIMMED, "width", "height"), _offset)
        self._flag_trimmed()
        return self._frame(turned)

    def name(self, key: str) -> tuple[str, list[ListField]]:
        """What a frame is called: by a field, or by where it is."""
        field = next((self.base + one for one in NAMES if self.values.get(self.base + one)), None)
        if field is not None:
            return self.values[field], [ListField(field, ("name",), self.values[field], attrgetter("name"))]
        return self.base.rstrip("/") or key.rpartition("/")[2].removeprefix(NUMBERED), []

    def _add(self, field: str, what: tuple[str, ...], write: Callable[[Frame], str]) -> None:
        self.fields.append(ListField(field, what, self.values[field], write))

    def _number(self, what: str, field: str, sign: int = 1) -> bool:
        try:
            self.numbers[what] = sign * round(float(self.values[field]))
        except (ValueError, OverflowError):
            self.odd.append(field)
            return False
        get = attrgetter(what)
        self._add(field, (what,), lambda frame: str(sign * get(frame)))
        return True

    def _also(self, what: str, field: str) -> None:
        """A field that repeats a size."""
        if field in self.values:
            get = attrgetter(what)
            self._add(field, (what,), lambda frame: str(get(frame)))

    def _four(self, field: str, what: tuple[str, str, str, str]) -> None:
        match = RECT.fullmatch(self.values[field])
        assert match is not None
        for one, text in zip(what, match.groups(), strict=True):
            self.numbers.setdefault(one, round(float(text)))
        get = attrgetter(*what)
        self._add(field, what, lambda frame: "{{{{{},{}}},{{{},{}}}}}".format(*get(frame)))

    def _turned(self) -> bool:
        field = next((field for one in TURNED if (field := self.base + one) in self.values), None)
        if field is None:
            return False
        yes, no = _words(self.values[field])
        self._add(field, ("turned",), lambda frame: yes if frame.turned else no)
        return self.values[field].lower() in YES

    def _flag_trimmed(self) -> None:
        field = f"{self.base}trimmed"
        if field in self.values:
            yes, no = _words(self.values[field])
            self._add(field, (), lambda frame: yes if _is_trimmed(frame) else no)

    def _frame(self, turned: bool) -> Frame:
        wide, high = self.numbers["width"], self.numbers["height"]
        numbers = {"left": 0, "top": 0, "whole_width": wide, "whole_height": high} | self.numbers
        return Frame("", turned=turned, fields=tuple(self.fields), **numbers)  # type: ignore[arg-type]


def _words(text: str) -> tuple[str, str]:
    """The words for yes and no, given one of them."""
    pairs = (("90", "0"), ("1", "0"), ("yes", "no"), ("y", "n"))
    return next((pair for pair in pairs if text.lower() in pair), ("true", "false"))


def _is_trimmed(frame: Frame) -> bool:
    return (frame.width, frame.height) != (frame.whole_width, frame.whole_height)


def _offset(frame: Frame) -> str:
    right = frame.left + frame.width / 2 - frame.whole_width / 2
    up = frame.whole_height / 2 - frame.top - frame.height / 2
    return f"{{{right:g},{up:g}}}"


def changes_for(before: Frame, after: Frame) -> Iterator[Change]:
    """The changes in the list that give a frame another name or other numbers; RefusedError when it has no field for
    one."""
    if before.name != after.name and "name" not in before.properties:
        yield removed_frame(before)
        yield added_frame(after, before)
        return
    for what in (*PLACED, "left", "top"):
        if getattr(before, what) != getattr(after, what) and what not in before.properties:
            raise RefusedError(f"the list has no field for {what} of {before.name}", "a sprite of the same size")
    for field in before.fields:
        text = field.write(after)
        if field.write(before) != text:
            yield Change("set", before.sheet, before.key, field.field, field.text, text)


def added_frame(frame: Frame, like: Frame) -> Change:
    """The record of a new frame, made like that of another; RefusedError when frames are no records of their own."""
    if not like.alone:
        raise RefusedError(
            f"{frame.name} cannot be added: this list has no record for each frame", "editing the list by hand"
        )
    fields = {field.field: field.write(frame) for field in like.fields}
    named = next((field for field in like.fields if field.what == ("name",) and field.text == like.key), None)
    key = fields[named.field] if named is not None else like.key.removesuffix(like.name) + frame.name
    return Change("add", like.sheet, key, fields=tuple(fields.items()), like=like.key)


def removed_frame(frame: Frame) -> Change:
    """A frame's record taken out; RefusedError when frames are no records of their own."""
    if not frame.alone:
        raise RefusedError(
            f"{frame.name} cannot be removed: this list has no record for each frame", "editing the list by hand"
        )
    fields = tuple((field.field, field.text) for field in frame.fields)
    return Change("remove", frame.sheet, frame.key, fields=fields)


def size_changes(document: Document, before: tuple[int, int], after: tuple[int, int]) -> Iterator[Change]:
    """The changes of the fields that store the size of the sheet; `before` and `after` are width and height."""
    if before == after:
        return
    now = {"size/w": str(before[0]), "size/h": str(before[1]), "size": "{{{},{}}}".format(*before)}
    then = {"size/w": str(after[0]), "size/h": str(after[1]), "size": "{{{},{}}}".format(*after)}
    plain = ({"width": str(before[0]), "height": str(before[1])}, {"width": str(after[0]), "height": str(after[1])})
    for sheet in document.sheets:
        for row, key in enumerate(sheet.ids):
            record = sheet.record(row)
            old, new = (now | plain[0], then | plain[1]) if any(name in record for name in IMAGES) else (now, then)
            for name, text in record.items():
                last = name.removeprefix("meta/").removeprefix("metadata/")
                if old.get(last) == text.replace(" ", "") and new[last] != old[last]:
                    yield Change("set", sheet.name, key, name, text, new[last])
