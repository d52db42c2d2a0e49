"""What flat packages carry their files in: cpio in its two text forms, under gzip, bzip2, xz or in chunks (pbzx).

Source: the published descriptions of the forms; archives by cpio and libarchive hold the reading
(``tests/test_mac_packages.py``). The chunked form has no other writer here: it was made by ours, after its published
description.
"""

from __future__ import annotations

import bz2
import io
import lzma
import struct
import zlib
from collections.abc import Iterator
from typing import BinaryIO, Protocol

import msgspec

from yendo.errors import Unreadable

MAX_ENTRIES, MAX_NAME, PIECE = 1_000_000, 4_096, 1 << 18
_CHUNKED = b"pbzx"
MAX_CHUNK = 64 << 20


class CpioEntry(msgspec.Struct, frozen=True):
    """``mode`` has the type in its upper bits; ``target`` is where a link leads; ``size`` in bytes."""

    path: str
    mode: int
    user: int
    group: int
    size: int
    links: int
    inode: int
    target: str = ""

    @property
    def kind(self) -> str:
        return {0o040000: "folder", 0o100000: "file", 0o120000: "link"}.get(self.mode & 0o170000, "other")


class _Decompressor(Protocol):
    @property
    def eof(self) -> bool: ...

    def decompress(self, data: bytes, max_length: int, /) -> bytes: ...


class _Stream:
    """The bytes of a packed stream, a piece at a time and none of them copied without need. Raises Unreadable."""

    def __init__(self, source: BinaryIO) -> None:
        self._pieces = _pieces(source)
        self._left, self._at = b"", 0

    def pieces(self, count: int) -> Iterator[bytes]:
        """So many bytes, or as many as there are."""
        while count > 0 and (there := self._there()):
            taken = min(count, there)
            piece = self._left if taken == len(self._left) else self._left[self._at : self._at + taken]
            self._at += taken  # before it is handed out: nobody has to ask for more
            count -= taken
            yield piece

    def read(self, count: int) -> bytes:
        return b"".join(self.pieces(count))

    def skip(self, count: int) -> int:
        """Passes over so many bytes; how many were missing."""
        while count > 0 and (there := self._there()):
            taken = min(count, there)
            self._at += taken
            count -= taken
        return count

    def _there(self) -> int:
        """How many bytes are at hand; none at the end."""
        while self._at == len(self._left):
            piece = next(self._pieces, None)
            if piece is None:
                return 0
            self._left, self._at = piece, 0
        return len(self._left) - self._at


def _pieces(source: BinaryIO) -> Iterator[bytes]:
    head = source.read(6)
    source.seek(-len(head), 1)
    if head.startswith(_CHUNKED):
        yield from _chunks(source)
        return
    try:
        if head.startswith(b"\x1f\x8b"):
            yield from _inflated(source)
        elif head.startswith(b"BZh"):
            yield from _all(source, bz2.BZ2Decompressor())
        elif head.startswith(b"\xfd7zXZ"):
            yield from _all(source, lzma.LZMADecompressor(memlimit=256 << 20))
        else:
            while piece := source.read(PIECE):
                yield piece
    except (OSError, EOFError, lzma.LZMAError, zlib.error) as error:
        raise Unreadable(f"it cannot be unpacked: {error}") from error


def _inflated(source: BinaryIO) -> Iterator[bytes]:
    state = zlib.decompressobj(31)
    while not state.eof and (piece := source.read(PIECE)):
        while data := state.decompress(piece, PIECE):  # some may be left where all that was given is taken
            yield data
            piece = state.unconsumed_tail


def _all(source: BinaryIO, state: _Decompressor) -> Iterator[bytes]:
    while not state.eof and (piece := source.read(PIECE)):
        yield state.decompress(piece, PIECE)
        while not state.eof and (more := state.decompress(b"", PIECE)):
            yield more


def _chunks(source: BinaryIO) -> Iterator[bytes]:
    """Chunks, each packed as xz or as it is; the flags of one say whether another comes."""
    head = source.read(12)
    if len(head) < 12:
        raise Unreadable("it is cut off")
    (flags,) = struct.unpack(">Q", head[4:])
    while flags & (1 << 24):
        head = source.read(16)
        if not head:
            return
        if len(head) < 16:
            raise Unreadable("it is cut off")
        flags, length = struct.unpack(">QQ", head)
        if length > MAX_CHUNK:
            raise Unreadable(f"a chunk of {length} bytes is larger than any ({MAX_CHUNK})")
        data = source.read(length)
        if len(data) < length:
            raise Unreadable("it is cut off")
        if data.startswith(b"\xfd7zXZ"):
            try:
                yield from _all(io.BytesIO(data), lzma.LZMADecompressor(memlimit=256 << 20))
            except (lzma.LZMAError, EOFError) as error:
                raise Unreadable(f"a chunk cannot be unpacked: {error}") from error
        else:
            yield data


