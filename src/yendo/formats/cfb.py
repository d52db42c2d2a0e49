"""Compound files: a file system in a file, which holds an installer database.

Reading is olefile's, with two of its parts replaced: the allocation table is fetched a sector at a
time, and a large stream is read by the piece, so that opening a file of 1 GB touches a few sectors.
Writing is our own. Source for the layout: [MS-CFB] 2.2 (header), 2.3 (allocation table),
2.5 (double-indirect table), 2.6 (directory).
"""

from __future__ import annotations

import io
import struct
import uuid
from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO

import olefile

from yendo.errors import Unreadable

FREE, END, FAT_SECTOR, DIFAT_SECTOR = 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFFFFFD, 0xFFFFFFFC
NO_STREAM = 0xFFFFFFFF
MINI_SECTOR, MINI_CUTOFF = 64, 4096
MAX_WHOLE_READ = 1 << 28  # a stream that is decoded in memory; tables of real databases stay far below
MAX_ENTRIES = 100_000
_UNKNOWN = 0x7FFFFFFF  # what olefile says where it does not know a size


class _LazyTable:
    """The allocation table, read a sector at a time; olefile only ever indexes it."""

    def __init__(self, sectors: list[int], read: Callable[[int], bytes], sector_size: int, file_size: int) -> None:
        self._sectors, self._read, self._per = sectors, read, sector_size // 4
        self._most = (
            file_size // sector_size + 1
        )  # a table that speaks of more sectors than the file has would be followed for ever
        self._cache: dict[int, array[int]] = {}

    def __len__(self) -> int:
        return min(len(self._sectors) * self._per, self._most)

    def __getitem__(self, index: int) -> int:
        page, slot = divmod(index, self._per)
        if page not in self._cache:
            values = array("I")
            values.frombytes(self._read(self._sectors[page]).ljust(self._per * 4, b"\xff"))
            self._cache[page] = values
        return self._cache[page][slot]


class _Ole(olefile.OleFileIO):
    """olefile with the lazy table. The attribute names are olefile's own."""

    def _open(self, start: int, size: int = _UNKNOWN, force_FAT: bool = False) -> Any:
        if size != _UNKNOWN and size > self._filesize:
            raise OSError(
                f"a stream claims {size} bytes, the file has {self._filesize}"
            )  # its chain may run in a circle
        return super()._open(start, size, force_FAT)

    def loadfat(self, header: bytes) -> None:
        sectors = list(struct.unpack("<109I", header[76:512]))
        following, left = self.first_difat_sector, self.num_difat_sectors
        seen: set[int] = set()
        while left and following not in (END, FREE):
            if following in seen:
                raise OSError("the double-indirect table runs in a circle")
            seen.add(following)
            page = self.getsect(following)
            numbers = struct.unpack(f"<{len(page) // 4}I", page)
            sectors.extend(numbers[:-1])
            following, left = numbers[-1], left - 1
        wanted = [number for number in sectors if number not in (FREE, END)][: self.num_fat_sectors]
        self.table_sectors = len(wanted)
        self.fat = _LazyTable(wanted, self.getsect, self.sector_size, self._filesize)


class StreamReader(io.RawIOBase):
    """A stream of a compound file, read by the piece. Seekable; never holds more than is asked for."""

    def __init__(self, ole: Any, first: int, size: int) -> None:
        super().__init__()
        self._ole, self._size, self._position = ole, size, 0
        self._known = [first]

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._size}[whence]
        self._position = max(0, base + offset)
        return self._position

    def tell(self) -> int:
        return self._position

    def _sector(self, index: int) -> int:
        table, known = self._ole.fat, self._known
        while len(known) <= index:
            last = known[-1]
            following = table[last] if last < len(table) else FREE
            if following in (END, FREE) or len(known) * self._ole.sector_size > self._size + self._ole.sector_size:
                raise Unreadable(f"a stream ends after {len(known)} sectors, before its stated {self._size} bytes")
            known.append(following)
        return known[index]

    def readinto(self, buffer: Any) -> int:
        view = memoryview(buffer).cast("B")
        wanted = min(len(view), self._size - self._position)
        done, sector_size = 0, self._ole.sector_size
        while done < wanted:
            index, skip = divmod(self._position, sector_size)
            first = self._sector(index)
            run = 1  # neighbouring sectors are fetched in one read
            while run * sector_size - skip < wanted - done and self._sector(index + run) == first + run:
                run += 1
            take = min(run * sector_size - skip, wanted - done)
            self._ole.fp.seek((first + 1) * sector_size + skip)
            piece = self._ole.fp.read(take)
            if not piece:
                raise Unreadable("the file ends inside a stream")
            view[done : done + len(piece)] = piece
            done += len(piece)
            self._position += len(piece)
        return done


