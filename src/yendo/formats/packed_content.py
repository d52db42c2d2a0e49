"""Files that a file system of macOS keeps packed: a small head, and pieces beside it or in the resource fork.

Source: how open readers describe it; held against files that macOS packed. Pieces by LZFSE and LZVN need a library.
"""

from __future__ import annotations

import io
import struct
import zlib
from importlib import import_module
from typing import BinaryIO, cast

from yendo.errors import NotCovered, Unreadable
from yendo.formats.slices import ReadOnly, at

HEAD = "com.apple.decmpfs"
PIECE, MAX_PIECES = 1 << 16, 1 << 20
_ZLIB, _LZVN, _PLAIN, _LZFSE = (3, 4), (7, 8), (9, 10), (11, 12)
_IN_FORK = (4, 8, 10, 12)
# the first byte of a piece that could not be packed
_AS_IT_IS = {3: 0x0F, 4: 0x0F, 7: 0x06, 8: 0x06, 9: 0xCC, 10: 0xCC, 11: 0xFF, 12: 0xFF}


def size_of(head: bytes) -> int:
    """The size of the file in bytes, unpacked; 0 for no such head."""
    return int(struct.unpack_from("<Q", head, 8)[0]) if len(head) >= 16 and head[:4] == b"fpmc" else 0


def is_known(head: bytes) -> bool:
    return len(head) >= 16 and head[:4] == b"fpmc" and struct.unpack_from("<I", head, 4)[0] in _AS_IT_IS


def in_memory(data: bytes) -> BinaryIO:
    return io.BytesIO(data)


def opened(head: bytes, fork: BinaryIO) -> BinaryIO:
    """The file itself. Raises Unreadable, NotCovered."""
    if not is_known(head):
        raise NotCovered("a file is packed by the file system itself in a way that is not read")
    return cast(BinaryIO, _Packed(head, fork))


class _Packed(ReadOnly):
    """Unpacked piece by piece, the last one kept."""

    def __init__(self, head: bytes, fork: BinaryIO) -> None:
        super().__init__(size_of(head))
        self._kind = int(struct.unpack_from("<I", head, 4)[0])
        count = -(-self._size // PIECE)
        if count > MAX_PIECES:
            raise Unreadable(f"a packed file of {self._size} bytes")
        self._fork, self._head = fork, head
        self._pieces = self._table(count) if self._kind in _IN_FORK else []
        if self._kind not in _IN_FORK and self._size > PIECE:
            raise Unreadable("a packed file is larger than its head can hold")
        self._last: tuple[int, bytes] = (-1, b"")

    def _table(self, count: int) -> list[tuple[int, int]]:
        """Where each piece lies in the fork, and how long it is."""
        if self._kind in _ZLIB:
            (start,) = struct.unpack_from(">I", at(self._fork, 0, 16).ljust(4, b"\0"))
            data = at(self._fork, start + 8, 8 * count)
            if len(data) < 8 * count:
                raise Unreadable("a packed file without a list of its pieces")
            pairs = [struct.unpack_from("<II", data, 8 * number) for number in range(count)]
            return [(start + 4 + offset, size) for offset, size in pairs]
        data = at(self._fork, 0, 4 * (count + 1))
        if len(data) < 4 * (count + 1):
            raise Unreadable("a packed file without a list of its pieces")
        offsets = struct.unpack(f"<{count + 1}I", data)
        return [(first, max(offsets[number + 1] - first, 0)) for number, first in enumerate(offsets[:-1])]

    def read(self, size: int | None = -1) -> bytes:
        left, out = self.wanted(size), bytearray()
        while left:
            number, inside = divmod(self._at, PIECE)
            data = self._piece(number)[inside : inside + left]
            if not data:
                raise Unreadable("a packed file ends before its size")
            out += data
            self._at += len(data)
            left -= len(data)
        return bytes(out)

    def _piece(self, number: int) -> bytes:
        if self._last[0] != number:
            if self._pieces:
                place, length = self._pieces[number]
                if length > 4 * PIECE:
                    raise Unreadable(f"a packed piece of {length} bytes")
                packed = at(self._fork, place, length)
            else:
                packed = self._head[16:]
            self._last = (number, self._unpacked(packed, min(PIECE, self._size - number * PIECE)))
        return self._last[1]

    def _unpacked(self, data: bytes, size: int) -> bytes:
        if data and (data[0] == _AS_IT_IS[self._kind] or (self._kind in _ZLIB and data[0] & 0xF == 0xF)):
            return data[1 : 1 + size]
        if self._kind in _PLAIN:
            return data[:size]
        if self._kind in _ZLIB:
            try:
                return zlib.decompressobj().decompress(data, size)
            except zlib.error as error:
                raise Unreadable(f"a packed piece is damaged: {error}") from error
        if self._kind in _LZVN:  # as a stream of the other kind that holds one block of this one
            data = struct.pack("<4sII", b"bvxn", size, len(data)) + data + b"bvx$"
        return lzfse(data)[:size]


def lzfse(data: bytes) -> bytes:
    """Raises NotCovered where the library is not there, Unreadable for what it cannot read."""
    try:
        library = import_module("liblzfse")
    except ImportError as error:
        raise NotCovered("this is packed with LZFSE: pip install pyliblzfse (it is compiled)") from error
    try:
        return bytes(library.decompress(data))
    except library.error as error:
        raise Unreadable(f"a piece packed with LZFSE is damaged: {error}") from error
