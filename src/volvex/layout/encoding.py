"""Layouts whose texts are in another encoding than UTF-8 in some files: the user or the game description says which."""

from __future__ import annotations

from dataclasses import replace

from volvex.layout.model import Field, FieldType, Layout, Pool, Text

DEFAULT = "utf-8"  # of texts of which a layout gives no encoding


def with_encoding(layout: Layout, encoding: str) -> Layout:
    """The layout with an encoding for all texts that have none of their own."""

    def typed(kind: FieldType) -> FieldType:
        if isinstance(kind, Text):
            return replace(kind, encoding=encoding) if kind.encoding == DEFAULT else kind
        return kind.replace_inner(typed)

    def told(field: Field) -> Field:
        pool = isinstance(field.meaning, Pool) and not field.meaning.encoding
        return replace(field, type=typed(field.type), meaning=Pool(encoding) if pool else field.meaning)

    blocks = tuple(replace(block, fields=tuple(map(told, block.fields))) for block in layout.blocks)
    records = tuple(replace(record, fields=tuple(map(told, record.fields))) for record in layout.records)
    return replace(layout, blocks=blocks, records=records)
