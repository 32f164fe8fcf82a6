"""Reaching content: opening archives, paths through them, patterns, pieces, search."""
