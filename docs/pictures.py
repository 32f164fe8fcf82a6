"""Make all pictures of docs/screenshots: each is one command on the stand-in game, as a terminal of 100 columns shows it.

Run by `python3 dev.py pictures [NAME ...]`. A command that ends with another status than expected, or prints a traceback,
stops it: a picture of a failure is never written. Needs a POSIX system and the DejaVu Sans Mono font.
"""  # noqa: E501

from __future__ import annotations

import fcntl
import os
import pty
import shlex
import struct
import subprocess
import sys
import tempfile
import termios
from dataclasses import dataclass
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont
from rich.color import ColorType
from rich.console import Console
from rich.style import Style
from rich.text import Text

FOLDER = Path(__file__).parent / "screenshots"
FONTS = Path("/usr/share/fonts/truetype/dejavu")
COLUMNS, ROWS = 100, 44
SIZE, MARGIN, LINE = 15, 14, 19  # pixels: letters, border, height of a line
BACK, FRONT = (16, 20, 24), (216, 222, 230)
# the sixteen colours of the terminal, in the order of the escape codes
PALETTE = (
    (70, 78, 88),
    (240, 100, 100),
    (120, 200, 120),
    (230, 190, 90),
    (100, 150, 240),
    (200, 130, 210),
    (90, 190, 200),
    FRONT,
    (110, 118, 128),
    (250, 130, 130),
    (150, 220, 150),
    (240, 210, 120),
    (130, 175, 250),
    (220, 160, 230),
    (120, 215, 225),
    (255, 255, 255),
)


# characters that fill a part of their cell from edge to edge: from where to where, as shares of its height
BLOCKS = {"█": (0.0, 1.0), "▀": (0.0, 0.5)} | {
    character: (1 - eighths / 8, 1.0) for eighths, character in enumerate("▁▂▃▄▅▆▇", 1)
}


@dataclass(frozen=True)
class Picture:
    """A picture: its name, the folder it is taken in, its command, the status expected, and commands to run before it.

    `file`: the picture that the command itself writes, taken in place of its output.
    """

    name: str
    folder: str
    command: str
    status: int = 0
    before: tuple[str, ...] = ()
    file: str = ""


LAMPS = "data/main.kwp/rules/lamps.xml"
BOOK = "data/almanac.kwp"


def _made(name: str, edits: tuple[str, ...]) -> tuple[str, ...]:
    """What makes a mod with some values of lamps set, and adds it."""
    sets = (f"volvex set {LAMPS} --row {edit} --bench bench-{name}" for edit in edits)
    return (
        f"volvex bench game bench-{name}",
        *sets,
        f"volvex mod new {name} --bench bench-{name}",
        f"volvex mod add {name} --game game",
    )


PAINT = (
    'from PIL import Image; f = "open/canvas/patience_sail.kwi.rgb.png"; p = Image.open(f); '
    "p.paste((12, 16, 24), (0, 12, 64, 20)); p.save(f)"
)
EDIT = f"volvex set {LAMPS} --row fresnel_3 range=14 oil=3.1"
PICTURES = (
    Picture("overview", ".", "volvex"),
    Picture("survey", ".", "volvex survey game"),
    Picture("list", ".", "volvex list game/data/main.kwp/rules --sort size"),
    Picture("find", ".", "volvex find game/data --text fresnel_3"),
    Picture("show", ".", f"volvex show game/{LAMPS} --unpaged"),
    Picture("identify", ".", "volvex identify game/kelpwick.exe"),
    Picture("layout-explain", ".", "volvex layout explain game/isles/journals.kwj --limit 2"),
    Picture("data-follow", ".", f"volvex show game/{BOOK}/tables/fittings.kwb --row fresnel_3 --follow"),
    Picture("set", "mod", EDIT, before=("volvex bench ../game .",)),
    Picture("changes", "mod", "volvex changes"),
    Picture("check", "mod", "volvex check", 1, (f"volvex set {BOOK}/tables/fittings.kwb --row fresnel_3 lens=140",)),
    Picture("picture-show", ".", "volvex show game/canvas/lens_glow.kwi"),
    Picture("sound-show", ".", "volvex show game/belfry/shanty.kbs"),
    Picture("model-show", ".", "volvex show game/slip/patience.kmm"),
    Picture("model-sheet", ".", "volvex picture game/slip --to slip.png", file="slip.png"),
    Picture(
        "picture-sheet",
        ".",
        "volvex picture bench-birds/open game/canvas game/data --to sheet.png",
        before=(
            "volvex bench game bench-birds",
            "volvex take birds/seabirds.kwi birds/flags.kwi --as sprites --bench bench-birds",
        ),
        file="sheet.png",
    ),
    Picture(
        "picture-changes",
        "sails",
        "volvex changes --to painted.png",
        before=(
            "volvex bench ../game .",
            "volvex take canvas/patience_sail.kwi --as png --channels apart",
            f"python -c '{PAINT}'",
        ),
        file="painted.png",
    ),
    Picture(
        "mod-show",
        ".",
        "volvex mod show bright --game game",
        before=(
            "volvex restore game",
            *_made("bright", ("harbour_2 range=15", "gull_rock oil=1.2")),
            *_made("far", ("harbour_2 range=12", "fresnel_3 range=14")),
            *_made("coal", ("mole_red fuel=coal", "mole_green oil=2")),
            "volvex mod off coal --game game",
        ),
    ),
    Picture("mod-settle", ".", "volvex mod settle --game game", 1),
)


class PictureError(Exception):
    """A command did not do what it should."""


