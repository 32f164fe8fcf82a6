"""What in a text the game puts something else for: `{0}`, `{boat}`, `%s`, tags; they must be the same in every
language."""

from __future__ import annotations

import re
from collections import Counter

_FORM = re.compile(
    r"\{[^{}\s]*\}"  # {0} {boat} {amount:.1f}
    r"|%(?:\d+\$|\(\w+\))?[-+#0]*\d*(?:\.\d+)?[sdifuxXcegG]"  # %s %1$s %(boat)s %5.1f
    r"|%%"
    r"|</?[A-Za-z][^<>]*>"  # <b> </b> <br/>
    r"|\[/?[A-Za-z][\w=#-]*\]"  # [b] [/color]
    r"|\\[ntr]"  # a line end written as two characters
    r"|\$[A-Z_]+\$"
)


def placeholders(text: str) -> Counter[str]:
    """The placeholders of a text, each with how often it is there."""
    return Counter(_FORM.findall(text))


def difference(original: str, translation: str) -> tuple[list[str], list[str]]:
    """Placeholders that a translation lacks, and those that it has too many."""
    before, after = placeholders(original), placeholders(translation)
    return sorted((before - after).elements()), sorted((after - before).elements())
