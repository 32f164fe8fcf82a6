"""The option that picks among the variants of a path: languages, regions, qualities."""

from __future__ import annotations

import argparse


def add_variant(parser: argparse.ArgumentParser) -> None:
    """Where one path is stored several times, which of them is meant."""
    parser.add_argument(
        "--variant", metavar="NAME", help="of paths that are stored several times: this variant, or `all`"
    )
