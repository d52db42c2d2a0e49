"""How compiled setup scripts pack their data: three methods in forms of their own, unpacked piece by piece.

``deflate``: stored blocks carry their length without its complement; where a block has the complement as well, it is
read too. ``bzip2``: see ``short_bzip2``. ``lzma``: five bytes of properties before the data, and in some files a byte
before these that says whether x86 branches were converted first. Source: the format as found in files, and as an
independent reader of archives unpacks it.
"""

from __future__ import annotations

import lzma
import struct
import zlib
from collections.abc import Iterator
from typing import Literal

from yendo.errors import Unreadable
from yendo.formats import short_bzip2

Method = Literal["none", "deflate", "bzip2", "lzma", "filtered lzma"]
PIECE, OUTPUT = 1 << 16, 1 << 22
MAX_DICTIONARY = 1 << 28
_DAMAGE = (zlib.error, lzma.LZMAError, struct.error, EOFError, IndexError)


def unpacked(data: bytes, method: Method) -> Iterator[bytes]:
    """What is packed, in pieces of at most 4 MB (``bzip2``: a block). Raises Unreadable on damaged data."""
    try:
        match method:
            case "none":
                yield data
            case "deflate":
                yield from _inflated(data)
            case "bzip2":
                yield from short_bzip2.blocks(data)
            case "lzma":
                yield from _from_lzma(data, 0, converted=False)
            case "filtered lzma":
                if not data or data[0] > 1:
                    raise Unreadable("the packed data does not say whether branches were converted")
                yield from _from_lzma(data, 1, converted=data[0] == 1)
    except _DAMAGE as error:
        raise Unreadable(f"the packed data is damaged: {error}") from error


def unpack(data: bytes, method: Method, limit: int) -> bytes:
    """At most ``limit`` bytes. Raises Unreadable on damaged data."""
    out = bytearray()
    for piece in unpacked(data, method):
        out += piece
        if len(out) >= limit:
            break
    return bytes(out[:limit])


def looks_like(data: bytes) -> list[Method]:
    """All methods, the one whose first bytes these resemble first. No proof of anything: short data resembles much."""
    order: list[Method] = ["deflate", "bzip2", "lzma", "filtered lzma"]
    if len(data) > 7:
        likely = {
            "bzip2": data[0] == 0x31 and data[1] < 14,
            "lzma": data[:3] == b"\x5d\0\0" and data[5] == 0,
            "filtered lzma": data[0] < 2 and data[1:4] == b"\x5d\0\0" and data[6] == 0,
        }
        order.sort(key=lambda method: not likely.get(method, False))
    return order


def _from_lzma(data: bytes, begin: int, *, converted: bool) -> Iterator[bytes]:
    properties, dictionary = data[begin], struct.unpack_from("<I", data, begin + 1)[0]
    if properties >= 225 or dictionary > MAX_DICTIONARY:
        raise Unreadable(f"the packed data asks for a dictionary of {dictionary} bytes, more than 256 MB")
    packing = {
        "id": lzma.FILTER_LZMA1,
        "lc": properties % 9,
        "lp": properties // 9 % 5,
        "pb": properties // 45,
        "dict_size": max(dictionary, 4096),
    }
    if packing["lc"] + packing["lp"] > 4:
        raise Unreadable("the packed data's properties make no sense")
    engine = lzma.LZMADecompressor(
        lzma.FORMAT_RAW, filters=[{"id": lzma.FILTER_X86}, packing] if converted else [packing]
    )
    fed = begin + 5
    while not engine.eof:
        piece = data[fed : fed + PIECE] if engine.needs_input else b""
        fed += len(piece)
        out = engine.decompress(piece, OUTPUT)
        if out:
            yield out
        elif engine.needs_input and fed >= len(data):
            break
    if converted and not engine.eof:
        # The conversion looks ahead a few bytes. Without an end mark these are held back until more comes.
        try:
            yield engine.decompress(bytes(16), OUTPUT)[:4]
        except lzma.LZMAError:
            return


def _inflated(data: bytes) -> Iterator[bytes]:
    engine, fed = zlib.decompressobj(-15), 0
    while not engine.eof and fed < len(data):
        piece, before = data[fed : fed + PIECE], engine.copy()
        try:
            yield from _all_of(engine, piece)
            fed += len(piece)
        except zlib.error:
            # zlib misses the complement of a stored block's length: it is told what it wants to hear.
            taken = _taken_before_error(before, piece)
            length = piece[taken - 3 : taken - 1]
            if taken < 3 or piece[taken - 1 : taken + 1] == bytes(byte ^ 0xFF for byte in length):
                raise
            engine = before.copy()
            yield from _all_of(engine, piece[: taken - 1] + bytes(byte ^ 0xFF for byte in length))
            stored = int.from_bytes(length, "little")
            fed += taken - 1
            for at in range(fed, fed + stored, PIECE):
                yield from _all_of(engine, data[at : min(at + PIECE, fed + stored)])
            fed += stored


def _all_of(engine: zlib._Decompress, piece: bytes) -> list[bytes]:
    """What a piece unpacks to, all or nothing: a list, so that an error comes before any of it is handed on."""
    found = [engine.decompress(piece, OUTPUT)]
    while engine.unconsumed_tail:
        found.append(engine.decompress(engine.unconsumed_tail, OUTPUT))
        if len(found) > 16384 // 4:
            raise Unreadable("the packed data unpacks to more than 16 GB")
    return found


def _taken_before_error(before: zlib._Decompress, piece: bytes) -> int:
    """How many bytes of a piece, not more than 64 KB, can be taken before zlib gives up."""

    def fails(count: int) -> bool:
        trial = before.copy()
        try:
            _all_of(trial, piece[:count])
        except zlib.error:
            return True
        return False

    high = 16
    while high < len(piece) and not fails(high):
        high *= 4
    low, high = 0 if high == 16 else high // 4, min(high, len(piece))
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if fails(middle) else (middle, high)
    return low
