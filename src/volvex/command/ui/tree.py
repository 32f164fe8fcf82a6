"""Paths as a tree of folders with their sums."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.table import count, number


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
        number = 1 if parts[-1] else 0
        for part in parts[:-1]:
            here.size, here.count = here.size + size, here.count + number
            here = here.folders.setdefault(part, _Folder())
        here.size, here.count = here.size + size, here.count + number
        if parts[-1]:  # nothing for a folder that is an entry of its own
            here.files.append((parts[-1], size, kind))
    context.print(f"{context.paint(shown('/'.join(common) or '.') + '/', 'bold')}  {_sum(top)}")
    lines = list(_lines(top, ""))
    width = max([len(line.indent) + len(line.name) for line in lines if line.kind], default=0)
    for line in lines:
        context.print(line.text(width, context))


@dataclass(frozen=True)
class _Line:
    """A file, or (without a kind) a folder."""

    indent: str
    name: str
    about: str
    kind: str

    def text(self, width: int, context: Context) -> str:
        indent = context.paint(self.indent, "dim")
        if not self.kind:
            return f"{indent}{context.paint(self.name, 'blue')}  {context.paint(self.about, 'dim')}"
        return (
            f"{indent}{self.name.ljust(width - len(self.indent))}  {self.about:>11}  {context.paint(self.kind, 'dim')}"
        )


def _common(paths: Sequence[str]) -> list[str]:
    if not paths:
        return []
    low, high = min(paths).split("/"), max(paths).split("/")
    same = 0
    while same < min(len(low), len(high)) - 1 and low[same] == high[same]:
        same += 1
    return low[:same]


def _sum(folder: _Folder) -> str:
    return f"{count(folder.count, 'file')}, {number(folder.size)} bytes"


def _lines(folder: _Folder, indent: str) -> Iterator[_Line]:
    items = [(name, None) for name in sorted(folder.folders)] + [(file[0], file) for file in sorted(folder.files)]
    for index, (name, file) in enumerate(items):
        branch, below = ("└─ ", "   ") if index == len(items) - 1 else ("├─ ", "│  ")
        if file is None:
            inner = folder.folders[name]
            yield _Line(indent + branch, shown(name) + "/", _sum(inner), "")
            yield from _lines(inner, indent + below)
        else:
            yield _Line(indent + branch, shown(name), number(file[1]), file[2] or "-")