class StorageEntry:
    """A stream or a storage of a compound file."""

    __slots__ = ("_file", "_raw", "is_storage", "name", "size")

    def __init__(self, file: CompoundFile, raw: Any) -> None:
        self._file, self._raw = file, raw
        self.name: str = raw.name
        self.size: int = int(raw.size)
        self.is_storage: bool = raw.entry_type == olefile.STGTY_STORAGE

    @property
    def class_id(self) -> str:
        """A storage's class identifier, without braces, or empty."""
        return str(self._raw.clsid)

    def told(self) -> bytes:
        """What the directory says of it, as a signature states it: name, class or size, state and times."""
        raw = self._raw
        kind = uuid.UUID(raw.clsid).bytes_le if raw.clsid else bytes(16)
        own = kind if self.is_storage else struct.pack("<I", self.size & 0xFFFFFFFF)
        times = struct.pack("<QQ", raw.createTime, raw.modifyTime)
        return bytes(self.name.encode("utf-16-le") + own + struct.pack("<I", raw.dwUserFlags) + times)

    def open(self) -> BinaryIO:
        """The stream's bytes, read as they are asked for. Raises Unreadable on a broken chain."""
        ole = self._file._ole
        if self.size < ole.mini_stream_cutoff_size:
            return io.BytesIO(self.read())
        return io.BufferedReader(StreamReader(ole, self._raw.isectStart, self.size), 1 << 16)

    def read(self) -> bytes:
        """The whole stream. Raises Unreadable when it is broken or larger than is sane to hold."""
        ole = self._file._ole
        if self.size > min(MAX_WHOLE_READ, self._file.file_size):
            raise Unreadable(f"stream {self.name!r} claims {self.size} bytes, more than is read whole")
        if self.size >= ole.mini_stream_cutoff_size:
            data = io.BufferedReader(StreamReader(ole, self._raw.isectStart, self.size), 1 << 20).read()
        else:
            try:
                data = ole._open(self._raw.isectStart, self.size).read()
            except (OSError, IndexError, ValueError, TypeError, OverflowError, struct.error) as error:
                raise Unreadable(f"stream {self.name!r} cannot be followed: {error}") from error
        if len(data) != self.size:
            raise Unreadable(f"stream {self.name!r} has {len(data)} of its stated {self.size} bytes")
        return bytes(data)


class CompoundFile:
    """A compound file opened for reading. Use as a context manager.

    Raises Unreadable when the file is not one, or its directory cannot be trusted.
    """

    def __init__(self, source: Path | BinaryIO) -> None:
        self.source = source
        try:
            handle: BinaryIO = source.open("rb") if isinstance(source, Path) else source
        except OSError as error:
            raise Unreadable(f"{source}: {error.strerror}") from error
        self._handle = handle
        handle.seek(0, io.SEEK_END)
        self.file_size = handle.tell()
        handle.seek(0)
        if self.file_size < 1536 or handle.read(8) != olefile.MAGIC:
            handle.close()
            raise Unreadable(f"{source}: not a compound file (no signature at offset 0)")
        handle.seek(0)
        try:
            self._ole = _Ole(handle)
            self.root = self._ole.root
        except (
            OSError,
            IndexError,
            ValueError,
            struct.error,
            RecursionError,
            MemoryError,
            AttributeError,
            TypeError,
            OverflowError,
        ) as error:
            handle.close()
            raise Unreadable(f"{source}: damaged compound file: {error}") from error
        if len(self._ole.direntries) > MAX_ENTRIES:
            self.close()
            raise Unreadable(f"{source}: {len(self._ole.direntries)} directory entries, more than any real file has")

    def root_state(self) -> bytes:
        """The root's own state, as it lies in the directory."""
        return struct.pack("<I", self.root.dwUserFlags)

    @property
    def sector_size(self) -> int:
        """Bytes of a sector: 512 or 4096."""
        return int(self._ole.sector_size)

    @property
    def flaws(self) -> list[str]:
        """What is wrong with the file and can be lived with, in words."""
        found = []
        size = self._ole.sector_size
        if over := self.file_size % size:
            found.append(f"the file does not end with a whole sector of {size} bytes: it has {over} of one more")
        stated, there = self._ole.num_fat_sectors, self._ole.table_sectors
        if there != stated:
            found.append(f"its header states {stated} sectors of allocation table, and there are {there}")
        return found

    @property
    def class_id(self) -> str:
        """The root storage's class identifier, ``{...}`` in upper case, or empty."""
        return "{" + self.root.clsid + "}" if self.root.clsid else ""

    def entries(self, storage: StorageEntry | None = None) -> list[StorageEntry]:
        """The streams and storages directly below ``storage`` (the root when None)."""
        parent = storage._raw if storage else self.root
        return [StorageEntry(self, kid) for kid in parent.kids]

    def close(self) -> None:
        self._handle.close()

    def __enter__(self) -> CompoundFile:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


