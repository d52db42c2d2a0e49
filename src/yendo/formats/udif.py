"""Disk images of macOS (UDIF): what was packed piece by piece, read like the disk that it is of.

Source: no document of the maker's is public; the layout is the one that open readers agree on (a trailer ``koly``, a
property list with tables ``mish`` of pieces). Held against other readers of images that other writers made.
"""

from __future__ import annotations

import bz2
import lzma
import plistlib
import struct
import zlib
from bisect import bisect_right
from typing import Any, BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import packed_content
from yendo.formats.slices import ReadOnly, at, size_of

SECTOR = 512
MAX_LIST, MAX_PIECES, MAX_PIECE, MAX_DISK = 64 << 20, 1 << 20, 64 << 20, 1 << 50
_TRAILER, _TABLE = ">4sIIIQQQQQII16sII128sQQ", ">4sIQQQII24s136sI"
_ZERO, _RAW, _IGNORED, _ADC, _ZLIB, _BZIP2, _LZFSE, _LZMA = (
    0, 1, 2, 0x80000004, 0x80000005, 0x80000006, 0x80000007, 0x80000008,
)  # fmt: skip
PACKINGS = {_RAW: "none", _ADC: "ADC", _ZLIB: "zlib", _BZIP2: "bzip2", _LZFSE: "LZFSE", _LZMA: "LZMA"}
_COMMENT, _END = 0x7FFFFFFE, 0xFFFFFFFF


class ImagePiece(msgspec.Struct, frozen=True):
    """Some sectors of the disk, and where they lie packed; numbers are bytes."""

    start: int
    size: int
    kind: int
    offset: int
    packed: int


class Partition(msgspec.Struct, frozen=True):
    """A part of the disk by the name that the image gives it: ``disk image (Apple_HFS : 4)``."""

    name: str
    start: int
    size: int


def is_image(file: BinaryIO) -> bool:
    """Whether a file ends as such an image does."""
    size = size_of(file)
    return size >= SECTOR and at(file, size - SECTOR, 4) == b"koly"


