"""Birds over the rocks and flags in the harbour: sheets of frames with their lists, in two forms.

birds/seabirds.kwi, seabirds.json    frames by name: where each lies, whether turned, how it was trimmed, how large it
                                     is
birds/flags.kwi, flags.xml           the same as elements

A turned frame lies in its sheet turned by 90 degrees clockwise. The game refuses frames outside of their sheets, frames
that share pixels, a sprite of two sizes, and birds or flags that are missing.
"""

from __future__ import annotations

import json
import random
import xml.etree.ElementTree as ET
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from kelpwick import GameError
from kelpwick.holds.canvas import GLOW, Pixel, Rows, coarse, drawn, put

SHEET = (64, 32)
# what each letter of a drawing is: red, green, blue; a dot is nothing
INKS = {
    "w": (244, 246, 248),
    "g": (170, 180, 190),
    "d": (92, 100, 112),
    "k": (28, 32, 38),
    "b": (112, 84, 60),
    "o": (240, 140, 40),
    "y": (246, 206, 60),
    "r": (206, 52, 46),
}
BIRDS = {  # and whether the frame is turned
    "gull_glides": (
        """
        kg..............gk
        .kgg..........ggk.
        ..gggg......gggg..
        ...ggggg..ggggg...
        ....wggggggggw....
        .....wwwggwww.....
        ......wwwwwwky....
        .......wwwww......
        ......ww..ww......
        """,
        False,
    ),
    "gull_sits": (
        """
        .....www.
        ....wwkww
        ....wwwyy
        ....www..
        ...wwww..
        ..ggwww..
        .gggwww..
        kggggww..
        kkgggww..
        ..kwww...
        ...o.o...
        ..oo.oo..
        """,
        False,
    ),
    "skua_dives": (
        """
        b......b
        bb....bb
        bb....bb
        bbb..bbb
        wbb..bbw
        wbbddbbw
        .bbddbb.
        .bbddbb.
        ..bddb..
        ..bddb..
        ..bddb..
        ..bbbb..
        ..bbbb..
        ..bbbb..
        ...bb...
        ..kbbk..
        ...bb...
        ...dd...
        ...kk...
        ...k....
        """,
        True,
    ),
    "puffin": (
        """
        ...kkkk...
        ..kkwwwk..
        ..kwwkwoo.
        ..kwwwwyoo
        ..kkwwwro.
        .kkkkkk...
        .kkkwwww..
        kkkwwwww..
        kkkwwwww..
        .kkkwww...
        ...o..o...
        ..oo.oo...
        """,
        True,
    ),
}
FLAGS = {
    "pilot": ("\n".join(["wwwwwwwrrrrrrr"] * 10), False),
    "quarantine": ("\n".join(["yyyyyyyyyyyy"] * 12), False),
    "lights_out": (
        "\n".join(["kkkkkkkkkk"] * 5 + ["kkkkyykkkk", *["kkkyyyykkk"] * 4, "kkkkyykkkk"] + ["kkkkkkkkkk"] * 5),
        True,
    ),
}
Drawings = Mapping[str, tuple[str, bool]]
EDGE = 2  # transparent pixels around each sprite, which are trimmed


@dataclass(frozen=True)
class Frame:
    """Where a sprite lies, and where in its whole."""

    x: int
    y: int
    width: int
    height: int
    turned: bool
    left: int
    top: int
    whole: tuple[int, int]


def write(folder: Path, rng: random.Random) -> None:
    (folder / "birds").mkdir(exist_ok=True)
    for name, sprites, listed in (("seabirds", BIRDS, _as_json), ("flags", FLAGS, _as_xml)):
        frames = _placed(sprites)
        page: Rows = [[(0, 0, 0, 0)] * SHEET[0] for _ in range(SHEET[1])]
        for name_of, frame in frames.items():
            drawing = _rows(sprites[name_of][0])
            for y in range(frame.height):
                for x in range(frame.width):
                    across, down = _in_sheet(frame, x, y)
                    page[down][across] = _colour(drawing[y][x])
        put(folder / "birds", name, GLOW, SHEET, lambda x, y, page=page: page[y][x])  # type: ignore[misc]
        ending = "json" if listed is _as_json else "xml"
        (folder / "birds" / f"{name}.{ending}").write_text(listed(frames), encoding="utf-8", newline="\n")


def _rows(drawing: str) -> list[str]:
    """The lines of a drawing."""
    return drawing.split()


def _placed(sprites: Drawings) -> dict[str, Frame]:
    """The frames side by side."""
    made, x = {}, 1
    for name, (drawing, turned) in sprites.items():
        width, height = len(_rows(drawing)[0]), len(_rows(drawing))
        made[name] = Frame(x, 1, width, height, turned, EDGE, EDGE, (width + 2 * EDGE, height + 2 * EDGE))
        x += (height if turned else width) + 1
    return made


def _in_sheet(frame: Frame, x: int, y: int) -> tuple[int, int]:
    """Where a pixel of a sprite lies in its sheet."""
    return (frame.x + frame.height - 1 - y, frame.y + x) if frame.turned else (frame.x + x, frame.y + y)


def _colour(letter: str) -> Pixel:
    return (*INKS[letter], 255) if letter in INKS else (0, 0, 0, 0)


def _as_json(frames: Mapping[str, Frame]) -> str:
    listed = {
        name: {
            "frame": {"x": one.x, "y": one.y, "w": one.width, "h": one.height},
            "turned": one.turned,
            "trim": {"x": one.left, "y": one.top, "w": one.width, "h": one.height},
            "orig": {"w": one.whole[0], "h": one.whole[1]},
            "perch": 0.5,
        }
        for name, one in frames.items()
    }
    return (
        json.dumps({"page": "seabirds.kwi", "size": {"w": SHEET[0], "h": SHEET[1]}, "frames": listed}, indent=2) + "\n"
    )


