"""Registry hives: files that hold keys and values, read and written.

Source: the published layout of the format (base block, bins, cells, and the records nk, vk, sk, lf, lh, li, ri and db).
Written is version 1.5, with keys in order, hashed leaves, values of more than 16,344 bytes in pieces, and one security
descriptor that all keys share.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import BinaryIO

import msgspec

from yendo.errors import Unreadable
from yendo.formats.slices import size_of

SZ, EXPAND, BINARY, DWORD, MULTI, QWORD = 1, 2, 3, 4, 7, 11
MAX_SIZE = 512 << 20
MAX_KEYS, MAX_VALUES, MAX_DEPTH = 1_000_000, 4_000_000, 512
_BLOCK, _NONE, _PIECE = 4096, 0xFFFFFFFF, 16344
_LEAF = 500  # keys in one leaf; with more of them, a list of leaves
_ROOT, _PLAIN_NAME = 0x2C, 0x20  # flags of a key: the hive's entry that cannot be deleted; its name is Latin
_INLINE = 0x80000000


class HiveValue(msgspec.Struct, frozen=True):
    """``type`` by its number; ``data`` as it lies there. The unnamed value has the name ""."""

    name: str
    type: int
    data: bytes


class HiveKey(msgspec.Struct):
    """A key by its name, with its values and the keys below it."""

    name: str
    values: list[HiveValue] = []
    keys: list[HiveKey] = []

    def below(self, path: str) -> HiveKey:
        """The key of a path below this one; what is missing of it is made."""
        found = self
        for name in filter(None, path.split("\\")):
            inner = next((key for key in found.keys if key.name.lower() == name.lower()), None)
            if inner is None:
                inner = HiveKey(name)
                found.keys.append(inner)
            found = inner
        return found

    def every(self, path: str = "") -> Iterator[tuple[str, HiveKey]]:
        """This key and all below it, by their paths from here."""
        waiting = [(path, self)]
        while waiting:
            at, key = waiting.pop()
            yield at, key
            waiting += [(f"{at}\\{inner.name}" if at else inner.name, inner) for inner in reversed(key.keys)]


# --- reading ----------------------------------------------------------------------------------------------------------


class _Reader:
    def __init__(self, data: bytes) -> None:
        self.data = data
        self.seen: set[int] = set()
        self.keys = self.values = self.room = 0

    def cell(self, offset: int) -> bytes:
        """What a cell holds. Raises Unreadable where it lies outside, or nobody uses it."""
        at = _BLOCK + offset
        if offset == _NONE or offset % 8 or at + 8 > len(self.data):
            raise Unreadable(f"the hive names a cell at {offset:#x}, which is none")
        size = -struct.unpack_from("<i", self.data, at)[0]
        if size < 8 or at + size > len(self.data):
            raise Unreadable(f"the hive's cell at {offset:#x} is {size} bytes long")
        return self.data[at + 4 : at + size]

    def key(self, offset: int) -> tuple[HiveKey, list[int]]:
        """A key with its values, and where the keys below it are."""
        if offset in self.seen:
            raise Unreadable(f"the hive has its key at {offset:#x} twice")
        self.seen.add(offset)
        self.keys += 1
        if self.keys > MAX_KEYS:
            raise Unreadable(f"the hive has more than {MAX_KEYS} keys")
        cell = self.cell(offset)
        if cell[:2] != b"nk" or len(cell) < 76:
            raise Unreadable(f"the hive's cell at {offset:#x} is no key")
        flags = struct.unpack_from("<H", cell, 2)[0]
        below, _, listed, _, values, names = struct.unpack_from("<6I", cell, 20)
        length = struct.unpack_from("<H", cell, 72)[0]
        key = HiveKey(_name(cell[76 : 76 + length], latin=bool(flags & _PLAIN_NAME)))
        if values:
            if values > MAX_VALUES - self.values:
                raise Unreadable(f"the hive has more than {MAX_VALUES} values")
            self.values += values
            where = self.cell(names)
            if len(where) < 4 * values:
                raise Unreadable(f"the hive's key {key.name} has fewer values than it says")
            key.values = [self.value(one) for one in struct.unpack_from(f"<{values}I", where)]
        return key, self.listed(listed, 0) if below else []

    def listed(self, offset: int, depth: int) -> list[int]:
        cell = self.cell(offset)
        mark, count = cell[:2], struct.unpack_from("<H", cell, 2)[0]
        width = {b"lf": 8, b"lh": 8, b"li": 4, b"ri": 4}.get(mark)
        if width is None or len(cell) < 4 + width * count:
            raise Unreadable(f"the hive's cell at {offset:#x} is no list of keys")
        found = [struct.unpack_from("<I", cell, 4 + width * number)[0] for number in range(count)]
        if mark != b"ri":
            return found
        if depth:
            raise Unreadable("the hive has a list of lists of lists of keys")
        return [one for inner in found for one in self.listed(inner, 1)]

    def value(self, offset: int) -> HiveValue:
        cell = self.cell(offset)
        if cell[:2] != b"vk" or len(cell) < 20:
            raise Unreadable(f"the hive's cell at {offset:#x} is no value")
        length, size, where, kind, flags = struct.unpack_from("<HIIIH", cell, 2)
        name = _name(cell[20 : 20 + length], latin=bool(flags & 1))
        if size & _INLINE:
            size &= ~_INLINE
            if size > 4:
                raise Unreadable(f"the hive's value {name} says that it has {size} bytes in four")
            return HiveValue(name, kind, cell[8 : 8 + size])
        self.room += size
        if self.room > len(self.data):  # cells that are named again and again
            raise Unreadable("the hive's values are larger than the hive")
        return HiveValue(name, kind, self.content(where, size) if size else b"")

    def content(self, offset: int, size: int) -> bytes:
        cell = self.cell(offset)
        if size <= _PIECE or cell[:2] != b"db":
            if len(cell) < size:
                raise Unreadable(f"the hive's cell at {offset:#x} has {len(cell)} of {size} bytes")
            return cell[:size]
        count, where = struct.unpack_from("<HI", cell, 2)
        pieces = self.cell(where)
        if len(pieces) < 4 * count or count * _PIECE < size:
            raise Unreadable(f"the hive's cell at {offset:#x} has fewer pieces than it says")
        found = b"".join(self.cell(one)[:_PIECE] for one in struct.unpack_from(f"<{count}I", pieces))
        if len(found) < size:
            raise Unreadable(f"the hive's cell at {offset:#x} has {len(found)} of {size} bytes")
        return found[:size]


def read(file: BinaryIO) -> HiveKey:
    """The hive's root with all that is below it. Raises Unreadable."""
    if size_of(file) > MAX_SIZE:
        raise Unreadable(f"the hive is larger than {MAX_SIZE >> 20} MB")
    file.seek(0)
    data = file.read()
    if data[:4] != b"regf" or len(data) < _BLOCK + 32:
        raise Unreadable("it does not begin like a registry hive")
    reader = _Reader(data)
    try:
        root, below = reader.key(struct.unpack_from("<I", data, 36)[0])
        waiting = [(root, below, 1)]
        while waiting:
            key, offsets, depth = waiting.pop()
            if offsets and depth > MAX_DEPTH:
                raise Unreadable(f"the hive has keys more than {MAX_DEPTH} deep")
            for offset in offsets:
                inner, further = reader.key(offset)
                key.keys.append(inner)
                waiting.append((inner, further, depth + 1))
    except struct.error as error:
        raise Unreadable(f"the hive is damaged: {error}") from error
    return root