class DiskImage(ReadOnly):
    """The disk inside an image, read-only. ``packings`` are the ways in which its pieces are packed.

    Raises Unreadable, and NotCovered for a packing that nothing here unpacks, once such a piece is read.
    """

    def __init__(self, file: BinaryIO, name: str = "the image") -> None:
        super().__init__(0)
        self._file, self.name = file, name
        size = size_of(file)
        trailer = at(file, size - SECTOR, SECTOR)
        if len(trailer) < SECTOR or trailer[:4] != b"koly":
            raise Unreadable(f"{name} is no disk image of macOS: it does not end like one")
        values = struct.unpack_from(_TRAILER, trailer)
        self._base, listed, length = values[5], values[15], values[16]
        if values[10] > 1:
            raise NotCovered(f"{name} is one of {values[10]} parts; put them together on a Mac")
        if not length or length > MAX_LIST or listed + length > size:
            raise Unreadable(f"{name}: its list of pieces lies outside it")
        self.licence, self.partitions, pieces = self._listed(at(file, listed, length), size)
        pieces.sort(key=lambda piece: piece.start)
        self._pieces = pieces
        self._starts = [piece.start for piece in pieces]
        self._size = max((piece.start + piece.size for piece in pieces), default=0)
        self.packings = tuple(sorted({PACKINGS[piece.kind] for piece in pieces if piece.kind in PACKINGS}))
        self._known: tuple[ImagePiece, bytes] | None = None

    def _listed(self, data: bytes, size: int) -> tuple[bool, list[Partition], list[ImagePiece]]:
        """Whether a licence is shown, the partitions, and all pieces."""
        try:
            found: Any = plistlib.loads(data, fmt=plistlib.FMT_XML)
            parts = found["resource-fork"]
            tables = [(str(one.get("Name") or one.get("CFName") or ""), bytes(one["Data"])) for one in parts["blkx"]]
            licence = any(kind in parts for kind in ("LPic", "STR#"))
        except Exception as error:  # the library lets through what its parser and its tables raise
            raise Unreadable(f"{self.name}: its list of pieces cannot be read: {error}") from error
        partitions, pieces = [], []
        for name, table in tables:
            try:
                mark, _, first, count, begin, _, _, _, _, number = struct.unpack_from(_TABLE, table)
                if mark != b"mish" or number > MAX_PIECES:
                    raise ValueError("no table of pieces")
                partitions.append(Partition(name, first * SECTOR, count * SECTOR))
                for entry in range(number):
                    kind, _, sector, sectors, offset, packed = struct.unpack_from(">IIQQQQ", table, 204 + 40 * entry)
                    if kind in (_COMMENT, _END) or not sectors:
                        continue
                    if sectors * SECTOR > MAX_PIECE and kind not in (_ZERO, _IGNORED, _RAW):
                        raise ValueError(f"a piece of {sectors * SECTOR} bytes")
                    where = (first + sector) * SECTOR
                    end = self._base + begin + offset + packed
                    if where + sectors * SECTOR > MAX_DISK or end > (size if packed else MAX_DISK):
                        raise ValueError("a piece lies outside")
                    pieces.append(ImagePiece(where, sectors * SECTOR, kind, self._base + begin + offset, packed))
            except (struct.error, ValueError) as error:
                raise Unreadable(f"{self.name}: {name or 'a table'} cannot be read: {error}") from error
        if len(pieces) > MAX_PIECES:
            raise Unreadable(f"{self.name} states {len(pieces)} pieces")
        return licence, partitions, pieces

    def read(self, size: int | None = -1) -> bytes:
        left, out = self.wanted(size), bytearray()
        while left:
            data = self._from(self._at, left)
            out += data
            self._at += len(data)
            left -= len(data)
        return bytes(out)

    def _from(self, where: int, most: int) -> bytes:
        """Some bytes of the disk, at least one; what no piece holds is empty."""
        index = bisect_right(self._starts, where) - 1
        piece = self._pieces[index] if index >= 0 else None
        if piece is None or where >= piece.start + piece.size:
            following = self._starts[index + 1] if index + 1 < len(self._starts) else self._size
            return bytes(min(most, following - where, 1 << 20))
        inside = where - piece.start
        most = min(most, piece.size - inside, 1 << 20)
        if piece.kind in (_ZERO, _IGNORED):
            return bytes(most)
        if piece.kind == _RAW:
            return at(self._file, piece.offset + inside, most).ljust(most, b"\0")
        if self._known is None or self._known[0] is not piece:
            self._known = piece, self._unpacked(piece)
        return self._known[1][inside : inside + most]

    def _unpacked(self, piece: ImagePiece) -> bytes:
        if piece.packed > 2 * MAX_PIECE:
            raise Unreadable(f"{self.name}: a piece of {piece.packed} bytes")
        data = at(self._file, piece.offset, piece.packed)
        try:
            if piece.kind == _ZLIB:
                out = zlib.decompressobj().decompress(data, piece.size)
            elif piece.kind == _BZIP2:
                out = bz2.BZ2Decompressor().decompress(data, piece.size)
            elif piece.kind == _LZMA:
                out = lzma.LZMADecompressor(memlimit=256 << 20).decompress(data, piece.size)
            elif piece.kind == _LZFSE:
                out = packed_content.lzfse(data)
            else:
                packing = PACKINGS.get(piece.kind, f"0x{piece.kind:x}")
                raise NotCovered(f"{self.name} is packed with {packing}, which nothing here unpacks")
        except (zlib.error, OSError, EOFError, lzma.LZMAError, ValueError, RuntimeError) as error:
            raise Unreadable(f"{self.name}: a piece is damaged: {error}") from error
        if len(out) < piece.size:
            raise Unreadable(f"{self.name}: a piece has {len(out)} of {piece.size} bytes")
        return out[: piece.size]
