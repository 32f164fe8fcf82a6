"""Mods: changes that can be given to others, in a folder or a ZIP of it; see `content` for what one holds."""
