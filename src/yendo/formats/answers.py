"""Setup engines driven by answer files: the records behind the launcher, and the engine's own cabinets.

The records come in two forms: plain ones (name, path, version, size as text, then the data), and a
numbered list behind a mark, whose data is folded with a key made of the file's name and deflated.
Source: the forms as found in files.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterator
from typing import BinaryIO, Literal

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats.slices import at, size_of

MARK, LATER_MARK = bytes.fromhex("496e7374616c6c536869656c6400"), bytes.fromhex("4953536574757053747265616d00")
REACH = 8192  # the mark lies at most so far behind the image, after debug data
MAX_RECORDS, MAX_NAME, MAX_RECORD = 4096, 520, 1 << 31
Form = Literal["plain", "listed", "later"]
_FOLD = bytes.fromhex("13358607")
_CHUNK = 1024
FOLDED_WHOLE, FOLDED_IN_CHUNKS = 2, 4


class Record(msgspec.Struct, frozen=True):
    """One file: its name, path and version as stated, where its data lies, and how it is folded (0: as it is)."""

    name: str
    path: str
    version: str
    offset: int
    size: int
    folding: int = 0
    deflated: bool = False


class Records(msgspec.Struct, frozen=True):
    form: Form
    offset: int
    records: tuple[Record, ...]


def find(file: BinaryIO, begin: int, end: int) -> Records | None:
    """The records between two offsets, or None where there are none of either form.

    Raises Unreadable where they are cut short.
    """
    head = at(file, begin, min(REACH, end - begin))
    place = head.find(MARK)
    if place >= 0 and place + 46 <= len(head):
        return Records("listed", begin + place, tuple(_listed(file, begin + place, end)))
    place = head.find(LATER_MARK)
    if place >= 0:
        return Records("later", begin + place, ())
    found = _plain(file, begin, end)
    return Records("plain", begin, found) if found else None


def _listed(file: BinaryIO, begin: int, end: int) -> Iterator[Record]:
    (count,) = struct.unpack("<H", at(file, begin + 14, 2))
    place = begin + 46
    for number in range(min(count, MAX_RECORDS)):
        row = at(file, place, 312)
        if len(row) < 312:
            raise Unreadable(f"record {number} of {count} is cut short at offset {place}")
        raw, folding, _, size = struct.unpack_from("<260sIII", row)
        name = raw.partition(b"\0")[0].decode("cp1252", "replace")
        if place + 312 + size > end or not name:
            raise Unreadable(
                f"the data of record {number} at offset {place + 312} would end at {place + 312 + size}, beyond {end}"
            )
        yield Record(name, name, "", place + 312, size, folding, deflated=bool(folding))
        place += 312 + size


def _plain(file: BinaryIO, begin: int, end: int) -> tuple[Record, ...]:
    found: list[Record] = []
    place = begin
    while place < end and len(found) < MAX_RECORDS:
        head = at(file, place, 4 * MAX_NAME)
        parts = head.split(b"\0", 4)
        if (
            len(parts) < 5
            or not parts[3].isdigit()
            or len(parts[3]) > 12
            or not parts[0]
            or any(byte < 32 for byte in parts[0] + parts[1])
        ):
            break
        start = place + sum(len(part) + 1 for part in parts[:4])
        size = int(parts[3])
        if not found and b"\\" not in parts[1] and parts[0] != parts[1]:
            break
        if start + size > end:
            if found:
                raise Unreadable(
                    f"the data of {parts[0].decode('cp1252', 'replace')} at offset {start} would end at "
                    f"{start + size}, beyond {end}"
                )
            break
        name, path, version = (part.decode("cp1252", "replace") for part in parts[:3])
        found.append(Record(name, path, version, start, size))
        place = start + size
    return tuple(found)


_SWAPPED = bytes(byte << 4 & 0xF0 | byte >> 4 for byte in range(256))


def _stream(name: str, start: int, size: int, chunked: bool) -> bytes:
    """The key's bytes for a piece that begins at ``start`` of its record: the key begins anew with every chunk."""
    key = bytes(byte ^ _FOLD[place % 4] ^ 0xFF for place, byte in enumerate(name.encode("cp1252", "replace")))
    if not chunked:
        first = start % len(key)
        return (key * (size // len(key) + 2))[first : first + size]
    chunk = (key * (_CHUNK // len(key) + 1))[:_CHUNK]
    first = start % _CHUNK
    return (chunk * (size // _CHUNK + 2))[first : first + size]


def _xor(one: bytes, other: bytes) -> bytes:
    return (int.from_bytes(one, "little") ^ int.from_bytes(other, "little")).to_bytes(len(one), "little")


def unfold(data: bytes, name: str, start: int, chunked: bool) -> bytes:
    """Undoes the folding of a piece that begins at ``start`` of its record."""
    return _xor(data.translate(_SWAPPED), _stream(name, start, len(data), chunked))


def fold(data: bytes, name: str) -> bytes:
    """The inverse of ``unfold`` for a whole record in chunks."""
    return _xor(data, _stream(name, 0, len(data), True)).translate(_SWAPPED)


def pieces(file: BinaryIO, record: Record, limit: int = MAX_RECORD) -> Iterator[bytes]:
    """A record's contents, unfolded and inflated, by the piece.

    Raises Unreadable on damaged data or more than ``limit`` bytes.
    """
    engine, total = zlib.decompressobj() if record.deflated else None, 0
    start, step = 0, 4096  # small at first: often only the beginning is looked at
    while start < record.size:
        raw = at(file, record.offset + start, min(step, record.size - start))
        if record.folding & (FOLDED_WHOLE | FOLDED_IN_CHUNKS):
            raw = unfold(raw, record.name, start, bool(record.folding & FOLDED_IN_CHUNKS))
        while raw:
            try:
                out = engine.decompress(raw, 1 << 20) if engine else raw
            except zlib.error as error:
                raise Unreadable(
                    f"{record.name}: the packed data at offset {record.offset + start} is damaged: {error}"
                ) from error
            raw = engine.unconsumed_tail if engine else b""
            total += len(out)
            if total > limit:
                raise Unreadable(f"{record.name} unpacks to more than {limit} bytes")
            yield out
        start, step = start + step, min(step * 4, 1 << 18)


# --- the engine's own cabinets -------------------------------------------------------------------------

CABINET = b"ISc("
MAX_FILES = 1 << 17
OBFUSCATED, COMPRESSED, INVALID = 2, 4, 8


class HeldFile(msgspec.Struct, frozen=True):
    """One file of a cabinet: folder and name, sizes in bytes, the volume and offset of its data, its place in the table
    (from 0).
    """

    path: str
    size: int
    packed: int
    volume: int
    offset: int
    flags: int
    md5: str
    number: int = 0


class AnswersGroup(msgspec.Struct, frozen=True):
    """Files that go to one place: the numbers of the first and the last, and where, with names in ``<>``."""

    name: str
    flags: int
    first: int
    last: int
    target: str


class AnswersMedium(msgspec.Struct, frozen=True):
    """What a cabinet's header says of the whole: the product's version, name and company, where it goes unless somebody
    says otherwise, and its groups.
    """

    version: str
    name: str
    company: str
    target: str
    groups: tuple[AnswersGroup, ...]


SHARED = 1  # of a group: its files are counted
_LISTS, _BUCKETS, _PRODUCT, MAX_GROUPS = 0x3E, 71, 0x286, 4096


def medium(header: bytes) -> AnswersMedium:
    """The groups of a cabinet and the product, from its header. Raises Unreadable, NotCovered for generations other
    than 9.

    Source: the layout as found in files of generation 9: a table of 71 lists of groups, and a record of the product's
    texts.
    """
    generation = cabinet_version(header)
    if generation != 9:
        raise NotCovered(f"the groups of a cabinet of generation {generation} are not read by this version")
    try:
        base: int = struct.unpack_from("<I", header, 12)[0]

        def text(offset: int) -> str:
            stop = header.find(b"\0", base + offset, base + offset + 1024)
            return header[base + offset : stop].decode("cp1252", "replace") if stop >= 0 else ""

        groups: list[AnswersGroup] = []
        seen: set[int] = set()
        for bucket in range(_BUCKETS):
            at_ = struct.unpack_from("<I", header, base + _LISTS + 4 * bucket)[0]
            while at_:
                if at_ in seen or len(seen) > MAX_GROUPS:
                    raise Unreadable("the groups of the cabinet's header go round in a circle")
                seen.add(at_)
                name, place, at_ = struct.unpack_from("<III", header, base + at_)
                flags, first, last = struct.unpack_from("<HII", header, base + place + 20)
                target = struct.unpack_from("<I", header, base + place + 58)[0]
                groups.append(AnswersGroup(text(name), flags, first, last, text(target)))
        product = struct.unpack_from("<I", header, base + _PRODUCT)[0]
        version, _, title, company = struct.unpack_from("<IIII", header, base + product + 8)
        usual = struct.unpack_from("<I", header, base + product + 0x28)[0]
        return AnswersMedium(text(version), text(title), text(company), text(usual), tuple(groups))
    except struct.error as error:
        raise Unreadable("the cabinet's header is cut short") from error


def cabinet_version(data: bytes) -> int:
    """The generation of a cabinet from its header: 5, 6, ... Raises Unreadable."""
    if data[:4] != CABINET or len(data) < 20:
        raise Unreadable("not a cabinet of this engine")
    version: int = struct.unpack_from("<I", data, 4)[0]
    return version >> 12 & 0xF if version >> 24 == 1 else (version & 0xFFFF) // 100


def cabinet_files(header: bytes) -> list[HeldFile]:
    """The files that a cabinet's header (``data1.hdr``) lists. Raises Unreadable, NotCovered."""
    generation = cabinet_version(header)
    if generation < 5:
        raise NotCovered(f"cabinets of generation {generation} are not listed by this version")
    try:
        descriptor = struct.unpack_from("<I", header, 12)[0]
        table, _, _, _, folders = struct.unpack_from("<I4xIIII", header, descriptor + 12)[:5]
        count, second = (
            struct.unpack_from("<I", header, descriptor + 40)[0],
            struct.unpack_from("<I", header, descriptor + 44)[0],
        )
        if count > MAX_FILES or folders > MAX_FILES:
            raise Unreadable(f"the cabinet's header states {count} files")
        base = descriptor + table
        wide = generation >= 17

        def text(offset: int) -> str:
            start = base + offset
            if wide:
                stop = start
                while header[stop : stop + 2] not in (b"\0\0", b"") and stop - start < 1024:
                    stop += 2
                return header[start:stop].decode("utf-16-le", "replace")
            stop = header.find(b"\0", start, start + 1024)
            return header[start:stop].decode("cp1252", "replace") if stop >= 0 else ""

        names = [text(struct.unpack_from("<I", header, base + 4 * number)[0]) for number in range(folders)]
        return list(_held(header, base, generation, count, folders, second, names, text))
    except struct.error as error:
        raise Unreadable("the cabinet's header is cut short") from error


def _held(
    header: bytes,
    base: int,
    generation: int,
    count: int,
    folders: int,
    second: int,
    names: list[str],
    text: Callable[[int], str],
) -> Iterator[HeldFile]:
    for number in range(count):
        if generation == 5:
            start = base + struct.unpack_from("<I", header, base + 4 * (folders + number))[0]
            name, folder, flags, size, packed, offset = struct.unpack_from("<IIHII20xI", header, start)
            md5, volume = header[start + 42 : start + 58], 1
        else:
            start = base + second + number * 0x57
            flags, size, packed, offset, md5 = struct.unpack_from("<HQQQ16s", header, start)
            name, folder = struct.unpack_from("<IH", header, start + 58)
            volume = struct.unpack_from("<H", header, start + 85)[0]
        if flags & INVALID:
            continue
        title = text(name)
        path = f"{names[folder]}\\{title}" if folder < len(names) and names[folder] else title
        yield HeldFile(path, size, packed, volume, offset, flags, md5.hex(), number)


def unpack(volume: BinaryIO, held: HeldFile, limit: int) -> bytes:
    """A file's contents from its volume. Raises Unreadable on damaged data, or where it is longer than ``limit``."""
    if held.size > limit or held.packed > size_of(volume):
        raise Unreadable(f"{held.path}: {held.size} bytes are stated")
    raw = at(volume, held.offset, held.packed)
    if held.flags & OBFUSCATED:
        raw = bytes(
            ((byte - place % 0x47) & 0xFF)
            for place, byte in enumerate(((byte ^ 0xD5) >> 2 | (byte ^ 0xD5) << 6) & 0xFF for byte in raw)
        )
    if not held.flags & COMPRESSED:
        return raw
    out, place = bytearray(), 0
    while place + 2 <= len(raw) and len(out) <= limit:
        size = struct.unpack_from("<H", raw, place)[0]
        try:
            out += zlib.decompressobj(-15).decompress(raw[place + 2 : place + 2 + size] + b"\0", limit + 1 - len(out))
        except zlib.error as error:
            raise Unreadable(f"{held.path}: the packed data at {held.offset + place} is damaged: {error}") from error
        place += 2 + size
    if len(out) != held.size:
        raise Unreadable(f"{held.path}: {len(out)} bytes where the header says {held.size}")
    return bytes(out)
