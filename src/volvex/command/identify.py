"""Identify a file by signature, structure and content, with reasons.

For an unknown file it prints the first bytes, the share of text, the entropy along the file (high and even: compressed
or encrypted; steps: separate parts), known files and compressed streams found inside, and a likely XOR key. However
large the file is, only a bounded part of it is read.
"""

from __future__ import annotations

import argparse
import contextlib
from pathlib import Path

from volvex.archive.detect import filetypes
from volvex.archive.detect.identify import CONTENT, Guess, Identified, identify
from volvex.archive.detect.types import all_types
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, each_content, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import Status, UsageError
from volvex.source import Source
from volvex.source.hex_lines import hex_lines, readable
from volvex.source.outputs import Outputs, new_file

PRIORITY = 14
INPUTS = ("path",)
OUTPUTS = {"plot": ".png"}
EXAMPLES = (
    "volvex identify game/kelpwick.exe",
    "volvex identify game/kelpwick.exe --save-found found",
    "volvex identify --signature 4b57504b",
)
STATUSES = {Status.DIFFERS: "an unknown format"}
HEX, FOUND, KEYS = 64, 12, 3
BARS = " ▁▂▃▄▅▆▇█"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="*", metavar="PATH", help="a file, a folder, or a path in an archive")
    parser.add_argument(
        "--signature", metavar="HEX", help="list the formats whose files begin with these bytes: 4b575031"
    )
    parser.add_argument("--save-found", type=Path, metavar="DIR", help="save the files found inside")
    parser.add_argument("--plot", type=Path, metavar="PNG", help="draw the entropy along the file")
    add_reading(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    if options.signature is not None:
        return _by_signature(options, context)
    if not options.path:
        raise UsageError("no path is given", "a file, a folder, or --signature HEX")
    records, unknown = list[dict[str, object]](), 0
    with open_walker(options, context) as walker:
        for path in options.path:
            for content, file in each_content(path, walker, context):
                with contextlib.closing(content.source):
                    found = identify(content.source, walker.library, file, inside=options.save_found is not None)
                    _add_model(content.source, found)
                    unknown += not found.known
                    if options.json:
                        records.append(_record(found))
                    else:
                        _print(found, context)
                    if options.save_found is not None:
                        _carve(content.source, found, options.save_found, context)
                    if options.plot is not None:
                        _draw(content.source, options.plot, context)
        status = note_faults(walker.faults, context)
    if options.json:
        context.json(records)
    return status or (Status.DIFFERS if unknown else Status.OK)


def _add_model(source: Source, found: Identified) -> None:
    """Put the form of a model that has no signature in the place of the text that it is."""
    from volvex.asset.content_kind import model_in

    form = model_in(source, filetypes.kind_by_content(source.peek(0, filetypes.HEAD)))
    if form and not any(guess.opens for guess in found.guesses):
        found.guesses[:] = [Guess(form, "content", "a model, by its extension and its first lines", CONTENT, False)]


def _by_signature(options: argparse.Namespace, context: Context) -> int:
    """List the layouts and open formats with a signature that agrees with some bytes, as far as both go."""
    try:
        wanted = bytes.fromhex(options.signature)
    except ValueError:
        wanted = b""
    if not wanted or options.path:
        raise UsageError(
            f"{shown(options.signature)} is not bytes in hex, or goes with no path", "pairs of digits, such as 4b575031"
        )
    layouts = [
        (layout.title, f"layout {layout.file}, at {known.at.offset:#x}: {value.hex(' ')}")
        for layout in context.library().every()
        for known in layout.known
        for value in known.values
        if known.at.fixed and value[: len(wanted)] == wanted[: len(value)]
    ]
    open_types = [
        (kind.name, f"open file type, at {offset:#x}: {mark.hex(' ')}")
        for kind in all_types()
        for mark, offset in kind.signatures
        if mark[: len(wanted)] == wanted[: len(mark)]
    ]
    found = [*layouts, *open_types]
    if options.json:
        context.json({"format": name, "signature": where} for name, where in found)
    for name, where in found if not options.json else ():
        context.print(f"{context.paint(shown(name), 'bold')}  {shown(where)}")
    if not found and not options.json:
        context.print("no known format begins so")
    return Status.OK if found else Status.DIFFERS


def _record(identified: Identified) -> dict[str, object]:
    return {
        "path": identified.path,
        "size": identified.size,
        "text": round(identified.text, 3),
        "entropy": [round(value, 2) for value in identified.entropy],
        "guesses": [
            {
                "title": g.title,
                "by": g.by,
                "why": g.why,
                "sure": g.sure,
                "opens": g.opens,
                "entries": g.entries,
                "fault": g.fault or None,
            }
            for g in identified.guesses
        ],
        "inside": [{"offset": f.offset, "type": f.kind, "size": f.size, "holds": f.holds} for f in identified.finds],
        "xor": [key.hex() for key in identified.keys],
    }


def _print(identified: Identified, context: Context) -> None:
    context.print(f"{context.paint(shown(identified.path), 'blue')}  {number(identified.size)} bytes")
    opens = any(guess.opens for guess in identified.guesses)
    for guess in identified.guesses:
        if guess.fault and opens:  # something else explains the file
            continue
        mark = context.paint("opens", "green") if guess.opens else "     "
        entries = f", {count(guess.entries, 'entry', 'entries')}" if guess.entries is not None else ""
        context.print(f"  {mark}  {context.paint(guess.title, 'bold')}{entries}: by {guess.by}: {guess.why}")
        if guess.fault:
            context.print(f"         {context.paint('but', 'yellow')} {guess.fault}")
    if not identified.guesses:
        context.print("  unknown format")
    if not identified.known:
        _print_bytes(identified, context)
    context.print()


def _print_bytes(identified: Identified, context: Context) -> None:
    for pairs, characters in hex_lines(identified.head[:HEX]):
        context.print(f"  {pairs}")
        if characters:
            context.print(f"  {context.paint(characters, 'cyan')}")
    if identified.entropy:
        strip = "".join(BARS[min(8, round(value))] for value in identified.entropy)
        low, high = min(identified.entropy), max(identified.entropy)
        context.print(
            f"  {'entropy':>8}  {context.paint(strip, 'cyan')}  {_range(low, high)} bits a byte: {_meaning(identified)}"
        )
    context.print(f"  {'text':>8}  {identified.text:.0%} of its bytes are printable")
    for key in identified.keys[:KEYS]:
        context.print(
            f"  {'key':>8}  {key.hex(' ')}  {context.paint(readable(key), 'cyan')}  XOR key of "
            f"{count(len(key), 'byte')}: behind it is text or a known format"
        )
    for found in identified.finds[:FOUND]:
        size = f"{number(found.size)} bytes" if found.size is not None else "of unknown size"
        holds = f", holds {number(found.holds)}" if found.holds is not None else ""
        context.print(f"  {context.paint(f'{found.offset:#x}'.rjust(8), 'dim')}  {found.kind}, {size}{holds}")
    if len(identified.finds) > FOUND:
        context.print(
            context.paint(
                f"{'':10}and {len(identified.finds) - FOUND:,} more inside: --save-found DIR takes them out", "dim"
            )
        )


def _range(low: float, high: float) -> str:
    return f"{low:.1f}" if f"{low:.1f}" == f"{high:.1f}" else f"{low:.1f} to {high:.1f}"


def _meaning(identified: Identified) -> str:
    low, high = min(identified.entropy), max(identified.entropy)
    if low > 7.5:
        return "compressed or encrypted throughout"
    if high > 7.5:
        return "some parts compressed or encrypted"
    return "neither compressed nor encrypted" if high < 6.5 else "mixed"


def _carve(source: Source, found: Identified, folder: Path, context: Context) -> None:
    """Take out what was found inside; nothing that is there is overwritten."""
    taken = 0
    with Outputs(context.disk, hint="an empty folder") as out:
        for find in found.finds:
            if find.size is None:
                continue
            with out.file(folder / f"at-{find.offset:#x}.{find.kind}") as file:
                for chunk in source.chunks(find.offset, find.size):
                    context.disk.write(file, chunk)
            taken += 1
    context.print(
        f"{count(taken, 'file')} taken out to {folder}"
        + (f"; {len(found.finds) - taken} without a size left" if taken < len(found.finds) else "")
    )


def _draw(source: Source, target: Path, context: Context) -> None:
    from volvex.command.ui.plot import draw

    with new_file(context.disk, target, hint="another name") as file:
        draw(source, file)
    context.print(f"the entropy along {shown(source.name)} is drawn in {target}")
