"""Search names, text, values and bytes, also inside archives.

Several conditions must all hold. Text is searched line by line in text files, by record in tables and texts (with the
places that use a text), and as UTF-8 and UTF-16 in all other files. --value finds the records in which any field has
this value. Pictures are found by their size, and with --like by what they show.
"""

from __future__ import annotations

import argparse
import functools
import itertools
import re
from dataclasses import replace
from typing import TYPE_CHECKING

from volvex.archive.access.search import Hit, Wanted, search, size_of
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.picture_search import find_pictures, wants_pictures
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import count
from volvex.command.ui.variants import add_variant
from volvex.errors import LockedError, Status, TooLargeError, UsageError, VolvexError

if TYPE_CHECKING:
    from volvex.layout import Library

PRIORITY = 12
INPUTS = ("path", "like")
EXAMPLES = (
    'volvex find game/data --name "*.xml" --text fresnel_3',
    "volvex find game/data --value 105",
    'volvex find game/data --bytes "89 50 4e 47"',
    "volvex find game/canvas --like logo.dds",
)
STATUSES = {Status.OK: "something found", Status.DIFFERS: "nothing found"}
A_FILE = 5  # hits shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a folder, archive, or pattern")
    parser.add_argument("--name", metavar="PATTERN", default="", help="entries with this name: '*.png', 'rules/*'")
    parser.add_argument("--text", default="", help="entries that contain this text")
    parser.add_argument("--bytes", metavar="HEX", default="", help="entries that contain these bytes: '89 50 4e 47'")
    parser.add_argument("--value", default="", help="records with this value in any field: an id, a number, a word")
    parser.add_argument("--kind", metavar="KIND", help="files of this kind: picture")
    parser.add_argument("--larger", metavar="WxH", help="pictures of at least this size: 512x512")
    parser.add_argument("--like", metavar="FILE", help="pictures that look like this one, in any size and format")
    parser.add_argument("--ignore-case", "-i", action="store_true", help="ignore the case of letters")
    parser.add_argument("--all", action="store_true", help=f"show every hit, not only the first {A_FILE} of a file")
    add_variant(parser)
    add_reading(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    context.answers = False  # nobody who looks around wants to be asked for each locked archive on the way
    wanted = Wanted(options.name, options.text, _bytes(options.bytes), options.ignore_case, options.value)
    if wants_pictures(options):
        if wanted.text or wanted.data or wanted.value:
            raise UsageError("pictures are searched by --kind, --larger, --like and --name", "one of these alone")
        with open_walker(options, context) as walker:
            return find_pictures(options, walker, context)
    if not (wanted.name or wanted.text or wanted.data or wanted.value):
        raise UsageError("no condition is given", "--name, --text, --value, --bytes, --kind or --like")
    if wanted.value and (wanted.text or wanted.data):
        raise UsageError("--value goes with no --text and no --bytes", "one of them")
    faults: list[VolvexError] = []
    files = hits = 0
    records: list[dict[str, object]] = []
    context.interrupted = ("the hits above are not all", "a smaller part: a folder, an archive, or --name")
    with open_walker(options, context) as walker:
        if options.text or options.value:
            looked = functools.partial(in_data, walker.library, options.text, options.value, options.ignore_case)
            wanted = replace(wanted, look=looked, encoded=functools.partial(encoding_of, walker.library))
        try:
            for path in options.path:
                found = walker.find(path, deep=True, nested=True)
                with context.progress("searching", size_of(found)) as on_done:
                    for some in search(found, wanted, faults, on_done):
                        files, hits = files + 1, hits + len(some)
                        if options.json:
                            records += [_record(hit) for hit in some]
                        else:
                            _print(some, options.all, context)
        except KeyboardInterrupt:
            if options.json:
                context.json(records)
            raise
        faults += walker.faults
    locked = [fault for fault in faults if isinstance(fault, LockedError)] if files and not options.json else []
    status = note_faults([fault for fault in faults if fault not in locked], context, "not searched: ")
    if options.json:
        context.json(records)
    else:
        said = count(hits, "hit") + " in " if wanted.text or wanted.data or wanted.value else ""
        context.print(context.paint(f"{said}{count(files, 'file')}{_not_searched(locked)}", "dim"))
    return Status.OK if files else status or Status.DIFFERS


def _not_searched(locked: list[LockedError]) -> str:
    """What of the last line is about what nobody could look into."""
    if not locked:
        return ""
    first, *more = dict.fromkeys(fault.message.partition(" is locked")[0] for fault in locked)
    return f"; locked and not searched: {shown(first)}{f' and {len(more):,} more' if more else ''}"


def encoding_of(library: Library, path: str, content: bytes) -> str:
    """The encoding of text that is not UTF-8: as it is told, or as the bytes suggest."""
    from volvex.data.encodings import of_text

    return of_text(library.encoded(path), content)


def _bytes(text: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError as error:
        raise UsageError(f"{text!r} is not bytes in hex", "pairs of digits, such as --bytes '89 50 4e 47'") from error


def in_data(library: Library, text: str, value: str, ignore_case: bool, path: str, content: bytes) -> list[Hit] | None:
    """The hits in a file that is data: for a value in any, for a text in what a layout reads; None when it is no such
    data."""
    from volvex.data import open_data
    from volvex.data.find import texts, values
    from volvex.source import BytesSource

    if not value and library.match_data(BytesSource(content, path)) is None:
        return None
    try:
        document = open_data(content, library, path)
    except TooLargeError:
        if value:
            raise  # reported as not searched
        return None
    except VolvexError:
        return None
    if document is None or document.form == "lines":
        return None
    found = (
        values(document, value)
        if value
        else texts(document, re.compile(re.escape(text), re.IGNORECASE if ignore_case else 0))
    )
    return [
        Hit(
            path,
            before=hit.text[: hit.start],
            match=hit.text[hit.start : hit.end],
            after=hit.text[hit.end :],
            record=f"{hit.sheet} {hit.id}: {hit.field}",
            use=hit.use,
        )
        for hit in found
    ]


def _record(hit: Hit) -> dict[str, object]:
    return {
        "path": hit.path,
        "line": hit.line,
        "offset": hit.offset,
        "record": hit.record,
        "use": hit.use,
        "before": hit.before,
        "match": hit.match,
        "after": hit.after,
    }


def _print(hits: list[Hit], every: bool, context: Context) -> None:
    path = context.paint(shown(hits[0].path), "blue")
    context.print(path)
    if not hits[0].match and not hits[0].record:
        return
    lines = [list(those) for _, those in itertools.groupby(hits, lambda hit: (hit.line, hit.record, hit.offset))]
    for hit, *again in lines if every else lines[:A_FILE]:
        if hit.record:
            use = context.paint(f"  [{shown(hit.use)}]", "cyan") if hit.use else ""
            context.print(
                f"{'':11}  {context.paint(shown(hit.record), 'dim')}{use}  {_snippet(hit, context, bool(again))}"
            )
            continue
        where = f"line {hit.line}" if hit.line is not None else f"{hit.offset:#x}"
        context.print(f"{context.paint(where.rjust(11), 'dim')}  {_snippet(hit, context, bool(again))}")
    left = 0 if every else sum(map(len, lines[A_FILE:]))
    if left:
        more = count(left, "more hit")
        context.print(context.paint(f"{'':11}  and {more}; --all shows them", "dim"))


def _snippet(hit: Hit, context: Context, again: bool = False) -> str:
    """A hit with what stands around it, on one line; `again` when the line has it further on."""
    match = context.paint(shown(hit.match), "red")
    if hit.line is None and not hit.record:
        return f"{hit.before} {match} {hit.after}".strip()
    before, after = shown(hit.before.expandtabs(4)).lstrip(), shown(hit.after.expandtabs(4))
    room = max(40, context.width - len(hit.match) - 14 - len(hit.record) - len(hit.use))
    left = max(room // 2, room - len(after))
    before = before if len(before) <= left else "…" + before[len(before) - left + 1 :]
    right = room - len(before)
    after = after if len(after) <= right else after[: right - 1] + "…"
    return f"{before}{match}{after.replace(shown(hit.match), match) if again else after}"
