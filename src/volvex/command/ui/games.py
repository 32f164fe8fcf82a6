"""The games that this user has named: a bench that came from elsewhere may point at any folder, and is not believed."""

from __future__ import annotations

import argparse
import functools
import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.errors import RefusedError
from volvex.source import atomic
from volvex.source.lock import held

if TYPE_CHECKING:
    from volvex.bench.game_description import GameDescription
    from volvex.command.ui.context import Context

NAME = "games.json"


def add_game(parser: argparse.ArgumentParser) -> None:
    """The option that names the game to be written into."""
    parser.add_argument(
        "--game", type=Path, metavar="DIR", help="the game's folder, when this bench was made elsewhere"
    )


def game_description(folder: Path, context: Context) -> GameDescription:
    """What is known of the game in a folder."""
    from volvex.bench.game_description import description_for

    return description_for(folder.resolve(), [context.home], user_folders())


def user_folders() -> dict[str, Path]:
    """The user's folders in which games may look for add-ons."""
    import platformdirs

    return {
        "home": Path.home(),
        "documents": platformdirs.user_documents_path(),
        "app_data": Path(platformdirs.user_data_dir(roaming=True)),
    }


def named_games(context: Context) -> set[str]:
    """The folders of all games that this user has named; none when that file is not sound, so that they are asked
    again."""
    try:
        value = json.loads((context.home / NAME).read_bytes())
        return {str(one) for one in value["games"]}
    except (OSError, ValueError, KeyError, TypeError):
        return set()


def name_game(game: Path, context: Context) -> None:
    """Remember a game that the user named."""
    folder = str(game.resolve())
    if folder in named_games(context):
        return
    with held(context.home / "games.lock"):
        games = sorted({*named_games(context), folder})
        with atomic(context.disk, context.home / NAME, durable=False) as file:
            context.disk.write(file, (json.dumps({"games": games}, indent=1) + "\n").encode())


def refuse_in_games(context: Context) -> Callable[[Path], None]:
    """What refuses to write into the folder of a game: one that the user named, that is known, or that has something
    installed."""
    from volvex.archive.access.paths import HIDDEN
    from volvex.bench.game_description import UNKNOWN

    named, known = functools.cache(lambda: named_games(context)), dict[Path, bool]()

    def is_game(folder: Path) -> bool:
        if folder not in known:
            known[folder] = (
                str(folder) in named() or (folder / HIDDEN).is_dir() or game_description(folder, context) is not UNKNOWN
            )
        return known[folder]

    def refuse(path: Path) -> None:
        whole = (context.cwd / path).resolve()
        game = next((folder for folder in (whole, *whole.parents) if is_game(folder)), None)
        if game is not None:
            raise RefusedError(
                f"{path} is in the folder of a game ({game})",
                "a path outside of it: only `install`, `restore` and `build --in-place` write there",
            )

    return refuse


def require_named(game: Path, options: argparse.Namespace, context: Context) -> None:
    """RefusedError unless the user has named this game: when the bench was made, with --game, or now, being asked."""
    if str(game.resolve()) in named_games(context):
        return
    if options.game is not None:
        if options.game.resolve() != game.resolve():
            raise RefusedError(f"this bench is for {game}, not for {options.game}", "`volvex bench` for that game")
    elif not context.confirmed(f"this bench writes into {game}, which you have not named before; go on?"):
        raise RefusedError(
            f"this bench writes into {game}, which you have not named before (a bench made elsewhere?)",
            f'--game "{game}" if that is the game you mean',
        )
    name_game(game, context)
