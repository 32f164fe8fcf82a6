"""The texts: the menu by hashed keys, dialogues by key and language.

Menu ("KWME"): count u32, the words' start u32 and length u32, CRC-32 of the records u32; records sorted by key: key u32
(FNV-1a of the name in small letters), use u8, where each language's text starts among the words (three u32; all bits
set: there is none); the words, UTF-8 up to a zero. Dialogues ("KWDI"): count u32, CRC-32 of the records u32; records:
key (u8 length), language u8, use (u8 length), text (u16 count of units, UTF-16).
"""

from __future__ import annotations

import re
import struct
import zlib
from collections.abc import Mapping

from kelpwick import GameError
from kelpwick.isles._bytes import Reader, closed, must

MENU, DIALOGUES = "texts/menu.kwx", "texts/dialogue.kwy"
LANGUAGES, USES = ("en", "de", "fr"), ("menu", "dialogue", "letter", "tutorial")
_MENU = {  # name: use, en, de, fr
    "menu.start": ("menu", "Light the lamp", "Lampe anzünden", "Allumer la lampe"),
    "menu.load": ("menu", "Open the log", "Logbuch öffnen", "Ouvrir le journal"),
    "menu.quit": ("menu", "Row ashore", "An Land rudern", "Ramer à terre"),
    "menu.credits": ("menu", "Kept by Ansa Tolk", "Gehütet von Ansa Tolk", "Gardé par Ansa Tolk"),
    "shop.price": ("menu", "{0} pence a barrel", "{0} Pence das Fass", "{0} pence le baril"),
    "shop.start": (
        "tutorial",
        "Light the lamp before you trade.",
        "Zünde die Lampe an, bevor du handelst.",
        "Allume la lampe avant le troc.",
    ),
    "lamp.range": ("menu", "Seen for <b>%d</b> miles", "Sichtbar <b>%d</b> Meilen", "Vue à <b>%d</b> milles"),
}
_DIALOGUES = (  # key, use, en, de, fr
    (
        "ansa.greets",
        "harbour, first night",
        "I am Ansa Tolk. You took the Tolkham road?",
        "Ich bin Ansa Tolk. Kamst du über Tolkham?",
        "Je suis Ansa Tolk. Par Tolkham, donc ?",
    ),
    (
        "ansa.oil",
        "harbour, every week",
        "{boat} brings {n} barrels.",
        "Die {boat} bringt {n} Fässer.",
        "{boat} apporte {n} barils.",
    ),
    (
        "bero.storm",
        "gull rock, in a storm",
        "Tolk says it will blow over. It will not.",
        "Tolk sagt, es legt sich. Tut es nicht.",
        "Tolk dit que ça passera. Non.",
    ),
    (
        "dunna.lens",
        "third fresnel",
        "The half drum is chipped.",
        "Die halbe Trommel hat einen Sprung.",
        "Le demi-tambour est fêlé.",
    ),
    ("sign.stair", "lamp room, on the wall", "MIND THE STAIR", "VORSICHT STUFE", "ATTENTION MARCHE"),
)
_PLACEHOLDER = re.compile(r"\{\w*\}|%[ds]|</?[a-z]+>")


def key_of(name: str) -> int:
    """The key by which the game asks for a text of the menu."""
    value = 0x811C9DC5
    for byte in name.lower().encode():
        value = (value ^ byte) * 0x01000193 & 0xFFFFFFFF
    return value


def files() -> dict[str, bytes]:
    return {MENU: _menu(), DIALOGUES: _dialogues()}


def _menu() -> bytes:
    words, starts = bytearray(), dict[str, int]()
    records = []
    for name, (use, *texts) in _MENU.items():
        for text in texts:
            if text not in starts:
                starts[text] = len(words)
                words += text.encode() + b"\0"
        records.append(struct.pack("<IBIII", key_of(name), USES.index(use), *(starts[text] for text in texts)))
    body = b"".join(sorted(records, key=lambda one: struct.unpack_from("<I", one)))
    return struct.pack("<4sIIII", b"KWME", len(records), 20 + len(body), len(words), zlib.crc32(body)) + body + words


def _dialogues() -> bytes:
    body = bytearray()
    for key, use, *texts in _DIALOGUES:
        for language, text in enumerate(texts):
            data = text.encode("utf-16-le")
            body += bytes([len(key)]) + key.encode() + bytes([language, len(use)]) + use.encode()
            body += struct.pack("<H", len(data) // 2) + data
    return struct.pack("<4sII", b"KWDI", 3 * len(_DIALOGUES), zlib.crc32(body)) + bytes(body)


Texts = dict[tuple[str, str], str]  # by key and language


def read_menu(data: bytes) -> Texts:
    """The menu's texts; its keys are told as names where the game knows them."""
    reader, names = Reader(data), {key_of(name): name for name in _MENU}
    must(reader.take(4) == b"KWME", "menu: not the menu's texts")
    count, start, length, checksum = (reader.number("I") for _ in range(4))
    must(start == 20 + 17 * count and start + length == len(data), "menu: the words are misplaced")
    must(zlib.crc32(data[20:start]) == checksum, "menu: the checksum is wrong")
    found: Texts = {}
    last = -1
    for _ in range(count):
        key, use = reader.number("I"), reader.number("B")
        must(
            key > last and use < len(USES), f"menu: key {key:#x} is there twice or not in its order, or used for {use}"
        )
        last = key
        for language in LANGUAGES:
            at = reader.number("I")
            if at != 0xFFFFFFFF:
                must(at < length, f"menu: a text at {at}")
                found[names.get(key, f"{key:#x}"), language] = closed(data, start + at)
    must(set(names.values()) <= {key for key, _ in found}, "menu: a text that the game asks for is not there")
    return found


def read_dialogues(data: bytes) -> Texts:
    """The dialogues by key and language."""
    reader = Reader(data)
    must(reader.take(4) == b"KWDI", "dialogues: not the dialogues")
    count, checksum = reader.number("I"), reader.number("I")
    must(zlib.crc32(data[12:]) == checksum, "dialogues: the checksum is wrong")
    found: Texts = {}
    for _ in range(count):
        key, language = reader.text(reader.number("B")), reader.number("B")
        reader.text(reader.number("B"))
        text = _decoded(reader.take(2 * reader.number("H")), "utf-16-le")
        must(language < len(LANGUAGES), f"dialogues: {key} in language {language}")
        must((key, LANGUAGES[language]) not in found, f"dialogues: {key} in {LANGUAGES[language]} is there twice")
        found[key, LANGUAGES[language]] = text
    must(reader.at == len(data), "dialogues: bytes behind the last")
    return found


def _decoded(raw: bytes, encoding: str) -> str:
    try:
        return raw.decode(encoding)
    except UnicodeDecodeError as error:
        raise GameError(f"a text is not {encoding}: {raw!r}") from error


def check(texts: Mapping[tuple[str, str], str], glyphs: str) -> None:
    """Every language has the placeholders of the first, and the font has every character."""
    for (key, language), text in texts.items():
        original = texts.get((key, LANGUAGES[0]))
        must(original is not None, f"{key} is not in {LANGUAGES[0]}")
        wanted, has = sorted(_PLACEHOLDER.findall(original or "")), sorted(_PLACEHOLDER.findall(text))
        must(wanted == has, f"{key} in {language} has the placeholders {has}, not {wanted}")
        missing = sorted({text for text in text if text not in glyphs and not text.isspace()})
        must(not missing, f"{key} in {language}: the font has no {' '.join(missing)}")
