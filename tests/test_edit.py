"""Setting values in XML and JSON: the value changes, and not one byte besides."""

from __future__ import annotations

import difflib
import json
import unittest
import xml.etree.ElementTree as ET

from hypothesis import given, settings
from hypothesis import strategies as st

from kelpwick.world import rules
from volvex.data import Change, require_data
from volvex.data.edit import Target, assignments
from volvex.errors import FormatError, NotFoundError, UsageError, VolvexError
from volvex.layout import Library

RULES = dict(rules())
LAMPS, BELLS, TIDES, WEATHER = (
    RULES[f"rules/{name}"] for name in ("lamps.xml", "bells.json", "tides.json", "weather.json")
)


def inserted(before: bytes, after: bytes) -> list[tuple[bytes, bytes]]:
    """What was taken out and what was put in."""
    matcher = difflib.SequenceMatcher(None, before, after, autojunk=False)
    return [(before[a:b], after[c:d]) for what, a, b, c, d in matcher.get_opcodes() if what != "equal"]


LIBRARY = Library()


def edit(data: bytes, kind: str, target: Target, values: list[tuple[str, str]]) -> tuple[bytes, list[Change]]:
    """The file with new values, and what changed."""
    document = require_data(data, LIBRARY, "f")
    if document.form != kind:
        raise AssertionError(f"{document.form}, not {kind}")
    done = assignments(document, target, [f"{field}={value}" for field, value in values])
    return document.written(done), done


def set_one(data: bytes, kind: str, target: Target, field: str, value: str) -> bytes:
    return edit(data, kind, target, [(field, value)])[0]


