"""The layout language: one description that reads a format and writes it back.

A layout never says how to compute a number, only what it is: a *constant*, a *measurement* of a part,
an *attribute* of an entry, a *checksum*, or *kept*. That is why it works both ways. The one rule that must
hold: what is read and written again without a change is the same, byte for byte.

    text --language--> model --language/check--> sound model --records--> generated code --read--> Reading
                                                                          Reading + Edit --write--> Plan --> bytes
"""

from volvex.layout.library import Library
from volvex.layout.model import Layout

__all__ = ["Layout", "Library"]
