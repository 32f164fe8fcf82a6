"""Entries of ZIP archives that need a password: the traditional cipher, and the AES form (APPNOTE 6.3.10, 6.1; the AE-1
and AE-2 specification: PBKDF2 with SHA-1, 1000 rounds, a salt, two bytes to check the password by, ten bytes of HMAC
behind)."""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from volvex.codec import CIPHER, Cipher
from volvex.codec.parameters import Spec
from volvex.layout.transforms import decrypted, encrypted

CLASSIC, AE = 1, 2
CLASSIC_HEAD, VERIFIER, MAC = 12, 2, 10
STRENGTHS = {1: 16, 2: 24, 3: 32}  # the key's bytes; the salt has half as many
ROUNDS = 1000
FIRST = (1).to_bytes(16, "little")


@dataclass(frozen=True)
class Lock:
    """How an entry is locked: the kind, for AES the strength and the version (2 leaves the CRC out)."""

    kind: int
    strength: int = 0
    version: int = 1

    @property
    def head(self) -> int:
        """Bytes in front of the content."""
        return CLASSIC_HEAD if self.kind == CLASSIC else STRENGTHS[self.strength] // 2 + VERIFIER

    @property
    def tail(self) -> int:
        """Bytes behind it."""
        return 0 if self.kind == CLASSIC else MAC


def suits(lock: Lock, head: bytes, check: int, secret: bytes) -> bool:
    """Whether a password opens an entry with such a head; `check` is the byte that tells for the traditional cipher."""
    if not secret:
        return False
    if lock.kind == CLASSIC:
        return b"".join(decrypted([head], [_classic(secret)]))[-1] == check
    return _derived(lock, head[:-VERIFIER], secret)[2] == head[-VERIFIER:]


def _classic(secret: bytes) -> Cipher:
    return CIPHER.make(Spec("zip_classic", (("key", secret),)))


def _derived(lock: Lock, salt: bytes, secret: bytes) -> tuple[bytes, bytes, bytes]:
    """The cipher's key, the HMAC's key, the bytes to check by."""
    size = STRENGTHS[lock.strength]
    made = hashlib.pbkdf2_hmac("sha1", secret, salt, ROUNDS, 2 * size + VERIFIER)
    return made[:size], made[size : 2 * size], made[2 * size :]


class Unheaded:
    """The traditional cipher with its head already gone through."""

    unit, pads = 1, False

    def __init__(self, secret: bytes, head: bytes) -> None:
        self._secret, self._head = secret, head

    def decrypt(self) -> Any:
        made = _classic(self._secret).decrypt()
        made.update(self._head)
        return made

    def encrypt(self) -> Any:
        raise NotImplementedError("locked with `locked`, which makes the head")


def opener(lock: Lock, head: bytes, secret: bytes) -> tuple[Cipher, Any]:
    """The cipher that opens an entry's content, and what adds up its HMAC (None for the traditional cipher)."""
    if lock.kind == CLASSIC:
        return Unheaded(secret, head), None
    key, checksum, _ = _derived(lock, head[:-VERIFIER], secret)
    return _counter(key), hmac.new(checksum, digestmod="sha1")


def _counter(key: bytes) -> Cipher:
    return CIPHER.make(Spec("aes_ctr", (("key", key), ("iv", FIRST), ("lowest", "first"))))


def locked(lock: Lock, chunks: Iterable[bytes], secret: bytes, crc: int, check: int) -> Iterator[bytes]:
    """Content as it is stored under a lock, with head and tail.

    The salt is made from the password and the content's CRC: the same content gives the same bytes, and nobody learns
    from it what the password is.
    """
    seed = hmac.new(secret, b"volvex salt" + crc.to_bytes(4, "little"), "sha256").digest()
    if lock.kind == CLASSIC:
        head = seed[: CLASSIC_HEAD - 1] + bytes([check])
        yield from encrypted(_before(head, chunks), [_classic(secret)])
        return
    salt = seed[: STRENGTHS[lock.strength] // 2]
    key, checksum, verifier = _derived(lock, salt, secret)
    yield salt + verifier
    total = hmac.new(checksum, digestmod="sha1")
    for chunk in encrypted(chunks, [_counter(key)]):
        total.update(chunk)
        yield chunk
    yield total.digest()[:MAC]


def _before(head: bytes, chunks: Iterable[bytes]) -> Iterator[bytes]:
    yield head
    yield from chunks
