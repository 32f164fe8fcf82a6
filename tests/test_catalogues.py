"""Binary message catalogues: read, set and written, judged by the standard library's own reader."""

from __future__ import annotations

import gettext
import io
import struct

from tests.support import Case
from volvex.data.model.catalogue import Catalogue
from volvex.data.model.sheet import Change
from volvex.errors import FormatError, UnfitError, UsageError

TEXTS = {
    "": "Content-Type: text/plain; charset=UTF-8\nPlural-Forms: nplurals=2; plural=n != 1;\n",
    "Light the lamp": "Zünde die Lampe an",
    "menu\x04Stair": "Treppe",
    "one barrel\0%d barrels": "ein Fass\0%d Fässer",
}


def made(texts: dict[str, str] = TEXTS, order: str = "<", gap: bytes = b"", encoding: str = "utf-8") -> bytes:
    """A catalogue as its manual describes it, with bytes of somebody's between the texts."""
    pairs = sorted((key.encode(encoding), text.encode(encoding)) for key, text in texts.items())
    count = len(pairs)
    at, tables, pool = 28 + 16 * count, [b"", b""], b""
    for which in (0, 1):
        for pair in pairs:
            tables[which] += struct.pack(f"{order}2I", len(pair[which]), at + len(pool))
            pool += pair[which] + b"\0" + (gap if which else b"")
    head = struct.pack(f"{order}7I", 0x950412DE, 0, count, 28, 28 + 8 * count, 0, 28 + 16 * count)
    return head + tables[0] + tables[1] + pool


def judged(data: bytes) -> dict[object, str]:
    return dict(gettext.GNUTranslations(io.BytesIO(data))._catalog)  # type: ignore[attr-defined]


def changed(key: str, field: str, after: str, what: str = "set") -> Change:
    return Change(sheet="messages", id=key, what=what, field=field, before=None, after=after)


class Catalogues(Case):
    def test_it_goes_out_as_po_and_comes_back(self) -> None:
        (self.folder / "de.mo").write_bytes(made())
        self.volvex("convert", "de.mo", "de.po", cwd=self.folder)
        text = (self.folder / "de.po").read_text()
        self.assertIn('msgctxt "menu"\nmsgid "Stair"\nmsgstr "Treppe"', text)
        self.assertIn('msgid_plural "%d barrels"\nmsgstr[0] "ein Fass"', text)
        self.assertIn("Plural-Forms: nplurals=2", text)
        self.volvex("convert", "de.po", "same.mo", "--like", "de.mo", cwd=self.folder)
        self.assertEqual((self.folder / "same.mo").read_bytes(), made())
        changed = text.replace("%d Fässer", "%d Tonnen").replace("Treppe", "Stiege")
        (self.folder / "de.po").write_text(changed)
        said = self.volvex("convert", "de.po", "new.mo", "--like", "de.mo", cwd=self.folder)
        self.assertIn("2 changes", said)
        self.assertEqual(
            judged((self.folder / "new.mo").read_bytes()),
            {**judged(made()), "menu\x04Stair": "Stiege", ("one barrel", 1): "%d Tonnen"},
        )
        (self.folder / "de.po").write_text(changed.replace("Light the lamp", "Lit the lamp"))
        self.complaint("convert", "de.po", "x.mo", "--like", "de.mo", cwd=self.folder, status=4)
        self.assertFalse((self.folder / "x.mo").exists())

    def test_texts_are_set_and_nothing_else_changes(self) -> None:
        for order in "<>":
            for gap in (b"", b"keep"):
                data = made(order=order, gap=gap)
                one = Catalogue(data, "de.mo")
                self.assertEqual(one.written([]), data)
                for key, field, place in (
                    ("Light the lamp", "text", "Light the lamp"),
                    ("menu|Stair", "text", "menu\x04Stair"),
                    ("one barrel", "text[1]", ("one barrel", 1)),
                ):
                    for text in ("Lösche sie", "", "x" * 300):
                        with self.subTest(order=order, gap=gap, key=key, text=text):
                            new = one.written([changed(key, field, text)])
                            self.assertEqual(judged(new), {**judged(data), place: text})
                            self.assertEqual(new.count(gap) if gap else 4, 4)
                            sheet, row = one.reread(new).find(key)
                            self.assertEqual(sheet.record(row)[field], text)

    def test_what_cannot_be_is_refused(self) -> None:
        one = Catalogue(made(), "de.mo")
        for change, error in (
            (changed("Light the lamp", "id", "x"), UnfitError),
            (changed("Light the lamp", "text", "a\0b"), UnfitError),
            (changed("New", "", "", "add"), UsageError),
        ):
            with self.assertRaises(error):
                one.written([change])
        narrow = {"": "Content-Type: text/plain; charset=ISO-8859-1\n", "Lamp": "Lampe"}
        with self.assertRaises(UnfitError):
            Catalogue(made(narrow, encoding="latin-1"), "de.mo").written([changed("Lamp", "text", "灯")])

    def test_a_charset_that_is_none_is_taken_for_utf_8(self) -> None:
        for name in ("base64", "rot13", "idna", "undefined", "punycode", "none-such"):
            texts = {"": f"Content-Type: text/plain; charset={name}\n", "Lamp": "Lämpchen"}
            sheet, row = Catalogue(made(texts), "de.mo").find("Lamp")
            self.assertEqual(sheet.record(row)["text"], "Lämpchen")

    def test_damaged_ones_are_told_with_the_place(self) -> None:
        data = made()
        for bad in (
            data[:40],
            data[:-3],
            data[:8] + b"\xff\xff\xff\xff" + data[12:],
            data[:28] + b"\xff" * 8 + data[36:],
        ):
            with self.assertRaises(FormatError) as caught:
                Catalogue(bad, "de.mo")
            self.assertIn("ends at", caught.exception.message)

    def test_the_commands_take_it_as_data(self) -> None:
        source = self.game()
        (source / "text").mkdir()
        (source / "text/de.mo").write_bytes(made())
        work = self.bench(source)
        self.assertIn("Zünde die Lampe an", self.volvex("show", "text/de.mo", cwd=work))
        self.volvex("set", "text/de.mo", "--row", "menu|Stair", "text=Stiege", cwd=work)
        self.assertEqual(judged((work / "files/text/de.mo").read_bytes())["menu\x04Stair"], "Stiege")
        self.assertIn("text Treppe -> Stiege", self.volvex("changes", cwd=work))
        self.volvex("take", "text/de.mo", "--as", "csv", cwd=work)
        opened = work / "open/text/de.mo.csv"
        opened.write_text(opened.read_text("utf-8").replace("Stiege", "Leiter"), "utf-8")
        self.assertIn("text Treppe -> Leiter", self.volvex("changes", cwd=work))
