"""Formats that are drawn by chance: each with a writer, a strict reader (both plain Python that knows nothing of
Volvex) and the layout that describes it.

A format is drawn from a seed. Its writer makes a file of some content; the layout must read it, prove it, and change
it so that the strict reader takes every result. Seeds below 1,000 are there to be looked at; figures come from others.
"""