def in_terminal(command: str, folder: Path, home: Path) -> tuple[int, str]:
    """Run a command line in a terminal of its own: its status, and what it wrote, with escape codes."""
    outer, inner = pty.openpty()
    fcntl.ioctl(inner, termios.TIOCSWINSZ, struct.pack("HHHH", ROWS, COLUMNS, 0, 0))
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    environment = {
        **os.environ,
        "PATH": path,
        "VOLVEX_HOME": str(home),
        "TERM": "xterm-256color",
        "COLUMNS": str(COLUMNS),
    }
    process = subprocess.Popen(
        shlex.split(command), cwd=folder, env=environment, stdin=inner, stdout=inner, stderr=inner
    )
    os.close(inner)
    written = b""
    while True:
        try:
            part = os.read(outer, 1 << 16)
        except OSError:  # the program has ended, and closed its end
            break
        if not part:
            break
        written += part
    os.close(outer)
    return process.wait(), written.decode("utf-8", "replace").replace("\r\n", "\n")


def run(picture: Picture, base: Path) -> str:
    """What the picture's command writes; PictureError when it, or one before it, ends as it should not."""
    folder = base / picture.folder
    folder.mkdir(exist_ok=True)
    output = ""
    for command, expected in (*((line, 0) for line in picture.before), (picture.command, picture.status)):
        status, output = in_terminal(command, folder, base / "home")
        if status != expected or "Traceback" in output:
            raise PictureError(f"{picture.name}: `{command}` ended with {status}, expected {expected}:\n{output}")
    return output


def draw(picture: Picture, output: str, target: Path) -> None:
    """Draw a command and its output, cut to what the window shows."""
    lines = Text.from_ansi(output.rstrip("\n")).split("\n")
    shown = [part for line in lines for part in line.divide(range(COLUMNS, max(1, line.cell_len), COLUMNS))][: ROWS - 1]
    if len(picture.command) + 2 > COLUMNS:
        raise PictureError(f"{picture.name}: the command is longer than a line of the terminal")
    fonts = {
        bold: ImageFont.truetype(FONTS / name, SIZE)
        for bold, name in ((False, "DejaVuSansMono.ttf"), (True, "DejaVuSansMono-Bold.ttf"))
    }
    width = fonts[False].getlength("m")
    image = Image.new("RGB", (int(COLUMNS * width) + 2 * MARGIN, (len(shown) + 1) * LINE + 2 * MARGIN), BACK)
    pen = ImageDraw.Draw(image)
    pen.text((MARGIN, MARGIN), "$", FRONT, fonts[True])
    pen.text((MARGIN + 2 * width, MARGIN), picture.command, FRONT, fonts[True])
    for row, line in enumerate(shown, 1):
        for column, character in enumerate(line.plain):
            style = line.get_style_at_offset(_console(), column)
            place = (MARGIN + column * width, MARGIN + row * LINE)
            if character in BLOCKS and style.bgcolor is None:
                low, high = (round(place[1] + part * LINE) for part in BLOCKS[character])
                edges = (round(place[0]), low, round(place[0] + width) - 1, high - 1)
                pen.rectangle(edges, _colour(style))
                continue
            if character == "▀" and style.bgcolor is not None:  # a picture: two pixels
                left, right = round(place[0]), round(place[0] + width) - 1
                middle = place[1] + LINE // 2
                pen.rectangle((left, place[1], right, middle), _colour(style))
                pen.rectangle((left, middle, right, place[1] + LINE - 1), tuple(style.bgcolor.get_truecolor()))
                continue
            pen.text(place, character, _colour(style), fonts[bool(style.bold)])
    image.quantize(64).save(target, optimize=True)


def _console() -> Console:
    return Console(width=COLUMNS)


def _colour(style: Style) -> tuple[int, int, int]:
    colour = FRONT
    if style.color is not None:
        if style.color.type in (ColorType.STANDARD, ColorType.EIGHT_BIT) and (style.color.number or 0) < 16:
            colour = PALETTE[style.color.number or 0]
        elif style.color.type != ColorType.DEFAULT:
            colour = tuple(style.color.get_truecolor())  # type: ignore[assignment]
    return tuple((part + back) // 2 for part, back in zip(colour, BACK, strict=True)) if style.dim else colour  # type: ignore[return-value]


def main(names: list[str]) -> int:
    """Make the pictures of these names, or all; 1 when one could not be made. All commands run, since later ones need them."""  # noqa: E501
    if not (FONTS / "DejaVuSansMono.ttf").is_file():
        print("no DejaVu Sans Mono font; try apt-get install fonts-dejavu-core", file=sys.stderr)
        return 1
    with tempfile.TemporaryDirectory(prefix="volvex-pictures-") as folder:
        base = Path(folder).resolve()
        subprocess.run([sys.executable, "-m", "kelpwick", "make", base / "game"], check=True, stdout=subprocess.DEVNULL)
        try:
            for picture in PICTURES:
                output = run(picture, base).replace(f"{base}/", "")
                if picture.file and (not names or picture.name in names):
                    Image.open(base / picture.folder / picture.file).save(FOLDER / f"{picture.name}.png", optimize=True)
                    print(f"{picture.name}.png")
                elif not names or picture.name in names:
                    draw(picture, output, FOLDER / f"{picture.name}.png")
                    print(f"{picture.name}.png")
        except PictureError as error:
            print(error, file=sys.stderr)
            return 1
    for path in FOLDER.glob("*.png"):
        if path.stem not in {picture.name for picture in PICTURES}:
            path.unlink()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
