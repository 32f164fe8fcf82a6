"""Lists as aligned columns, made column by column so that half a million lines come at once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from volvex.command._context import Context


@dataclass
class Column:
    """A column of texts; numbers stand to the right."""

    title: str
    cells: Sequence[str]
    right: bool = False
    style: str = ""


def number(value: int | None) -> str:
    """A number of bytes or things, with commas."""
    return "-" if value is None else f"{value:,}"


def numbers(values: Iterable[int]) -> list[str]:
    return [f"{value:,}" for value in values]


def percent(part: int, whole: int) -> str:
    """A share; what is not nothing is never told as 0%."""
    if not whole or not part:
        return "0%"
    share = 100 * part / whole
    return f"{share:.0f}%" if share >= 1 else "<1%"


def count(value: int, one: str, many: str = "") -> str:
    """`1 file`, `3 files`."""
    return f"{value:,} {one if value == 1 else many or one + 's'}"


def print_table(context: Context, columns: Sequence[Column], cut: bool = False) -> None:
    """The columns below their titles. The last column is not padded; with `cut` it ends at the terminal's edge."""
    columns = [column for column in columns if column.cells]
    if not columns:
        return
    widths = [max(len(column.title), max(map(len, column.cells))) for column in columns]
    widths[-1] = 0
    titles = [_pad(c.title, width, c.right) for c, width in zip(columns, widths, strict=True)]
    context.print(context.paint("  ".join(titles).rstrip(), "dim"))
    forms = [f"%{'' if c.right else '-'}{width}s" if width else "%s" for c, width in zip(columns, widths, strict=True)]
    cells = [c.cells for c in columns]
    if cut and context.terminal:
        room = max(20, context.width - sum(widths) - 2 * len(widths) + 2)
        cells[-1] = [cell if len(cell) <= room else cell[: room - 1] + "…" for cell in cells[-1]]
    if context.colour:
        forms = [context.paint(form, c.style) if c.style else form for form, c in zip(forms, columns, strict=True)]
    form = "  ".join(forms) + "\n"
    lines = [form % row for row in zip(*cells, strict=True)]
    context.out.write("".join(lines))


def _pad(text: str, width: int, right: bool) -> str:
    return text.rjust(width) if right else text.ljust(width)
