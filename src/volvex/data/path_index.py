"""All paths of a game, indexed once, so that a pattern looks at few of a hundred thousand."""

from __future__ import annotations

import fnmatch
import functools
import re
from collections.abc import Iterable

_WILD = re.compile(r"[*?\[]")
_SLASH_IN_SET = re.compile(r"\[[^\]]*/|\[!?\][^\]]*/")


def fits(path: str, pattern: str) -> bool:
    """Whether a pattern matches the end of a path, from a slash on."""
    return fnmatch.fnmatchcase(f"/{path}", f"*/{pattern}")


class PathIndex:
    """Paths in a fixed order, found by pattern, by name and by folder."""

    def __init__(self, paths: Iterable[str]) -> None:
        self.paths = list(paths)
        self._matches: dict[str, list[str]] = {}
        self._beside: dict[str, list[str]] = {}

    def changed(self, added: Iterable[str], removed: Iterable[str]) -> PathIndex:
        """An index with some paths more and some fewer."""
        added, removed = list(added), set(removed)
        known = self._known
        if not removed & known and known.issuperset(added):
            return self
        return PathIndex(path for path in dict.fromkeys([*self.paths, *added]) if path not in removed)

    @functools.cached_property
    def _known(self) -> set[str]:
        return set(self.paths)

    @functools.cached_property
    def by_name(self) -> dict[str, list[str]]:
        """The paths by their last component."""
        found: dict[str, list[str]] = {}
        for path in self.paths:
            found.setdefault(path[path.rfind("/") + 1 :], []).append(path)
        return found

    def matching(self, pattern: str) -> list[str]:
        """The paths whose end a pattern matches, in their order."""
        if pattern not in self._matches:
            match = re.compile(fnmatch.translate(f"*/{pattern}")).match
            self._matches[pattern] = [path for path in self._candidates(pattern) if match(f"/{path}")]
        return self._matches[pattern]

    def matching_any(self, patterns: Iterable[str]) -> list[str]:
        """The paths that any of some patterns matches, in their order."""
        found = {path for pattern in patterns for path in self.matching(pattern)}
        return [path for path in self.paths if path in found]

    def _candidates(self, pattern: str) -> list[str]:
        """Paths among which are all that a pattern matches: by what in it is no wildcard."""
        if _SLASH_IN_SET.search(pattern):  # its parts are not those between slashes
            return self.paths
        last = pattern.rpartition("/")[2]
        if _WILD.search(last) is None:
            return self.by_name.get(last, [])
        head, tail = _WILD.split(pattern, maxsplit=1)[0], re.split(r"[*?\]]", pattern)[-1]
        folder = head[: head.rfind("/") + 1]
        return [
            path
            for path in self.paths
            if path.endswith(tail) and (not folder or path.startswith(folder) or f"/{folder}" in path)
        ]

    def beside(self, folder: str) -> list[str]:
        """The paths that lie in a folder itself, not deeper."""
        if folder not in self._beside:
            start = f"{folder}/" if folder else ""
            size = len(start)
            self._beside[folder] = [path for path in self.paths if path.startswith(start) and "/" not in path[size:]]
        return self._beside[folder]
