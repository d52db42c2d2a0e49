"""Writes the code signature of a program of macOS: its list of pages, what it must be, what it may, and the message.

Source: as ``mach_o``; the language of requirements by Apple's published ``requirement.h``. Held against programs that
Apple's tool signed by nobody: the same file comes of them, byte for byte.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable
from typing import BinaryIO

import msgspec

from yendo.errors import NotCovered, Unreadable
from yendo.formats import mach_o
from yendo.formats.mach_o import AD_HOC, ENTITLEMENTS, HARDENED, INFO, MAX_COMMANDS, REQUIREMENTS, MachSlice
from yendo.formats.slices import at

_DIRECTORY, _REQUIREMENTS, _REQUIREMENT, _XML = 0xFADE0C02, 0xFADE0C01, 0xFADE0C00, 0xFADE7171
_SUPERBLOB, _CMS = 0xFADE0CC0, 0xFADE0B01
_SEGMENT, _SIGNATURE, _BUILD_VERSION, _PROGRAM = 0x19, 0x1D, 0x32, 2
_PAGE = 0x4000  # of the larger processors, and so of both
_MAIN_PROGRAM, _MAY_BE_DEBUGGED = 1, 0x10
_IDENTIFIER, _AND, _FIELD, _APPLE, _GENERIC, _HASH = 2, 6, 11, 15, 14, 4
_EXISTS, _EQUAL = 0, 1
_INTERMEDIATE, _LEAF = "2a864886f76364060206", "2a864886f7636406010d"  # 1.2.840.113635.100.6.2.6 and .6.1.13
MadeMessage = Callable[[bytes], bytes]


class CodeWanted(msgspec.Struct, frozen=True):
    """What a signature is to say. ``beside`` are the files that lie beside the program, by their slot; ``requirement``
    what a later version must be too, empty for none; ``entitlements`` a property list.
    """

    identifier: str
    team: str = ""
    flags: int = AD_HOC
    beside: dict[int, bytes] = {}
    requirement: bytes = b""
    entitlements: bytes = b""
    debuggable: bool = False


class _Commands(msgspec.Struct):
    """The load commands of a program, and what of them a signature needs."""

    data: bytearray
    count: int
    room: int
    sort: int
    power: int = 12  # pages of 4 KB, unless the program is signed by others already
    signature: int | None = None
    linkedit: int | None = None
    text: tuple[int, int] = (0, 0)
    runtime: int = 0
    info: tuple[int, int] | None = None


# --- requirements -----------------------------------------------------------------------------------------------------


def _counted(data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + data.ljust(-(-len(data) // 4) * 4, b"\0")


def by_vendor(identifier: str, team: str) -> bytes:
    """Whoever has this identifier and is of this team, under Apple's root, with a certificate to give programs out."""
    words = struct.pack(">II", _AND, _IDENTIFIER) + _counted(identifier.encode())
    words += struct.pack(">II", _AND, _APPLE)
    for slot, field in ((1, _INTERMEDIATE), (0, _LEAF)):
        words += struct.pack(">III", _AND, _GENERIC, slot) + _counted(bytes.fromhex(field)) + struct.pack(">I", _EXISTS)
    words += struct.pack(">II", _FIELD, 0) + _counted(b"subject.OU") + struct.pack(">I", _EQUAL)
    return words + _counted(team.encode())


def by_certificate(identifier: str, digest: bytes, *, root: bool) -> bytes:
    """Whoever has this identifier and signs under this certificate: SHA-1 of the one at the end, or of the signer's."""
    slot = 0xFFFFFFFF if root else 0
    words = struct.pack(">II", _AND, _IDENTIFIER) + _counted(identifier.encode())
    return words + struct.pack(">II", _HASH, slot) + _counted(digest)


def _requirements(expression: bytes) -> bytes:
    if not expression:
        return struct.pack(">III", _REQUIREMENTS, 12, 0)
    one = struct.pack(">III", _REQUIREMENT, 12 + len(expression), 1) + expression
    return struct.pack(">5I", _REQUIREMENTS, 20 + len(one), 1, 3, 20) + one


# --- programs ---------------------------------------------------------------------------------------------------------


def _commands(file: BinaryIO, one: MachSlice, name: str) -> _Commands:
    head = at(file, one.offset, 32)
    sort, count, length = struct.unpack_from("<III", head, 12)
    if head[:4] != b"\xcf\xfa\xed\xfe":
        raise NotCovered(f"{name}: programs of 32 bits are not signed here")
    if length > min(MAX_COMMANDS, one.size) or count > length:
        raise Unreadable(f"{name}: load commands of {length} bytes")
    data = bytearray(at(file, one.offset + 32, length))
    found = _Commands(data, count, one.size - 32, sort)
    where = 0
    while where + 8 <= len(data):
        kind, step = struct.unpack_from("<II", data, where)
        if step < 8 or where + step > len(data):
            raise Unreadable(f"{name}: a load command of {step} bytes")
        if kind == _SEGMENT and step >= 72:
            _segment(found, where, step)
        elif kind == _SIGNATURE:
            found.signature = where
        elif kind == _BUILD_VERSION and step >= 24:
            found.runtime = struct.unpack_from("<I", data, where + 16)[0]
        where += step
    if found.signature is not None:
        found.power = _power(file, one, struct.unpack_from("<I", data, found.signature + 8)[0])
    return found


