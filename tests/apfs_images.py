"""Makes a small volume of APFS for tests, after the published description; 7-Zip reads it like ours does."""

from __future__ import annotations

import struct
from pathlib import Path, PurePosixPath

from yendo.formats.apfs import checksum

BLOCK = 4096
_OBJECT_MAP, _MAP_TREE, _VOLUME, _VOLUME_MAP, _VOLUME_TREE, _FILES = 8, 9, 10, 11, 12, 13
_OMAP, _TREE, _NODE, _FS, _NX, _FSTREE = 0xB, 0x2, 0x3, 0xD, 0x1, 0xE
_PHYSICAL = 0x40000000


def _object(number: int, kind: int, body: bytes, subtype: int = 0) -> bytes:
    block = bytearray(struct.pack("<QQQII", 0, number, 1, kind, subtype) + body)
    block = block.ljust(BLOCK, b"\0")
    struct.pack_into("<Q", block, 0, checksum(bytes(block)))
    return bytes(block)


def _node(
    number: int, records: list[tuple[bytes, bytes]], subtype: int, *, fixed: bool, physical: bool, **more: int
) -> bytes:
    """One node of a tree: ``level`` above the leaves, ``root`` unless it is told otherwise."""
    level, root = more.get("level", 0), more.get("root", 1)
    flags = root | (0 if level else 2) | (4 if fixed else 0)
    end = BLOCK - (40 if root else 0)
    table, keys, values = bytearray(), bytearray(), bytearray()
    for key, value in records:
        values[:0] = value
        at_value = len(values)
        table += struct.pack("<HH", len(keys), at_value) if fixed else struct.pack(
            "<4H", len(keys), len(key), at_value, len(value)
        )  # fmt: skip
        keys += key
    room = -(-len(table) // 64) * 64 or 64
    assert 56 + room + len(keys) + len(values) <= end, "too much for one node"
    head = struct.pack("<HHIHHHHHHHH", flags, level, len(records), 0, room, len(keys), end - 56 - room - len(keys) - len(values), 0xFFFF, 0, 0xFFFF, 0)  # fmt: skip
    body = head + bytes(table).ljust(room, b"\0") + bytes(keys)
    body = body.ljust(end - 32 - len(values), b"\0") + bytes(values)
    if root:
        sizes = (16, 16) if fixed else (0, 0)
        tree_flags = 0x10 if physical else 0
        longest = max((len(key) for key, _ in records), default=0), max((len(value) for _, value in records), default=0)
        body += struct.pack("<IIIIIIQQ", tree_flags, BLOCK, *sizes, *longest, more.get("count", len(records)), more.get("nodes", 1))  # fmt: skip
    kind = (_TREE if root else _NODE) | (_PHYSICAL if physical else 0)
    return _object(number, kind, body, subtype)


def _record(number: int, kind: int, rest: bytes = b"") -> bytes:
    return struct.pack("<Q", number | kind << 60) + rest


def _inode(parent: int, number: int, name: str, mode: int, size: int, children: int = 1) -> bytes:
    value = struct.pack("<QQQQQQQiIIIIIHHQ", parent, number, *(10**18,) * 4, 0, children, 0, 0, 0, 0, 80, mode, 0, 0)
    text = name.encode() + b"\0"
    fields = [(4, 2, text)]
    if mode >> 12 == 8:
        fields.append((8, 32, struct.pack("<QQQQQ", size, -(-size // BLOCK) * BLOCK, 0, size, 0)))
    heads = b"".join(struct.pack("<BBH", kind, flags, len(data)) for kind, flags, data in fields)
    data = b"".join(data.ljust(-(-len(data) // 8) * 8, b"\0") for _, _, data in fields)
    return value + struct.pack("<HH", len(fields), len(data)) + heads + data


def volume(folder: Path, label: str = "Lantern", *, encrypted: bool = False, data_at: int = 96) -> bytes:
    """A container with one volume that tells capitals apart, with what lies in a folder; contents from a block on."""
    records: list[tuple[int, int, bytes, bytes]] = []
    data = bytearray()
    numbers = {PurePosixPath("."): 2}
    paths = sorted(folder.rglob("*"))
    for number, path in enumerate(paths, 16):
        numbers[PurePosixPath(path.relative_to(folder).as_posix())] = number
    children = dict.fromkeys(numbers.values(), 0)
    for path in paths:
        name = PurePosixPath(path.relative_to(folder).as_posix())
        number, parent = numbers[name], numbers[name.parent]
        children[parent] += 1
        link = path.is_symlink()
        content = b"" if link or path.is_dir() else path.read_bytes()
        mode = 0o120755 if link else 0o40755 if path.is_dir() else 0o100000 | path.stat().st_mode & 0o777
        kind = 10 if link else 4 if path.is_dir() else 8
        text = path.name.encode() + b"\0"
        records.append((parent, 9, struct.pack("<H", len(text)) + text, struct.pack("<QQH", number, 10**18, kind)))
        records.append((number, 3, b"", _inode(parent, number, path.name, mode, len(content))))
        if link:
            target = str(path.readlink()).encode() + b"\0"
            attribute = b"com.apple.fs.symlink\0"
            value = struct.pack("<HH", 6, len(target)) + target
            records.append((number, 4, struct.pack("<H", len(attribute)) + attribute, value))
        if content:
            blocks = -(-len(content) // BLOCK)
            place = data_at + len(data) // BLOCK
            records.append((number, 6, b"", struct.pack("<I", 1)))
            records.append((number, 8, struct.pack("<Q", 0), struct.pack("<QQQ", blocks * BLOCK, place, 0)))
            data += content.ljust(blocks * BLOCK, b"\0")
    records.append((2, 3, b"", _inode(1, 2, "root", 0o40755, 0, children[2])))
    records.append((1, 9, struct.pack("<H", 5) + b"root\0", struct.pack("<QQH", 2, 10**18, 4)))
    return _container(sorted(records), bytes(data), data_at, label, encrypted)


def _container(
    records: list[tuple[int, int, bytes, bytes]], data: bytes, data_at: int, label: str, encrypted: bool
) -> bytes:
    packed = [(_record(number, kind, rest), value) for number, kind, rest, value in records]
    leaves: list[list[tuple[bytes, bytes]]] = [[]]
    for key, value in packed:
        if sum(len(a) + len(b) + 8 for a, b in leaves[-1]) + len(key) + len(value) > BLOCK - 300:
            leaves.append([])
        leaves[-1].append((key, value))
    assert len(leaves) < data_at - _FILES, "too many files for this small writer"
    root = 1028
    places = {root: _FILES} | {root + 1 + number: _FILES + 1 + number for number in range(len(leaves))}
    blocks = {}
    if len(leaves) == 1:
        places = {root: _FILES}
        blocks[_FILES] = _node(root, leaves[0], _FSTREE, fixed=False, physical=False)
    else:
        above = [(leaf[0][0], struct.pack("<Q", root + 1 + number)) for number, leaf in enumerate(leaves)]
        more = {"level": 1, "count": len(packed), "nodes": len(leaves) + 1}
        blocks[_FILES] = _node(root, above, _FSTREE, fixed=False, physical=False, **more)
        for number, leaf in enumerate(leaves):
            blocks[_FILES + 1 + number] = _node(root + 1 + number, leaf, _FSTREE, fixed=False, physical=False, root=0)
    total = data_at + len(data) // BLOCK + 1

    def mapping(entries: dict[int, int]) -> list[tuple[bytes, bytes]]:
        return [(struct.pack("<QQ", one, 1), struct.pack("<IIQ", 0, BLOCK, at)) for one, at in sorted(entries.items())]

    def head_of(tree: int) -> bytes:
        return struct.pack("<IIIIQQQQQ", 1, 0, _TREE | _PHYSICAL, _TREE | _PHYSICAL, tree, 0, 0, 0, 0)

    blocks[_OBJECT_MAP] = _object(_OBJECT_MAP, _OMAP | _PHYSICAL, head_of(_MAP_TREE))
    blocks[_MAP_TREE] = _node(_MAP_TREE, mapping({1026: _VOLUME}), _OMAP, fixed=True, physical=True)
    blocks[_VOLUME_MAP] = _object(_VOLUME_MAP, _OMAP | _PHYSICAL, head_of(_VOLUME_TREE))
    blocks[_VOLUME_TREE] = _node(_VOLUME_TREE, mapping(places), _OMAP, fixed=True, physical=True)
    volume = bytearray(BLOCK - 32)
    struct.pack_into("<4sIQQQ", volume, 0, b"APSB", 0, 2, 0, 0)
    struct.pack_into("<IIIQQ", volume, 84, _TREE, _TREE | _PHYSICAL, _TREE | _PHYSICAL, _VOLUME_MAP, root)
    struct.pack_into("<Q", volume, 144, 4096)
    struct.pack_into("<16s", volume, 208, bytes(range(16)))
    struct.pack_into("<Q", volume, 232, 0 if encrypted else 1)
    volume[672 : 672 + len(label)] = label.encode()
    blocks[_VOLUME] = _object(1026, _FS, bytes(volume))
    head = bytearray(BLOCK - 32)
    struct.pack_into("<4sIQQQQ16sQQ", head, 0, b"NXSB", BLOCK, total, 0, 0, 2, bytes(range(16)), 4096, 2)
    struct.pack_into("<IIQQIIIIII", head, 72, 4, 4, 1, 5, 1, 1, 0, 1, 0, 1)
    struct.pack_into("<QQQII", head, 120, 0, _OBJECT_MAP, 0, 0, 1)
    struct.pack_into("<Q", head, 152, 1026)
    newest = _object(1, _NX | 0x80000000, bytes(head))
    out = bytearray(total * BLOCK)
    for place, block in {0: newest, 1: newest, **blocks}.items():
        out[place * BLOCK : (place + 1) * BLOCK] = block
    out[data_at * BLOCK : data_at * BLOCK + len(data)] = data
    return bytes(out)
