"""Packages that come with an extra (`pip install 'volvex[movies]'`): what is missing, and what to install."""

from __future__ import annotations

import functools
import importlib.util
import sys

from volvex.errors import UsageError

# the module of a package -> the extra that brings it, as in pyproject.toml
EXTRAS = {
    "astc_encoder": "astc",
    "av": "movies",
    "collada": "models",
    "distributed": "cluster",
    "etcpak": "textures",
    "fast_simplification": "models",
    "imagecodecs": "textures",
    "lxml": "tables",
    "numba": "fast",
    "openpyxl": "tables",
    "pandas": "tables",
    "trimesh": "models",
}


def has(module: str) -> bool:
    """Whether a package is installed."""
    return sys.modules.get(module) is not None or (module not in sys.modules and _found(module))


@functools.cache
def _found(module: str) -> bool:
    return importlib.util.find_spec(module) is not None


def require(module: str, what: str) -> None:
    """UsageError when a package is not installed; `what` cannot be done without it."""
    if not has(module):
        extra = EXTRAS[module]
        raise UsageError(
            f"{what}: the package {module} is not installed", f"`pip install 'volvex[{extra}]'`, or 'volvex[all]'"
        )
