"""The sizes of content where no field stores them: they are known when it is decoded."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np

from volvex.codec import COMPRESS
from volvex.errors import VolvexError
from volvex.layout.columns import Array
from volvex.layout.read.blocks import Reading
from volvex.layout.read.facts import key_facts
from volvex.layout.transforms import ciphers_of, decrypted, made_codec

MOST = 1 << 36  # bytes of one content


def decoded_sizes(reading: Reading) -> Array:
    """The bytes of each content, found by decoding it once; of one that is damaged, its stored size."""
    of, transforms = reading.entries, reading.layout.content.transforms
    assert of is not None
    plain = {transform: made_codec(transform) for transform in transforms if not transform.derived}

    def size(row: int) -> int:
        start, stored, number = int(of.start[row]), int(of.stored[row]), int(of.codec[row])
        if not stored or number < 0 or of.codecs[number] == "none":
            return stored
        codec: Any = COMPRESS.get(of.codecs[number])
        chunks = reading.content_source.chunks(start, stored)
        if transforms:
            chunks = decrypted(chunks, ciphers_of(transforms, key_facts(reading, row), plain))
        try:
            return int(codec.content_size(chunks, MOST))
        except VolvexError:
            return stored  # reading it tells what is wrong

    with ThreadPoolExecutor() as threads:  # the libraries let others run while they decode
        return np.fromiter(threads.map(size, range(len(of))), np.int64, len(of))
