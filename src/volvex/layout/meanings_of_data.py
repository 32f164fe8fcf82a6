"""Where a layout of tables, texts or scenes has its records and its pools."""

from __future__ import annotations

from volvex.layout.model import Block, Field, Layout, Pool, Value

DATA = ("table", "text", "scene")  # kinds whose files are records with values, not entries with content


def rows_of_layout(layout: Layout) -> list[Block]:
    """The repeating blocks whose records have values."""
    return [
        block
        for block in layout.blocks
        if block.repeats and any(isinstance(one.meaning, Value) for one in block.fields)
    ]


def pools_of(layout: Layout) -> dict[str, Field]:
    """The blocks that are pools of texts, with the field that is one."""
    return {block.name: one for block in layout.blocks for one in block.fields if isinstance(one.meaning, Pool)}
