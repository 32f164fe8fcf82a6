"""Draft a game pack from what a survey finds.

The draft says what the game's folder is known by, which archives it has and what opens them, which are locked, and
which folders look like saves, logs and mods. Comments say what to fill in.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from volvex.archive.detect.survey import Surveyed, survey
from volvex.archive.safe_names import quoted, shown
from volvex.command.ui.context import Context
from volvex.errors import NotFoundError, RefusedError, Status
from volvex.mods.ways import template_of
from volvex.names.game_pack import DESCRIPTION
from volvex.source import atomic

PRIORITY = 57
WRITES = True
EXAMPLES = ("volvex games new ../game ../my-game",)
OWN = ("log", "logs", "save", "saves", "savegames", "screenshots", "crashes", "cache")
MODS = ("mod", "mods", "addon", "addons", "add-ons", "plugin", "plugins", "custom", "usermods")
MOST = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("game", type=Path, metavar="GAME", help="the game's folder")
    parser.add_argument("dir", type=Path, metavar="DIR", help="the folder of the pack")
    parser.add_argument(
        "--descriptor",
        type=Path,
        metavar="FILE",
        help="the descriptor of a mod in the game's own format: a template is made from it",
    )


def run(options: argparse.Namespace, context: Context) -> int:
    if not options.game.is_dir():
        raise NotFoundError(f"there is no folder {options.game}", "the folder that holds the game")
    context.disk.require_allowed(options.dir)
    if options.dir.exists() and any(options.dir.iterdir()):
        raise RefusedError(f"{options.dir} is not empty", "another folder for the pack")
    with context.library().keys.quiet():
        found = survey(options.game, context.library())
    text = _draft(options.game, found)
    if options.descriptor is not None:
        text += _with_template(options.descriptor, options.dir, context)
    with atomic(context.disk, options.dir / DESCRIPTION, durable=False) as file:
        context.disk.write(file, text.encode())
    context.print(
        f"{options.dir / DESCRIPTION}: a draft; fill it in, then `volvex games add {quoted(options.dir.as_posix())}`"
    )
    return Status.OK


def _with_template(descriptor: Path, folder: Path, context: Context) -> str:
    """Write the template that a descriptor gives; the lines of the draft about add-ons."""
    if not descriptor.is_file():
        raise NotFoundError(f"there is no file {descriptor}", "the descriptor of a mod that the game loads")
    template = f"{descriptor.stem}.template"
    data = template_of(descriptor.read_bytes(), descriptor.name, context.library())
    with atomic(context.disk, folder / template, durable=False) as file:
        context.disk.write(file, data)
    place = descriptor.resolve().parent.parent.name
    return "\n".join(
        [
            "",
            '# add-ons of the game\'s own format: look through the template, and add "folder" to `takes`',
            "[folder]",
            f"path = {json.dumps(place)}",
            'archives = ["*"]',
            'name = "{id}"',
            'content = ""',
            f"descriptor = {json.dumps(descriptor.name)}",
            f"template = {json.dumps(template)}",
            "",
        ]
    )


def _draft(game: Path, found: list[Surveyed]) -> str:
    base = shown(game.as_posix()).rstrip("/") + "/"
    inside = [(surveyed.path.removeprefix(base), surveyed) for surveyed in found]
    archives = [
        (path, surveyed)
        for path, surveyed in inside
        if (surveyed.kind == "archive" and "/" not in path) or (surveyed.kind == "archive" and surveyed.size > 1 << 12)
    ]
    own = sorted({path.split("/")[0] for path, _ in inside if path.split("/")[0].lower() in OWN})
    mods = sorted({path.split("/")[0] for path, _ in inside if path.split("/")[0].lower() in MODS})
    logs = [path for path, _ in inside if path.endswith(".log")]
    programs = [
        path
        for path, surveyed in inside
        if (surveyed.kind in ("exe", "elf") or path.lower().endswith(".exe")) and "/" not in path
    ]
    known = [*programs[:1], *[path for path, _ in archives[:1]]] or [path for path, _ in inside[:1]]
    lines = [
        "# Teaches Volvex this game; see docs/games.md.",
        f"name = {json.dumps(game.resolve().name)}  # the game's name",
        "",
        "# the folder is this game when all of these exist: choose files that no other game has",
        f"known = {json.dumps(known)}",
        "",
        "# files that the game writes itself: never part of a mod",
        f"own = {json.dumps([f'{folder}/*' for folder in own])}",
        "",
        "# where the game writes its log",
        f"{'' if logs else '# '}log = {json.dumps(logs[0] if logs else 'logs/game.log')}",
        "",
        "# how it starts: words, without a shell",
        f'# start = ["{{game}}/{programs[0] if programs else "GAME.exe"}"]',
        "",
        "# how it takes changes: replace, later, loose, aside, folder, list (docs/games.md)",
        'takes = ["replace"]',
        "",
    ]
    lines += [f"# {folder}/ looks like the game's folder for mods: see [folder] in docs/games.md" for folder in mods]
    lines += [
        f"# {path}: {surveyed.layout or 'unknown'}{', locked' if surveyed.locked else ''}"
        for path, surveyed in archives[:MOST]
    ]
    lines += [
        f"# {path}: unknown; `volvex layout new` starts a layout" for path, surveyed in inside if surveyed.unknown
    ][:MOST]
    locked = [(path, surveyed.key or "a-key") for path, surveyed in inside if surveyed.locked]
    lines += [
        "",
        "# the keys that files need, by their names in the user's key file",
        "[keys]",
        *(f"{json.dumps(path)} = {json.dumps(key)}" for path, key in locked),
    ]
    return "\n".join(lines) + "\n"
