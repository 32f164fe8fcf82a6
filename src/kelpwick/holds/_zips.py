"""ZIP archives as the game writes and reads them: plain ones by Python's zipfile, and the old cipher, which that cannot
write."""

from __future__ import annotations

import io
import random
import struct
import zipfile
import zlib
from collections.abc import Mapping

from kelpwick import GameError

TIME = (2026, 1, 15, 12, 0, 0)
LOCKED = 1  # the flag of an enciphered entry


def zipped(files: Mapping[str, bytes]) -> bytes:
    """A plain archive, the same bytes each time."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in files.items():
            info = zipfile.ZipInfo(name, TIME)
            info.compress_type, info.create_system, info.external_attr = zipfile.ZIP_DEFLATED, 0, 0
            made.writestr(info, data)
    return out.getvalue()


def locked(files: Mapping[str, bytes], password: bytes, rng: random.Random) -> bytes:
    """An archive whose entries are enciphered in the traditional way."""
    body, directory = b"", b""
    date = ((TIME[0] - 1980) << 9 | TIME[1] << 5 | TIME[2]) << 16 | TIME[3] << 11 | TIME[4] << 5
    for name, data in files.items():
        raw, crc = name.encode(), zlib.crc32(data)
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        bare = rng.randbytes(11) + bytes([crc >> 24]) + packer.compress(data) + packer.flush()
        attributes = struct.pack("<HHHIIIIHH", 20, LOCKED, 8, date, crc, len(bare), len(data), len(raw), 0)
        directory += (
            b"PK\x01\x02" + struct.pack("<H", 20) + attributes + struct.pack("<HHHII", 0, 0, 0, 0, len(body)) + raw
        )
        body += b"PK\x03\x04" + attributes + raw + _enciphered(bare, password)
    end = struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, len(files), len(files), len(directory), len(body), 0)
    return body + directory + end


def _enciphered(bare: bytes, password: bytes) -> bytes:
    keys, out = [0x12345678, 0x23456789, 0x34567890], bytearray()
    for byte in password:
        _stir(keys, byte)
    for byte in bare:
        mixed = keys[2] & 0xFFFF | 2
        out.append(byte ^ (mixed * (mixed ^ 1) >> 8 & 255))
        _stir(keys, byte)
    return bytes(out)


def _stir(keys: list[int], byte: int) -> None:
    keys[0] = _crc(keys[0], byte)
    keys[1] = ((keys[1] + (keys[0] & 255)) * 134775813 + 1) & 0xFFFFFFFF
    keys[2] = _crc(keys[2], keys[1] >> 24)


def _crc(value: int, byte: int) -> int:
    return zlib.crc32(bytes([byte]), value ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def unzipped(data: bytes, own: str, password: bytes | None = None) -> dict[str, bytes]:
    """Every entry, its checksum checked; GameError when one is damaged, or is not locked as it must be."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            for info in archive.infolist():
                if bool(info.flag_bits & LOCKED) != (password is not None):
                    raise GameError(f"{own}: {info.filename} is {'not ' if password else ''}locked")
            return {info.filename: archive.read(info, password) for info in archive.infolist() if not info.is_dir()}
    except (zipfile.BadZipFile, RuntimeError, zlib.error, NotImplementedError, EOFError) as error:
        raise GameError(f"{own}: {error}") from error
