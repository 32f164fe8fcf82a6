"""The almanac's rules in open forms: XML, JSON, a key file, a property list, a table with tabs; and what the font can
draw."""

from __future__ import annotations

import configparser
import csv
import io
import json
import plistlib
import xml.etree.ElementTree as ET
from collections.abc import Mapping
from xml.parsers import expat

from kelpwick import GameError
from kelpwick.isles._bytes import must

WORKSHOP, HARBOUR, ABOUT, ADDON, FONT, RATIONS = (
    "rules/workshop.xml",
    "rules/harbour.ini",
    "rules/about.plist",
    "addons/winter.json",
    "fonts/lantern.xml",
    "tables/rations.tsv",
)
VERSIONS = {1: "1.4", 2: "1.5"}
_WORKSHOP = """\ufeff<?xml version="1.0" encoding="utf-8"?>
<!-- who grinds what, and for which lamp -->
<workshop open='yes'>
\t<job id="grind_3" lamp="fresnel_3" lens="103" drawing="pictures/lamps/fresnel_3.png">
\t\t<note>Half drum, the chipped one.</note>
\t</job>
\t<job id="grind_1" lamp="harbour_1" lens="101" drawing="pictures/lamps/harbour_1.png"/>
\t<job id="spare"   lamp="north_skerry" lens="105"><!-- no drawing --></job>
</workshop>
"""
_HARBOUR = "; read at the start\n[tides]\nspring = 4.2\nneap=1.7\n\n[customs]\nkeeper = ansa\nopens = 07\n"
_ABOUT = """<?xml version="1.0" encoding="UTF-8"?>
<plist version="1.0">
<dict>
  <key>name</key><string>Kelpwick Light</string>
  <key>version</key><string>VERSION</string>
  <key>night</key><integer>1</integer>
  <key>fog</key><true/>
</dict>
</plist>
"""
_RATIONS = "keeper\tbiscuit\ttea\nansa\t12\t3\nbero\t10\t0\ncade\t14\t2\ndunna\t9\t5\nelvi\t11\t1\nfarro\t8\t8\n"
_LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"


def files(version: int = 1) -> dict[str, bytes]:
    addon = {"id": "winter", "game": VERSIONS[version], "needs": [], "scene": "scenes/quay.kwn"}
    font = '<font name="Lantern">\n  <glyphs id="latin" has="{}"/>\n  <glyphs id="signs" has="{}"/>\n  <glyphs id="accents" has="{}"/>\n</font>\n'.format(  # noqa: E501
        _LETTERS, "0123456789 .,:!?'-{}%/&lt;>", "äöüÄÖÜßàâèéêôç"
    )
    return {
        WORKSHOP: _WORKSHOP.replace("\n", "\r\n").encode(),
        HARBOUR: _HARBOUR.encode(),
        ABOUT: _ABOUT.replace("VERSION", VERSIONS[version]).encode(),
        ADDON: (json.dumps(addon, indent="\t") + "\n").encode(),
        FONT: font.encode(),
        RATIONS: _RATIONS.encode(),
    }


def read_workshop(data: bytes) -> dict[str, dict[str, str]]:
    """The jobs by id."""
    try:
        jobs = [dict(element.attrib) for element in ET.fromstring(data.decode("utf-8-sig"))]
        must(data.startswith(b"\xef\xbb\xbf"), f"{WORKSHOP}: no byte order mark")
        must(len({job["id"] for job in jobs}) == len(jobs), f"{WORKSHOP}: an id is there twice")
        return {job["id"]: job for job in jobs}
    except (ET.ParseError, KeyError, ValueError, LookupError) as error:
        raise GameError(f"{WORKSHOP}: {error}") from error


def read_version(data: bytes) -> str:
    """The game's version."""
    try:
        return str(plistlib.loads(data)["version"])
    except (
        plistlib.InvalidFileException,
        expat.ExpatError,
        ValueError,
        KeyError,
        TypeError,
        AttributeError,
        LookupError,
    ) as error:
        raise GameError(f"{ABOUT}: {error}") from error


def read_addon(data: bytes) -> dict[str, str]:
    """The add-on's descriptor."""
    try:
        return dict(json.loads(data))
    except (ValueError, TypeError) as error:
        raise GameError(f"{ADDON}: {error}") from error


def read_glyphs(data: bytes) -> str:
    """All characters that the font has."""
    try:
        return "".join(element.get("has", "") for element in ET.fromstring(data))
    except (ET.ParseError, ValueError, LookupError) as error:
        raise GameError(f"{FONT}: {error}") from error


def read_harbour(data: bytes) -> Mapping[str, str]:
    """Who keeps the customs house, and when it opens."""
    settings = configparser.ConfigParser()
    try:
        settings.read_string(data.decode())
        return settings["customs"]
    except (configparser.Error, KeyError, UnicodeDecodeError) as error:
        raise GameError(f"{HARBOUR}: {error}") from error


def read_rations(data: bytes) -> dict[str, tuple[int, int]]:
    """Biscuit and tea by keeper."""
    try:
        rows = list(csv.DictReader(io.StringIO(data.decode()), delimiter="\t"))
        must(len({row["keeper"] for row in rows}) == len(rows), f"{RATIONS}: a keeper is there twice")
        return {row["keeper"]: (int(row["biscuit"]), int(row["tea"])) for row in rows}
    except (KeyError, ValueError, TypeError) as error:
        raise GameError(f"{RATIONS}: {error}") from error
