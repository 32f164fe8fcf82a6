"""Pictures and textures."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from volvex.asset.kind import Around, AssetKind, Drawn, Edited, Exported, Fault, Options, Pixels, Proof, Result
from volvex.errors import UsageError
from volvex.layout import Library
from volvex.source import Source

if TYPE_CHECKING:
    from PIL import Image

    from volvex.asset.picture.open import OpenedPicture


class PictureKind(AssetKind["OpenedPicture"]):
    NAME, PRIORITY = "picture", 10
    LAYOUTS = ("texture",)
    OPTIONS = ("resize", "anyway", "palette")
    TOGETHER = True

    def is_open(self, file_type: str) -> bool:
        from volvex.asset.picture.formats import by_kind

        return file_type in by_kind()

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> OpenedPicture | None:
        from volvex.asset.picture.open import open_picture

        return open_picture(source, library)

    def proof(self, source: Source, library: Library) -> Proof | None:
        from volvex.asset.picture.describe import size_text
        from volvex.asset.picture.open import form_in
        from volvex.asset.picture.own_layout import LayoutForm
        from volvex.asset.picture.proof import change_fault, picture_hints

        form = form_in(source, library)
        if not isinstance(form, LayoutForm):
            return None
        picture = form.read(source)

        def changes() -> Iterator[tuple[str, str]]:
            yield "a pixel of each level changed", change_fault(form, picture)

        levels = "1 level" if picture.levels == 1 else f"{picture.levels} levels"
        about = f"a picture of {size_text(picture)}, {levels}"
        return Proof(picture.extra["reading"], about, lambda: list(picture_hints(picture)), changes)

    def form(self, asset: OpenedPicture) -> str:
        return asset.picture.form

    def lines(self, asset: OpenedPicture) -> Iterator[tuple[str, str]]:
        from volvex.asset.picture.describe import channels_text, files_text, format_text, size_text

        picture = asset.picture
        yield "size", size_text(picture)
        yield "format", format_text(picture)
        if others := files_text(picture):
            yield "files", others
        yield "channels", channels_text(picture)
        yield from (("note", note) for note in picture.notes)

    def preview(self, asset: OpenedPicture, options: Options) -> Callable[[int], Drawn]:
        picture, level, face = asset.picture, options.get("level") or 0, options.get("face") or 0
        if not 0 <= level < picture.levels:
            raise UsageError(f"there is no level {level}: the picture has {picture.levels}", "a smaller --level")
        if not 0 <= face < picture.images:
            raise UsageError(f"there is no face {face}: the picture has {picture.images}", "a smaller --face")

        def draw(columns: int) -> Drawn:
            import numpy as np

            if not options.get("channel"):
                return Drawn(picture.seen(level, face))
            grey = picture.rgba(level, face)[..., "rgba".index(options["channel"])]
            return Drawn(np.stack([grey, grey, grey, np.full_like(grey, 255)], axis=2))

        return draw

    def cells(self, asset: OpenedPicture, named: bool) -> Iterator[tuple[Pixels, str, str]]:
        from volvex.asset.picture.describe import size_text

        picture = asset.picture
        yield picture.seen(), "", f"{size_text(picture)}, {picture.form} {picture.format}"

    def brief(self, asset: OpenedPicture) -> str:
        from volvex.asset.picture.describe import format_text, size_text

        return f"{size_text(asset.picture)}, {format_text(asset.picture)}"

    def differences(self, before: OpenedPicture, after: OpenedPicture) -> Iterator[str]:
        from volvex.asset.picture.compare import differing_pixels

        count = differing_pixels(before.picture, after.picture)
        if count is not None:
            yield f"{count:,} of {after.picture.width * after.picture.height:,} pixels differ"
        states = self.brief(before), self.brief(after)
        if states[0] != states[1]:
            yield f"{states[0]} -> {states[1]}"

    def compared(self, before: OpenedPicture, after: OpenedPicture, title: str) -> Image.Image:
        from volvex.asset.picture.compare import side_by_side

        return side_by_side(before.picture, after.picture, title)

    def faults(self, before: OpenedPicture | None, after: OpenedPicture) -> Iterator[Fault]:
        from volvex.asset.picture.check import faults_between

        if before is not None:
            yield from faults_between(before.picture, after.picture)

    def extensions(self) -> Sequence[str]:
        from volvex.asset.picture.formats import by_extension

        return tuple(by_extension())

    def parts(self, asset: OpenedPicture, path: str, options: Options) -> Sequence[str]:
        from volvex.asset.picture.exchange import PARTS

        level = options.get("level")
        if not 0 <= (level or 0) < asset.picture.levels:
            said = f"{path} has no level {level}: it has {asset.picture.levels}"
            raise UsageError(said, "--level 0 for the largest")
        if level:
            return (f"level {level}",)
        return PARTS if options.get("channels") == "apart" else ("",)

    def beside(self, asset: OpenedPicture) -> Sequence[str]:
        return asset.beside

    def export(
        self,
        asset: OpenedPicture,
        extension: str,
        part: str = "",
        stem: str = "",
        links: Mapping[str, str] | None = None,
    ) -> Exported:
        from volvex.asset.picture.exchange import exported, level_in
        from volvex.asset.picture.formats import form_of

        form, level = form_of(extension), level_in(part)
        out = exported(asset.picture, extension, "" if level else part, level)
        return Exported({"": form.write(out.picture)}, (*asset.picture.notes, *out.notes))

    def take_over(self, base: OpenedPicture, edits: Sequence[Edited], library: Library) -> Result:
        from volvex.asset.picture.exchange import taken_over_together

        result = taken_over_together(base.picture, edits)
        blocks = ""
        if result.blocks:
            blocks = f", {result.blocks:,} block{'s' if result.blocks != 1 else ''} made again"
        what = f"{result.pixels:,} pixel{'s' if result.pixels != 1 else ''} taken over{blocks}"
        return Result(base.files(result.picture), what, result.notes)

    def converts(self, own_type: str, file_type: str, options: Options) -> bool:
        return own_type != file_type or any(options.get(name) for name in self.OPTIONS)

    def replace(
        self, own: OpenedPicture, user: OpenedPicture | None, options: Options, on_progress: object = None
    ) -> Result | None:
        from volvex.asset.picture.exchange import replaced

        if user is None:
            return None
        resize, any_size = bool(options.get("resize")), bool(options.get("anyway"))
        result = replaced(own.picture, user.picture, resize, any_size, options.get("palette") == "new")
        levels = f"{result.picture.levels} level{'s' if result.picture.levels != 1 else ''}"
        form = f"{own.picture.form} {own.picture.format}, {levels}"
        return Result(own.files(result.picture), notes=result.notes, form=form)


KIND = PictureKind()