def _name(raw: bytes, *, latin: bool) -> str:
    return raw.decode("latin-1") if latin else raw.decode("utf-16-le", "replace")


# --- writing ----------------------------------------------------------------------------------------------------------


def _sid(*parts: int) -> bytes:
    return struct.pack(f"<BB6s{len(parts) - 1}I", 1, len(parts) - 1, parts[0].to_bytes(6, "big"), *parts[1:])


def _descriptor() -> bytes:
    """Owned by administrators; they and the system may do everything, users and app containers may read."""
    system, administrators, users, containers = _sid(5, 18), _sid(5, 32, 544), _sid(5, 32, 545), _sid(15, 2, 1)
    rights = ((system, 0xF003F), (administrators, 0xF003F), (users, 0x20019), (containers, 0x20019))
    entries = b"".join(struct.pack("<BBHI", 0, 2, 8 + len(sid), mask) + sid for sid, mask in rights)
    acl = struct.pack("<BBHHH", 2, 0, 8 + len(entries), len(rights), 0) + entries
    owner = 20 + len(acl)
    group = owner + len(administrators)
    return struct.pack("<BBHIIII", 1, 0, 0x8004, owner, group, 0, 20) + acl + administrators + system


class _Writer:
    def __init__(self) -> None:
        self.out = bytearray()
        self.bins: list[int] = []  # where each begins
        self.end = 0  # of the bin that is being filled

    def room(self, size: int) -> int:
        """Where a cell for so many bytes lies; a cell never lies in two bins."""
        whole = (size + 4 + 7) & ~7
        if len(self.out) + whole > self.end:
            self.close()
            self.bins.append(len(self.out))
            self.end = len(self.out) + (32 + whole + _BLOCK - 1) // _BLOCK * _BLOCK
            self.out += bytes(32)
        at = len(self.out)
        self.out += struct.pack("<i", -whole) + bytes(whole - 4)
        return at

    def put(self, data: bytes) -> int:
        at = self.room(len(data))
        self.out[at + 4 : at + 4 + len(data)] = data
        return at

    def close(self) -> None:
        """The rest of a bin is a free cell; the bin's head is written."""
        if not self.bins:
            return
        if left := self.end - len(self.out):
            self.out += struct.pack("<i", left) + bytes(left - 4)
        begin = self.bins[-1]
        self.out[begin : begin + 32] = struct.pack("<4sIIQQI", b"hbin", begin, self.end - begin, 0, 0, 0)

    def value(self, one: HiveValue) -> int:
        name, flags = _named(one.name)
        size = len(one.data)
        if size <= 4:
            where = int.from_bytes(one.data.ljust(4, b"\0"), "little")
            size |= _INLINE
        elif size <= _PIECE:
            where = self.put(one.data)
        else:
            # Windows leaves four bytes free behind every piece, and another reader counts on it
            pieces = [self.put(one.data[at : at + _PIECE] + bytes(4)) for at in range(0, size, _PIECE)]
            listed = self.put(struct.pack(f"<{len(pieces)}I", *pieces))
            where = self.put(struct.pack("<2sHI", b"db", len(pieces), listed))
        return self.put(struct.pack("<2sHIIIHH", b"vk", len(name), size, where, one.type, flags, 0) + name)

    def listed(self, keys: list[tuple[str, int]]) -> int:
        leaves = []
        for at in range(0, len(keys), _LEAF):
            some = keys[at : at + _LEAF]
            cells = b"".join(struct.pack("<II", offset, _hash(name)) for name, offset in some)
            leaves.append(self.put(struct.pack("<2sH", b"lh", len(some)) + cells))
        if len(leaves) == 1:
            return leaves[0]
        return self.put(struct.pack(f"<2sH{len(leaves)}I", b"ri", len(leaves), *leaves))


