"""RC4 by the `cryptography` package; the first `skip` bytes of its stream are thrown away (RFC 6229)."""

from typing import Any

from volvex.codec.ciphers import Blockwise
from volvex.codec.parameters import Parameter

PARAMETERS = {"key": Parameter(sizes=(5, 7, 8, 10, 16, 20, 24, 32)), "skip": Parameter(0, numbers=(0, 1 << 20))}


def make(key: bytes, skip: int) -> Blockwise:
    from cryptography.hazmat.decrepit.ciphers.algorithms import ARC4
    from cryptography.hazmat.primitives.ciphers import Cipher

    def context() -> Any:
        made = Cipher(ARC4(key), mode=None).encryptor()
        made.update(bytes(skip))
        return made

    return Blockwise(1, "bare", context, context)
