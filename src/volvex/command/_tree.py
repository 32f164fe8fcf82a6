"""Paths as a tree of folders with their sums."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from volvex.archive.names import shown
from volvex.command._context import Context
from volvex.command._tables import count, number


@dataclass
class _Folder:
    folders: dict[str, _Folder] = field(default_factory=dict)
    files: list[tuple[str, int, str]] = field(default_factory=list)
    size: int = 0
    count: int = 0


def print_tree(context: Context, paths: Sequence[str], sizes: Sequence[int], kinds: Sequence[str]) -> None:
    """The tree below what all the paths share, folders with how much they hold."""
    top, common = _Folder(), _common(paths)
    for path, size, kind in zip(paths, sizes, kinds, strict=True):
        here, parts = top, path.split("/")[len(common) :]
        for part in parts[:-1]:
            here.size, here.count = here.size + size, here.count + 1
            here = here.folders.setdefault(part, _Folder())
        here.size, here.count = here.size + size, here.count + 1
        here.files.append((parts[-1], size, kind))
    context.print(f"{context.paint(shown('/'.join(common) or '.') + '/', 'bold')}  {_sum(top)}")
    for line in _lines(top, "", context):
        context.print(line)


def _common(paths: Sequence[str]) -> list[str]:
    low, high = min(paths).split("/"), max(paths).split("/")
    same = 0
    while same < min(len(low), len(high)) - 1 and low[same] == high[same]:
        same += 1
    return low[:same]


def _sum(folder: _Folder) -> str:
    return f"{count(folder.count, 'file')}, {number(folder.size)} bytes"


def _lines(folder: _Folder, indent: str, context: Context) -> list[str]:
    lines: list[str] = []
    width = max([len(shown(name)) for name, _, _ in folder.files], default=0)
    items = [(name, None) for name in sorted(folder.folders)] + [(one[0], one) for one in sorted(folder.files)]
    for index, (name, file) in enumerate(items):
        last = index == len(items) - 1
        branch, below = ("└─ ", "   ") if last else ("├─ ", "│  ")
        if file is None:
            inner = folder.folders[name]
            lines.append(
                f"{context.paint(indent + branch, 'dim')}{context.paint(shown(name) + '/', 'blue')}  {context.paint(_sum(inner), 'dim')}"
            )
            lines += _lines(inner, indent + below, context)
        else:
            lines.append(
                f"{context.paint(indent + branch, 'dim')}{shown(name).ljust(width)}  {number(file[1]):>12}  {context.paint(file[2], 'dim')}"
            )
    return lines
