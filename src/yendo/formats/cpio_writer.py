"""Writes what flat packages carry their files in: cpio in its old text form under gzip.

Source: POSIX on ``cpio`` (octet-oriented); RFC 1951 and 1952. Read by ``cpio``, libarchive and 7-Zip in the tests.
Pieces are compressed side by side, each with the end of the one before as its dictionary, and make up one stream.
"""

from __future__ import annotations

import os
import zlib
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import BinaryIO

MAX_SIZE, MAX_PATH = 0o77777777777, 0o777777
_TYPES = {"file": 0o100000, "folder": 0o040000, "link": 0o120000}
_PIECE, _REMEMBERED = 1 << 20, 1 << 15


class CpioWriter:
    """Entries one after the other into ``stream``, a file that takes bytes."""

    def __init__(self, stream: PackedStream) -> None:
        self._stream, self._number = stream, 0

    def begin(self, path: str, kind: str, mode: int, user: int, group: int, size: int) -> None:
        """An entry's head; as many bytes as it says follow by ``content``. Raises ValueError where it has no form."""
        name = path.encode("utf-8", "surrogateescape") + b"\0"
        if size > MAX_SIZE:
            raise ValueError(f"{path} is larger than a package can hold (8 GB)")
        if len(name) > MAX_PATH or max(user, group) > 0o777777:
            raise ValueError(f"{path}: its name, or the number of its owner, is larger than a package can hold")
        self._number += 1
        links = 2 if kind == "folder" else 1
        fields = (0, self._number & 0o777777, _TYPES[kind] | mode, user, group, links, 0)
        head = b"070707" + b"".join(b"%06o" % field for field in fields)
        self._stream.write(head + b"%011o%06o%011o" % (0, len(name), size) + name)

    def content(self, data: bytes) -> None:
        self._stream.write(data)

    def end(self) -> None:
        fields = b"".join(b"%06o" % field for field in (0, 0, 0, 0, 0, 1, 0))
        self._stream.write(b"070707" + fields + b"%011o%06o%011o" % (0, 11, 0) + b"TRAILER!!!\0")


class PackedStream:
    """Compresses what is written into a file, on all processors; the same bytes whatever their number."""

    def __init__(self, file: BinaryIO, level: int = 6) -> None:
        self._file, self._level = file, level
        self._workers = max(1, os.cpu_count() or 1)
        self._pool = ThreadPoolExecutor(self._workers)
        self._waiting: deque[Future[bytes]] = deque()
        self._piece, self._before = bytearray(), b""
        self._check, self._length = 0, 0
        file.write(b"\x1f\x8b\x08" + bytes(5) + b"\x02\x03")

    def write(self, data: bytes) -> None:
        self._check = zlib.crc32(data, self._check)
        self._length += len(data)
        self._piece += data
        while len(self._piece) >= _PIECE:
            self._hand_over(bytes(self._piece[:_PIECE]), last=False)
            del self._piece[:_PIECE]

    def _hand_over(self, piece: bytes, *, last: bool) -> None:
        while len(self._waiting) > 2 * self._workers:
            self._file.write(self._waiting.popleft().result())
        self._waiting.append(self._pool.submit(_packed, piece, self._before, self._level, last))
        self._before = piece[-_REMEMBERED:]

    def close(self) -> None:
        """Ends the stream; the file stays open."""
        self._hand_over(bytes(self._piece), last=True)
        for made in self._waiting:
            self._file.write(made.result())
        self._file.write(self._check.to_bytes(4, "little") + (self._length & 0xFFFFFFFF).to_bytes(4, "little"))
        self.stop()

    def stop(self) -> None:
        """Lets go of the threads, also where it was not ended."""
        self._pool.shutdown(wait=True, cancel_futures=True)


def _packed(piece: bytes, before: bytes, level: int, last: bool) -> bytes:
    state = zlib.compressobj(level, zlib.DEFLATED, -15, 9, zlib.Z_DEFAULT_STRATEGY, before)
    return state.compress(piece) + state.flush(zlib.Z_FINISH if last else zlib.Z_SYNC_FLUSH)


def pieces(file: BinaryIO) -> Iterator[bytes]:
    """A file's content by the piece."""
    while piece := file.read(_PIECE):
        yield piece
