"""Whether the names of a directory can be shown as they are stored, without looking at them one by one."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from volvex.layout.columns import Texts


def are_plain(texts: Texts, folders: Collection[int]) -> bool:
    """Whether all names are printable ASCII without backslashes, no two the same, folders with a slash at the end."""
    if any(not texts.raw(row).endswith(b"/") for row in folders) or texts.repeat():
        return False
    flat = np.frombuffer(texts.data, np.uint8)
    odd = (flat < 0x20) | (flat > 0x7E) | (flat == 0x5C)
    order = np.argsort(texts.starts, kind="stable")
    edges = np.stack([texts.starts[order], (texts.starts + texts.lengths)[order]], axis=1).reshape(-1)
    if bool((np.diff(edges) < 0).any()):  # names that overlap
        return False
    return not bool(np.logical_or.reduceat(np.append(odd, False), edges)[::2].any())
