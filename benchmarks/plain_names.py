"""What one writes at first: a dict of a list's hashes, and the keys of an archive looked up in it."""

from __future__ import annotations

import struct
import sys
import zlib
from pathlib import Path


def main() -> None:
    archive, names = (Path(text) for text in sys.argv[1:3])
    known = {zlib.crc32(line): line for line in names.read_bytes().splitlines()}
    data = archive.read_bytes()
    (count,) = struct.unpack_from("<I", data, 4)
    found = [known[key] for key, _, _ in struct.iter_unpack("<III", data[8 : 8 + 12 * count]) if key in known]
    sys.stdout.buffer.write(b"\n".join(sorted(found)))


if __name__ == "__main__":
    main()