class Xml(unittest.TestCase):
    def test_an_attribute_by_its_record(self) -> None:
        data, done = edit(LAMPS, "xml", Target(row="fresnel_3"), [("range", "14"), ("oil", "3.1")])
        self.assertEqual(
            [(change.field, change.before, change.after) for change in done],
            [("range", "9", "14"), ("oil", "2.5", "3.1")],
        )
        old = b'fuel="paraffin" range="9" oil="2.5"'
        self.assertEqual(data, LAMPS.replace(old, b'fuel="paraffin" range="14" oil="3.1"'))

    def test_an_attribute_by_its_place(self) -> None:
        for place in ("lamp[3]", "lamps/lamp[3]", "/lamps/lamp[3]/"):
            self.assertIn(b'name="Outer mole"', set_one(LAMPS, "xml", Target(at=place), "name", "Outer mole"))
        self.assertIn(b'range="5"', set_one(LAMPS, "xml", Target(), "lamp[12]/range", "5"))
        self.assertIn(b'range="5"', set_one(LAMPS, "xml", Target(), "lamp[12]/@range", "5"))

    def test_everything_else_stays(self) -> None:
        strange = (
            b"\xef\xbb\xbf<?xml version='1.0'?>\r\n<!-- a 'note' -->\n<a  >\t<b id='x'\n  v = 'a > b'   w=\"1\" /><![CDATA[<b id='x' v='no'/>]]>"  # noqa: E501
            b"<c>&amp;</c >\n</a>\n<?end?>"
        )
        self.assertEqual(inserted(strange, set_one(strange, "xml", Target(row="x"), "v", "new")), [(b"a > b", b"new")])
        self.assertEqual(inserted(strange, set_one(strange, "xml", Target(), "c", "x")), [(b"&amp;", b"x")])

    def test_values_are_escaped_for_where_they_stand(self) -> None:
        for value in ("a & b", "<b>", "\"both' quotes", "tab\tand\nline", "Öl", "&amp;"):
            with self.subTest(value):
                for quote in (b'"', b"'"):
                    data = b"<a id=%sx%s/>" % (quote, quote)
                    self.assertEqual(ET.fromstring(set_one(data, "xml", Target(), "id", value)).get("id"), value)
                element = set_one(b"<a><b>old</b><c/></a>", "xml", Target(), "b", value)
                self.assertEqual(ET.fromstring(element)[0].text, value)
                empty = set_one(b"<a><b>old</b><c/></a>", "xml", Target(), "c", value)
                self.assertEqual(ET.fromstring(empty)[1].text, value)

    def test_encodings_are_kept(self) -> None:
        text = '<?xml version="1.0" encoding="{}"?><a ä="1"><b>ö</b></a>'
        for name in ("utf-8", "utf-16", "iso-8859-1", "windows-1252"):
            data = text.format(name).encode(name)
            changed = set_one(data, "xml", Target(), "b", "ü")
            self.assertEqual(changed, text.format(name).replace("ö", "ü").encode(name), name)
        with self.assertRaises(FormatError) as caught:
            set_one(text.format("iso-8859-1").encode("iso-8859-1"), "xml", Target(), "b", "Ω")
        self.assertIn("cannot be written in iso", caught.exception.message)

    def test_mistakes_suggest_what_was_meant(self) -> None:
        for target, field, says, hint in (
            (Target(row="fresnel_4"), "range", "there is no row fresnel_4", "--row fresnel_3"),
            (Target(row="fresnel_3"), "rnage", "has no field rnage; it has id, name, fuel, range, oil", "range=..."),
            (Target(at="lamp[13]"), "range", "there is no lamp[13]", "--at"),
        ):
            with self.assertRaises(NotFoundError) as caught:
                set_one(LAMPS, "xml", target, field, "1")
            self.assertIn(says, caught.exception.message)
            self.assertIn(hint, caught.exception.hint)

    def test_a_key_that_is_there_twice(self) -> None:
        with self.assertRaises(NotFoundError) as caught:
            set_one(b"<a><b id='x' v='1'/><c id='x' v='2'/></a>", "xml", Target(row="x"), "v", "3")
        self.assertIn("2 times: a/b[1], a/c[1]", caught.exception.message)
        self.assertEqual(caught.exception.hint, "--at a/b[1]")

    def test_a_file_that_is_not_sound(self) -> None:
        with self.assertRaises(FormatError) as caught:
            set_one(b"<a>\n<b></a>", "xml", Target(), "b", "1")
        self.assertIn("line 2", caught.exception.message)

    def test_what_xml_cannot_hold(self) -> None:
        with self.assertRaises(FormatError):
            set_one(LAMPS, "xml", Target(row="fresnel_3"), "name", "bell\x07")

    @given(
        st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=30), st.sampled_from(["range", "name", "fuel"])
    )
    @settings(max_examples=80, deadline=None)
    def test_any_value_reads_back(self, value: str, field: str) -> None:
        try:
            data = set_one(LAMPS, "xml", Target(row="gull_rock"), field, value)
        except FormatError:
            return
        lamp = next(element for element in ET.fromstring(data) if element.get("id") == "gull_rock")
        self.assertEqual(lamp.get(field), value)
        self.assertEqual(
            set_one(data, "xml", Target(row="gull_rock"), field, "x"),
            set_one(LAMPS, "xml", Target(row="gull_rock"), field, "x"),
        )


