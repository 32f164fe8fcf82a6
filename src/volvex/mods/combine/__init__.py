"""Combining mods: by file, entry, id and field (or line, or whole file); what cannot be both is a conflict, never
decided here.

The result depends on nothing but the game's content, the mods, their order and the decisions that were made.
"""
