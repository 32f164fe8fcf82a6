"""Records of the files in a bench's folder `open`: what each is of, as what, and what both were when they last
agreed."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from volvex.archive.safe_names import stays_inside
from volvex.source import typed

DATA, PICTURE, SOUND, MODEL, SPRITE = "data", "picture", "sound", "model", "sprite"
ORIGINAL, EDITED = "original", "edited"  # what an asset's file is merged with: the game's own, or what the bench had


@dataclass(frozen=True)
class OpenedFile:
    """A file in the folder `open`.

    path       of what it is a form, as in the game
    extension  without its dot
    digest     of the file when it was written or taken over
    of         the digest of what it is of, then
    beside     other paths that it is of: levels of a picture, the parts of a model
    """

    path: str
    extension: str
    digest: str
    of: str
    beside: tuple[str, ...] = ()

    @property
    def kind(self) -> str:
        """Which kind of thing it is of: it decides what takes the file over."""
        return DATA


@dataclass(frozen=True)
class OpenedData(OpenedFile):
    """A table, texts or a scene: one sheet of it, or one language beside the original; all of it where these are
    empty."""

    sheet: str = ""
    language: str = ""


@dataclass(frozen=True)
class OpenedAsset(OpenedFile):
    """A picture, a sound, a model, or a frame of a sprite sheet.

    base  `ORIGINAL` or `EDITED`
    part  of a picture its colours, alpha or a level; of a sprite sheet the frame
    grid  how a sheet without a list is cut
    """

    asset: str = PICTURE
    base: str = ORIGINAL
    part: str = ""
    grid: str = ""

    @property
    def kind(self) -> str:
        return self.asset


def record_of(opened: OpenedFile) -> dict[str, object]:
    """A record as JSON stores it."""
    return asdict(opened)


def opened_of(record: dict[str, Any], version: int) -> OpenedFile:
    """A record out of JSON, of a bench of format `version`; ValueError when it is none."""
    if version == 1:
        return _of_first_format(record)
    asset = typed.text(record.get("asset", ""))
    words = ("asset", "base", "part", "grid") if asset else ("sheet", "language")
    texts: dict[str, Any] = {name: typed.text(typed.member(record, name)) for name in words}
    return (OpenedAsset if asset else OpenedData)(**_plain(record, "path", "extension"), **texts)


def _plain(record: dict[str, Any], path: str, extension: str) -> dict[str, Any]:
    """What all records have."""
    texts = {name: typed.text(typed.member(record, name)) for name in ("digest", "of")}
    inside = [typed.text(typed.member(record, path)), *map(typed.text, typed.listed(record.get("beside", [])))]
    if any(not stays_inside(one) or "\0" in one for one in inside):
        raise ValueError("a path that leads out of the bench")
    return {
        "path": inside[0],
        "extension": typed.text(typed.member(record, extension)),
        "beside": tuple(inside[1:]),
        **texts,
    }


def _of_first_format(record: dict[str, Any]) -> OpenedFile:
    """A record of format 1, in which the sheet's name stood for the kind of an asset, and its language for a part."""
    from volvex.data.exchange import exchanges

    plain = _plain(record, "place", "ending")
    sheet, language = (typed.text(typed.member(record, name)) for name in ("sheet", "language"))
    asset, _, rest = sheet.partition(" ")
    if plain["extension"] in exchanges() or asset not in (PICTURE, SOUND, MODEL, SPRITE):
        return OpenedData(**plain, sheet=sheet, language=language)
    if asset == SPRITE:
        return OpenedAsset(**plain, asset=asset, part=language, grid=rest)
    return OpenedAsset(**plain, asset=asset, base=EDITED if rest else ORIGINAL, part=language)