def _power(file: BinaryIO, one: MachSlice, place: int) -> int:
    """The size of pages by which a program is signed: both are found on processors by ARM."""
    head = at(file, one.offset + place, 4096)
    if len(head) >= 20 and head[:4] == struct.pack(">I", _SUPERBLOB):
        (first,) = struct.unpack_from(">I", head, 16)
        if first + 40 <= len(head) and head[first + 39] == 14:
            return 14
    return 12


def _segment(found: _Commands, where: int, step: int) -> None:
    title = bytes(found.data[where + 8 : where + 24]).rstrip(b"\0")
    offset, size = struct.unpack_from("<QQ", found.data, where + 40)
    if title == b"__LINKEDIT":
        found.linkedit = where
    if title == b"__TEXT":
        found.text = offset, size
    for number in range(min(struct.unpack_from("<I", found.data, where + 64)[0], (step - 72) // 80)):
        section = where + 72 + 80 * number
        length, begins = struct.unpack_from("<QI", found.data, section + 40)
        if begins:
            found.room = min(found.room, begins - 32)
        if bytes(found.data[section : section + 16]).rstrip(b"\0") == b"__info_plist" and title == b"__TEXT":
            found.info = begins, length


def sign(file: BinaryIO, out: BinaryIO, wanted: CodeWanted, made: MadeMessage | None, room: int, name: str) -> None:
    """Writes the program anew with a signature over it, for each of its processors; ``made`` gives the message over a
    list of pages, none for a signature by nobody; ``room`` is how much may be taken for it.

    Raises Unreadable, NotCovered.
    """
    slices = mach_o.read(file, name, judged=False)
    if at(file, 0, 4) in (b"\xcf\xfa\xed\xfe", b"\xce\xfa\xed\xfe"):
        _sign_one(file, out, slices[0], wanted, made, room, name)
        return
    align = 1 << 14
    place = -(-(8 + 20 * len(slices)) // align) * align
    heads = []
    for number, one in enumerate(slices):
        out.seek(place)
        _sign_one(file, out, one, wanted, made, room, f"{name} for {one.processor}")
        size = out.tell() - place
        if place + size >= 1 << 32:
            raise NotCovered(f"{name}: programs over 4 GB for several processors are not signed here")
        kinds = struct.unpack(">II", at(file, 8 + number * _width(file), 8))
        heads.append(struct.pack(">5I", *kinds, place, size, 14))
        place += -(-size // align) * align
    end = out.tell()
    out.seek(0)
    out.write(struct.pack(">II", 0xCAFEBABE, len(slices)) + b"".join(heads))
    out.seek(end)


def _width(file: BinaryIO) -> int:
    return 32 if at(file, 0, 4) == struct.pack(">I", 0xCAFEBABF) else 20


def _sign_one(
    file: BinaryIO, out: BinaryIO, one: MachSlice, wanted: CodeWanted, made: MadeMessage | None, room: int, name: str
) -> None:
    commands = _commands(file, one, name)
    if commands.linkedit is None:
        raise NotCovered(f"{name} has no part for what the linker leaves behind, and cannot be signed")
    end = one.size
    if commands.signature is not None:
        end = struct.unpack_from("<I", commands.data, commands.signature + 8)[0]
    elif len(commands.data) + 16 > commands.room:
        raise NotCovered(f"{name} has no room in its head for a signature")
    else:
        commands.signature = len(commands.data)
        commands.data += struct.pack("<4I", _SIGNATURE, 16, 0, 0)
        commands.count += 1
    if not 32 + len(commands.data) <= end <= one.size:
        raise Unreadable(f"{name}: its signature lies in its head")
    start = out.tell()
    limit = -(-end // 16) * 16
    blobs = _beside(file, one, commands, wanted)
    size = _size(wanted, blobs, limit, commands.power, room)
    _placed(commands, limit, size)
    head = bytearray(at(file, one.offset, 32))
    struct.pack_into("<II", head, 16, commands.count, len(commands.data))
    out.write(bytes(head) + bytes(commands.data))
    _copied(file, out, one.offset + 32 + len(commands.data), end - 32 - len(commands.data), name)
    out.write(bytes(limit - end))
    directory = _directory(out, start, limit, commands, wanted, blobs)
    message = made(directory) if made else b""
    whole = _set({0: directory, **{slot: blob for slot, (blob, held) in blobs.items() if held}}, message)
    if len(whole) > size:
        raise Unreadable(f"{name}: a message of {len(message)} bytes is longer than was thought")
    out.seek(start + limit)
    out.write(whole.ljust(size, b"\0"))


def _beside(file: BinaryIO, one: MachSlice, commands: _Commands, wanted: CodeWanted) -> dict[int, tuple[bytes, bool]]:
    """What is hashed beside the pages, by its slot, and whether it lies in the signature."""
    found = {slot: (data, False) for slot, data in wanted.beside.items()}
    if INFO not in found and commands.info is not None:
        place, length = commands.info
        found[INFO] = at(file, one.offset + place, min(length, 1 << 20)), False
    found[REQUIREMENTS] = _requirements(wanted.requirement), True
    if wanted.entitlements:
        found[ENTITLEMENTS] = struct.pack(">II", _XML, 8 + len(wanted.entitlements)) + wanted.entitlements, True
    return found


def _fixed(wanted: CodeWanted) -> int:
    return 96 if wanted.flags & HARDENED else 88


def _size(wanted: CodeWanted, blobs: dict[int, tuple[bytes, bool]], limit: int, power: int, room: int) -> int:
    """How much the signature may take: it stands in what is hashed, so it is known before."""
    names = len(wanted.identifier.encode()) + 1 + (len(wanted.team.encode()) + 1 if wanted.team else 0)
    pages = -(-limit // (1 << power))
    directory = _fixed(wanted) + names + 32 * (max(blobs) + pages)
    held = sum(8 + len(blob) for blob, inside in blobs.values() if inside)
    return -(-(12 + 16 + 8 + directory + held + 8 + room) // 16) * 16


def _placed(commands: _Commands, limit: int, size: int) -> None:
    assert commands.signature is not None and commands.linkedit is not None
    struct.pack_into("<II", commands.data, commands.signature + 8, limit, size)
    (begins,) = struct.unpack_from("<Q", commands.data, commands.linkedit + 40)
    held = limit + size - begins
    if begins > limit or held >= 1 << 32:
        raise Unreadable(f"what the linker leaves behind begins at {begins}, behind the program")
    struct.pack_into("<Q", commands.data, commands.linkedit + 32, -(-held // _PAGE) * _PAGE)
    struct.pack_into("<Q", commands.data, commands.linkedit + 48, held)


def _copied(file: BinaryIO, out: BinaryIO, start: int, size: int, name: str) -> None:
    file.seek(start)
    while size > 0:
        piece = file.read(min(size, 1 << 20))
        if not piece:
            raise Unreadable(f"{name} ends before its size")
        out.write(piece)
        size -= len(piece)


def _directory(
    out: BinaryIO, start: int, limit: int, commands: _Commands, wanted: CodeWanted,
    blobs: dict[int, tuple[bytes, bool]],
) -> bytes:  # fmt: skip
    power = commands.power
    names = wanted.identifier.encode() + b"\0"
    fixed, special = _fixed(wanted), max(blobs)
    team_at = fixed + len(names) if wanted.team else 0
    names += wanted.team.encode() + b"\0" if wanted.team else b""
    page = 1 << power
    hashes = [hashlib.sha256(blobs[slot][0]).digest() if slot in blobs else bytes(32) for slot in range(special, 0, -1)]
    out.seek(start)
    left = limit
    while left > 0:
        piece = out.read(min(page, left))
        hashes.append(hashlib.sha256(piece).digest())
        left -= len(piece)
    first = fixed + len(names) + 32 * special
    flags = (_MAIN_PROGRAM if commands.sort == _PROGRAM else 0) | (_MAY_BE_DEBUGGED if wanted.debuggable else 0)
    hardened = wanted.flags & HARDENED
    body = struct.pack(
        ">7I4BIIIIQQQQ", 0x20500 if hardened else 0x20400, wanted.flags, first, fixed, special, len(hashes) - special,
        min(limit, 0xFFFFFFFF), 32, 2, 0, power, 0, 0, team_at, 0, limit if limit > 0xFFFFFFFF else 0,
        *commands.text, flags,
    )  # fmt: skip
    body += struct.pack(">II", commands.runtime, 0) if hardened else b""
    body += names + b"".join(hashes)
    return struct.pack(">II", _DIRECTORY, 8 + len(body)) + body


def _set(blobs: dict[int, bytes], message: bytes) -> bytes:
    held = {**dict(sorted(blobs.items())), 0x10000: struct.pack(">II", _CMS, 8 + len(message)) + message}
    place, index, body = 12 + 8 * len(held), b"", b""
    for slot, blob in held.items():
        index += struct.pack(">II", slot, place + len(body))
        body += blob
    return struct.pack(">III", _SUPERBLOB, place + len(body), len(held)) + index + body


def room_of(file: BinaryIO, one: MachSlice, name: str = "the program") -> int:
    """How much a program's signature takes altogether, in bytes; 0 for none."""
    commands = _commands(file, one, name)
    return 0 if commands.signature is None else int(struct.unpack_from("<I", commands.data, commands.signature + 12)[0])
