"""Programs of macOS: for which processors and systems, and the code signature that they carry.

Source: Apple's published headers: ``mach-o/loader.h``, ``mach-o/fat.h``, and ``kern/cs_blobs.h`` for the signature, a
set of blobs of which one lists the hash of every page of the program.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Iterator
from typing import Any, BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats.slices import at, size_of

_FAT, _FAT64 = 0xCAFEBABE, 0xCAFEBABF
_THIN = {b"\xcf\xfa\xed\xfe": True, b"\xce\xfa\xed\xfe": False}  # 64 bits, 32 bits, both little-endian
PROCESSORS = {0x01000007: "x86_64", 0x0100000C: "arm64", 7: "i386", 12: "arm", 18: "ppc"}
SORTS = {2: "program", 6: "library", 8: "plug-in", 9: "library stub"}
_BUILD_VERSION, _MIN_MACOS, _SIGNATURE = 0x32, 0x24, 0x1D
MAX_SLICES, MAX_COMMANDS, MAX_SIGNATURE, MAX_PAGES = 16, 1 << 20, 64 << 20, 1 << 22

_SUPERBLOB, _DIRECTORY, _ENTITLEMENTS, _CMS = 0xFADE0CC0, 0xFADE0C02, 0xFADE7171, 0xFADE0B01
_SLOT_CMS, _SLOT_ALTERNATE = 0x10000, 0x1000
INFO, REQUIREMENTS, RESOURCES, ENTITLEMENTS = 1, 2, 3, 5
_HASHES = {1: ("sha1", 20), 2: ("sha256", 32), 3: ("sha256", 20), 4: ("sha384", 48)}
AD_HOC, HARDENED, BY_LINKER = 0x2, 0x10000, 0x20000


class CodeSignature(msgspec.Struct, frozen=True):
    """What a program's signature says. ``special`` are hashes of what lies beside it, by their slot; ``algorithm`` is
    theirs, and ``width`` their length. ``cms`` is the signature over ``directory``, empty where it is only a list of
    hashes. ``problem`` says in words why the program is not what was signed.
    """

    identifier: str
    team: str
    flags: int
    algorithm: str
    width: int
    special: dict[int, bytes]
    entitlements: dict[str, Any]
    directory: bytes
    cms: bytes
    problem: str = ""

    @property
    def ad_hoc(self) -> bool:
        return bool(self.flags & AD_HOC) or not self.cms

    @property
    def hardened(self) -> bool:
        return bool(self.flags & HARDENED)

    def is_hash_of(self, slot: int, data: bytes) -> bool | None:
        """Whether the hash in a slot is that of data; None where the slot is empty."""
        wanted = self.special.get(slot)
        return None if wanted is None else hashlib.new(self.algorithm, data).digest()[: self.width] == wanted

    @property
    def code_hash(self) -> bytes:
        """The hash by which a bundle lists code that lies within it: of the directory, 20 bytes."""
        return hashlib.new(self.algorithm, self.directory).digest()[:20]


class MachSlice(msgspec.Struct, frozen=True):
    """A program for one processor. ``oldest`` is the oldest macOS that it states, empty where it states none."""

    processor: str
    sort: str
    oldest: str
    offset: int
    size: int
    signature: CodeSignature | None


def is_program(head: bytes) -> bool:
    """Whether the first bytes are a program's; a Java class begins like one for several processors."""
    if head[:4] in _THIN:
        return True
    if len(head) < 8:
        return False
    magic, count = struct.unpack_from(">II", head)
    return magic in (_FAT, _FAT64) and 0 < count <= MAX_SLICES