class Json(unittest.TestCase):
    def test_a_member_by_its_record(self) -> None:
        data, done = edit(BELLS, "json", Target(row="fog-03"), [("every", "45"), ("loud", "true")])
        self.assertEqual([(change.before, change.after) for change in done], [("30", "45"), ("false", "true")])
        self.assertEqual(
            json.loads(data)["bells"][2], {"id": "fog-03", "sound": "bells/fog-03.ring", "every": 45, "loud": True}
        )
        self.assertEqual(len(data), len(BELLS) - 1)

    def test_by_place_and_deeper(self) -> None:
        self.assertEqual(
            json.loads(set_one(BELLS, "json", Target(at="bells/0"), "every", "11"))["bells"][0]["every"], 11
        )
        self.assertEqual(inserted(TIDES, set_one(TIDES, "json", Target(), "lag/the_pans", "40")), [(b"35", b"40")])
        self.assertEqual(json.loads(set_one(WEATHER, "json", Target(row="winter"), "fog", "1"))["winter"]["fog"], 1)

    def test_a_value_keeps_its_type(self) -> None:
        self.assertEqual(
            json.loads(set_one(BELLS, "json", Target(row="fog-01"), "sound", "12"))["bells"][0]["sound"], "12"
        )
        for field, value, says in (
            ("every", "often", "not a number, as 10 is"),
            ("loud", "1", "neither true nor false"),
            ("every", "01", "not a number"),
        ):
            with self.assertRaises(FormatError) as caught:
                set_one(BELLS, "json", Target(row="fog-01"), field, value)
            self.assertIn(says, caught.exception.message)

    def test_where_nothing_stood_the_value_decides(self) -> None:
        for value, wanted in (
            ("5", 5),
            ("true", True),
            ("fog", "fog"),
            ("null", None),
            ("-1.5e3", -1500.0),
            ("05", "05"),
        ):
            self.assertEqual(
                json.loads(set_one(WEATHER, "json", Target(row="winter"), "note", value))["winter"]["note"], wanted
            )

    def test_everything_else_stays(self) -> None:
        strange = b'\xef\xbb\xbf{ "a" :[1 ,2.50, {"id":"x\\u0041","v":\t1e5}],\r\n\r\n"b":"\\/"}'
        self.assertEqual(set_one(strange, "json", Target(row="xA"), "v", "7"), strange.replace(b"1e5", b"7"))
        self.assertEqual(set_one(strange, "json", Target(), "b", "ö"), strange.replace(b'"\\/"', '"ö"'.encode()))

    def test_brackets_and_quotes_within_texts(self) -> None:
        data = b'{"a": "]}\\"{", "id": "k", "b": [[], {}, ""], "c": 1}'
        self.assertEqual(set_one(data, "json", Target(row="k"), "c", "2"), data.replace(b"1", b"2"))

    def test_mistakes(self) -> None:
        for target, field, says in (
            (Target(row="fog-09"), "every", "no row fog-09"),
            (Target(row="fog-03"), "evry", "has no field evry"),
            (Target(at="bells/9"), "x", "no bells/9"),
            (Target(), "bells", "it has records: 6 of bells"),
        ):
            with self.assertRaises(NotFoundError) as caught:
                set_one(BELLS, "json", target, field, "1")
            self.assertIn(says, caught.exception.message)

    def test_a_file_that_is_not_sound(self) -> None:
        for data in (b'{"a": 1,}', b"", b"{", b'{"a" 1}'):
            with self.assertRaises(VolvexError):
                set_one(data, "json", Target(), "a", "1")

    @given(
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.text(max_size=8),
            lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=4),
            max_leaves=12,
        ),
        st.integers(),
        st.sampled_from([None, 2]),
    )
    @settings(max_examples=120, deadline=None)
    def test_whatever_surrounds_a_value(self, around: object, value: int, indent: int | None) -> None:
        for ascii_only in (True, False):
            text = json.dumps({"x": around, "target": 1, "y": around}, indent=indent, ensure_ascii=ascii_only)
            try:
                data = text.encode()
            except UnicodeEncodeError:
                continue
            changed = json.loads(set_one(data, "json", Target(), "target", str(value)))
            self.assertEqual(changed, {"x": around, "target": value, "y": around})


class Others(unittest.TestCase):
    def test_what_holds_no_values(self) -> None:
        with self.assertRaises(UsageError) as caught:
            set_one(b"\x00\x01\x02", "binary", Target(), "hour", "1")
        self.assertIn("is binary; values are known in tables, texts and scenes", caught.exception.message)

    def test_bytes_that_are_not_what_they_claim(self) -> None:
        with self.assertRaises(FormatError) as caught:
            set_one(b"\xef\xbb\xbf" + b'{"a": "\xff"}', "json", Target(), "a", "1")
        self.assertEqual(caught.exception.offset, 7)


if __name__ == "__main__":
    unittest.main()