def walk(source: BinaryIO, most: int = 0) -> Iterator[tuple[CpioEntry, bytes]]:
    """What a payload holds, in its order, with the content of files of up to ``most`` bytes; else it is passed over.

    ``source`` is seekable, and is read once. Raises Unreadable.
    """
    for entry, content in contents(source):
        if entry.kind == "link":
            yield entry, entry.target.encode("utf-8", "surrogateescape")
        else:
            yield entry, b"".join(content) if entry.size <= most else b""


def contents(source: BinaryIO) -> Iterator[tuple[CpioEntry, Iterator[bytes]]]:
    """The same with every content by the piece, to be read before the next entry, or not at all. Raises Unreadable."""
    stream = _Stream(source)
    for count in range(MAX_ENTRIES + 1):
        magic = stream.read(6)
        if count == MAX_ENTRIES:
            raise Unreadable(f"it has more than {MAX_ENTRIES} entries")
        if not magic and count == 0:
            return
        if magic not in (b"070707", b"070701", b"070702"):
            raise Unreadable(f"no entry of an archive begins with {magic.hex(' ') or 'nothing'}")
        entry, padding = (_old if magic == b"070707" else _new)(stream)
        if entry.path == "TRAILER!!!":
            return
        if entry.kind == "link" and entry.size <= MAX_NAME:
            target = _exactly(stream, entry.size).decode("utf-8", "surrogateescape")
            yield msgspec.structs.replace(entry, target=target), iter(())
        else:
            content = _Content(stream, entry)
            yield entry, content
            content.pass_over()
        _exactly(stream, padding)


def entries(source: BinaryIO) -> Iterator[CpioEntry]:
    """The same without contents."""
    for entry, _ in walk(source):
        yield entry


def _old(stream: _Stream) -> tuple[CpioEntry, int]:
    head = _exactly(stream, 70)
    _, inode, mode, user, group, links, _ = (_as_number(head[at : at + 6], 8) for at in range(0, 42, 6))
    length, size = _as_number(head[53:59], 8), _as_number(head[59:70], 8)
    return CpioEntry(_name(stream, length), mode, user, group, size, links, inode), 0


def _new(stream: _Stream) -> tuple[CpioEntry, int]:
    head = _exactly(stream, 104)
    fields = [_as_number(head[at : at + 8], 16) for at in range(0, 104, 8)]
    inode, mode, user, group, links, _, size = fields[:7]
    name = _name(stream, fields[11])
    _exactly(stream, -(110 + fields[11]) % 4)
    return CpioEntry(name, mode, user, group, size, links, inode), -size % 4


class _Content(Iterator[bytes]):
    """A file's content by the piece; what is not asked for is passed over."""

    def __init__(self, stream: _Stream, entry: CpioEntry) -> None:
        self._stream, self._entry, self._left = stream, entry, entry.size

    def __next__(self) -> bytes:
        if not self._left:
            raise StopIteration
        piece = next(self._stream.pieces(self._left), b"")
        if not piece:
            raise Unreadable(f"{self._entry.path} is cut off")
        self._left -= len(piece)
        return piece

    def pass_over(self) -> None:
        if self._left and self._stream.skip(self._left):
            raise Unreadable(f"{self._entry.path} is cut off")
        self._left = 0


def _name(stream: _Stream, length: int) -> str:
    if not 0 < length <= MAX_NAME:
        raise Unreadable(f"a name of {length} bytes is longer than any ({MAX_NAME})")
    return _exactly(stream, length).rstrip(b"\0").decode("utf-8", "surrogateescape")


def _exactly(stream: _Stream, count: int) -> bytes:
    data = stream.read(count) if count else b""
    if len(data) < count:
        raise Unreadable("it is cut off")
    return data


def _as_number(text: bytes, base: int) -> int:
    try:
        number = int(text, base)
    except ValueError as error:
        raise Unreadable(f"{text!r} is no number") from error
    if number < 0:
        raise Unreadable(f"{text!r} is less than nothing")
    return number
