"""Keys: secrets by name, in the order in which they are worth trying.

A layout or a game description names a key and never holds one. A secret is shown nowhere: not in an error, not by
`repr`.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from volvex.errors import LockedError


@dataclass(frozen=True)
class Key:
    """A secret of the user's, and the name under which it was added; no name when it was typed in just now."""

    name: str
    secret: bytes = field(repr=False)

    @property
    def bare(self) -> bytes:
        """The secret without the blanks and line ends that come along when a password is copied."""
        return self.secret.strip(b" \t\r\n")


@dataclass(frozen=True)
class RightKey:
    """The key that was right."""

    key: Key
    secret: bytes = field(repr=False)

    @property
    def stray(self) -> bool:
        """Whether it was right only without the blanks around it."""
        return self.secret != self.key.secret


class KeyRing:
    """The user's keys, the one that was right last first. Safe to use from several threads.

    `ask` is called with what a key is wanted for when none of them is right; it gives a secret, or None.
    `used` is called with the name of a key that was right.
    """

    def __init__(
        self,
        keys: Iterable[Key] = (),
        ask: Callable[[str], bytes | None] | None = None,
        used: Callable[[str], None] = lambda name: None,
    ) -> None:
        # a new tuple each time: whoever goes through one in another thread keeps what they have
        self._keys, self._ask, self._used = tuple(keys), ask, used
        self._lock = threading.RLock()
        self._silence = threading.local()
        self._refused = False
        self.notes: list[str] = []  # what the user should be told about their keys

    def silent(self) -> KeyRing:
        """The same keys, with nobody to be asked and nothing taken note of."""
        return KeyRing(self._keys)

    @contextlib.contextmanager
    def quiet(self) -> Iterator[None]:
        """Meanwhile nobody is asked by this thread: for looking through many files, some of which may be locked."""
        depth = getattr(self._silence, "depth", 0)
        self._silence.depth = depth + 1
        try:
            yield
        finally:
            self._silence.depth = depth

    def names(self) -> list[str]:
        """The names of all keys, the one that was right last first."""
        return [key.name for key in self._keys]

    def all(self) -> list[Key]:
        """All keys, the one that was right last first."""
        return list(self._keys)

    def was_right(self, name: str) -> None:
        """Take note that a key was right."""
        with self._lock:
            self._keys = tuple(sorted(self._keys, key=lambda key: key.name != name))
            self._used(name)

    def named(self, name: str) -> Key:
        """The key of that name; LockedError when there is none, and nobody gives it."""
        with self._lock:
            for key in self._keys:
                if key.name == name:
                    return key
            given = self._asked(f"the key {name}")
            if given is None:
                raise LockedError(f"the key {name} is not in your key file", f"`volvex keys add {name}`")
            found = Key(name, given.secret)
            self._keys = (found, *self._keys)
            return found

    def right(self, what: str, suits: Callable[[bytes], bool]) -> RightKey:
        """The first key that suits, those tried first that were right last; LockedError when none does."""
        with self._lock:
            for key in self._keys:
                found = self._suited(key, suits)
                if found is not None:
                    return self._taken(found, what)
            for _ in range(3):
                asked = self._asked(what)
                if asked is None:
                    break
                found = self._suited(asked, suits)
                if found is not None:
                    self._keys = (found.key, *self._keys)
                    return self._taken(found, what)
        if self._keys:
            tried = (
                "your only key is not its key"
                if len(self._keys) == 1
                else f"none of your {len(self._keys)} keys is its key"
            )
        else:
            tried = "you have no key"
        raise LockedError(f"{what} is locked, and {tried}", "`volvex keys add NAME` with its password")

    def _suited(self, key: Key, suits: Callable[[bytes], bool]) -> RightKey | None:
        for secret in dict.fromkeys((key.secret, key.bare)):
            if suits(secret):
                return RightKey(key, secret)
        return None

    def _taken(self, found: RightKey, what: str) -> RightKey:
        if found.stray:
            self._note(
                f"the key {found.key.name or 'that you typed'} has white space around it; without that it opens {what}"
            )
        if found.key.name:
            self.was_right(found.key.name)
        return found

    def _asked(self, what: str) -> Key | None:
        if self._ask is None or self._refused or getattr(self._silence, "depth", 0) > 0:
            return None
        given = self._ask(what)
        self._refused = given is None
        return None if given is None else Key("", given)

    def _note(self, text: str) -> None:
        if text not in self.notes:
            self.notes.append(text)