def _as_xml(frames: Mapping[str, Frame]) -> str:
    lines = [
        f'  <flag name="{name}" x="{one.x}" y="{one.y}" width="{(one.width, one.height)[one.turned]}"'
        f' height="{(one.height, one.width)[one.turned]}" turned="{"yes" if one.turned else "no"}">'
        f'<trim x="{one.left}" y="{one.top}"/><orig w="{one.whole[0]}" h="{one.whole[1]}"/></flag>'
        for name, one in frames.items()
    ]
    head = f'<flags page="flags.kwi" width="{SHEET[0]}" height="{SHEET[1]}">'
    return "\n".join([head, *lines, "</flags>", ""])


def read(folder: Path) -> Mapping[str, bytes]:
    """All files, each checked; GameError for the first that the game would not draw."""
    found = {path.name: path.read_bytes() for path in sorted((folder / "birds").glob("*"))}
    for name in ("seabirds.kwi", "seabirds.json", "flags.kwi", "flags.xml"):
        if name not in found:
            raise GameError(f"birds/{name} is missing")
    list(_sprites(found))
    return found


def _sprites(files: Mapping[str, bytes]) -> Iterator[tuple[str, Rows]]:
    """Every sprite, upright and in its whole size."""
    for name, ending, wanted in (("seabirds", "json", BIRDS), ("flags", "xml", FLAGS)):
        page = drawn(f"{name}.kwi", files)
        size = len(page[0]), len(page)
        try:
            given, frames = (_from_json if ending == "json" else _from_xml)(files[f"{name}.{ending}"])
        except (ValueError, KeyError, TypeError, ET.ParseError) as error:
            raise GameError(f"birds/{name}.{ending} is no list of frames: {error}") from error
        if given != size:
            raise GameError(
                f"birds/{name}.{ending} gives its sheet {given[0]} x {given[1]} pixels, it has {size[0]} x {size[1]}"
            )
        if missing := set(wanted) - set(frames):
            raise GameError(f"birds/{name}.{ending} has no {min(missing)}")
        _require_apart(f"birds/{name}.{ending}", frames, size)
        for one, frame in frames.items():
            yield one, _upright(page, frame)


def _from_json(data: bytes) -> tuple[tuple[int, int], dict[str, Frame]]:
    tree = json.loads(data)
    found = {}
    for name, one in tree["frames"].items():
        place, trim, whole = one["frame"], one["trim"], one["orig"]
        if (place["w"], place["h"]) != (trim["w"], trim["h"]) or one["perch"] != 0.5:
            raise ValueError(f"{name} has two sizes")
        x, y, width, height = (place[key] for key in ("x", "y", "w", "h"))
        found[name] = Frame(x, y, width, height, one["turned"] is True, trim["x"], trim["y"], (whole["w"], whole["h"]))
    return (tree["size"]["w"], tree["size"]["h"]), found


def _from_xml(data: bytes) -> tuple[tuple[int, int], dict[str, Frame]]:
    root = ET.fromstring(data)
    found = {}
    for one in root.iter("flag"):
        trim, whole = one.find("trim"), one.find("orig")
        if trim is None or whole is None or one.attrib["turned"] not in ("yes", "no"):
            raise ValueError(f"{one.attrib['name']} is not whole")
        turned = one.attrib["turned"] == "yes"
        x, y, width, height = (int(one.attrib[key]) for key in ("x", "y", "width", "height"))
        size = (height, width) if turned else (width, height)
        left, top, wide, high = (
            int(trim.attrib["x"]),
            int(trim.attrib["y"]),
            int(whole.attrib["w"]),
            int(whole.attrib["h"]),
        )
        found[one.attrib["name"]] = Frame(x, y, *size, turned, left, top, (wide, high))
    return (int(root.attrib["width"]), int(root.attrib["height"])), found


def _require_apart(file: str, frames: Mapping[str, Frame], size: tuple[int, int]) -> None:
    """GameError for frames outside, in their sheet or their whole, and for pixels of two frames."""
    taken: dict[tuple[int, int], str] = {}
    for name, one in frames.items():
        wide, high = (one.height, one.width) if one.turned else (one.width, one.height)
        if min(one.x, one.y, one.left, one.top) < 0 or one.x + wide > size[0] or one.y + high > size[1]:
            raise GameError(f"{file}: {name} is outside of its sheet")
        if one.left + one.width > one.whole[0] or one.top + one.height > one.whole[1]:
            raise GameError(f"{file}: {name} is larger than its whole")
        for y in range(one.y, one.y + high):
            for x in range(one.x, one.x + wide):
                if taken.setdefault((x, y), name) != name:
                    raise GameError(f"{file}: {name} and {taken[x, y]} share pixels")


def _upright(page: Rows, frame: Frame) -> Rows:
    whole: Rows = [[(0, 0, 0, 0)] * frame.whole[0] for _ in range(frame.whole[1])]
    for y in range(frame.height):
        for x in range(frame.width):
            across, down = _in_sheet(frame, x, y)
            whole[frame.top + y][frame.left + x] = page[down][across]
    return whole


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """The sprites as the player sees them, coarsely."""
    for name, rows in _sprites(files):
        yield f"  {name:<24}{len(rows[0])} x {len(rows)}"
        if name.startswith("gull"):
            yield from (f"    ({line})" for line in coarse(rows))