def write(file: BinaryIO, root: HiveKey, *, name: str = "", changed: int = 0) -> None:
    """Writes a hive; the same keys and values give the same bytes. ``changed`` is the time of every key, in units of
    100 ns since 1601. Raises ValueError where a name is too long, or there twice.
    """
    writer = _Writer()
    places = {id(key): writer.room(76 + len(_named(key.name)[0])) for _, key in _checked(root)}
    count = len(places)
    descriptor = _descriptor()
    security = writer.room(20 + len(descriptor))
    held = struct.pack("<2sHIIII", b"sk", 0, security, security, count, len(descriptor)) + descriptor
    writer.out[security + 4 : security + 4 + len(held)] = held
    waiting = [(root, places[id(root)])]
    while waiting:
        key, above = waiting.pop()
        inner = sorted(key.keys, key=lambda one: _raised(one.name).encode("utf-16-be", "surrogatepass"))
        values = [writer.value(one) for one in key.values]
        named = writer.put(struct.pack(f"<{len(values)}I", *values)) if values else _NONE
        below = writer.listed([(one.name, places[id(one)]) for one in inner]) if inner else _NONE
        raw, flags = _named(key.name)
        widest = max((_wide(one.name) for one in key.keys), default=0)
        longest = max((_wide(one.name) for one in key.values), default=0)
        largest = max((len(one.data) for one in key.values), default=0)
        cell = struct.pack(
            "<2sHQIIIIIIIIIIIIIIIHH",
            b"nk", (_ROOT & ~_PLAIN_NAME if key is root else 0) | (_PLAIN_NAME if flags else 0), changed, 0, above,
            len(inner), 0, below, _NONE, len(values), named, security, _NONE, widest, 0, longest, largest, 0,
            len(raw), 0,
        )  # fmt: skip
        at = places[id(key)] + 4
        writer.out[at : at + len(cell) + len(raw)] = cell + raw
        waiting += [(one, places[id(key)]) for one in reversed(inner)]
    writer.close()
    head = struct.pack(
        "<4sIIQIIIIIII", b"regf", 1, 1, changed, 1, 5, 0, 1, places[id(root)], len(writer.out), 1
    ) + name.encode("utf-16-le")[:62].ljust(64, b"\0")
    head = head.ljust(508, b"\0")
    total = 0
    for word in struct.unpack("<127I", head):
        total ^= word
    total = {0: 1, _NONE: _NONE - 1}.get(total, total)
    file.write(head + struct.pack("<I", total) + bytes(_BLOCK - 512))
    file.write(writer.out)


