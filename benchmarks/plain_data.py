"""The other side of the data cases: what the libraries need alone for the same files."""

from __future__ import annotations

import struct
import sys
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

FIELDS = [("id", "<u4"), ("good", "u1"), ("name", "<u4"), ("price", "<f4"), ("weight", "<f8")]
FIELDS += [(f"n{number}", "<i4" if number % 2 else "<u2") for number in range(15)]


def rows(path: str) -> tuple[NDArray[np.void], bytes]:
    """The records of the table, and the pool of its names."""
    data = Path(path).read_bytes()
    count, start, _ = struct.unpack_from("<III", data, 4)
    return np.frombuffer(data, FIELDS, count, 16), data[start:]


def table(path: str) -> None:
    """The same records picked, and the first page of them printed."""
    found, pool = rows(path)
    picked = found[(found["good"] == 0) & (found["price"] > 890)]
    for row in picked[:40]:
        name = pool[row["name"] : pool.index(0, row["name"])].decode()
        print(row["id"], name, *row.tolist()[3:])
    print(len(picked))


def csv(path: str, out: str) -> None:
    """The same columns written and read with pandas."""
    import pandas as pd

    found, pool = rows(path)
    places, index = np.unique(found["name"], return_inverse=True)
    names = np.array([pool[at : pool.index(0, at)].decode() for at in places.tolist()], object)
    columns = {name: found[name] for name, _ in FIELDS} | {
        "good": np.array(["colza", "paraffin", "tallow", "gas"], object)[found["good"]],
        "name": names[index],
    }
    pd.DataFrame(columns).to_csv(out, index=False)
    print(len(pd.read_csv(out)))


def xml(path: str) -> None:
    """A plain parse."""
    from lxml import etree

    etree.parse(path, etree.XMLParser(huge_tree=True))


if __name__ == "__main__":
    if sys.argv[1] == "csv":
        csv(*sys.argv[2:])
    elif sys.argv[1] == "table":
        table(sys.argv[2])
    else:
        xml(sys.argv[2])
