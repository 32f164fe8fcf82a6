"""Lists as aligned columns, made column by column so that half a million lines come at once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from volvex.command.ui.context import Context

STEP = 1 << 15  # lines made at once
NARROWEST, LAST = 8, 26  # characters of a column that is cut, and of the last one


class Numbers:
    """Whole numbers from 0, right-aligned, with commas; made in bulk from a NumPy array."""

    def __init__(self, values: Any) -> None:
        self.values = values

    def __len__(self) -> int:
        return len(self.values)

    def width(self) -> int:
        return len(f"{int(self.values.max()):,}") if len(self.values) else 0

    def texts(self) -> list[str]:
        return [f"{value:,}" for value in self.values.tolist()]

    def block(self, first: int, last: int, width: int) -> Any:
        """The characters of some lines, a row each."""
        import numpy as np

        left = self.values[first:last].astype(np.int64)
        block = np.full((len(left), width), ord(" "), np.uint8)
        at, digits = width - 1, 0
        while at >= 0:
            rest = left // 10
            wanted = (left > 0) if digits else np.ones(len(left), bool)
            if digits and digits % 3 == 0:
                block[wanted, at] = ord(",")
                at -= 1
            block[wanted, at] = (left - rest * 10)[wanted] + ord("0")
            left, at, digits = rest, at - 1, digits + 1
            if not left.any():
                break
        return block


class Labels:
    """A few words, each line having one of them."""

    def __init__(self, index: Any, words: Sequence[str]) -> None:
        self.index, self.words = index, words

    @classmethod
    def of(cls, cells: Iterable[str]) -> Labels:
        """Labels from one word a line."""
        import numpy as np

        known: dict[str, int] = {}
        index = [known.setdefault(cell, len(known)) for cell in cells]
        return cls(np.array(index, dtype=np.int32), list(known))

    @classmethod
    def joined(cls, parts: Sequence[Labels]) -> Labels:
        """Several of them, one after the other."""
        import numpy as np

        words = sorted({word for part in parts for word in part.words})
        place = {word: index for index, word in enumerate(words)}
        maps = [np.array([place[word] for word in part.words], dtype=np.int32) for part in parts]
        return cls(np.concatenate([known[part.index] for known, part in zip(maps, parts, strict=True)]), words)

    def __len__(self) -> int:
        return len(self.index)

    def picked(self, rows: Any) -> Labels:
        """Those of these lines."""
        return Labels(self.index[rows], self.words)

    def width(self) -> int:
        import numpy as np

        used = (
            np.bincount(self.index, minlength=len(self.words))
            if len(self.index) and self.index.min() >= 0
            else self.words
        )
        return max((len(word) for word, times in zip(self.words, used, strict=True) if times), default=0)

    def texts(self) -> list[str]:
        return [self.words[index] for index in self.index.tolist()]

    def block(self, first: int, last: int, width: int) -> Any:
        import numpy as np

        words = b"".join(word[:width].ljust(width).encode("latin-1", "replace") for word in self.words)
        return np.frombuffer(words, np.uint8).reshape(-1, width)[self.index[first:last]]


class Prefixed:
    """Texts that all begin with the same words."""

    def __init__(self, prefix: str, rest: Sequence[str]) -> None:
        self.prefix, self.rest = prefix, rest

    def __len__(self) -> int:
        return len(self.rest)

    def width(self) -> int:
        return len(self.prefix) + max(map(len, self.rest), default=0)

    def texts(self) -> list[str]:
        return [self.prefix + text for text in self.rest]


class Spans:
    """Plain ASCII texts that lie in one row of bytes, behind the same words: put into lines without ever becoming
    texts."""

    def __init__(self, prefix: str, data: bytes, starts: Any, lengths: Any) -> None:
        self.prefix, self.data, self.starts, self.lengths = prefix, data, starts, lengths

    def __len__(self) -> int:
        return len(self.starts)

    def width(self) -> int:
        return len(self.prefix) + int(max(self.lengths, default=0))

    def texts(self) -> list[str]:
        text, ends = self.data.decode("latin-1"), (self.starts + self.lengths).tolist()
        return [self.prefix + text[start:end] for start, end in zip(self.starts.tolist(), ends, strict=True)]

    def lines(self, first: int, last: int, before: Any) -> str:
        """Lines of a block of characters, these texts and line ends."""
        import numpy as np

        prefix = np.frombuffer(self.prefix.encode("latin-1"), np.uint8)
        begins, lengths = self.starts[first:last], self.lengths[first:last]
        fixed = before.shape[1] + len(prefix)
        ends = np.cumsum(lengths + fixed + 1)
        made = np.full(int(ends[-1]), ord("\n"), np.uint8)
        heads = np.hstack([before, np.broadcast_to(prefix, (last - first, len(prefix)))])
        starts = ends - lengths - 1  # of the texts, in what is made
        rows = np.lib.stride_tricks.as_strided(made, (len(made) - fixed + 1, fixed), (1, 1))
        rows[starts - fixed] = heads
        low, high = int(begins.min()), int((begins + lengths).max())
        flat = np.frombuffer(self.data, np.uint8)[low:high]
        if bool((begins[1:] >= (begins + lengths)[:-1]).all()):
            made[_within(starts, lengths, len(made))] = flat[_within(begins - low, lengths, len(flat))]
        else:  # in another order than that in which they lie
            order = np.repeat(begins - low - starts, lengths)
            places = np.flatnonzero(_within(starts, lengths, len(made)))
            made[places] = flat[places + order]
        return made.tobytes().decode("latin-1")


def _within(starts: Any, lengths: Any, size: int) -> Any:
    """Which bytes of a row lie within stretches that follow each other."""
    import numpy as np

    edges = np.zeros(size + 1, np.int8)
    edges[starts] += 1
    edges[starts + lengths] -= 1
    return np.cumsum(edges[:-1], dtype=np.int8).view(bool)


Cells = Sequence[str] | Numbers | Labels | Prefixed | Spans


def cell_texts(cells: Cells) -> Sequence[str]:
    """The cells as texts, whichever way they are held."""
    return cells.texts() if isinstance(cells, Numbers | Labels | Prefixed | Spans) else cells


@dataclass
class Column:
    """A column of texts; numbers stand to the right."""

    title: str
    cells: Cells
    right: bool = False
    style: str = ""
    path: bool = False  # shortened in the middle, since the end of a path tells files apart

    def width(self) -> int:
        cells = self.cells
        longest = (
            cells.width() if isinstance(cells, Numbers | Labels | Prefixed | Spans) else max(map(len, cells), default=0)
        )
        return max(len(self.title), longest)

    def texts(self) -> Sequence[str]:
        return cell_texts(self.cells)


def number(value: int | None) -> str:
    """A number of bytes or things, with commas."""
    return "-" if value is None else f"{value:,}"


def numbers(values: Iterable[int]) -> list[str]:
    return [f"{value:,}" for value in values]


def percent(part: int, whole: int) -> str:
    """A share; what is not nothing is never 0%, what is not all never 100%."""
    if not whole or not part:
        return "0%"
    share = 100 * part / whole
    return f"{share:.0f}%" if 1 <= share <= 99 or part >= whole else "<1%" if share < 1 else ">99%"


def count(value: int, text: str, many: str = "") -> str:
    """`1 file`, `3 files`."""
    return f"{value:,} {text if value == 1 else many or text + 's'}"


def print_table(context: Context, columns: Sequence[Column], cut: bool = False) -> None:
    """The columns below their titles. The last column is not padded; with `cut` the lines end at the terminal's
    edge."""
    columns = [column for column in columns if len(column.cells)]
    if not columns:
        return
    cut = cut and context.terminal
    widths = [column.width() for column in columns[:-1]] + [0]
    if cut:
        widths = _narrowed(columns, widths, context.width - 2 * len(columns) + 2)
    titles = [
        c.title.rjust(width) if c.right else c.title.ljust(width) for c, width in zip(columns, widths, strict=True)
    ]
    context.print(context.paint("  ".join(titles).rstrip(), "dim"))
    plain = not context.colour or not any(column.style for column in columns)
    if plain and not cut and all(isinstance(column.cells, Numbers | Labels) for column in columns[:-1]):
        lines = _lines_in_bulk(columns, widths)
    else:
        lines = _lines(context, columns, widths, cut)
    for line in lines:
        context.out.write(line)


def _narrowed(columns: Sequence[Column], widths: list[int], room: int) -> list[int]:
    """The widths of all columns but the last, the widest texts made narrower until all fit; numbers stay."""
    widths = [*widths[:-1], columns[-1].width()]
    while sum(widths) > room:
        least = [NARROWEST] * len(widths[:-1]) + [LAST]
        narrow = [at for at, c in enumerate(columns) if not c.right and widths[at] > max(least[at], len(c.title))]
        if not narrow:
            break
        widths[max(narrow, key=lambda at: (widths[at], -at))] -= 1
    return [*widths[:-1], 0]


def shortened(text: str, room: int, middle: bool = False) -> str:
    """A text of at most `room` characters; in the middle when its end matters."""
    if len(text) <= room:
        return text
    start = room // 3 if middle else room - 1
    return f"{text[:start]}…{text[len(text) - (room - 1 - start) :] if middle else ''}"


def _lines(context: Context, columns: Sequence[Column], widths: Sequence[int], cut: bool) -> Iterator[str]:
    forms = [f"%{'' if c.right else '-'}{width}s" if width else "%s" for c, width in zip(columns, widths, strict=True)]
    cells = [column.texts() for column in columns]
    if cut:
        rooms = [*widths[:-1], max(NARROWEST, context.width - sum(widths) - 2 * len(widths) + 2)]
        cells = [
            [shortened(cell, room, column.path) for cell in column.texts()]
            for column, room in zip(columns, rooms, strict=True)
        ]
    if context.colour:
        forms = [context.paint(form, c.style) if c.style else form for form, c in zip(forms, columns, strict=True)]
    form = "  ".join(forms)
    yield "".join([(form % row).rstrip() + "\n" for row in zip(*cells, strict=True)])


def _lines_in_bulk(columns: Sequence[Column], widths: Sequence[int]) -> Iterator[str]:
    """The same lines as `_lines` without colours, some ten thousand at once."""
    import numpy as np

    cells = columns[-1].cells
    spans = cells if isinstance(cells, Spans) and cells.prefix.isascii() else None
    prefix, last = (
        (cells.prefix, cells.rest) if isinstance(cells, Prefixed) else ("", cell_texts(cells) if spans is None else ())
    )
    for first in range(0, len(cells), STEP):
        until = min(len(cells), first + STEP)
        gap = np.full((until - first, 2), ord(" "), np.uint8)
        blocks: list[Any] = []
        for column, width in zip(columns[:-1], widths[:-1], strict=True):
            assert isinstance(column.cells, Numbers | Labels)
            blocks += [column.cells.block(first, until, width), gap]
        block = np.hstack(blocks) if blocks else gap[:, :0]
        if spans is not None:
            yield spans.lines(first, until, block)
            continue
        size, text = block.shape[1], block.tobytes().decode("latin-1")
        starts = range(0, size * (until - first), size) if size else [0] * (until - first)
        yield "".join(
            [f"{text[at : at + size]}{prefix}{cell}\n" for at, cell in zip(starts, last[first:until], strict=True)]
        )