def read(file: BinaryIO, name: str = "the file", *, judged: bool = True) -> list[MachSlice]:
    """The programs of a file, one a processor; every page is held against the signature, unless it need not be
    ``judged``: then none is read. Raises Unreadable.
    """
    head = at(file, 0, 8)
    if not is_program(head):
        raise Unreadable(f"{name} is no program for macOS")
    whole = size_of(file)
    if head[:4] in _THIN:
        return [_slice(file, 0, whole, name, judged)]
    magic, count = struct.unpack(">II", head)
    form, width = (">IIIII", 20) if magic == _FAT else (">IIQQII", 32)
    table = at(file, 8, width * count)
    if len(table) < width * count:
        raise Unreadable(f"{name} ends in its list of processors")
    found = []
    for number in range(count):
        _, _, offset, size, *_ = struct.unpack_from(form, table, width * number)
        if offset + size > whole:
            raise Unreadable(f"{name} states a program that lies outside it")
        found.append(_slice(file, offset, size, name, judged))
    return found


def _commands(commands: bytes, count: int, name: str) -> Iterator[tuple[int, int, int]]:
    """Kind, place and length of each load command. Raises Unreadable."""
    where = 0
    for _ in range(count):
        if where + 8 > len(commands):
            return
        kind, step = struct.unpack_from("<II", commands, where)
        if step < 8 or where + step > len(commands):
            raise Unreadable(f"{name}: a load command of {step} bytes")
        yield kind, where, step
        where += step


