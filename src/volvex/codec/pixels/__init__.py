"""Pixels: the formats in which they are stored, one by one or in blocks, and the orders in which they lie."""
