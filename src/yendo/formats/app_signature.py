"""The signature of a modern app package: what it states, how it is put in and taken out.

Source: the digests that a signature states, of the records of the files (AXPC), of the directory behind them as it is
without a signature (AXCD), of the list of types (AXCT) and of the block map (AXBM); as an independent signer computes
them.
"""

from __future__ import annotations

import hashlib
import struct
import zlib
from pathlib import Path
from typing import BinaryIO
from urllib.parse import unquote

from yendo.errors import Unreadable
from yendo.formats.app_manifest import BLOCK_MAP, SIGNATURE, TYPES
from yendo.formats.app_writer import LARGE, AppRecord, directory, put_plain, types_of
from yendo.formats.slices import at, size_of

_MOST = 64 << 20  # bytes of a directory


def digests(file: BinaryIO) -> bytes:
    """What a signature states of a package of ours that is to be signed: marks and digests. ``file`` is brought into
    the form that it has with one, whose place is the end. Raises Unreadable where it was not made here.
    """
    entries, start = _entries(file)
    if [entry.name.decode() for entry in entries[-2:]] != [BLOCK_MAP, TYPES]:
        raise Unreadable("the package was not made here: its block map and list of types do not stand last")
    names = [unquote(entry.name.decode()) for entry in entries[:-2]]
    types = types_of(names, signed=True).encode()
    block_map = _content(file, entries[-2])
    file.seek(entries[-1].offset)
    entries[-1] = put_plain(file, TYPES, types)
    start = file.tell()
    listed = directory(entries, start)
    file.write(listed)
    file.truncate()
    found = {
        b"AXPC": _hashed(file, start),
        b"AXCD": hashlib.sha256(listed).digest(),
        b"AXCT": hashlib.sha256(types).digest(),
        b"AXBM": hashlib.sha256(block_map).digest(),
    }
    return b"APPX" + b"".join(mark + value for mark, value in found.items())


def _hashed(file: BinaryIO, end: int) -> bytes:
    """SHA-256 of the file up to there."""
    state, left = hashlib.sha256(), end
    file.seek(0)
    while left and (piece := file.read(min(left, 1 << 20))):
        state.update(piece)
        left -= len(piece)
    return state.digest()


def put_signature(file: BinaryIO, message: bytes) -> None:
    """Puts a signature behind the files of a package whose ``digests`` it is over. Raises Unreadable."""
    entries, start = _entries(file)
    file.seek(start)
    entries.append(put_plain(file, SIGNATURE, b"PKCX" + message))
    end = file.tell()
    file.write(directory(entries, end))
    file.truncate()


def without_signature(file: BinaryIO) -> None:
    """Takes the signature out of a package of ours, if it has one. Raises Unreadable."""
    entries, _ = _entries(file)
    if entries and entries[-1].name.decode() == SIGNATURE:
        file.seek(entries[-1].offset)
        start = file.tell()
        file.write(directory(entries[:-1], start))
        file.truncate()


def _entries(file: BinaryIO) -> tuple[list[AppRecord], int]:
    """The directory of an archive of ours, and where it begins. Raises Unreadable."""
    size = size_of(file)
    tail = at(file, max(0, size - 22), 22)
    if tail[:4] != b"PK\x05\x06":
        raise Unreadable("the package was not made here: it does not end as ours do")
    count, _, start = struct.unpack_from("<HII", tail, 10)
    if start == LARGE or count == 0xFFFF:
        wide = at(file, size - 22 - 20 - 56, 56)
        if wide[:4] != b"PK\x06\x06":
            raise Unreadable("the package was not made here: it does not end as ours do")
        count, _, start = struct.unpack_from("<QQQ", wide, 32)
    listed = at(file, start, min(size - start, _MOST))
    found, place = [], 0
    for _ in range(count):
        if place + 46 > len(listed) or listed[place : place + 4] != b"PK\x01\x02":
            raise Unreadable("the package's directory is damaged")
        method = struct.unpack_from("<H", listed, place + 10)[0]
        crc, packed, whole, length, extra, comment = struct.unpack_from("<IIIHHH", listed, place + 16)
        offset = struct.unpack_from("<I", listed, place + 42)[0]
        name = listed[place + 46 : place + 46 + length]
        more = listed[place + 46 + length : place + 46 + length + extra]
        wide_at = 4
        numbers = []
        for number in (whole, packed, offset):
            if number == LARGE:
                if len(more) < wide_at + 8:
                    raise Unreadable("the package's directory is damaged")
                number = struct.unpack_from("<Q", more, wide_at)[0]
                wide_at += 8
            numbers.append(number)
        found.append(AppRecord(name, method, crc, numbers[1], numbers[0], numbers[2], 0))
        place += 46 + length + extra + comment
    return found, start


def _content(file: BinaryIO, entry: AppRecord) -> bytes:
    head = at(file, entry.offset, 30)
    if head[:4] != b"PK\x03\x04":
        raise Unreadable("the package's directory is damaged")
    name, extra = struct.unpack_from("<HH", head, 26)
    data = at(file, entry.offset + 30 + name + extra, entry.packed)
    return zlib.decompress(data, -15) if entry.method else data


def stated_of(path: Path) -> dict[str, bytes]:
    """AXPC and AXCD of a signed package, whoever made it, as they are without its signature; nothing where that does
    not stand last. Raises Unreadable.
    """
    with path.open("rb") as file:
        entries, start = _entries(file)
        last = max(entries, key=lambda one: one.offset, default=None)
        if last is None or last.name.decode("latin-1") != SIGNATURE:
            return {}
        rest = at(file, start, min(size_of(file) - start, _MOST))
        begin = 0
        for _ in range(entries.index(last)):
            begin += _length(rest, begin)
        taken = _length(rest, begin)
        found = bytearray(rest[:begin] + rest[begin + taken :])
        try:
            _counted_down(found, taken, last.offset)
        except struct.error as error:
            raise Unreadable(f"the end of the package's directory is damaged: {error}") from error
        return {"AXPC": _hashed(file, last.offset), "AXCD": hashlib.sha256(found).digest()}


def _length(listed: bytes, place: int) -> int:
    """The bytes of a file's entry in the directory."""
    name, extra, comment = struct.unpack_from("<HHH", listed, place + 28)
    return int(46 + name + extra + comment)


def _counted_down(found: bytearray, taken: int, start: int) -> None:
    """Makes the end of a directory one of an entry less, which begins where the signature lay."""
    end, wide = found.rfind(b"PK\x05\x06"), found.rfind(b"PK\x06\x06")
    here, whole, size, where = struct.unpack_from("<HHII", found, end + 8)
    few = [number if number == 0xFFFF else number - 1 for number in (here, whole)]
    size = size if size == LARGE else size - taken
    struct.pack_into("<HHII", found, end + 8, *few, size, LARGE if where == LARGE else start)
    locator = found.rfind(b"PK\x06\x07")
    if wide >= 0 and locator >= 0:
        here, whole, size, where = struct.unpack_from("<QQQQ", found, wide + 24)
        struct.pack_into("<QQQQ", found, wide + 24, here - 1, whole - 1, size - taken, start)
        struct.pack_into("<Q", found, locator + 8, start + wide)
