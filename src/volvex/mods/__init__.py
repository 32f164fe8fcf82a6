"""Into the game and back: the store of originals, the journal, install and restore.

Everything lies in `.volvex/` within the game's folder, so that it moves with the game and every step is a
rename on one disk:

    state.json    what is installed, and the transaction that is under way, if any
    objects/      originals, each named by the BLAKE3 digest of its content; never changed, only moved out
    staged/       new content, complete and synced, waiting for its name
    lock          held while one of us works here

The rule that must hold: before a byte of the game's own files changes, their originals are in `objects`,
read back and synced, all new content is in `staged`, and `state.json` says what is to happen. From then on
there are only renames, and whoever comes next can finish them.
"""

from volvex.mods.install import (
    Action,
    Done,
    install,
    installed,
    originals,
    plan_install,
    plan_restore,
    recover,
    restore,
)
from volvex.mods.patching import earlier, patch

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
