"""The other side of the data cases: what the libraries need alone for the same files."""

from __future__ import annotations

import sys


def csv(path: str, out: str) -> None:
    """Write and read the same CSV with pandas, from the same columns."""
    import pandas as pd

    frame = pd.read_csv(path)
    frame.to_csv(out, index=False)


def xml(path: str) -> None:
    """A plain parse."""
    from lxml import etree

    etree.parse(path, etree.XMLParser(huge_tree=True))


if __name__ == "__main__":
    if sys.argv[1] == "csv":
        csv(*sys.argv[2:])
    else:
        xml(sys.argv[2])
