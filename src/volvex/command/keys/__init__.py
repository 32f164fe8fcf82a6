"""Your keys to locked archives."""
