"""Where bytes come from and go to.

`Source` reads a span of a file (or of bytes in memory) and says so when the span is not there.
`Disk` is the only thing that writes: every create, sync, rename and removal of the product is a step
of a `Disk`, so that one faulty disk can stop the work at each of them in turn. `atomic` is the one
way in which a file comes to be: whole, or not at all.
"""

from volvex.source.disk import Disk, atomic
from volvex.source.source import Beside, BytesSource, EndsSource, FileSource, LazySource, Source
from volvex.source.spool import Spool
from volvex.source.views import JoinedSource, WindowSource

__all__ = [
    "Beside",
    "BytesSource",
    "Disk",
    "EndsSource",
    "FileSource",
    "JoinedSource",
    "LazySource",
    "Source",
    "Spool",
    "WindowSource",
    "atomic",
]
