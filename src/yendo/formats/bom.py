"""The bill of materials of a flat package: every path that it lays, with mode, owner, size and checksum.

Source: published descriptions of the layout (a store of numbered blocks, trees of pages, names by their parent). No
other program that reads or writes it is in the registries here, so what ours writes was read by ours alone; the
checksum is held against POSIX ``cksum``. Numbers are big-endian.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator, Sequence
from typing import Literal

import msgspec

from yendo.errors import Unreadable

MAGIC = b"BOMStore"
MAX_BILL, MAX_BLOCKS, MAX_NAME = 256 << 20, 2_000_000, 4_096
_HEAD, _PAGE, _A_PAGE, _ANY_PROCESSOR = 512, 4_096, 256, 3  # bytes before the first block; of a page; entries on one
_KINDS: dict[int, Literal["file", "folder", "link", "other"]] = {1: "file", 2: "folder", 3: "link", 4: "other"}
_REVERSED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))


class BillItem(msgspec.Struct, frozen=True):
    """``path`` is below the root that the bill is for, ``.`` the root itself; ``mode`` without the type; ``checksum``
    as ``cksum`` tells it, of a file's content or of where a link leads.
    """

    path: str
    kind: Literal["file", "folder", "link", "other"]
    mode: int
    user: int
    group: int
    size: int = 0
    checksum: int = 0
    target: str = ""


class Checksum:
    """POSIX ``cksum`` by the piece: its polynomial is the usual one, its bits come in the other order."""

    def __init__(self) -> None:
        self._state, self._length = 0xFFFFFFFF, 0

    def update(self, data: bytes) -> None:
        self._state = zlib.crc32(data.translate(_REVERSED), self._state)
        self._length += len(data)

    def value(self) -> int:
        length = self._length
        tail = length.to_bytes((length.bit_length() + 7) // 8, "little")
        state = zlib.crc32(tail.translate(_REVERSED), self._state) ^ 0xFFFFFFFF
        return int(f"{state:032b}"[::-1], 2) ^ 0xFFFFFFFF


# --- reading


class _Store:
    """The blocks of a bill and its named ones. Raises Unreadable."""

    def __init__(self, data: bytes) -> None:
        if len(data) < _HEAD or data[:8] != MAGIC:
            raise Unreadable("it is no bill of materials")
        _, _, index, index_length, names, _ = struct.unpack_from(">6I", data, 8)
        self.data = data
        (count,) = self._at(index, ">I")
        if count > MAX_BLOCKS or 4 + 8 * count > index_length:
            raise Unreadable(f"a bill of {count} blocks does not fit where they are listed")
        self.blocks = [self._at(index + 4 + 8 * at, ">2I") for at in range(count)]
        self.named = dict(self._names(names))

    def _at(self, offset: int, form: str) -> tuple[int, ...]:
        try:
            return struct.unpack_from(form, self.data, offset)
        except struct.error as error:
            raise Unreadable("it is cut off") from error

    def _names(self, offset: int) -> Iterator[tuple[str, int]]:
        (count,) = self._at(offset, ">I")
        offset += 4
        for _ in range(min(count, 64)):
            number, length = self._at(offset, ">IB")
            yield self.data[offset + 5 : offset + 5 + length].decode("ascii", "replace"), number
            offset += 5 + length

    def block(self, number: int) -> bytes:
        if not 0 < number < len(self.blocks):
            raise Unreadable(f"it has no block {number}")
        begin, length = self.blocks[number]
        if begin + length > len(self.data):
            raise Unreadable("it is cut off")
        return self.data[begin : begin + length]


def read(data: bytes) -> list[BillItem]:
    """What a bill lists, in its order. Raises Unreadable."""
    if len(data) > MAX_BILL:
        raise Unreadable(f"a bill of {len(data)} bytes is larger than any ({MAX_BILL})")
    try:
        return list(_listed(_Store(data)))
    except struct.error as error:
        raise Unreadable("a block of it is too short") from error


def _listed(store: _Store) -> Iterator[BillItem]:
    root = store.named.get("Paths")
    if root is None:
        raise Unreadable("it lists no paths")
    tree = store.block(root)
    if tree[:4] != b"tree":
        raise Unreadable("its paths are no tree")
    paths: dict[int, str] = {}
    for value, key in _pairs(store, struct.unpack_from(">I", tree, 8)[0]):
        number, details = struct.unpack_from(">2I", store.block(value))
        name = store.block(key)
        (parent,) = struct.unpack_from(">I", name)
        own = name[4:].split(b"\0")[0].decode("utf-8", "surrogateescape")
        if len(own) > MAX_NAME or (parent and parent not in paths):
            raise Unreadable(f"{own[:40]!r} lies in a folder that is not listed")
        paths[number] = f"{paths[parent]}/{own}" if parent else own
        yield _item(paths[number], store.block(details))


def _item(path: str, block: bytes) -> BillItem:
    kind, _, _, mode, user, group, _, size, _, checksum, length = struct.unpack_from(">BBHHIIIIBII", block)
    target = block[31 : 31 + length].rstrip(b"\0").decode("utf-8", "surrogateescape") if kind == 3 else ""
    return BillItem(path, _KINDS.get(kind, "other"), mode & 0o7777, user, group, size, checksum, target)


def _pairs(store: _Store, number: int) -> Iterator[tuple[int, int]]:
    """Value and key of each entry, page by page along the leaves."""
    page = store.block(number)
    for _ in range(64):
        leaf, count = struct.unpack_from(">2H", page)
        if leaf:
            break
        page = store.block(struct.unpack_from(">I", page, 12)[0])
    else:
        raise Unreadable("its tree is deeper than any")
    seen = set()
    while True:
        leaf, count, forward, _ = struct.unpack_from(">2H2I", page)
        for at in range(count):
            yield struct.unpack_from(">2I", page, 12 + 8 * at)
        if not forward:
            return
        if forward in seen:
            raise Unreadable("its pages lead in a circle")
        seen.add(forward)
        page = store.block(forward)


# --- writing


class _Blocks:
    def __init__(self) -> None:
        self.parts: list[bytes] = [b""]  # block 0 is never used

    def add(self, data: bytes) -> int:
        self.parts.append(data)
        return len(self.parts) - 1


def written(items: Sequence[BillItem]) -> bytes:
    """A bill of these, each with the folders that it lies in; the topmost is ``.``.

    Raises ValueError where a folder is missing, or one path stands twice.
    """
    blocks = _Blocks()
    size = sum(item.size for item in items if item.kind == "file")
    info = blocks.add(struct.pack(">3I", 1, len(items), 1) + struct.pack(">4I", 0, 0, size & 0xFFFFFFFF, 0))
    numbers: dict[str, int] = {}
    pairs = []
    for number, item in enumerate(_ordered(items), 1):
        above, _, name = item.path.rpartition("/")
        numbers[item.path] = number
        details = blocks.add(_details(item))
        value = blocks.add(struct.pack(">2I", number, details))
        raw = name.encode("utf-8", "surrogateescape")
        pairs.append((value, blocks.add(struct.pack(">I", numbers[above] if above else 0) + raw + b"\0")))
    named = {"BomInfo": info, "Paths": _tree(blocks, pairs)}
    # hard links and sizes over 4 GB: none are listed
    named["HLIndex"] = _tree(blocks, [])
    named["VIndex"] = blocks.add(struct.pack(">3IB", 1, _tree(blocks, [], size=128), 0, 0))
    named["Size64"] = _tree(blocks, [])
    return _laid(blocks, named)


def _ordered(items: Sequence[BillItem]) -> list[BillItem]:
    """By the number of the folder and then by name, since that is what a tree's keys are looked up by."""
    inside: dict[str, list[BillItem]] = {}
    for item in items:
        inside.setdefault(item.path.rpartition("/")[0], []).append(item)
    found = list(inside.get("", []))
    for item in found:  # grows while it is walked: what lies in each comes behind all that is there already
        found += sorted(inside.pop(item.path, []), key=lambda one: one.path.encode("utf-8", "surrogateescape"))
    if [item.path for item in found[:1]] != ["."] or len({item.path for item in found}) != len(items):
        raise ValueError("a bill begins with its root, has every folder, and each path once")
    return found