# --- writing -------------------------------------------------------------------------------------


class ByteSource:
    """A stream to be written: its size, and its bytes in pieces, so that 1 GB needs no memory."""

    def __init__(self, size: int, pieces: Callable[[], Iterable[bytes]]) -> None:
        self.size, self.pieces = size, pieces

    @classmethod
    def of(cls, data: bytes | Path | ByteSource) -> ByteSource:
        if isinstance(data, ByteSource):
            return data
        if isinstance(data, Path):
            return cls(data.stat().st_size, lambda: _file_pieces(data))
        return cls(len(data), lambda: (data,))


def _file_pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while piece := file.read(1 << 20):
            yield piece


class Storage:
    """A storage to be written: streams, storages below it, and its class identifier (16 bytes)."""

    def __init__(
        self, streams: Mapping[str, bytes | Path | ByteSource] | None = None, class_id: bytes = bytes(16)
    ) -> None:
        self.streams = {name: ByteSource.of(data) for name, data in (streams or {}).items()}
        self.storages: dict[str, Storage] = {}
        self.class_id = class_id


def _order(name: str) -> tuple[int, str]:
    """[MS-CFB] 2.6.4: shorter names first, then by upper-case code units."""
    return len(name.encode("utf-16-le")), name.upper()


class _Directory:
    """The directory being built: entries in the order of their numbers."""

    def __init__(self) -> None:
        self.records: list[dict[str, Any]] = []

    def add(self, name: str, kind: int, class_id: bytes = bytes(16)) -> int:
        if not 0 < len(name.encode("utf-16-le")) <= 62:
            raise ValueError(f"stream name {name!r} is empty or over 31 UTF-16 units")
        self.records.append(
            {
                "name": name,
                "kind": kind,
                "class_id": class_id,
                "left": NO_STREAM,
                "right": NO_STREAM,
                "child": NO_STREAM,
                "colour": 1,
                "start": END,
                "size": 0,
            }
        )
        return len(self.records) - 1

    def link(self, ids: list[int]) -> int:
        """Links siblings into a balanced tree and returns its root; deepest level red, the rest black."""
        ids = sorted(ids, key=lambda number: _order(self.records[number]["name"]))
        depth = len(ids).bit_length() - 1
        perfect = len(ids) & (len(ids) + 1) == 0

        def build(low: int, high: int, level: int) -> int:
            if low >= high:
                return NO_STREAM
            middle = (low + high) // 2
            record = self.records[ids[middle]]
            record["left"], record["right"] = build(low, middle, level + 1), build(middle + 1, high, level + 1)
            record["colour"] = 0 if level == depth and not perfect and level else 1
            return ids[middle]

        return build(0, len(ids), 0)

    def encode(self) -> bytes:
        out = bytearray()
        for record in self.records:
            name = record["name"].encode("utf-16-le")
            out += struct.pack(
                "<64sHBBIII16sIQQIQ",
                name,
                len(name) + 2,
                record["kind"],
                record["colour"],
                record["left"],
                record["right"],
                record["child"],
                record["class_id"],
                0,
                0,
                0,
                record["start"],
                record["size"],
            )
        return bytes(out)


