"""A part of a file as a file of its own, so that what lies within is read where it lies."""

from __future__ import annotations

import io
import tempfile
from typing import TYPE_CHECKING, BinaryIO, cast

if TYPE_CHECKING:  # the standard library has it from 3.12 on
    from typing_extensions import Buffer


SPOOLED = 32 << 20


class ReadOnly(io.RawIOBase):
    """A file that is put together from others. Who derives from it gives ``read``, which moves ``_at``."""

    def __init__(self, size: int) -> None:
        super().__init__()
        self._size, self._at = max(size, 0), 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = 0) -> int:
        self._at = max(0, offset + (0, self._at, self._size)[whence])
        return self._at

    def wanted(self, size: int | None) -> int:
        """How many bytes a call for ``size`` is to give."""
        left = max(self._size - self._at, 0)
        return left if size is None or size < 0 else min(size, left)

    def readinto(self, buffer: Buffer) -> int:
        view = memoryview(buffer).cast("B")
        data = self.read(len(view))
        view[: len(data)] = data
        return len(data)

    def __len__(self) -> int:
        return self._size


class Slice(ReadOnly):
    """The bytes ``start`` to ``start + size`` of ``file``, read-only.

    What the file itself does not have reads as its end.
    """

    def __init__(self, file: BinaryIO, start: int, size: int) -> None:
        super().__init__(size)
        self._file, self._start = file, start

    def read(self, size: int | None = -1) -> bytes:
        if not (wanted := self.wanted(size)):
            return b""
        self._file.seek(self._start + self._at)
        data = self._file.read(wanted)
        self._at += len(data)
        return data


def part_of(file: BinaryIO, start: int, size: int) -> BinaryIO:
    """The bytes ``start`` to ``start + size`` of a file, as a file: a Slice, under the type that files go by."""
    return cast(BinaryIO, Slice(file, start, size))


def spooled() -> BinaryIO:
    """A file to write into and read again: in memory as long as it is small, then in the temporary folder, unnamed."""
    return cast(BinaryIO, tempfile.SpooledTemporaryFile(max_size=SPOOLED))


def size_of(file: BinaryIO) -> int:
    """The size of an open file in bytes; its place stays as it was."""
    at = file.tell()
    end = file.seek(0, 2)
    file.seek(at)
    return end


def at(file: BinaryIO, offset: int, size: int) -> bytes:
    """``size`` bytes at ``offset``, or as many as there are."""
    file.seek(offset)
    return file.read(size)
