"""Mods: make, share, order, combine and test them."""
