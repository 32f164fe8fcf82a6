"""Add-ons of two kinds, each loaded as strictly as the rest of the game.

`parcels/`: every folder, and every ZIP called `*.zip`, by name; each has `parcel.xml` and its files below `hold/`.
`cargo/`: the folders that `cargo/manifest.xml` lists, in its order; each has `crate.json` and its files beside it.
The files win over those of the packs, under the same paths; later ones win over earlier ones.
"""

from __future__ import annotations

import io
import json
import xml.etree.ElementTree as ET
import zipfile
from pathlib import Path

from kelpwick import GameError
from kelpwick.isles._bytes import must

MANIFEST = "cargo/manifest.xml"
EMPTY = b'<?xml version="1.0" encoding="UTF-8"?>\r\n<!-- one crate a line, loaded in this order -->\r\n<manifest>\r\n</manifest>\r\n'  # noqa: E501
PNG = b"\x89PNG"


def load(folder: Path, version: str) -> dict[str, bytes]:
    """The files of all add-ons, by path; GameError for the first thing that is wrong."""
    found: dict[str, bytes] = {}
    parcels = folder / "parcels"
    for path in sorted(parcels.iterdir()) if parcels.is_dir() else ():
        found |= _parcel(f"parcels/{path.name}", _files(path), version)
    for name in _listed(folder):
        crate = folder / "cargo" / name
        must(crate.is_dir(), f"{MANIFEST} lists {name}, which is not in cargo")
        found |= _crate(f"cargo/{name}", _files(crate), version)
    return found


def _files(path: Path) -> dict[str, bytes]:
    if path.is_dir():
        return {one.relative_to(path).as_posix(): one.read_bytes() for one in sorted(path.rglob("*")) if one.is_file()}
    must(path.suffix == ".zip", f"{path.name} is no parcel: a folder, or a file .zip")
    try:
        with zipfile.ZipFile(io.BytesIO(path.read_bytes())) as archive:
            return {name: archive.read(name) for name in archive.namelist() if not name.endswith("/")}
    except (zipfile.BadZipFile, ValueError, RuntimeError) as error:
        raise GameError(f"{path.name}: {error}") from error


def _parcel(where: str, files: dict[str, bytes], version: str) -> dict[str, bytes]:
    must("parcel.xml" in files, f"{where} has no parcel.xml")
    try:
        root = ET.fromstring(files.pop("parcel.xml"))
    except ET.ParseError as error:
        raise GameError(f"{where}/parcel.xml: {error}") from error
    must(bool(root.get("id")) and bool(root.get("version")), f"{where}/parcel.xml has no id or no version")
    must(root.get("game") in (None, version), f"{where} is for version {root.get('game')}, this is {version}")
    titles = {element.get("language"): element.text for element in root.iter("title")}
    must(bool(titles) and all(titles.values()) and None not in titles, f"{where}/parcel.xml has no title in a language")
    icon = root.find("icon")
    if icon is not None:
        data = files.pop(icon.get("file") or "", b"")
        must(data.startswith(PNG), f"{where}: its icon is no PNG")
    odd = [name for name in files if not name.startswith("hold/")]
    must(not odd, f"{where} has {odd[:1]}, which is not in its hold")
    return {name.removeprefix("hold/"): data for name, data in files.items()}


def _crate(where: str, files: dict[str, bytes], version: str) -> dict[str, bytes]:
    must("crate.json" in files, f"{where} has no crate.json")
    try:
        told = json.loads(files.pop("crate.json"))
        ok = isinstance(told["id"], str) and isinstance(told["names"], dict) and bool(told["names"])
    except (ValueError, KeyError, TypeError) as error:
        raise GameError(f"{where}/crate.json: {error}") from error
    must(ok, f"{where}/crate.json has no id, or no name in a language")
    must(told.get("game", version) == version, f"{where} is for version {told.get('game')}, this is {version}")
    return files


def _listed(folder: Path) -> list[str]:
    path = folder / MANIFEST
    if not path.is_file():
        return []
    try:
        root = ET.fromstring(path.read_bytes())
    except ET.ParseError as error:
        raise GameError(f"{MANIFEST}: {error}") from error
    names = [element.get("name") or "" for element in root if element.tag == "crate"]
    must(len(set(names)) == len(names), f"{MANIFEST} lists a crate twice")
    return names
