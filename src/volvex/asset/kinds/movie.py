"""Movies."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.kind import Proof
from volvex.layout import Library
from volvex.layout.inspect.hints import hints_of
from volvex.source import BytesSource, Source

NAME, PRIORITY = "movie", 30


def proof(source: Source, library: Library) -> Proof | None:
    from volvex.asset.movie.open import form_in

    form = form_in(source, library)
    if form is None:
        return None
    reading, streams, packets = form.read(source)

    def changes() -> Iterator[tuple[str, str]]:
        made = BytesSource(form.written(source, form.as_open(source)), source.name)
        yield "into an open container and back", "" if form.read(made)[2] == packets else "its packets differ"

    many = "1 packet" if len(packets) == 1 else f"{len(packets):,} packets"
    about = f"a movie of {streams.width} x {streams.height}, {many}"
    return Proof(reading, about, lambda: list(hints_of(reading)), changes)
