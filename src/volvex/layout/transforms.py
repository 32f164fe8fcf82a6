"""Through what parts and contents go: ciphers and compressions around their bytes, both directions side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from volvex.codec import CHECKSUM, CIPHER, COMPRESS, Cipher
from volvex.codec.parameters import Spec, Value
from volvex.errors import ContentError, LockedError, UsageError
from volvex.layout.keyring import Key, KeyRing
from volvex.layout.model import Block, Derived, Expression, Layout, Named, Number, Part, Transform, When

INNER = 1 << 28  # bytes that a wrapped part may hold when nothing tells how many
STEP = 1 << 20


@dataclass(frozen=True)
class KeyFacts:
    """What a key may come from: an entry's name as it is stored, where it starts, its sizes, its number, and fields of
    its record."""

    name: bytes
    start: int
    size: int
    stored: int
    number: int = 0
    fields: Mapping[str, tuple[int, int] | bytes] = field(default_factory=dict)  # bytes, or a number and its bits
    ask: Callable[[Expression], int | bytes] = lambda expression: 1
    holds: Callable[[When], bool] = lambda when: True
    frame: Cipher | None = None  # what stands around its content


def with_keys(layout: Layout, keys: KeyRing) -> Layout:
    """The layout with the user's secrets in the place of the keys that it names; LockedError when one is missing."""
    transforms = [*layout.content.transforms, *(transform for part in layout.parts for transform in part.transforms)]
    if not any(transform.named for transform in transforms):
        return layout
    content = replace(
        layout.content, transforms=tuple(_keyed(transform, keys) for transform in layout.content.transforms)
    )
    parts = tuple(
        replace(part, transforms=tuple(_keyed(transform, keys) for transform in part.transforms))
        for part in layout.parts
    )
    return replace(layout, content=content, parts=parts)


def _keyed(transform: Transform, keys: KeyRing) -> Transform:
    given = tuple(
        (name, Secret(_fitting(transform, name, keys.named(value.name))) if isinstance(value, Named) else value)
        for name, value in transform.given
    )
    return replace(transform, given=given)


def tried(transform: Transform) -> Transform:
    """The wrap with any bytes that fit in the place of keys that it names, to find out whether all else is right."""

    def stand_in(name: str) -> bytes:
        wanted = CIPHER.parameters(transform.name).get(name)
        return bytes(wanted.sizes[0] if wanted is not None and wanted.sizes else 16)

    given = tuple(
        (name, stand_in(name) if isinstance(value, Named) or is_expression(value) else value)
        for name, value in transform.given
    )
    return replace(transform, given=given)


def is_expression(value: object) -> bool:
    """Whether a key is an expression, and of no single entry."""
    return isinstance(value, Derived) and value.value is not None


def settled_keys(part: Part, ask: Callable[[Expression], int | bytes]) -> Part:
    """A part with the values of the expressions in the place of the keys that are some."""
    facts = KeyFacts(b"", 0, 0, 0, ask=ask)

    def settled(transform: Transform) -> Transform:
        given = tuple(
            (name, derived_key(value, facts) if isinstance(value, Derived) and value.value is not None else value)
            for name, value in transform.given
        )
        return replace(transform, given=given)

    return replace(part, transforms=tuple(map(settled, part.transforms)))


class Secret(bytes):
    """A secret that shows itself nowhere."""

    def __repr__(self) -> str:
        return "a secret"


def _fitting(transform: Transform, parameter: str, key: Key) -> bytes:
    """The secret in a form that the cipher takes: as it is, or without stray blanks around it."""
    wanted = CIPHER.parameters(transform.name)[parameter]
    for secret in (key.secret, key.bare):
        if not wanted.problem(secret):
            return secret
    raise LockedError(
        f"the key {key.name} has {len(key.secret)} bytes, {transform.name} takes {wanted.problem(key.secret)}",
        f"`volvex keys add {key.name}` with the right one",
    )


def is_cipher(transform: Transform) -> bool:
    """Whether a wrap is a cipher, rather than a compression."""
    return transform.name in CIPHER


def keeps_size(transform: Transform) -> bool:
    """Whether what goes through it stays as long as it was, whatever length that is."""
    of_entry = any(not is_expression(derived) for derived in transform.derived)
    return is_cipher(transform) and not of_entry and int(made_codec(tried(transform)).unit) == 1


def made_codec(transform: Transform, attributes: KeyFacts | None = None) -> Any:
    """The codec of a wrap; what it takes from an entry is taken from `attributes`."""
    given: list[tuple[str, Value]] = []
    for name, value in transform.given:
        if isinstance(value, Derived):
            assert attributes is not None
            given.append((name, derived_key(value, attributes)))
        else:
            assert not isinstance(value, Named)  # `with_keys` has seen to that
            given.append((name, value))
    spec = Spec(transform.name, tuple(given))
    return CIPHER.make(spec) if is_cipher(transform) else COMPRESS.make(spec)