def _slice(file: BinaryIO, start: int, size: int, name: str, judged: bool) -> MachSlice:
    head = at(file, start, 32)
    wide = _THIN.get(head[:4])
    if wide is None or len(head) < 28:
        raise Unreadable(f"{name} holds something that is no program")
    _, processor, _, sort, count, length = struct.unpack_from("<6I", head)
    if length > min(MAX_COMMANDS, size):
        raise Unreadable(f"{name}: load commands of {length} bytes")
    commands = at(file, start + (32 if wide else 28), length)
    oldest, place = "", None
    for kind, where, step in _commands(commands, min(count, length // 8), name):
        if kind == _BUILD_VERSION and step >= 16 and struct.unpack_from("<I", commands, where + 8)[0] == 1:
            oldest = _version(struct.unpack_from("<I", commands, where + 12)[0])
        elif kind == _MIN_MACOS and step >= 12 and not oldest:
            oldest = _version(struct.unpack_from("<I", commands, where + 8)[0])
        elif kind == _SIGNATURE and step >= 16:
            place = struct.unpack_from("<II", commands, where + 8)
    signature = None
    if place is not None and judged:
        offset, held = place
        if held > MAX_SIGNATURE or offset + held > size:
            raise Unreadable(f"{name}: its signature lies outside it")
        signature = _signature(file, start, size, at(file, start + offset, held), offset, name)
    shown = PROCESSORS.get(processor, f"0x{processor:x}")
    return MachSlice(shown, SORTS.get(sort, f"sort {sort}"), oldest, start, size, signature)


def _version(value: int) -> str:
    """Source: loader.h, ``xxxx.yy.zz`` in nibbles."""
    parts = [value >> 16, value >> 8 & 0xFF, value & 0xFF]
    return ".".join(map(str, parts if parts[2] else parts[:2]))


def _blob(data: bytes, offset: int) -> tuple[int, bytes]:
    """A blob's kind, and all of it. Raises ValueError."""
    if offset + 8 > len(data):
        raise ValueError("a blob lies outside")
    magic, length = struct.unpack_from(">II", data, offset)
    if length < 8 or offset + length > len(data):
        raise ValueError("a blob is longer than what holds it")
    return magic, data[offset : offset + length]


def _signature(file: BinaryIO, start: int, size: int, data: bytes, limit: int, name: str) -> CodeSignature:
    """Raises Unreadable."""
    try:
        magic, whole = _blob(data, 0)
        (count,) = struct.unpack_from(">I", whole, 8)
        if magic != _SUPERBLOB or count > 64:
            raise ValueError("no set of blobs")
        blobs = {}
        for number in range(count):
            slot, offset = struct.unpack_from(">II", whole, 12 + 8 * number)
            blobs[slot] = _blob(whole, offset)
        directories = [
            blob
            for slot, (kind, blob) in sorted(blobs.items())
            if kind == _DIRECTORY and (slot == 0 or _SLOT_ALTERNATE <= slot < _SLOT_ALTERNATE + 8)
        ]
        if not directories:
            raise ValueError("no list of pages")
        # the first is what is signed; where several are, newer systems take the one with the better hash
        found = [_directory(file, start, blob, limit) for blob in directories]
        kind, cms = blobs.get(_SLOT_CMS, (0, b""))
        main, problem = found[0], next((one.problem for one in found if one.problem), "")
        for slot, blob in ((REQUIREMENTS, blobs.get(REQUIREMENTS)), (ENTITLEMENTS, blobs.get(ENTITLEMENTS))):
            if blob is not None and not problem and main.is_hash_of(slot, blob[1]) is not True:
                problem = "its entitlements or requirements are not those that were signed"
        return msgspec.structs.replace(
            main,
            cms=cms[8:] if kind == _CMS else b"",
            entitlements=_entitlements(blobs.get(ENTITLEMENTS)),
            problem=problem,
        )
    except (ValueError, struct.error, KeyError, UnicodeDecodeError) as error:
        raise Unreadable(f"{name}: its signature cannot be read: {error}") from error


def _entitlements(blob: tuple[int, bytes] | None) -> dict[str, Any]:
    import plistlib  # its XML is loaded only where it is needed

    if blob is None or blob[0] != _ENTITLEMENTS:
        return {}
    try:
        found = plistlib.loads(blob[1][8:], fmt=plistlib.FMT_XML)
    except Exception as error:  # the library lets those of its parser through
        raise ValueError(f"entitlements that are no property list: {error}") from error
    return found if isinstance(found, dict) else {}


def _text(blob: bytes, offset: int) -> str:
    end = blob.find(b"\0", offset)
    if not 0 < offset < len(blob) or end < 0:
        raise ValueError("a name lies outside")
    return blob[offset:end].decode("utf-8")


def _pages(file: BinaryIO, start: int, end: int, page: int, algorithm: str, signed: list[bytes]) -> str:
    """The first page of a program that is not what was signed, in words; empty where all are."""
    for number, wanted in enumerate(signed):
        piece = at(file, start + number * page, min(page, end - number * page))
        if hashlib.new(algorithm, piece).digest()[: len(wanted)] != wanted:
            return f"the page at {number * page} is not what was signed"
    return ""


def _directory(file: BinaryIO, start: int, blob: bytes, limit: int) -> CodeSignature:
    """A list of hashes, held against the pages of the program. Raises ValueError."""
    version, flags, hashes, identifier, special, pages, end = struct.unpack_from(">7I", blob, 8)
    width, kind, _, power = struct.unpack_from(">4B", blob, 36)
    team = struct.unpack_from(">I", blob, 48)[0] if version >= 0x20200 else 0
    if version >= 0x20300 and (longer := struct.unpack_from(">Q", blob, 56)[0]):
        end = longer
    algorithm, length = _HASHES[kind]
    if width != length or special > 64 or pages > MAX_PAGES or not (power == 0 or 9 <= power <= 20):
        raise ValueError("hashes of a sort that is not known")
    if hashes < special * width or hashes + pages * width > len(blob):
        raise ValueError("its hashes lie outside")
    beside = {
        slot: value
        for slot in range(1, special + 1)
        if any(value := blob[hashes - slot * width : hashes - (slot - 1) * width])
    }
    problem = "" if end == limit else "the signature does not end where the program does"
    page = 1 << power if power else max(end, 1)
    if not problem and pages != -(-end // page):
        problem = "it lists another number of pages than the program has"
    if not problem:
        signed = [blob[hashes + number * width : hashes + (number + 1) * width] for number in range(pages)]
        problem = _pages(file, start, end, page, algorithm, signed)
    named = _text(blob, team) if team else ""
    return CodeSignature(_text(blob, identifier), named, flags, algorithm, width, beside, {}, blob, b"", problem)
