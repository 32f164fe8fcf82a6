"""Fetch the lists of names that game descriptions name.

A description gives their addresses in a line such as `lists = ["https://..."]`. A list that has not changed is not sent
again. One that is no text in UTF-8, has half the names of the one that is there, or names fewer entries of your games
is not taken, and the old one stays. Nothing is fetched by any other command.
"""

from __future__ import annotations

import argparse
import functools
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.game_description import GameDescription, read_game_description
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description, named_games
from volvex.command.ui.reader import open_walker
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, Status, VolvexError
from volvex.names.dictionary_set import FOLDER
from volvex.names.game_pack import DESCRIPTION, Pack, pack_named, packs
from volvex.names.update import Updated, file_name, update_list

PRIORITY = 62
WRITES = True
EXAMPLES = ("volvex names update",)
STATUSES = {Status.DIFFERS: "a list was refused: it is worse than the present one"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("pack", nargs="*", metavar="PACK", help="a game pack (default: all of `volvex games list`)")
    parser.add_argument(
        "--game",
        type=Path,
        metavar="DIR",
        help="count the entries named in this game (default: games that you have benches of)",
    )
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    wanted = [pack_named(context.home, name) for name in options.pack] or packs(context.home)
    found: list[Updated] = []
    faults: list[VolvexError] = []
    asked = 0
    for pack in wanted:
        description = read_game_description(pack.folder / DESCRIPTION)
        games = _games(description, options, context) if description.lists else []
        used: set[str] = set()
        for address in description.lists:
            asked += 1
            file = _folder(pack, context) / file_name(address, used)
            used.add(file.name)
            count_named = functools.partial(_named, games, context)
            try:
                updated = update_list(address, file, context.cache / "fetched.json", context.disk, count_named)
            except VolvexError as error:
                faults.append(error)
                continue
            found.append(updated)
            if not options.json:
                context.print(_line(updated))
    if not asked and options.pack:
        raise NotFoundError(
            "this game pack has no addresses of lists", 'a line lists = ["https://..."] in its game.toml'
        )
    if not asked and not options.json:
        context.print('no game pack has addresses of lists: lists = ["https://..."] in its game.toml')
    if options.json:
        context.json(
            {
                "address": updated.address,
                "file": str(updated.file),
                "names": updated.names,
                "new": updated.new,
                "same": updated.same,
                "entries_before": updated.before,
                "entries_after": updated.after,
                "refused": updated.refused,
            }
            for updated in found
        )
    for fault in faults:
        context.complain(f"not updated: {shown(fault.message)}")
    if faults:
        return max(fault.status for fault in faults)
    return Status.DIFFERS if any(updated.refused for updated in found) else Status.OK


def _folder(pack: Pack, context: Context) -> Path:
    """Where the lists of a pack are: in it, or for one that ships in the user's folder."""
    return context.home / FOLDER / pack.name if pack.ships else pack.folder / FOLDER


def _games(description: GameDescription, options: argparse.Namespace, context: Context) -> list[Path]:
    folders = [options.game] if options.game is not None else [Path(game) for game in sorted(named_games(context))]
    return [
        folder for folder in folders if folder.is_dir() and game_description(folder, context).name == description.name
    ]


def _named(games: list[Path], context: Context) -> int | None:
    """The entries of some games that are stored under hashes and have names; None for no games."""
    if not games:
        return None
    named = 0
    options = argparse.Namespace(path=[str(path) for path in games], bench=None, layout=None)
    with open_walker(options, context) as walker:
        for game in games:
            for group in walker.find(str(game), deep=True, nested=True).groups:
                if getattr(group.archive, "candidates", None) is not None:
                    named += sum(not group.archive.is_unnamed(row) for row in group.rows.tolist())
    return named


def _line(updated: Updated) -> str:
    """What became of a list, in a line."""
    where = f"{shown(updated.address)}: {count(updated.names, 'name')}"
    if updated.same:
        return f"{where}, unchanged"
    if updated.refused:
        return f"{where}, not taken: {updated.refused}"
    entries = (
        ""
        if updated.after is None or updated.before is None
        else f"; {updated.after - updated.before:,} more entries have a name, {updated.after:,} in all"
    )
    return f"{where}, {updated.new:,} new{entries}"
