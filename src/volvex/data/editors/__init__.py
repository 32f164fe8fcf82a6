"""Editors by value: one file a kind, see `volvex.data.edit`."""
