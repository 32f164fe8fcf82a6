"""Ciphers: a file each."""
