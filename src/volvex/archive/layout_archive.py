"""Archives that are read by a layout."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from volvex.archive.archive import Archive, Check
from volvex.archive.attribute_text import attribute_text
from volvex.archive.safe_names import shown
from volvex.codec import CHECKSUM, COMPRESS, Checksum, Cipher, Compression
from volvex.codec.samples.heads import Head
from volvex.errors import FormatError, RefusedError, VolvexError
from volvex.layout.checksums import checksum_text, stored_checksum
from volvex.layout.columns import Array
from volvex.layout.expression import sums_over_content
from volvex.layout.kinds import archive as attributes
from volvex.layout.kinds.sound import ENCODING
from volvex.layout.model import Attribute, Computed, Field, Number, Opaque
from volvex.layout.name_hash import KEYS, UNNAMED, Keying, Names
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.facts import key_facts
from volvex.layout.read.names import endings_of, key_columns, marked, unmarked, variants_of
from volvex.layout.read.open import read
from volvex.layout.transforms import ciphers_of, decrypted, made_codec
from volvex.layout.volumes import volume_name
from volvex.layout.write.plan import BLANK, Edit, NewContent, Plan
from volvex.source import Beside, Source, Spool, WindowSource

if TYPE_CHECKING:
    from volvex.archive.sound_bank import SoundBank
    from volvex.layout.inspect.proof import Proof


@dataclass(frozen=True)
class _Checksumed:
    """A checksum of each entry: its field, what it covers, how it is computed, and all its values."""

    block: BlockRead
    field: Field
    part: str
    checksum: Checksum
    column: Array


class _ChecksumCheck:
    """One entry's checksum, being verified."""

    def __init__(self, archive: LayoutArchive, row: int, summed: _Checksumed) -> None:
        self._archive, self._row, self._summed = archive, row, summed
        self._total = summed.checksum.new()
        self.stored = summed.part == "stored content"

    def update(self, data: bytes) -> None:
        self._total.update(data)

    def finish(self) -> None:
        if isinstance(self._summed.field.meaning, Computed):
            from volvex.layout.read.compared import compare_content_sum  # few layouts have expressions

            compare_content_sum(self._archive.reading, self._summed.block, self._summed.field, self._row, self._total)
            return
        field, row, archive = self._summed.field, self._row, self._archive
        number, value = stored_checksum(field, self._summed.column, row), self._total.value()
        if number != value:
            block = self._summed.block
            raise FormatError(
                archive.source.name,
                f"{shown(archive.names[row])}: its {field.words} is {checksum_text(field, value)}, the file stores "
                f"{checksum_text(field, number)}",
                offset=block.offset(row, field.name),
                field=block.where(row, field.name),
                hint="a fresh copy of the file: this entry is damaged",
            )


def _bank_of(reading: Reading) -> SoundBank | None:
    """The bank of sounds that a file is; None when its layout describes none."""
    if not reading.layout.content.sounds and reading.attribute(ENCODING) is None:
        return None
    from volvex.archive.sound_bank import SoundBank

    return SoundBank(reading)


