"""AES by the `cryptography` package, which is loaded when a cipher is made (FIPS 197, NIST SP 800-38A)."""

from typing import Any

from volvex.codec.ciphers import Blockwise
from volvex.codec.parameters import Parameter

KEY = Parameter(sizes=(16, 24, 32))
IV = Parameter(bytes(16), sizes=(16,))


def aes(key: bytes, mode: str, tail: str, *start: bytes) -> Blockwise:
    """AES in a mode of that package."""
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    def cipher() -> Any:
        return Cipher(algorithms.AES(key), getattr(modes, mode)(*start))

    return Blockwise(1 if mode == "CTR" else 16, tail, lambda: cipher().decryptor(), lambda: cipher().encryptor())