def _checked(root: HiveKey) -> Iterator[tuple[str, HiveKey]]:
    """Every key. Raises ValueError: Windows takes names of keys up to 255 characters, of values up to 16,383."""
    for path, key in root.every():
        for names, most in (([one.name for one in key.keys], 255), ([one.name for one in key.values], 16383)):
            if len({_raised(name) for name in names}) < len(names):
                raise ValueError(f"{path or key.name} has a name twice, in large or small letters")
            if long := next((name for name in names if _wide(name) > 2 * most), None):
                raise ValueError(f"{path or key.name} has a name of more than {most} characters: {long[:40]}...")
        if any("\\" in one.name or "\0" in one.name or not one.name for one in key.keys):
            raise ValueError(f"{path or key.name} has a key whose name no path can hold")
        yield path, key


def _named(name: str) -> tuple[bytes, int]:
    """A name as it is stored, and whether it is in Latin letters."""
    try:
        return name.encode("latin-1"), 1
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "surrogatepass"), 0


def _wide(name: str) -> int:
    """Bytes of a name in UTF-16."""
    return len(name.encode("utf-16-le", "surrogatepass"))


def _raised(name: str) -> str:
    """A name in capitals, letter by letter: the order of keys, and how they are found."""
    return "".join(large if len(large := letter.upper()) == 1 else letter for letter in name)


def _hash(name: str) -> int:
    total = 0
    raised = _raised(name).encode("utf-16-le", "surrogatepass")
    for unit in struct.unpack(f"<{len(raised) // 2}H", raised):
        total = (total * 37 + unit) & 0xFFFFFFFF
    return total
