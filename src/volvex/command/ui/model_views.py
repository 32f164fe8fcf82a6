"""Models on sheets: one small, or one large from several sides, in several poses, in its levels of detail."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.command.ui.context import Context
from volvex.command.ui.model import Surroundings, read_whole
from volvex.command.ui.reader import Content, each_content
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, UsageError

if TYPE_CHECKING:
    from PIL import Image

    from volvex.asset.model.gather import Gathered
    from volvex.asset.model.model import Animation
    from volvex.asset.model.render import Scene, View
    from volvex.asset.sheet import Cell

VIEWS = 8  # from around, or of an animation
LARGE, MIDDLE = 720, 300  # pixels of one view, and of each of several
OPTIONS = ("turn", "animation", "each_lod", "skeleton", "untextured")


def add_model_views(parser: argparse.ArgumentParser) -> None:
    """The options that say how a model is drawn."""
    parser.add_argument(
        "--turn",
        nargs="?",
        type=int,
        const=VIEWS,
        metavar="N",
        help=f"of a model: N views from around (default: {VIEWS})",
    )
    parser.add_argument("--animation", metavar="NAME", help=f"of a model: {VIEWS} poses of this animation")
    parser.add_argument("--each-lod", action="store_true", help="of a model: its levels of detail side by side")
    parser.add_argument("--skeleton", action="store_true", help="of a model: with its joints")
    parser.add_argument("--untextured", action="store_true", help="of a model: without textures and colours")


class ModelCells:
    """Draws the models of one command."""

    def __init__(self, walker: Walker, context: Context, options: argparse.Namespace) -> None:
        self.walker, self.context, self.options = walker, context, options
        self.around = Surroundings(walker, context)
        self.asked = [name for name in OPTIONS if getattr(options, name)]
        self.what, self.count = "", 0

    def _opened(self, content: Content) -> tuple[Gathered, Scene] | None:
        """The model that a content is, with its textures; None when it is none, or has nothing to draw."""
        from volvex.asset.model.open import form_in, may_be_model, open_model

        kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
        form = form_in(content.source, self.walker.library) if may_be_model(kind) else None
        own = getattr(form, "layout", None)
        named = content.path in self.options.path
        if form is None or (own is not None and own.kind != "mesh" and not named):
            return None
        opened = open_model(read_whole(content), self.walker.library)
        if opened is None:
            return None
        found = self.around.gathered(opened, content)
        if not found.model.drawable:
            return None
        return found, self.around.scene(found, content, self.options.untextured)

    def cell(self, content: Content) -> Cell | None:
        """A model as one cell of a sheet."""
        from volvex.asset.model.describe import size_text
        from volvex.asset.model.render import render
        from volvex.asset.sheet import CELL, Cell

        found = self._opened(content)
        if found is None:
            return None
        pixels = render(found[1], CELL, CELL, self._view(found[0]))
        self.count += 1
        return Cell(pixels, content.path.rpartition("/")[2], size_text(found[0].model), content.path)

    def _view(self, found: Gathered) -> View:
        from volvex.asset.model.render import View

        bare = not any(len(mesh.triangles) for mesh in found.model.meshes)
        return View(skeleton=self.options.skeleton or bare, plain=self.options.untextured)

    def page(self, paths: list[str]) -> Image.Image | None:
        """One model large, in the views that are asked for; None when what is named is no single model and none are
        asked for."""
        contents = each_content(paths[0], self.walker, self.context, deep=True)
        first = next(contents, None)
        if first is None:
            return None
        content = first[0]
        single = len(paths) == 1 and content.path == paths[0] and next(contents, None) is None
        found = self._opened(content) if single else None
        content.source.close()
        if found is None:
            if self.asked:
                given = " and ".join(f"--{name}" for name in self.asked)
                if single:
                    raise NotFoundError(f"{content.path} is no model", f"leaving {given} out")
                if set(self.asked) - {"untextured", "skeleton"}:
                    raise UsageError(f"{given} draws one model", "the path of one")
            return None
        return self._drawn(found[0], found[1], content.path.rpartition("/")[2])

    def _drawn(self, found: Gathered, scene: Scene, name: str) -> Image.Image:
        from volvex.asset.model.describe import short_text
        from volvex.asset.model.render import common_fits, render
        from volvex.asset.sheet import Cell, drawn

        views = list(self._views(found, scene))
        size = LARGE if len(views) == 1 else MIDDLE
        fits = common_fits([(one, view) for one, view, _ in views], bool(self.options.animation))
        cells = [
            Cell(render(one, size, size, view, fit), label, "")
            for (one, view, label), fit in zip(views, fits, strict=True)
        ]
        self.what = f"{name}, {count(len(views), 'view')}" if len(views) > 1 else name
        return drawn(cells, f"{name}: {short_text(found.model)}", size, 4)

    def _views(self, found: Gathered, scene: Scene) -> Iterator[tuple[Scene, View, str]]:
        """What is drawn: a scene, a view and a label each."""
        from volvex.asset.model.render import YAW, posed, times_of

        view, model = self._view(found), found.model
        if self.options.animation:
            animation = self._animation(found)
            if model.skeleton is None:
                raise NotFoundError(f"{model.name} has no skeleton that could move", "leaving --animation out")
            for time in times_of(animation, VIEWS):
                pose = posed(model.skeleton, animation, time)
                yield replace(scene, pose=pose), view, f"{animation.name} at {time:.2f} s"
        elif self.options.turn:
            if not 2 <= self.options.turn <= 64:
                raise UsageError(f"{self.options.turn} views", "2 to 64")
            for number in range(self.options.turn):
                degrees = 360 * number / self.options.turn
                yield scene, replace(view, yaw=YAW + degrees), f"turned by {degrees:.0f} degrees"
        elif self.options.each_lod:
            for lod in range(max(1, model.lods)):
                yield scene, replace(view, lod=lod), f"level {lod}: {count(model.triangles(lod), 'triangle')}"
        else:
            yield scene, view, ""

    def _animation(self, found: Gathered) -> Animation:
        wanted = self.options.animation.casefold()
        names = [animation.name for animation in found.model.animations]
        for animation in found.model.animations:
            if animation.name.casefold() == wanted:
                return animation
        near = [animation for animation in found.model.animations if wanted in animation.name.casefold()]
        if len(near) == 1:
            return near[0]
        raise NotFoundError(
            f"there is no animation {self.options.animation}",
            f"one of {', '.join(names[:8])}" if names else "another model",
        )