def _details(item: BillItem) -> bytes:
    kind = next(number for number, name in _KINDS.items() if name == item.kind)
    of_type = {"file": 0o100000, "folder": 0o040000, "link": 0o120000}.get(item.kind, 0)
    target = item.target.encode("utf-8", "surrogateescape") + b"\0" if item.kind == "link" else b""
    fixed = (kind, 1, _ANY_PROCESSOR, of_type | item.mode, item.user, item.group, 0)
    return struct.pack(">BBHHIIIIBII", *fixed, item.size & 0xFFFFFFFF, 1, item.checksum, len(target)) + target


def _tree(blocks: _Blocks, pairs: Sequence[tuple[int, int]], size: int = _PAGE) -> int:
    """A tree over entries: leaves that are chained, and one page above them where there are several."""
    groups = [pairs[at : at + _A_PAGE] for at in range(0, len(pairs), _A_PAGE)] or [[]]
    first = len(blocks.parts)
    for at, group in enumerate(groups):
        forward = first + at + 1 if at + 1 < len(groups) else 0
        blocks.add(_page(1, group, forward, first + at - 1 if at else 0, size))
    root = first
    while len(groups) > 1:  # each entry above names a page and the last key on it
        above = [(first + at, group[-1][1]) for at, group in enumerate(groups)]
        groups = [above[at : at + _A_PAGE] for at in range(0, len(above), _A_PAGE)]
        first = root = len(blocks.parts)
        for group in groups:
            blocks.add(_page(0, group, 0, 0, size))
    return blocks.add(b"tree" + struct.pack(">4IB", 1, root, size, len(pairs), 0))


def _page(leaf: int, group: Sequence[tuple[int, int]], forward: int, backward: int, size: int) -> bytes:
    packed = struct.pack(">2H2I", leaf, len(group), forward, backward)
    return (packed + b"".join(struct.pack(">2I", *pair) for pair in group)).ljust(size, b"\0")


def _laid(blocks: _Blocks, named: dict[str, int]) -> bytes:
    offset = _HEAD
    table = []
    for part in blocks.parts:
        table.append(struct.pack(">2I", offset if part else 0, len(part)))
        offset += len(part)
    names = struct.pack(">I", len(named)) + b"".join(
        struct.pack(">IB", number, len(name)) + name.encode() for name, number in named.items()
    )
    free = struct.pack(">I", 2) + bytes(16)
    index = struct.pack(">I", len(table)) + b"".join(table) + free
    used = sum(1 for part in blocks.parts if part)
    head = MAGIC + struct.pack(">6I", 1, used, offset + len(names), len(index), offset, len(names))
    return head.ljust(_HEAD, b"\0") + b"".join(blocks.parts) + names + index
