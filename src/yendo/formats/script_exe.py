"""Setup programs that interpret compiled instructions: the header behind the stub, its tables, its data.

Behind the program lies a first header (flags, a mark, two lengths), then the packed header with the
tables (pages, sections, instructions, strings, languages), then the packed data; either each block is
packed for itself, or header and data are one packed stream. Source: the format as found in files and
in the behaviour of stubs that interpret headers written by our tests.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator
from functools import cached_property
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats.packing import Method, looks_like, unpack, unpacked
from yendo.formats.pe import Image
from yendo.formats.slices import at

MARK = bytes.fromhex("efbeadde4e756c6c736f6674496e7374")
STEP, REACH = 512, 1 << 20  # the first header lies on a multiple of STEP, at most REACH behind the image
FIRST = 28
MAX_HEADER, MAX_FILE, MAX_ENTRIES = 32 << 20, 2 << 30, 1 << 18
UNINSTALLER, SILENT, NO_CHECK, CHECK = 1, 2, 4, 8  # flags of the first header
PACKED = 0x80000000
MAX_CHECKED = 256 << 20


class Instruction(msgspec.Struct, frozen=True, gc=False):
    """One compiled instruction: its number, its operation, its six operands (32 bits, signed)."""

    number: int
    operation: int
    operands: tuple[int, int, int, int, int, int]


class ScriptSection(msgspec.Struct, frozen=True):
    """``code`` is the first instruction's number, ``length`` their count; ``flags`` as in the format."""

    name: int
    kinds: int
    flags: int
    code: int
    length: int


class Page(msgspec.Struct, frozen=True):
    """``dialog`` is the resource of its window (0: drawn by the script), ``functions`` those called before, on show and
    after.
    """

    dialog: int
    kind: int
    functions: tuple[int, int, int]
    flags: int


class Language(msgspec.Struct, frozen=True):
    number: int
    strings: tuple[int, ...]


