"""Seals: one file each, see `volvex.codec.registry.Seal`."""