class LayoutArchive(Archive):
    """An archive whose directory was read by a layout."""

    takes_blank = takes_order = True

    def __init__(self, reading: Reading, names: Names | None = None) -> None:
        super().__init__()
        self._names = names
        assert reading.entries is not None
        self.reading, self.layout = reading, reading.original
        self.source, self.entries, self.title = reading.source, reading.entries, reading.original.title
        self.bank = _bank_of(reading)
        if self.bank is not None:
            self.entries = self.bank.entries()
            self.takes_blank = False  # nothing would say how its samples are encoded
        self._wraps = reading.layout.content.transforms
        self._plain = {transform: made_codec(transform) for transform in self._wraps if not transform.derived}
        self.padded = any(("tail", "zeros") in transform.given for transform in self._wraps)
        self._checksums = [
            _Checksumed(block, field, meaning.part, CHECKSUM.get(meaning.algorithm), block.numbers(field.name))
            for block, field, meaning in reading.content_checksums()
        ]
        for block in reading.entry_blocks():
            for field in block.block.fields:
                if isinstance(field.meaning, Computed):
                    for algorithm, part in sums_over_content(field.meaning.value):
                        own = _Checksumed(block, field, part, CHECKSUM.get(algorithm), np.zeros(0))
                        self._checksums.append(own)

    def close(self) -> None:
        self.reading.close()

    # how entries are read

    @property
    def stored_source(self) -> Source:
        return self.reading.content_source

    @property
    def codec_labels(self) -> list[str]:
        """Without their parameters, behind the ciphers around them."""
        ciphers = [transform.name for transform in self._wraps]
        bare = [name.partition("(")[0] for name in self.entries.codecs]
        return [", ".join([*ciphers, *([name] if name != "none" or not ciphers else [])]) for name in bare]

    def ciphers(self, row: int) -> Sequence[Cipher]:
        """Their keys may come from what is known of the entry."""
        if not self._wraps and self.entries.framed is None:
            return ()
        attributes = key_facts(self.reading, row)
        return ciphers_of(self._wraps, attributes, self._plain)

    def refusal(self, row: int) -> str:
        end = int(self.entries.start[row]) + int(self.entries.stored[row])
        lost = end > self.reading.content_source.size and bool(self.entries.stored[row])
        return "it lies behind the end of the file, which is cut off" if lost else ""

    def checks(self, row: int) -> list[Check]:
        own: list[Check] = [_ChecksumCheck(self, row, summed) for summed in self._checksums]
        if self.reading.entries is None or self.reading.entries.framed is None:
            return own
        from volvex.archive.frame_checks import frame_checks  # few layouts have such records

        return own + frame_checks(self.reading, row)

    def compression(self, row: int) -> Compression:
        name = self._stored_codec(row)
        if name == "?":
            found = self.reading.attribute("codec of content")
            assert found is not None
            block, field = found
            number = int(block.numbers(field.name)[row])
            raise FormatError(
                self.source.name,
                f"{number} is not a codec of the layout",
                offset=block.offset(row, field.name),
                field=block.where(row, field.name),
                hint="another layout, or adding the number to its table",
            )
        facts = self.bank.facts(row) if self.bank is not None else None
        if self.bank is None or facts is None:
            return COMPRESS.get(name)
        assert self.reading.entries is not None
        from volvex.archive.sound_bank import BankCodec

        return BankCodec(COMPRESS.get(name), int(self.reading.entries.size[row]), self.bank, facts)

    def sound(self, row: int) -> Head | None:
        """What the directory gives of an entry that is bare samples; None of others."""
        facts = self.bank.facts(row) if self.bank is not None else None
        if facts is None:
            return None
        return Head(facts.rate, facts.channels, facts.frames, facts.samples.encoding.name)

    def _stored_codec(self, row: int) -> str:
        """The codec of an entry's stored bytes, whatever they are when they are decoded."""
        assert self.reading.entries is not None
        index = int(self.reading.entries.codec[row])
        return self.reading.entries.codecs[index] if index >= 0 else "?"

    # names

    @functools.cached_property
    def keying(self) -> Keying | None:
        """How keys are made of paths; None when the archive has names, or nobody knows how."""
        return Keying.of(self.layout) if self.entries.nameless else None

    @functools.cached_property
    def keys(self) -> list[Array]:
        """The keys of all entries, a column (uint64) for each kind of key, in the order of `keying`."""
        return [column for what in KEYS for column, _ in key_columns(self.reading, what)]

    @functools.cached_property
    def candidates(self) -> dict[int, list[str]]:
        """All known paths that have the key of an entry, by row."""
        if self._names is None or not self.entries.nameless or not self.keys:
            return {}
        return self._names.match(self.layout, self.keying, self.keys)

    @functools.cached_property
    def known(self) -> dict[int, str]:
        """One path for a key; of several that whose extension is what the content is."""
        found = {}
        for row, names in self.candidates.items():
            if len(names) > 1:
                text = self.extension(row)
                names = [name for name in names if text and name.lower().endswith(f".{text}")]
            if len(names) == 1:
                found[row] = names[0]
        return found

    @functools.cached_property
    def variants(self) -> list[str] | None:
        return variants_of(self.reading)

    @functools.cached_property
    def _by_key(self) -> dict[str, list[int]]:
        """The entries by what stands for their names."""
        found: dict[str, list[int]] = {}
        for row, raw in enumerate(self.entries.names.raws()):
            found.setdefault(raw.decode("ascii", "replace"), []).append(row)
        return found

    def rows_of(self, name: str) -> list[int]:
        rows = super().rows_of(name)
        if rows or not self.entries.nameless:
            return rows
        try:
            key, variant = unmarked(self.encode_name(name).decode(), set(self.variants or ()))
        except (VolvexError, UnicodeError):
            return []
        return [row for row in self._by_key.get(key, ()) if not variant or (self.variants or ())[row] == variant]

    def encode_name(self, name: str) -> bytes:
        """Where there are only keys: the key that a path has, or that stands in its place; behind it the variant's
        mark."""
        if not self.entries.nameless:
            return super().encode_name(name)
        bare, variant = unmarked(name, set(self.variants or ()))
        if bare.startswith(f"{UNNAMED}/"):
            key = bare.removeprefix(f"{UNNAMED}/").partition(".")[0]
        elif self.keying is not None:
            key = self.keying.text(bare)
        else:
            key = bare.partition(".")[0]
        return marked(key, variant).encode("ascii", "replace")

    @functools.cached_property
    def _extensions(self) -> list[str] | None:
        return endings_of(self.reading)

    def extension(self, row: int) -> str:
        return self._extensions[row] if self._extensions is not None else super().extension(row)

    def columns(self) -> Iterator[tuple[str, Array]]:
        """When and whose an entry is, and the numbers that nobody knows."""
        for block in self.reading.entry_blocks():
            for field in block.block.fields:
                what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
                if what in (*attributes.TIMES, *attributes.OWNERS):
                    numbers = self.reading.decode_numbers(block, field).tolist()
                    yield field.name, np.array([*(attribute_text(what, number) for number in numbers), None])[:-1]
                if isinstance(field.meaning, Opaque) and isinstance(field.type, Number):
                    yield field.name, block.numbers(field.name)

    # how they are written

    def _codec_for(self, row: int) -> str:
        """The codec in which new content is stored: the entry's own, or the first of the layout."""
        from volvex.layout.write.blank import blank_codec

        codec = blank_codec(self.reading) if row == BLANK else self._stored_codec(row)
        assert self.reading.entries is not None
        if self.reading.layout.content.differing:
            return self.reading.entries.codecs[-1]
        return self.reading.entries.codecs[0] if codec == "?" else codec

    def encode(self, spool: Spool, chunks: Iterable[bytes], like: int) -> NewContent:
        if self.bank is None:
            return self.encode_as(spool, chunks, self._codec_for(like))
        raw = self.samples(like) if self.bank.facts(like) is not None else None
        samples, facts = self.bank.encoded(b"".join(chunks), like, raw)
        return replace(self.encode_as(spool, [samples], self._codec_for(like)), facts=facts)

    def varied(self, row: int, how: str, number: int = 0) -> bytes:
        facts = self.bank.facts(row) if self.bank is not None else None
        return super().varied(row, how, number) if facts is None else facts.varied(self.content(row), how, number)

    def as_read_back(self, content: bytes, row: int) -> bytes:
        if self.bank is None or self.bank.facts(row) is None:
            return content
        return self.bank.read_back(content, row, self.samples(row))

    def samples(self, row: int) -> bytes:
        """The samples of an entry of a bank, as they are stored but for codecs and ciphers."""
        start, stored = self.place(row)
        data = self.stored_source.read(start, stored) if stored else b""
        if ciphers := self.ciphers(row):
            data = b"".join(decrypted([data], ciphers))
        assert self.reading.entries is not None
        size = int(self.reading.entries.size[row])
        return COMPRESS.get(self._stored_codec(row)).decode_start(data, size) if data else b""

    def encode_as(self, spool: Spool, chunks: Iterable[bytes], codec: str) -> NewContent:
        size = 0
        checksums = {
            (algorithm, part): CHECKSUM.get(algorithm).new() for algorithm, part in self.reading.content_sums()
        }

        def update(part: str, data: bytes) -> None:
            for key in checksums:
                if key[1] == part:
                    checksums[key].update(data)

        def counted() -> Iterator[bytes]:
            nonlocal size
            for chunk in chunks:
                size += len(chunk)
                update("content", chunk)
                yield chunk

        def summed() -> Iterator[bytes]:
            for out in COMPRESS.get(codec).encode_stream(counted()):
                update("stored content", out)
                yield out

        offset, length = spool.append(summed())
        if length >= size and codec != "none" and self.reading.layout.content.differing:
            # bare where packing does not make it smaller: sizes that are equal mean that anyway
            bare = b"".join(COMPRESS.get(codec).decode_stream(spool.chunks(offset, length), size))
            return self.encode_as(spool, [bare], "none")
        return NewContent(spool, offset, length, size, codec, {key: total.value() for key, total in checksums.items()})

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        from volvex.layout.write.checks import require_writable
        from volvex.layout.write.planner import plan  # not needed for looking

        require_writable(self.layout)
        if self.reading.counted and (edit.added or edit.removed):
            raise RefusedError(
                f"the entries of {self.source.name} have no names and are counted: none can be added or left out",
                "changing what they hold",
            )
        return plan(self.reading, edit, each, folder, pinned)

    def extent(self) -> int:
        reading, entries = self.reading, self.entries
        ends = [block.end for block in reading.blocks.values() if not block.block.within]
        ends += [area.start + area.stored for area in reading.areas.values()]
        if not reading.layout.content.within and not reading.volumes and len(entries):
            ends.append(int((entries.start + entries.stored).max()))
        return min(self.source.size, max(ends))

    def check_overlaps(self) -> None:
        """Contents that overlap by half; sharing whole contents is allowed."""
        from volvex.layout.write.planner import plan

        try:
            plan(self.reading, Edit())
        except FormatError as error:
            if "overlaps" in error.problem:
                raise

    def reopened(self, source: Source, beside: Beside | None = None) -> LayoutArchive:
        own = {volume.name: volume.source for volume in self.reading.volumes}

        def find(name: str) -> Source | None:
            found = beside(name) if beside is not None else None
            if found is None and name in own:
                found = WindowSource(own[name], 0, own[name].size, own[name].name)  # closing it leaves ours open
            return found

        return LayoutArchive(read(self.layout, source, find), self._names)

    @property
    def kept_beside(self) -> tuple[str, ...]:
        return (*super().kept_beside, *(volume.name for volume in self.reading.volumes))

    def names_beside(self, own: str) -> dict[str, str]:
        pattern = self.reading.layout.content.volumes
        volumes = {volume.name: volume_name(pattern, own, volume.number) for volume in self.reading.volumes}
        return super().names_beside(own) | volumes

    def sources_beside(self) -> dict[str, Source]:
        return {volume.name: volume.source for volume in self.reading.volumes}

    def prove(self, on_progress: Callable[[int], None] = lambda size: None) -> Proof:
        from volvex.layout.inspect.proof import prove  # not needed for looking

        return prove(self.reading, on_progress)

    def fresh_name(self, like: int) -> bytes:
        from volvex.layout.write.names import fresh_name

        return fresh_name(self.reading, like)
