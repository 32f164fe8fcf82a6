"""Compressions: one file each, see `volvex.codec.registry.Compression`."""
