"""Try all paths of a pattern on the nameless entries.

`{a,b}` is one of several texts, `{00..99}` a number, `{a..f}` a letter, `{word}` each line of a list. Quote the pattern
for the shell. The number of paths and the time are printed first. Certain names go into the bench's dictionary; names
that may be accidents wait for `names accept`.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive.safe_names import quoted, shown
from volvex.command.names._shared import conclude, nothing_to_do, paths_of
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout, open_walker
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, Status, UsageError

if TYPE_CHECKING:
    from volvex.names.patterns import Pattern
    from volvex.names.unresolved import UnresolvedEntries

PRIORITY = 68
EXAMPLES = (
    'volvex names guess "boats/{skiff,punt,barge}_{00..99}/{hull,sail}.{png,msh}"',
    'volvex names guess "soundings/{word}/{ebb,flood}.sdg" --words words.txt',
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("pattern", nargs="+", metavar="PATTERN", help="paths with choices in braces")
    parser.add_argument(
        "--in",
        dest="path",
        action="append",
        default=[],
        metavar="PATH",
        help="a game, folder or archive (default: the game of the bench)",
    )
    parser.add_argument(
        "--words",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="a list of words, one a line, for {word}",
    )
    parser.add_argument("--plan", action="store_true", help="print the number of paths and the time, and try nothing")
    parser.add_argument("--all", action="store_true", help="show every name found")
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )
    add_layout(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.names import patterns
    from volvex.names.unresolved import quarries

    for text in options.pattern:
        if "{" not in text and Path(text).exists():
            raise UsageError(
                f"{shown(text)} is a file or folder; what is tried is a pattern of the paths in it",
                f'`volvex names guess "boats/boat_{{00..99}}.png" --in {quoted(text)}`',
            )
    words = [word for path in options.words for word in _words(path)]
    some = [
        patterns.parse(text.replace("\\", "/") if "{" not in text else text, {"word": words} if words else {})
        for text in options.pattern
    ]
    context.answers = False
    paths = paths_of(options, context)
    with open_walker(options, context) as walker:
        groups = [group for path in paths for group in walker.find(path, deep=True, nested=True).groups]
        sought = [unresolved for unresolved in quarries(groups) if unresolved.before]
        if not sought:
            return nothing_to_do(options, context)
        _foretell(sought, some, context)
        if options.plan:
            return Status.OK
        whole = _try(sought, some, context)
        finds = [find for unresolved in sought for find in unresolved.judged()]
        conclude(sought, groups, finds, options, context)
        return Status.INTERRUPTED if not whole else Status.OK if finds else Status.DIFFERS


def _words(path: Path) -> list[str]:
    if not path.is_file():
        raise NotFoundError(f"there is no file {path}", "a text with a word a line")
    from volvex.names import dictionary

    return dictionary.parsed(dictionary.decoded(path.read_bytes(), path.as_posix()), path.as_posix())


def _foretell(sought: list[UnresolvedEntries], patterns: list[Pattern], context: Context) -> None:
    """How many paths, and how long: said before anything is tried."""
    from volvex.names.guess import seconds

    size = sum(pattern.size for pattern in patterns)
    took = sum(seconds(unresolved, pattern) for unresolved in sought for pattern in patterns)
    entries = sum(unresolved.before for unresolved in sought)
    rules = f", {size * len(sought):,} hashes by {len(sought)} rules," if len(sought) > 1 else ""
    context.note(
        f"{count(size, 'path')}{rules} on {count(entries, 'nameless entry', 'nameless entries')}, {_span(took)}"
    )


def _span(seconds: float) -> str:
    """A stretch of time in words."""
    if seconds > 5400:
        return f"about {seconds / 3600:,.1f} hours"
    if seconds > 90:
        return f"about {seconds / 60:,.0f} minutes"
    return f"about {seconds:.0f} seconds" if seconds > 1.5 else "about a second or less"


def _try(sought: list[UnresolvedEntries], patterns: list[Pattern], context: Context) -> bool:
    """All patterns, unless somebody interrupts it; what was found before that is kept."""
    from volvex.names.guess import guess

    total = len(sought) * sum(pattern.size for pattern in patterns)
    try:
        with context.progress("guessing", total, "paths") as on_progress:
            for unresolved in sought:
                for pattern in patterns:
                    guess(unresolved, pattern, on_progress)
    except KeyboardInterrupt:
        context.note("interrupted: the paths found so far are kept")
        return False
    return True
