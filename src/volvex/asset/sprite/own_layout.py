"""The frames of a sheet, and the glyphs of a font, that a layout reads: known by what its fields mean."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

from volvex.asset.sprite.model import YES, Frame, ListField
from volvex.data import Document
from volvex.data.model.sheet import FLOAT
from volvex.errors import FormatError
from volvex.layout.kinds import font, sheet

SHEET, FONT = KINDS = ("sheet", "font")
GLYPH = re.compile(r"U\+([0-9A-F]{4,6})")
Size = tuple[int, int]  # of the page in pixels


def is_frame_list(document: Document) -> bool:
    """Whether the records of a document are frames by its layout."""
    return document.form in KINDS


def layout_frames(document: Document, size: Size | None) -> list[Frame]:
    """All frames; places that are shares of the page need its `size` (without one they are counted in thousandths)."""
    found = []
    for table in document.sheets:
        roles = {column.rule.role: name for name, column in table.columns.items()}
        shares = {role for role, name in roles.items() if table.columns[name].rule.value_type == FLOAT}
        texts = {role: table.columns[name].texts() for role, name in roles.items()}
        for row, key in enumerate(table.ids):
            values = {role: column[row] or "" for role, column in texts.items()}
            found.append(_Reader(document, values, roles, shares, size or (1000, 1000)).frame(table.name, key))
    return found


def image_of(document: Document) -> str:
    """The file name of the picture that the list is of, where it has one; of several that of the first frame."""
    for table in document.sheets:
        name = next((name for name, column in table.columns.items() if column.rule.role == sheet.IMAGE), None)
        if name is not None:
            return next((text for text in table.columns[name].texts() if text), "")
    return ""


class _Reader:
    """Reads one record as a frame. `shares`: roles whose numbers are from 0 to 1 of the page."""

    def __init__(
        self, document: Document, values: Mapping[str, str], roles: Mapping[str, str], shares: set[str], size: Size
    ) -> None:
        self.document, self.values, self.roles, self.shares, self.size = document, values, roles, shares, size
        self.fields: list[ListField] = []

    def frame(self, table: str, key: str) -> Frame:
        x, y = (self._number(role, 0) for role in (sheet.X, sheet.Y))
        width, height = self._extent(sheet.WIDTH, sheet.RIGHT, x), self._extent(sheet.HEIGHT, sheet.BOTTOM, y)
        turned = self.values.get(sheet.TURNED, "").lower() in YES
        if turned and sheet.RIGHT in self.roles:  # corners are those in the sheet
            width, height = height, width
        whole = (self._number(sheet.WHOLE_WIDTH, width), self._number(sheet.WHOLE_HEIGHT, height))
        left, top = self._number(sheet.LEFT, 0), self._number(sheet.TOP, 0)
        name = self._name(key)
        for role, what, write in self._writers():
            self._add(role, what, write)
        if font.ADVANCE in self.roles:
            before = self._number(font.ADVANCE, 0)
            self._add(font.ADVANCE, ("whole_width",), lambda frame: str(before + frame.whole_width - whole[0]))
        return Frame(
            name, x, y, width, height, turned, left, top, *whole, table, key, tuple(self.fields), bool(key),
            self.values.get(sheet.PAGE) or self.values.get(sheet.IMAGE, ""),
        )  # fmt: skip

    def _writers(self) -> Iterator[tuple[str, tuple[str, ...], Callable[[Frame], str]]]:
        """For each role the properties that it stores, and how its text is made."""
        wide, high = self.size
        box = ("x", "y", "width", "height", "turned")
        yield sheet.X, ("x",), lambda frame: self._text(sheet.X, frame.x, wide)
        yield sheet.Y, ("y",), lambda frame: self._text(sheet.Y, frame.y, high)
        yield sheet.RIGHT, box, lambda frame: self._text(sheet.RIGHT, frame.x + frame.box[2], wide)
        yield sheet.BOTTOM, box, lambda frame: self._text(sheet.BOTTOM, frame.y + frame.box[3], high)
        yield sheet.WIDTH, ("width",), lambda frame: self._text(sheet.WIDTH, frame.width, wide)
        yield sheet.HEIGHT, ("height",), lambda frame: self._text(sheet.HEIGHT, frame.height, high)
        yield sheet.LEFT, ("left",), lambda frame: str(frame.left)
        yield sheet.TOP, ("top",), lambda frame: str(frame.top)
        yield sheet.WHOLE_WIDTH, ("whole_width",), lambda frame: str(frame.whole_width)
        yield sheet.WHOLE_HEIGHT, ("whole_height",), lambda frame: str(frame.whole_height)
        turned = self.values.get(sheet.TURNED, "")
        words = ("90", "0") if turned == "90" else ("1", "0") if turned.isdigit() else ("true", "false")
        yield sheet.TURNED, ("turned",), lambda frame: words[0] if frame.turned else words[1]

    def _add(self, role: str, what: tuple[str, ...], write: Callable[[Frame], str]) -> None:
        if role in self.roles:
            self.fields.append(ListField(self.roles[role], what, self.values[role], write))

    def _name(self, key: str) -> str:
        """What a frame is called, and the field that stores it: a name, an id, or for a glyph the number of its
        character."""
        role = sheet.NAME if sheet.NAME in self.roles else "id"
        if role not in self.roles:
            return key
        text = self.values[role]
        if self.document.form == FONT and text.isdigit():
            self._add(role, ("name",), lambda frame: _code(frame.name))
            return f"U+{int(text):04X}"
        self._add(role, ("name",), lambda frame: frame.name)
        return text

    def _extent(self, size: str, edge: str, start: int) -> int:
        return self._number(size, 0) if size in self.roles else self._number(edge, 0) - start

    def _number(self, role: str, default: int) -> int:
        if role not in self.roles:
            return default
        text = self.values[role]
        try:
            number = float(text)
            if role in self.shares:
                number *= self.size[0] if role in (sheet.X, sheet.WIDTH, sheet.RIGHT) else self.size[1]
            return round(number)
        except (ValueError, OverflowError) as error:
            raise FormatError(
                self.document.file, f"{self.roles[role]} {text!r} is no number of pixels", hint="a whole number"
            ) from error

    def _text(self, role: str, pixels: int, of: int) -> str:
        """A number as the list stores it: of pixels, or the share of the page."""
        if role not in self.shares:
            return str(pixels)
        before = self.values[role]
        return before if round(float(before) * of) == pixels else repr(pixels / of)


def _code(name: str) -> str:
    """The number of a character that a glyph is called by: `U+0041`, or the character itself."""
    match = GLYPH.fullmatch(name.upper())
    return str(int(match[1], 16)) if match else str(ord(name)) if len(name) == 1 else name
