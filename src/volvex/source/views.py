"""Sources within and across others: a window on one, several joined to one."""

from __future__ import annotations

import bisect
from collections.abc import Sequence

from volvex.source.source import Source


class WindowSource(Source):
    """Some bytes of another source. `origin` is where they start in the file that they lie in at last."""

    def __init__(self, source: Source, start: int, size: int, name: str) -> None:
        source.read(start + size, 0)  # says so when they do not lie within
        self.origin = start
        self.inner: Source = source
        self.start, self.size, self.name = start, size, name
        if isinstance(source, WindowSource):
            self.origin, self.inner, self.start = source.origin + start, source.inner, source.start + start

    def _read(self, offset: int, size: int) -> bytes:
        return self.inner.read(self.start + offset, size)


class JoinedSource(Source):
    """Several sources as one, one behind the other; read where they lie."""

    def __init__(self, parts: Sequence[Source], name: str) -> None:
        self.parts, self.name = list(parts), name
        self.starts = [0]
        for part in self.parts:
            self.starts.append(self.starts[-1] + part.size)
        self.size = self.starts.pop()

    def _read(self, offset: int, size: int) -> bytes:
        index = bisect.bisect_right(self.starts, offset) - 1
        out = []
        while size > 0 and index < len(self.parts):
            part, inside = self.parts[index], offset - self.starts[index]
            taken = part.read(inside, min(size, part.size - inside))
            out.append(taken)
            offset, size, index = offset + len(taken), size - len(taken), index + 1
        return out[0] if len(out) == 1 else b"".join(out)

    def close(self) -> None:
        for part in self.parts:
            part.close()