def derived_key(of: Derived, attributes: KeyFacts) -> bytes:
    """The bytes of a key that comes from what is known of an entry."""
    names = {"name": attributes.name, "lower name": attributes.name.lower(), "upper name": attributes.name.upper()}
    numbers = {
        "start": attributes.start,
        "size": attributes.size,
        "stored": attributes.stored,
        "number": attributes.number,
    }
    if of.value is not None:
        asked = attributes.ask(of.value)
        return (asked or b"\0") if isinstance(asked, bytes) else _key_number(of, asked, 32)
    if of.field:
        value = attributes.fields.get(of.field, (1, 32))
        if isinstance(value, bytes):
            return value or b"\0"
        return _key_number(of, *value)
    if of.what not in (names if of.algorithm else {**names, **numbers}):
        known = ", ".join((*names, *numbers))
        raise UsageError(f"a key cannot come from {of.what}", f"one of {known}, or a hash such as crc32 of name")
    if of.algorithm:
        total = CHECKSUM.get(of.algorithm)
        made = total.new()
        made.update(names[of.what])
        if total.bits > 64:  # a digest is bytes already
            return made.value().to_bytes(total.bits // 8, "big")
        number, width = made.value(), total.bits
    elif of.what in names:
        return names[of.what] or b"\0"
    else:
        number, width = numbers[of.what], 32
    return _key_number(of, number, width)


def _key_number(of: Derived, number: int, width: int) -> bytes:
    """A number as the bytes of a key, of `width` bits when the layout gives no type."""
    if any(change.how == "from" for change in of.changes):
        raise UsageError(
            "a key's number is changed by x, plus or xor, and counts from nowhere", "leaving `from ... of` out"
        )
    for change in of.changes:
        number = change.apply(number)
    kind = of.number or Number(width, False, False)
    return (number % (1 << kind.bits)).to_bytes(kind.size, "big" if kind.big else "little")


def decrypted(chunks: Iterable[bytes], ciphers: Sequence[Cipher]) -> Iterator[bytes]:
    """Bytes without their ciphers, the outermost of which comes first."""
    for cipher in ciphers:
        chunks = _through(cipher.decrypt(), chunks)
    return iter(chunks)


def encrypted(chunks: Iterable[bytes], ciphers: Sequence[Cipher]) -> Iterator[bytes]:
    """Bytes with their ciphers, the outermost of which comes last."""
    for cipher in reversed(ciphers):
        chunks = _through(cipher.encrypt(), chunks)
    return iter(chunks)


def _through(transform: Any, chunks: Iterable[bytes]) -> Iterator[bytes]:
    for chunk in chunks:
        out = transform.update(chunk)
        if out:
            yield out
    last = transform.finish()
    if last:
        yield last


def wrap_of(block: Block) -> Part:
    """The wrap of each group of a block, as that of a part."""
    return Part(block.name, None, block.transforms, 1, 0, block.place)


def unwrapped(part: Part, chunks: Iterable[bytes], size: int | None, most: int = INNER) -> Iterator[bytes]:
    """What a part holds, from its stored bytes. ContentError when they are damaged; `size` when that is told, otherwise
    at `most`.

    With several compressions, or without a size, the whole is held in memory for a moment.
    """
    compressions = [transform for transform in part.transforms if not is_cipher(transform)]
    for transform in part.transforms:
        codec = made_codec(transform)
        if is_cipher(transform):
            chunks = _through(codec.decrypt(), chunks)
        elif transform is compressions[-1] and size is not None:
            padded = any(is_cipher(transform) and made_codec(transform).pads for transform in part.transforms)
            chunks = _opened(codec, chunks, size) if padded else codec.decode_stream(chunks, size)
        else:
            chunks = iter([_whole(codec, b"".join(chunks), part, most)])
    return _bounded(chunks, part, size, most)


def _opened(codec: Any, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
    """Content behind which there may be a cipher's padding."""
    data: bytes = codec.decode_start(b"".join(chunks), size)
    if len(data) != size:
        raise ContentError(f"{len(data)} bytes, expected {size}")
    yield data


def _whole(codec: Any, stored: bytes, part: Part, most: int) -> bytes:
    data: bytes = codec.decode_start(stored, most + 1)
    if len(data) > most:
        raise ContentError(f"{part.name} holds more than {most:,} bytes")
    return data


def _bounded(chunks: Iterable[bytes], part: Part, size: int | None, most: int) -> Iterator[bytes]:
    """Exactly `size` bytes when it is told: what a cipher's padding adds is cut off."""
    left = most if size is None else size
    for chunk in chunks:
        if len(chunk) > left and size is None:
            raise ContentError(f"{part.name} holds more than {most:,} bytes")
        yield chunk[:left]
        left -= min(left, len(chunk))
    if size is not None and left:
        raise ContentError(f"{part.name} decodes to {size - left} bytes, expected {size}")


def wrapped(part: Part, chunks: Iterable[bytes]) -> Iterator[bytes]:
    """The stored bytes of a part from its content."""
    for transform in reversed(part.transforms):
        codec = made_codec(transform)
        chunks = _through(codec.encrypt(), chunks) if is_cipher(transform) else codec.encode_stream(chunks)
    return iter(chunks)


def ciphers_of(transforms: Sequence[Transform], attributes: KeyFacts, made: Mapping[Transform, Cipher]) -> list[Cipher]:
    """The ciphers of an entry's content; those that are the same for all entries are `made` already."""
    around = [] if attributes.frame is None else [attributes.frame]
    return around + [
        made[transform] if transform in made else made_codec(transform, attributes)
        for transform in transforms
        if transform.when is None or attributes.holds(transform.when)
    ]
