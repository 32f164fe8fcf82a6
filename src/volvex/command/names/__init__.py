"""The verbs of `volvex keys`."""