def find(file: BinaryIO, image: Image) -> int | None:
    """The offset of the first header, or None."""
    begin, end = image.appended
    first = -(-begin // STEP) * STEP if begin % STEP else begin
    if end - first < FIRST:
        return None
    if at(file, first + 4, 16) == MARK:
        return first
    head = at(file, first, min(REACH, end - first))
    found = head.find(MARK)
    while found >= 0:
        if (first + found - 4) % STEP == 0:
            return first + found - 4
        found = head.find(MARK, found + 1)
    return None


class ScriptReading(msgspec.Struct, frozen=True):
    """One way to read what lies behind the first header. ``size``: of the packed header, 0 in one stream."""

    method: Method
    solid: bool
    size: int = 0


class ScriptExe:
    """The tables behind a stub. Raises Unreadable with the offset, NotCovered for a form that is not known."""

    def __init__(self, file: BinaryIO, start: int, end: int) -> None:
        self.file, self.start, self.end = file, start, end
        self.flags, mark, self.header_size, self.length = struct.unpack(
            "<I16sII", at(file, start, FIRST).ljust(FIRST, b"\0")
        )
        if mark != MARK:
            raise Unreadable(f"no script header at offset {start}")
        if not 0 < self.header_size <= MAX_HEADER:
            raise Unreadable(
                f"the script's header says at offset {start + 20} that it is {self.header_size} bytes long"
            )
        self.solid, self.data_start = False, 0
        self.compression: Method = "none"
        self._believe()

    @property
    def missing(self) -> int:
        """Bytes that its header says and the file has not."""
        return max(0, self.start + int(self.length) - self.end)

    def checksum_holds(self) -> bool | None:
        """Whether the four bytes at its end are the CRC-32 of everything from offset 512 up to them.

        None where it has no checksum, is cut short, or is larger than ``MAX_CHECKED``. Source: a real sample, whose
        bytes are so.
        """
        end = self.start + self.length - 4
        if self.flags & NO_CHECK or self.missing or end <= 512 or end > MAX_CHECKED:
            return None
        self.file.seek(512)
        value, left = 0, end - 512
        while left > 0 and (piece := self.file.read(min(left, 1 << 20))):
            value, left = zlib.crc32(piece, value), left - len(piece)
        return value == int.from_bytes(self.file.read(4), "little")

    @property
    def is_uninstaller(self) -> bool:
        return bool(self.flags & UNINSTALLER)

    def _believe(self) -> None:
        """Tries what the bytes can mean, and believes the reading whose header has its stated size and whose tables
        hold together.

        The first bytes decide nothing: one LZMA stream with a dictionary of 8 MB begins like the length of a packed
        block.
        """
        begin = self.start + FIRST
        head = at(self.file, begin, 16)
        if len(head) < 8:
            raise Unreadable(f"the script's header is cut short at offset {begin}")
        refused: list[Exception] = []
        for reading in self._readings(head, begin):
            try:
                self.header = self._unpacked(reading, begin)
                self._tables()
            except (Unreadable, struct.error) as error:
                refused.append(error)
                continue
            self.solid, self.compression = reading.solid, reading.method
            self.data_start = begin + 4 + reading.size
            return
        raise Unreadable(
            f"the script's header at offset {begin} unpacks in no known way; the likeliest one ends with: {refused[0]}"
        )

    def _readings(self, head: bytes, begin: int) -> Iterator[ScriptReading]:
        stated = struct.unpack_from("<I", head)[0]
        size = stated & ~PACKED
        if stated == self.header_size:
            yield ScriptReading("none", False, size)
        blocks = (
            [ScriptReading(method, False, size) for method in looks_like(head[4:])]
            if stated & PACKED and size <= self.end - begin
            else []
        )
        stream = [ScriptReading(method, True) for method in looks_like(head)]
        # where both are possible, the packed header of a block is shorter than what it unpacks to
        yield from blocks + stream if size < self.header_size else stream + blocks

    def _unpacked(self, reading: ScriptReading, begin: int) -> bytes:
        """The header by one reading. Raises Unreadable where it does not have exactly the stated size."""
        front = 4 if reading.solid else 0
        where, packed = (begin, min(self.end - begin, MAX_HEADER)) if reading.solid else (begin + 4, reading.size)
        raw = at(self.file, where, packed)
        if not reading.solid and len(raw) < packed:
            raise Unreadable(f"the script's header at offset {where} is cut short")
        found = unpack(raw, reading.method, self.header_size + (front or 1))
        if reading.solid and (len(found) < 4 or struct.unpack_from("<I", found)[0] != self.header_size):
            raise Unreadable(f"what is packed at offset {begin} does not begin with the script's header")
        if len(found) - front != self.header_size:
            raise Unreadable(
                f"the script's header at offset {begin} unpacks to {len(found) - front} bytes, stated are "
                f"{self.header_size}"
            )
        return found[front:]

    def _tables(self) -> None:
        header = self.header
        if len(header) < 300:
            raise Unreadable("the script's header is shorter than its fixed part")
        self.header_flags = struct.unpack_from("<I", header)[0]
        blocks = self._blocks(header)
        (pages, sections, entries, strings, languages) = blocks[:5]
        if entries[1] > MAX_ENTRIES or entries[0] + 28 * entries[1] > len(header):
            raise Unreadable(
                f"the script states {entries[1]} instructions at {entries[0]}, beyond its {len(header)} bytes"
            )
        self.instructions = [
            Instruction(number, row[0], row[1:])
            for number, row in enumerate(struct.iter_unpack("<7i", header[entries[0] : entries[0] + 28 * entries[1]]))
        ]
        stop = languages[0] if languages[0] > strings[0] else len(header)
        self.strings = header[strings[0] : stop]
        self.wide = self.strings[:2] == b"\0\0" and len(self.strings) > 3
        self.pages = tuple(
            self._page(header, pages[0] + 64 * number)
            for number in range(min(pages[1], 64))
            if pages[0] + 64 * number + 64 <= len(header)
        )
        self.sections = self._sections(header, sections, entries[0])
        self.languages = self._languages(header, languages, blocks[5][0])
        names = ("root", "key", "value")
        # colours of the background (3), of the list (2), size of a language, colour of the licence
        fixed = struct.unpack_from("<3i3i2iii10i", header, self.fixed)
        self.remembered = dict(zip(names, fixed[:3], strict=True))
        self.functions = fixed[10:20]
        after = self.fixed + 80 + 4 * 33
        self.folder, self.folder_appended, self.copy_name = struct.unpack_from("<iii", header, after)

    def _blocks(self, header: bytes) -> list[tuple[int, int]]:
        """The tables by offset and count. A stub for 64-bit Windows has offsets of eight bytes in this list."""
        for layout in (struct.Struct("<II"), struct.Struct("<QI")):
            found = [layout.unpack_from(header, 4 + layout.size * number) for number in range(8)]
            self.fixed = 4 + 8 * layout.size
            begins = [offset for offset, count in found[:5] if count or offset]
            if begins and begins == sorted(begins) and begins[0] >= self.fixed and begins[-1] <= len(header):
                return found
        raise Unreadable(f"the script's tables do not follow one another in its {len(header)} bytes")

    @staticmethod
    def _page(header: bytes, offset: int) -> Page:
        row = struct.unpack_from("<6i", header, offset)
        return Page(row[0], row[1], row[2:5], row[5])

    @staticmethod
    def _sections(header: bytes, block: tuple[int, int], end: int) -> tuple[ScriptSection, ...]:
        offset, count = block
        if not count:
            return ()
        step = (end - offset) // count
        if step < 24 or count > 4096:
            raise Unreadable(f"the script states {count} sections in {end - offset} bytes")
        return tuple(
            ScriptSection(*struct.unpack_from("<5i", header, offset + step * number)) for number in range(count)
        )

    def _languages(self, header: bytes, block: tuple[int, int], end: int) -> tuple[Language, ...]:
        offset, count = block
        if not count:
            return ()
        step = (max(end, offset) - offset) // count
        if step < 10 or offset + step * count > len(header):
            return ()
        return tuple(
            Language(
                struct.unpack_from("<H", header, offset + step * number)[0],
                struct.unpack_from(f"<{(step - 10) // 4}i", header, offset + step * number + 10),
            )
            for number in range(count)
        )

    # --- data ----------------------------------------------------------------------------------------

    @cached_property
    def _stream(self) -> Callable[[int, int], bytes]:
        """Reads from the one packed stream; it is unpacked from its start as far as is asked for."""
        held = bytearray()
        source = at(self.file, self.start + FIRST, self.end - self.start - FIRST)
        pieces = unpacked(source, self.compression)
        base = self.header_size + 4

        def take(offset: int, size: int) -> bytes:
            if offset < 0:
                raise Unreadable(f"data of the script begins at {offset}")
            while len(held) < base + offset + size:
                piece = next(pieces, None)
                if piece is None:
                    break
                held.extend(piece)
                if len(held) > MAX_FILE:
                    raise Unreadable("the packed data unpacks to more than 2 GB")
            return bytes(held[base + offset : base + offset + size])

        return take

    def place(self, offset: int) -> tuple[int, int, bool]:
        """Where a block of data lies in the file: offset, packed size, whether packed. Not for one packed stream."""
        begin = self.data_start + offset
        raw = at(self.file, begin, 4)
        if offset < 0 or len(raw) < 4 or begin + 4 > self.end:
            raise Unreadable(f"data of the script begins at offset {begin}, beyond its end at {self.end}")
        size = struct.unpack("<I", raw)[0]
        if begin + 4 + (size & ~PACKED) > self.end:
            raise Unreadable(f"data of the script at offset {begin} is cut short")
        return begin + 4, size & ~PACKED, bool(size & PACKED)

    def data(self, offset: int, limit: int = MAX_FILE) -> bytes:
        """A block of data, unpacked. Raises Unreadable, or where it is longer than ``limit``."""
        if self.solid:
            length = self._stream(offset, 4)
            size = int.from_bytes(length, "little")
            if size > limit:
                raise Unreadable(f"data of the script unpacks to {size} bytes")
            found = self._stream(offset + 4, size)
            if len(length) < 4 or len(found) < size:
                raise Unreadable(f"data of the script at {offset} is cut short")
            return found
        begin, size, packed = self.place(offset)
        raw = at(self.file, begin, size)
        out = unpack(raw, self.compression, limit + 1) if packed else raw
        if len(out) > limit:
            raise Unreadable(f"data of the script at {offset} unpacks to more than {limit} bytes")
        return out

    def follower(self, offset: int) -> int:
        """The data offset of the block behind another one."""
        if self.solid:
            return offset + 4 + int.from_bytes(self._stream(offset, 4), "little")
        begin, size, _ = self.place(offset)
        return begin + size - self.data_start
