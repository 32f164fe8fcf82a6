"""Movies."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING, Any

from volvex.asset.kind import Around, AssetKind, Drawn, Exported, Fault, Options, Pixels, Proof, Result
from volvex.layout import Library
from volvex.source import BytesSource, Source

if TYPE_CHECKING:
    from volvex.asset.movie.open import OpenedMovie

STRIP = 5  # frames side by side
WIDEST = 160  # pixels of a frame of the strip
FRAMES = 28  # of a movie on a contact sheet


class MovieKind(AssetKind["OpenedMovie"]):
    NAME, PRIORITY = "movie", 90  # what no other kind opens is given to what decodes movies
    LAYOUTS = ("movie",)
    OPTIONS = ("framing", "trim", "mute")
    STREAMED = True

    def is_open(self, file_type: str) -> bool:
        from volvex.asset.movie.model import KINDS

        return file_type in KINDS

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> OpenedMovie | None:
        from volvex.asset.movie.open import open_movie

        return open_movie(source, library, thorough)

    def user_file(self, source: Source, library: Library, file_type: str) -> OpenedMovie | None:
        return self.opened(source, library, thorough=True)

    def proof(self, source: Source, library: Library) -> Proof | None:
        from volvex.asset.movie.open import form_in
        from volvex.layout.inspect.hints import hints_of

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

    def form(self, asset: OpenedMovie) -> str:
        return asset.movie.form

    def lines(self, asset: OpenedMovie) -> Iterator[tuple[str, str]]:
        from volvex.asset.movie.describe import picture_text, sound_text
        from volvex.asset.sound.describe import duration_text

        movie = asset.movie
        yield "duration", f"{duration_text(movie.duration)}, {movie.frames:,} frames"
        yield "pictures", f"{picture_text(movie)}, {movie.pixels}"
        for audio in movie.audio:
            yield "sound", sound_text(audio)
        if not movie.audio:
            yield "sound", "none"
        yield from (("note", note) for note in movie.notes)

    def preview(self, asset: OpenedMovie, options: Options) -> Callable[[int], Drawn]:
        """Frames side by side, each with its time below."""

        def draw(columns: int) -> Drawn:
            import numpy as np

            from volvex.asset.sound.describe import duration_text

            found = asset.pictures(asset.name, STRIP, WIDEST, WIDEST)
            high = max(array.shape[0] for _, array in found)
            strip: list[Any] = []
            for _, array in found:
                rgba = np.full((high, array.shape[1], 4), 255, np.uint8)
                rgba[: array.shape[0], :, :3] = array
                strip += [rgba, np.zeros((high, 4, 4), np.uint8)]
            return Drawn(np.concatenate(strip[:-1], axis=1), times=[*(duration_text(time) for time, _ in found), ""])

        return draw

    def cells(self, asset: OpenedMovie, named: bool) -> Iterator[tuple[Pixels, str, str]]:
        """Frames spread over it, each with its time, where it was named."""
        import numpy as np

        from volvex.asset.sheet import CELL
        from volvex.asset.sound.describe import duration_text

        for time, pixels in asset.pictures(asset.name, FRAMES, CELL, CELL) if named else ():
            rgba = np.full((*pixels.shape[:2], 4), 255, np.uint8)
            rgba[..., :3] = pixels
            yield rgba, duration_text(time), asset.name.rpartition("/")[2]

    def brief(self, asset: OpenedMovie) -> str:
        from volvex.asset.movie.describe import short_text

        return short_text(asset.movie)

    def differences(self, before: OpenedMovie, after: OpenedMovie) -> Iterator[str]:
        yield f"{self.brief(before)} -> {self.brief(after)}"

    def faults(self, before: OpenedMovie | None, after: OpenedMovie) -> Iterator[Fault]:
        from volvex.asset.movie.check import faults_between

        if before is not None:
            yield from faults_between(before.movie, after.movie)

    def extensions(self) -> Sequence[str]:
        from volvex.asset.sound.formats import by_extension

        return ("mkv", *by_extension())

    def export(
        self, asset: OpenedMovie, extension: str, part: str = "", stem: str = "", links: object = None
    ) -> Exported:
        from volvex.asset.movie.exchange import exported

        return exported(asset, extension)

    def replace(
        self,
        own: OpenedMovie,
        user: OpenedMovie | None,
        options: Options,
        on_progress: Callable[[int], None] | None = None,
    ) -> Result | None:
        from volvex.asset.movie.exchange import Asked, replaced
        from volvex.errors import UsageError

        if options.get("like"):
            raise UsageError("a movie becomes the game's own in a bench", "`volvex swap MOVIE CLIP`")
        asked = Asked(options.get("framing") or "fit", bool(options.get("trim")), bool(options.get("mute")))
        return replaced(own, user, asked, on_progress or (lambda frames: None))


KIND = MovieKind()