def write(target: BinaryIO, root: Storage, *, sector_size: int = 512) -> None:
    """Writes a compound file. ``sector_size`` is 512 (version 3) or 4096 (version 4), in bytes.

    The same tree gives the same bytes: no time stamps are written.
    """
    if sector_size not in (512, 4096):
        raise ValueError("sector_size is 512 or 4096")
    directory = _Directory()
    order = _placed(directory, root)
    mini, mini_table = _packed_small(directory, [one for one in order if 0 < one[1].size < MINI_CUTOFF])
    large = [(number, source) for number, source in order if source.size >= MINI_CUTOFF]

    def sectors(size: int) -> int:
        return -(-size // sector_size)

    padding = -len(directory.records) % (sector_size // 128)
    directory_size = (len(directory.records) + padding) * 128
    body = sum(sectors(source.size) for _, source in large)
    fixed = sectors(len(mini)) + sectors(len(mini_table) * 4) + sectors(directory_size) + body
    per = sector_size // 4
    fat_count, difat_count = _table_sizes(fixed, per)
    # The allocation table comes first, so that a reader finds it in one stretch.
    table = array("I", [FAT_SECTOR] * fat_count + [DIFAT_SECTOR] * difat_count)

    def chain(count: int) -> int:
        first = len(table)
        if not count:
            return END
        table.extend(range(first + 1, first + count))
        table.append(END)
        return first

    directory_at = chain(sectors(directory_size))
    mini_table_at = chain(sectors(len(mini_table) * 4))
    directory.records[0]["start"] = chain(sectors(len(mini)))
    directory.records[0]["size"] = len(mini)
    for number, source in large:
        directory.records[number]["start"] = chain(sectors(source.size))
    table.extend([FREE] * (fat_count * per - len(table)))
    fat_sectors = list(range(fat_count))
    version, shift = (4 if sector_size == 4096 else 3), sector_size.bit_length() - 1
    header = struct.pack(
        "<8s16sHHHHH6sIIIIIIIII",
        olefile.MAGIC, bytes(16), 0x3E, version, 0xFFFE, shift, 6, bytes(6),
        sectors(directory_size) if version == 4 else 0, fat_count, directory_at, 0, MINI_CUTOFF,
        mini_table_at, sectors(len(mini_table) * 4), fat_count if difat_count else END, difat_count,
    )  # fmt: skip
    header += struct.pack("<109I", *(fat_sectors[:109] + [FREE] * (109 - len(fat_sectors[:109]))))
    target.write(header.ljust(sector_size, b"\0"))
    target.write(table.tobytes())
    _write_far(target, fat_sectors[109:], fat_count, difat_count, per)
    empty = struct.pack("<64sHBBIII16sIQQIQ", b"", 0, 0, 0, NO_STREAM, NO_STREAM, NO_STREAM, bytes(16), 0, 0, 0, 0, 0)
    target.write(directory.encode() + empty * padding)
    for block, fill in ((mini_table.tobytes(), b"\xff"), (bytes(mini), b"\0")):
        target.write(block + fill * (-len(block) % sector_size))
    for number, source in large:
        _write_stream(target, str(directory.records[number]["name"]), source, sector_size)


def _placed(directory: _Directory, root: Storage) -> list[tuple[int, ByteSource]]:
    """Puts every storage and stream into the directory; the streams with their numbers there, in order."""
    order: list[tuple[int, ByteSource]] = []

    def place(storage: Storage, number: int) -> None:
        kids = []
        for name, source in sorted(storage.streams.items()):
            kid = directory.add(name, 2)
            directory.records[kid]["size"] = source.size
            order.append((kid, source))
            kids.append(kid)
        for name, below in sorted(storage.storages.items()):
            kid = directory.add(name, 1, below.class_id)
            kids.append(kid)
            place(below, kid)
        directory.records[number]["child"] = directory.link(kids)

    place(root, directory.add("Root Entry", 5, root.class_id))
    return order


def _packed_small(directory: _Directory, small: Sequence[tuple[int, ByteSource]]) -> tuple[bytearray, array[int]]:
    """The stream that holds the small ones, and its own allocation table."""
    mini, mini_table = bytearray(), array("I")
    for number, source in small:
        directory.records[number]["start"] = len(mini_table)
        count = -(-source.size // MINI_SECTOR)
        data = b"".join(source.pieces())
        if len(data) != source.size:
            raise ValueError(f"stream {directory.records[number]['name']!r} changed its size while being written")
        mini += data.ljust(count * MINI_SECTOR, b"\0")
        mini_table.extend(range(len(mini_table) + 1, len(mini_table) + count))
        mini_table.append(END)
    return mini, mini_table


def _table_sizes(fixed: int, per: int) -> tuple[int, int]:
    """How many sectors the allocation table takes and the list of those beyond the header's: it describes itself, so
    its size is found by going round.
    """
    fat_count = difat_count = 0
    while True:
        need = -(-(fixed + fat_count + difat_count) // per)
        need_difat = max(0, -(-(need - 109) // (per - 1)))
        if (need, need_difat) == (fat_count, difat_count):
            return fat_count, difat_count
        fat_count, difat_count = need, need_difat


def _write_far(target: BinaryIO, rest: Sequence[int], first: int, count: int, per: int) -> None:
    """The sectors of the allocation table that the header has no room for, page by page."""
    for page in range(count):
        numbers = list(rest[page * (per - 1) : (page + 1) * (per - 1)])
        numbers += [FREE] * (per - 1 - len(numbers))
        numbers.append(first + page + 1 if page + 1 < count else END)
        target.write(struct.pack(f"<{per}I", *numbers))


def _write_stream(target: BinaryIO, name: str, source: ByteSource, sector_size: int) -> None:
    written = 0
    for piece in source.pieces():
        written += len(piece)
        target.write(piece)
    if written != source.size:
        raise ValueError(f"stream {name!r} changed its size while being written")
    target.write(bytes(-written % sector_size))
