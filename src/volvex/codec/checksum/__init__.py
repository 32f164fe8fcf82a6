"""Checksums: one file each, see `volvex.codec.registry.Checksum`."""
