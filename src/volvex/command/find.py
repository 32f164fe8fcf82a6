"""Search by name, by text inside, by bytes inside; down into archives.

All that is asked for must hold: `volvex find game --name "*.xml" --text fresnel_3`. Text is searched in text
files line by line, in other files as UTF-8 and UTF-16; bytes are given in hex. Status 1: nothing was found.
"""

from __future__ import annotations

import argparse

from volvex.archive.names import shown
from volvex.archive.search import Hit, Wanted, search
from volvex.command._context import Context
from volvex.command._tables import count
from volvex.command._variants import add_variant
from volvex.errors import LockedError, Status, UsageError, VolvexError

PLACE = 12
A_FILE = 5  # hits shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a folder, archive, or pattern")
    parser.add_argument("--name", metavar="PATTERN", default="", help="entries with such a name: '*.png', 'rules/*'")
    parser.add_argument("--text", default="", help="entries that hold this text")
    parser.add_argument(
        "--bytes", metavar="HEX", default="", help="entries that hold these bytes, such as '89 50 4e 47'"
    )
    parser.add_argument("--ignore-case", "-i", action="store_true", help="capital letters or not")
    parser.add_argument("--all", action="store_true", help=f"every hit, not just the first {A_FILE} of a file")
    add_variant(parser)
    parser.add_argument("--layout", metavar="FILE", help="open archives with this layout")
    parser.add_argument("--json", action="store_true", help="one list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    wanted = Wanted(options.name, options.text, _bytes(options.bytes), options.ignore_case)
    if not (wanted.name or wanted.text or wanted.data):
        raise UsageError("nothing says what to find", "--name, --text or --bytes")
    faults: list[VolvexError] = []
    files = hits = 0
    records: list[dict[str, object]] = []
    context.answers = False  # nobody who looks around wants to be asked for each locked archive on the way
    with context.walker(options) as walker:
        for path in options.path:
            for some in search(walker.find(path, deep=True, nested=True), wanted, faults):
                files, hits = files + 1, hits + len(some)
                if options.json:
                    records += [_record(hit) for hit in some]
                else:
                    _print(some, options.all, context)
        faults += walker.faults
    if options.json:
        context.json(records)
    else:
        said = count(hits, "hit") + " in " if wanted.text or wanted.data else ""
        context.print(context.paint(f"{said}{count(files, 'file')}", "dim"))
    for message in dict.fromkeys(fault.message for fault in faults):
        context.note(f"not searched: {message}")
    damaged = any(not isinstance(fault, LockedError) for fault in faults)
    return Status.BAD_DATA if damaged else Status.OK if files else Status.DIFFERS


def _bytes(text: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError as error:
        raise UsageError(f"{text!r} is not bytes in hex", "pairs of digits, such as --bytes '89 50 4e 47'") from error


def _record(hit: Hit) -> dict[str, object]:
    return {
        "path": hit.path,
        "line": hit.line,
        "offset": hit.offset,
        "before": hit.before,
        "match": hit.match,
        "after": hit.after,
    }


def _print(hits: list[Hit], every: bool, context: Context) -> None:
    path = context.paint(shown(hits[0].path), "blue")
    context.print(path)
    if not hits[0].match:
        return
    for hit in hits if every else hits[:A_FILE]:
        where = f"line {hit.line}" if hit.line is not None else f"{hit.offset:#x}"
        context.print(f"{context.paint(where.rjust(11), 'dim')}  {_snippet(hit, context)}")
    if not every and len(hits) > A_FILE:
        more = count(len(hits) - A_FILE, "more hit")
        context.print(context.paint(f"{'':11}  and {more}; --all shows them", "dim"))


def _snippet(hit: Hit, context: Context) -> str:
    """A hit with what stands around it, on one line."""
    match = context.paint(shown(hit.match), "red")
    if hit.line is None:
        return f"{hit.before} {match} {hit.after}".strip()
    before, after = shown(hit.before).lstrip(), shown(hit.after)
    room = max(40, context.width - len(hit.match) - 14)
    left = max(room // 2, room - len(after))
    before = before if len(before) <= left else "…" + before[len(before) - left + 1 :]
    right = room - len(before)
    return f"{before}{match}{after if len(after) <= right else after[: right - 1] + '…'}"
