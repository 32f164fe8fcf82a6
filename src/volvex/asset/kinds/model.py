"""Models: meshes, skeletons, animations and materials."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from volvex.archive.detect.types.models import LAID_OUT, MODELS
from volvex.asset.kind import Around, AssetKind, Drawn, Edited, Exported, Fault, Options, Proof, Result
from volvex.layout import Library
from volvex.source import Source

if TYPE_CHECKING:
    from PIL import Image

    from volvex.asset.model.whole import WholeModel

EDGE = 500  # pixels of each of two states
PREVIEW = 480  # of a preview in the terminal
BACK = (24, 28, 33)  # behind it
ONE_FILE = {"gltf": "glb"}


class ModelKind(AssetKind["WholeModel"]):
    NAME, PRIORITY = "model", 40
    LAYOUTS = tuple(LAID_OUT)
    OPTIONS = ("lods",)
    CHECKED = 1 << 31
    CHECKS_NEW = True

    def is_open(self, file_type: str) -> bool:
        from volvex.asset.model.formats import by_kind

        return file_type in by_kind()

    def is_listed(self, file_type: str) -> bool:
        return file_type in MODELS or super().is_listed(file_type)  # forms without a signature, too

    def replaces(self, file_type: str) -> bool:
        return file_type == "mesh" or (file_type in MODELS and file_type not in (*LAID_OUT, "glb", "gltf"))

    def may_be(self, file_type: str) -> bool:
        from volvex.archive.detect import filetypes

        return file_type in filetypes.TEXT or super().may_be(file_type)

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> WholeModel | None:
        from volvex.archive.detect import filetypes
        from volvex.asset.model.open import form_in
        from volvex.asset.model.whole import whole_model

        if not self.may_be(filetypes.kind_by_content(source.peek(0, filetypes.HEAD))):
            return None
        return whole_model(source, library, around) if form_in(source, library) is not None else None

    def user_file(self, source: Source, library: Library, file_type: str) -> WholeModel | None:
        return self.opened(source, None)

    def proof(self, source: Source, library: Library) -> Proof | None:
        from volvex.asset.model.describe import short_text
        from volvex.asset.model.open import form_in
        from volvex.asset.model.own_layout import LayoutModel
        from volvex.asset.model.proof import model_change_faults, model_hints

        form = form_in(source, library)
        if not isinstance(form, LayoutModel):
            return None
        model = form.read(source)
        return Proof(
            model.extra["reading"],
            f"{form.layout.kind}: {short_text(model)}",
            lambda: list(model_hints(model)),
            lambda: model_change_faults(form, model),
        )

    def form(self, asset: WholeModel) -> str:
        return asset.gathered.model.form

    def lines(self, asset: WholeModel) -> Iterator[tuple[str, str]]:
        from volvex.asset.model.describe import lines_of

        found = asset.gathered
        yield from lines_of(found, asset.files.paths if asset.files is not None else ())
        yield from (("note", note) for note in dict.fromkeys([*found.model.notes, *found.notes]))
        if found.missing:
            many = "1 texture" if len(found.missing) == 1 else f"{len(found.missing):,} textures"
            yield "note", f"{many} not found in the game"

    def preview(self, asset: WholeModel, options: Options) -> Callable[[int], Drawn] | None:
        model = asset.gathered.model

        def draw(columns: int) -> Drawn:
            from volvex.asset.model.render import View, render
            from volvex.asset.model.textures import scene_of

            view = View(skeleton=not model.meshes)
            return Drawn(render(scene_of(asset.gathered, asset.files), PREVIEW, PREVIEW * 3 // 4, view, back=BACK))

        return draw if model.drawable else None

    def brief(self, asset: WholeModel) -> str:
        from volvex.asset.model.describe import short_text

        return short_text(asset.own)

    def differences(self, before: WholeModel, after: WholeModel) -> Iterator[str]:
        from volvex.asset.model.compare import differences

        yield from differences(before.own, after.own)

    def compared(self, before: WholeModel, after: WholeModel, title: str) -> Image.Image | None:
        from volvex.asset.model.whole import drawn_beside

        return drawn_beside(before, after, title, EDGE)

    def faults(self, before: WholeModel | None, after: WholeModel) -> Iterator[Fault]:
        from volvex.asset.model.check import faults_of

        known = set(faults_of(before)) if before is not None else set()  # the game's own had them already
        yield from (fault for fault in faults_of(after) if fault not in known)

    def extensions(self) -> Sequence[str]:
        from volvex.asset.model.formats import by_extension

        return tuple(by_extension())

    def one_file(self, extension: str) -> str:
        return ONE_FILE.get(extension, extension)

    def parts(self, asset: WholeModel, path: str, options: Options) -> Sequence[str]:
        from volvex.asset.model.whole import require_other_form

        require_other_form(asset)
        return ("",)

    def others(self, asset: WholeModel) -> Sequence[str]:
        return asset.others

    def companions(self, asset: WholeModel) -> Mapping[str, str]:
        return asset.textures

    def export(
        self,
        asset: WholeModel,
        extension: str,
        part: str = "",
        stem: str = "",
        links: Mapping[str, str] | None = None,
    ) -> Exported:
        from volvex.asset.model.whole import written_out

        return written_out(asset, extension, stem, links)

    def take_over(self, base: WholeModel, edits: Sequence[Edited], library: Library) -> Result:
        from volvex.asset.model.whole import merged

        (edit,) = edits
        return merged(base, edit)

    def replace(
        self, own: WholeModel, user: WholeModel | None, options: Options, on_progress: object = None
    ) -> Result | None:
        from volvex.asset.model.whole import replaced

        return replaced(own, user, options.get("lods") or "", bool(options.get("like"))) if user is not None else None


KIND = ModelKind()
