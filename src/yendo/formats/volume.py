"""What a volume of any file system holds: files with owner, mode, size, and where in the volume their bytes lie."""

from __future__ import annotations

from typing import BinaryIO, Literal, Protocol

import msgspec

from yendo.errors import Unreadable
from yendo.formats.slices import ReadOnly, at

MAX_ITEMS = 500_000
HOLE = -1
Extents = tuple[tuple[int, int], ...]


class VolumeItem(msgspec.Struct, frozen=True):
    """Something on a volume: ``path`` without a slash in front. ``places`` are (first block, blocks) of its content.

    ``number`` is the file system's own for it where the content is found by that.
    """

    path: str
    kind: Literal["file", "folder", "link", "packed"]
    mode: int
    user: int
    group: int
    size: int = 0
    places: Extents = ()
    number: int = 0


class Volume(Protocol):
    """A volume in an open file, read-only."""

    @property
    def label(self) -> str: ...

    def items(self) -> list[VolumeItem]:
        """Everything on it, in the order of the paths; what the system keeps for itself is left out."""
        ...

    def open(self, item: VolumeItem) -> BinaryIO:
        """A file's content, or the path that a link leads to. Raises Unreadable while it is read."""
        ...


class VolumeContent(ReadOnly):
    """A file's bytes, block by block; a place at HOLE is all zeros."""

    def __init__(self, file: BinaryIO, start: int, block: int, places: Extents, size: int) -> None:
        super().__init__(size)
        self._file, self._start, self._block, self._places = file, start, block, places

    def read(self, size: int | None = -1) -> bytes:
        left, out, where = self.wanted(size), bytearray(), 0
        for first, count in self._places:
            length = count * self._block
            if left and where <= self._at < where + length:
                inside = self._at - where
                wanted = min(left, length - inside)
                data = bytes(wanted) if first == HOLE else self._bytes(first, inside, wanted)
                out += data
                self._at += wanted
                left -= wanted
            where += length
        if left:
            raise Unreadable("a file is longer than its blocks")
        return bytes(out)

    def _bytes(self, first: int, inside: int, wanted: int) -> bytes:
        data = at(self._file, self._start + first * self._block + inside, wanted)
        if len(data) < wanted:
            raise Unreadable("the volume ends in the middle of a file")
        return data


def is_name(name: str) -> bool:
    """Whether a name can be a path's part; those of the system's own begin with a character that none has."""
    return name not in ("", ".", "..") and "\0" not in name
