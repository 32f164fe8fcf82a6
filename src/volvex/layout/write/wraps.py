"""The stored bytes of wrapped parts that are written again."""

from __future__ import annotations

from collections.abc import Callable

from volvex.codec.fitted import fitted
from volvex.layout.read.blocks import Area
from volvex.layout.transforms import wrapped
from volvex.layout.write.plan import Piece, Plan
from volvex.source import Spool

SPARE = 8  # bytes more that a part may get where no stream of just the wanted size is found
SMALL = 1 << 22  # bytes of a wrapped part that stay in memory


def wrapped_piece(area: Area, inner: Plan, spool: Callable[[], Spool], room: int) -> Piece:
    """What a part holds as it is stored; of `room` bytes or a few more, where it is packed and that is not 0."""
    if inner.size > SMALL:
        offset, size = spool().append(wrapped(area.part, inner.chunks()))
        return Piece(source=spool(), offset=offset, size=size)
    stored = b"".join(wrapped(area.part, inner.chunks()))
    if len(stored) < room and len(area.part.transforms) == 1:
        held, name = b"".join(inner.chunks()), area.part.transforms[0].name
        tried = (fitted(name, held, room + more) for more in range(SPARE))
        stored = next((stream for stream in tried if stream is not None), stored)
    return Piece.of(stored)


def is_same(area: Area, inner: Plan) -> bool:
    """Whether a part is to hold what it held."""
    pieces = [piece for piece in inner.pieces if piece.size]
    if len(pieces) == 1 and pieces[0].source is area.source and pieces[0].size == area.source.size:
        return True
    if inner.size != area.source.size:
        return False
    at = 0
    for chunk in inner.chunks():
        if area.source.peek(at, len(chunk)) != chunk:  # longer than was planned while places are tried
            return False
        at += len(chunk)
    return True
