"""What all modes share: attempts, and bytes changed by chance."""

from __future__ import annotations

import random
import struct
from collections.abc import Callable
from dataclasses import dataclass

ABSURD = (0, 1, 0x7F, 0x80, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 1 << 63, (1 << 64) - 1)
TEXTS = (
    b"\0",
    b"\xff",
    b"\xed\xa0\x80",
    b"\xe2\x80\xa8",
    b"\r",
    b"=1+1",
    b"'",
    b'"',
    b"&e;",
    b"]]>",
    b"<a/>",
    b"9" * 400,
    b"-",
    b"[",
    b"{",
    b"\\ud800",
    b"../../x",
    b"a" * 3000,
    b"\xc2\x85",
    b"%",
    b",",
    b";",
    b"\t",
)


@dataclass(frozen=True)
class Attempt:
    """Something to be tried: what it is called, the bytes that it is made of, and how it is done; it gives what went
    wrong."""

    name: str
    data: bytes
    run: Callable[[], str | None]


def mutate(rng: random.Random, data: bytes) -> bytes:
    """The bytes with a few things changed: flipped, set to an absurd number, cut, doubled, swapped."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        if not out:
            return b""
        at = rng.randrange(len(out)) if rng.random() < 0.5 else min(len(out) - 1, int(rng.expovariate(0.03)))
        kind = rng.randrange(6)
        if kind == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif kind == 1:
            size = rng.choice((1, 2, 4, 8))
            out[at : at + size] = struct.pack(rng.choice("<>") + "Q", rng.choice(ABSURD))[:size]
        elif kind == 2:
            del out[at : at + rng.randint(1, 64)]
        elif kind == 3:
            out[at:at] = out[at : at + rng.randint(1, 64)]
        elif kind == 4:
            out[at] = rng.randrange(256)
        else:
            end = rng.randrange(len(out))
            out[at : at + 4], out[end : end + 4] = out[end : end + 4], out[at : at + 4]
    return bytes(out)


def mutate_text(rng: random.Random, data: bytes) -> bytes:
    """The same for text: words doubled, taken from elsewhere, or put in that mean something to some reader."""
    if rng.random() < 0.3:
        return mutate(rng, data)
    out = bytearray(data)
    for _ in range(rng.randint(1, 3)):
        if not out:
            return b""
        at, size = rng.randrange(len(out)), rng.randint(1, 40)
        kind = rng.randrange(4)
        if kind == 0:
            out[at:at] = rng.choice(TEXTS)
        elif kind == 1:
            out[at : at + size] = rng.choice(TEXTS)
        elif kind == 2:
            other = rng.randrange(len(out))
            out[at : at + size] = out[other : other + rng.randint(1, 40)]
        else:
            out[at:at] = out[at : at + size] * rng.randint(1, 30)
    return bytes(out)
