"""What many sources may hold together: open files, memory. The one that was used longest ago gives way."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from typing import Protocol


class Holder(Protocol):
    """What holds something that it can get again."""

    def give_way(self) -> bool:
        """Let go of it, unless it is in use right now; whether it was let go of. Never waits."""
        ...


class Pool:
    """So much may be held by all together."""

    def __init__(self, limit: int) -> None:
        self.limit, self.held = limit, 0
        self._lock = threading.Lock()
        self._holders: OrderedDict[int, tuple[weakref.ref[Holder], int]] = OrderedDict()

    def took(self, holder: Holder, amount: int = 1) -> None:
        """Take note that a holder has got something, and have others give way for it."""
        key = id(holder)
        with self._lock:
            self._drop(key)
            self._holders[key] = (weakref.ref(holder), amount)
            self.held += amount
            victims = self._victims(key)
        for victim in victims:
            if victim.give_way():
                self.let_go(victim)

    def used(self, holder: Holder) -> None:
        """Take note that it was used."""
        with self._lock:
            if id(holder) in self._holders:
                self._holders.move_to_end(id(holder))

    def let_go(self, holder: Holder) -> None:
        """Take note that it holds nothing any more."""
        with self._lock:
            self._drop(id(holder))

    def _drop(self, key: int) -> None:
        found = self._holders.pop(key, None)
        if found is not None:
            self.held -= found[1]

    def _victims(self, but: int) -> list[Holder]:
        """Those that must give way; what is gone without a word is forgotten."""
        found, over = list[Holder](), self.held - self.limit
        for key, (ref, amount) in list(self._holders.items()):
            if over <= 0:
                break
            if key == but:
                continue
            holder = ref()
            if holder is None:
                self._drop(key)
            else:
                found.append(holder)
            over -= amount
        return found
