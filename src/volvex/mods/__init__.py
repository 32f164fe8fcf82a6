"""Into the game and back: the store of originals, the journal, install and restore.

Everything lies in `.volvex/` within the game's folder (see `home`), so that it moves with the game and every step is a
rename on one disk. The rule that must hold: before a byte of the game's own files changes, their originals are in the
store, read back and synced, all new content is in `incoming`, and the journal says what is to happen. An original stays
in the store, and the journal says to which file it belongs, until exactly its bytes are back in the game.
"""

from volvex.mods.actions import Action, Done
from volvex.mods.install import install, plan_install
from volvex.mods.installed import installed, originals
from volvex.mods.patch.apply import earlier, patch
from volvex.mods.restore import plan_restore, restore
from volvex.mods.transaction import recover

__all__ = [
    "Action",
    "Done",
    "earlier",
    "install",
    "installed",
    "originals",
    "patch",
    "plan_install",
    "plan_restore",
    "recover",
    "restore",
]
