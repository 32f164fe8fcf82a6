"""Run-length: a byte and how often it follows, in one of three forms.

signed  a byte n: up to 127 it means n + 1 bytes that stand for themselves, from 129 on one byte 257 - n times
        (the form that pictures and disk images have used since the 1980s); 128 means nothing
high    a byte n: with its highest bit one byte (n & 127) + 1 times, without it n + 1 bytes for themselves
marked  bytes stand for themselves but for `mark`, after which come a count and a byte; a count of 0 is the mark itself
"""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled, as_array
from volvex.codec.parameters import Parameter
from volvex.codec.whole import WholeContent

FORMS = ("signed", "high", "marked")
PARAMETERS = {"form": Parameter("signed", words=FORMS), "mark": Parameter(0x90, numbers=(0, 255))}


@Compiled
def _decode(data: Any, out: Any, form: int, mark: int) -> Any:
    at = made = 0
    while at < len(data) and made < len(out):
        control = np.int64(data[at])
        at += 1
        if form == 2:
            if control != mark:
                out[made] = control
                made += 1
                continue
            if at >= len(data):
                return made, at - 1
            count = np.int64(data[at])
            at += 1
            if count == 0:
                out[made] = mark
                made += 1
                continue
            repeats: Any = True
        elif form == 0:
            if control == 128:
                continue
            repeats = control > 128
            count = 257 - control if repeats else control + 1
        else:
            repeats = control >= 128
            count = (control & 127) + 1
        if at + (1 if repeats else count) > len(data):
            return made, at
        if made + count > len(out):
            return -1, at
        for _ in range(count):
            out[made] = data[at]
            made += 1
            if not repeats:
                at += 1
        if repeats:
            at += 1
    return made, at


@Compiled
def _encode(data: Any, out: Any, form: int, mark: int) -> int:
    at = made = 0
    longest = 255 if form == 2 else 128
    while at < len(data):
        run = 1
        while run < longest and at + run < len(data) and data[at + run] == data[at]:
            run += 1
        if form == 2:
            if run > 3 or (data[at] == mark and run > 1):
                out[made], out[made + 1], out[made + 2] = mark, run, data[at]
                made, at = made + 3, at + run
            elif data[at] == mark:
                out[made], out[made + 1] = mark, 0
                made, at = made + 2, at + 1
            else:
                out[made] = data[at]
                made, at = made + 1, at + 1
            continue
        if run >= 3:
            out[made] = 257 - run if form == 0 else 128 + run - 1
            out[made + 1] = data[at]
            made, at = made + 2, at + run
            continue
        first = at
        while at < len(data) and at - first < 128:
            if at + 2 < len(data) and data[at] == data[at + 1] and data[at] == data[at + 2]:
                break
            at += 1
        out[made] = at - first - 1
        made += 1
        for place in range(first, at):
            out[made] = data[place]
            made += 1
    return made


def make(form: str, mark: int) -> WholeContent:
    number = FORMS.index(form)

    def decode(stored: bytes, size: int) -> tuple[bytes, int]:
        out = np.empty(min(size, len(stored) * 255), np.uint8)
        made, used = _decode(as_array(stored), out, number, mark)
        return (b"", 0) if made < 0 else (out[:made].tobytes(), used)

    def encode(content: bytes) -> bytes:
        out = np.empty(len(content) * 2 + 2, np.uint8)
        return out[: _encode(as_array(content), out, number, mark)].tobytes()

    return WholeContent("run-length stream", decode, encode)
