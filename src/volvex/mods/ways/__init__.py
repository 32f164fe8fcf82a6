"""The ways in which a game takes changed content, a file each; its description says which it honours.

What a way cannot carry (an entry that is left out, a file that is no archive) goes into the game's own file, and is
reported.
"""

from volvex.bench.game_description import GameDescription
from volvex.errors import UsageError
from volvex.mods.ways._base import Carried, Way
from volvex.mods.ways._descriptor import template_of
from volvex.mods.ways.add_ons import AddOnFolder, AddOnList
from volvex.mods.ways.aside import Aside
from volvex.mods.ways.later import Later
from volvex.mods.ways.loose import Loose
from volvex.mods.ways.replace import Replace

WAYS: dict[str, type[Way]] = {one.name: one for one in (Replace, Later, Loose, Aside, AddOnFolder, AddOnList)}
REPLACE = Replace.name


def way_of(description: GameDescription, wanted: str | None) -> str:
    """The way that was asked for, or the game's usual one; UsageError for one that the game does not honour."""
    if wanted is None:
        return description.takes[0] if description.takes else REPLACE
    if wanted not in description.takes:
        raise UsageError(
            f"{description.name} does not take changes the way `{wanted}`",
            f"--way with one of {', '.join(description.takes)}",
        )
    return wanted


__all__ = ["REPLACE", "WAYS", "Carried", "Way", "template_of", "way_of"]
