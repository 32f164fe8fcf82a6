"""The layout of a drawn format, as its author would write it."""

from __future__ import annotations

from benchmarks.formats.draw import Format, Item

NAMES = {"u8": "text u8", "u16": "text u16", "zero": "text zero", "fixed": "text 64", "pool": "u32"}


def layout_of(made: Format) -> str:
    """The text of the layout."""
    lines = [f'layout "format {made.seed}" kind archive', f"{'big' if made.big else 'little'} endian"]
    size = len(made.mark) + sum(item.size for item in made.head)
    place = f"end - {size}" if made.foot else "0"
    lines += [f"known by hex {made.mark.hex(' ')} at {place}", "", f"block head at {place}"]
    lines.append(f"    mark  {len(made.mark)} bytes  is hex {made.mark.hex(' ')}")
    lines += [f"    {item.name}  u{8 * item.size}{_head(made, item)}" for item in made.head]
    home = "table"
    if made.wrap:
        place = " after head" if made.placed == "after" else ""
        key = {
            "xor": f"xor(key hex {made.wrap_key:02x})",
            "zlib": "zlib",
            "seed": f"xor(key from (head.seed + {made.wrap_key}) u32)",
        }[made.wrap]
        lines += ["", f"part index{place} wrapped in {key}"]
        lines.append("block table in index at 0 repeats" + _sorting(made))
        home = "index"
    else:
        place = " after head" if made.placed == "after" else ""
        align = f" align {made.row_align} fill {made.fill:02x}" if made.row_align > 1 else ""
        lines += ["", f"block table{place} repeats{_sorting(made)}{align}"]
    split = made.form == "arrays" and made.names != "pool"
    for item in made.record:
        if item.kind != "name":
            lines.append(f"    {item.name}  {_type(item)}{_record(made, item, home)}")
        elif not split:
            meaning = "start of name" if made.names == "pool" else "name"
            lines.append(f"    name  {_name(made)}  {meaning}")
    if made.form == "inline":
        lines.append("    data  bytes  content")
    if split:
        lines += ["", "block titles after table repeats with table", f"    name  {_name(made)}  name"]
    if made.names == "pool":
        lines += ["", "block pool after table repeats", "    text  text zero  names"]
    lines += ["", *_content(made)]
    around = []
    for name, items in (("local", made.local), ("last", made.last)):
        if items:
            lines += ["", f"record {name}", *(f"    {item.name}  {_around(made, item)}" for item in items)]
            around.append(f"{'headed' if name == 'local' else 'ended'} by {name}")
    lines += ["", f"content {' '.join(around)}"] if around else []
    lines += [
        f"count of table reads as head.more - head.less * {item.by}" for item in made.head if item.kind == "count more"
    ]
    if made.file_align > 1:
        lines.append(f"file align {made.file_align}")
    return "\n".join(lines) + "\n"


def _around(made: Format, item: Item) -> str:
    if item.kind == "own name":
        return f"text u8{' in utf-16' if made.wide else ''}  is name"
    return f"u{8 * item.size}  " + {
        "const": f"is {item.by}",
        "size": "is size of content",
        "stored": "is stored size of content",
        "own start": "is start of content",
        "number": f"is number of record + {item.by}",
        "sum": f"is {item.sum} of content" + (f" xor {item.by:#x}" if item.by else ""),
    }.get(item.kind, "kept")


def _type(item: Item) -> str:
    return {
        "varint": "varint",
        "digits": "digits 8",
        "hexadecimal": f"digits {2 * item.size} hexadecimal",
    }.get(item.form, f"u{8 * item.size}")


def _name(made: Format) -> str:
    return NAMES[made.names] + (" in utf-16" if made.wide else "")


def _sorting(made: Format) -> str:
    return f" sorted by {made.order}" if made.order else ""


def _head(made: Format, item: Item) -> str:
    home = "index" if made.wrap else "table"
    changed = f" xor {item.by:#x}" if item.by else ""
    return {
        "count": f"{f' minus {item.by}' if item.by else ''}  count of table",
        "both": f"  is count of table * {item.by} + {len(made.mark)}",
        "count more": f"  is count of table + less * {item.by}",
        "length table": f"  length of {home}",
        "end table": "  end of table",
        "stored table": "  stored length of index",
        "start table": f"{f' plus {item.by}' if item.by else ''}  start of {home}",
        "start contents": "  start of contents",
        "length pool": "  length of pool",
        "file": f"{f' plus {item.by}' if item.by else ''}  length of file",
        "file units": f"  is length of file / {item.by}",
        "total": "  is total of table.size",
        "largest": "  is largest of table.size",
        "first": "  is table.size at 0",
        "sum table": f"{changed}  {item.sum} of {home}",
        "sum head": "  crc32 of head",
        "const": f"  is {item.by}",
    }.get(item.kind, "  kept")


def _record(made: Format, item: Item, home: str) -> str:
    when = "  when flags has 1" if item.flag else ""
    changed = f" xor {item.by:#x}" if item.by else ""
    if item.kind == "start":
        base = {"": "", "contents": " from start of contents", "table": " from end of table"}[made.base]
        unit = f" x {made.unit}" if made.unit > 1 else ""
        return f"{changed}{unit}{base}  start of content"
    if item.kind == "sum" and not item.form:
        return f"  is {item.sum} of {item.of}{changed}{when}" if item.by else f"  {item.sum} of {item.of}{when}"
    if item.kind in ("sum", "name sum"):
        return f"  is {item.sum} of {item.of}{changed}"
    return {
        "size": "  size of content",
        "stored": "  stored size of content",
        "codec": "  codec of content { 0 none, 1 zlib }",
        "number": f"  is number of record + {item.by}",
        "gap": "  is (start of content - previous (end of content)) mod 0x100000000",
        "units": f"  is (size of content + {item.by - 1}) / {item.by}",
        "length": f"  is length of {item.of} + {item.by}",
        "const": f"  is {item.by}",
    }.get(item.kind, "  kept") + when


def _content(made: Format) -> list[str]:
    said = ["content"]
    if made.tight and made.form != "inline":
        said.append("in order")
    if made.align > 1:
        said.append(f"align {made.align} fill {made.fill:02x}")
    if made.codec and made.codec != "table":
        said.append("as zlib when sizes differ" if made.codec == "differ" else f"as {made.codec}")
    key = _key(made)
    if key and made.ciphered == "all":
        said.append(f"wrapped in xor({key})")
    lines = [" ".join(said)] if len(said) > 1 else []
    if key and made.ciphered == "flag":
        lines.append(f"content when flags has 1 wrapped in xor({key})")
    return lines


def _key(made: Format) -> str:
    raw = made.cipher_key.to_bytes(4, "big" if made.big else "little")
    return {
        "": "",
        "const": f"key hex {raw.hex(' ')}",
        "number": f"key from ({made.cipher_key} + number of record * 7) u32",
        "size": f"key from ({made.cipher_key} xor size of content) u32",
        "seed": "key from (head.seed + number of record) u32",
        "name": "key from name",
    }[made.cipher]
