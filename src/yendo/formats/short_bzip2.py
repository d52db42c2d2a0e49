"""The bzip2 of compiled setup scripts: without the stream's header, checksums and randomising.

Source: the bzip2 format, in which each block begins with 0x31 (and 0x17 ends the stream) instead of
six bytes, a checksum and a bit; blocks are of 900,000 bytes at most.
"""

from __future__ import annotations

from collections.abc import Iterator

from yendo.errors import Unreadable

_BLOCK, _END, _MAX_BLOCK = 0x31, 0x17, 900_000


class _Bits:
    def __init__(self, data: bytes) -> None:
        self.data, self.at, self.held, self.count = data, 0, 0, 0

    def take(self, count: int) -> int:
        while self.count < count:
            if self.at >= len(self.data):
                raise Unreadable("the packed data is cut short")
            piece = self.data[self.at : self.at + 8]
            self.held = (self.held << (8 * len(piece))) | int.from_bytes(piece, "big")
            self.count += 8 * len(piece)
            self.at += len(piece)
        self.count -= count
        value = self.held >> self.count
        self.held &= (1 << self.count) - 1
        return value


def blocks(data: bytes) -> Iterator[bytes]:
    """What is packed, block by block. Raises Unreadable on damaged data."""
    bits = _Bits(data)
    while True:
        try:
            mark = bits.take(8)
        except Unreadable:
            return
        if mark == _END:
            return
        if mark != _BLOCK:
            raise Unreadable(f"a packed block begins with {mark:#x}")
        yield _block(bits)


def _block(bits: _Bits) -> bytes:
    start = bits.take(24)
    used = bits.take(16)
    alphabet = [
        16 * row + column
        for row in range(16)
        if used & 0x8000 >> row
        for columns in (bits.take(16),)
        for column in range(16)
        if columns & 0x8000 >> column
    ]
    groups, selectors = bits.take(3), bits.take(15)
    if not alphabet or not 2 <= groups <= 6 or not 1 <= selectors <= 18002:
        raise Unreadable("a packed block's tables make no sense")
    order, chosen = list(range(groups)), []
    for _ in range(selectors):
        place = 0
        while bits.take(1):
            place += 1
            if place >= groups:
                raise Unreadable("a packed block's tables make no sense")
        order.insert(0, order.pop(place))
        chosen.append(order[0])
    size = len(alphabet) + 2
    tables = [_codes(bits, size) for _ in range(groups)]
    return _restore(_symbols(bits, tables, chosen, alphabet), start)


def _codes(bits: _Bits, size: int) -> dict[tuple[int, int], int]:
    length, lengths = bits.take(5), []
    for _ in range(size):
        while bits.take(1):
            length += -1 if bits.take(1) else 1
            if not 1 <= length <= 20:
                raise Unreadable("a packed block's code lengths make no sense")
        if not 1 <= length <= 20:
            raise Unreadable("a packed block's code lengths make no sense")
        lengths.append(length)
    table, code = {}, 0
    for wanted in range(1, 21):
        for symbol, found in enumerate(lengths):
            if found == wanted:
                table[wanted, code] = symbol
                code += 1
        code <<= 1
    return table


def _symbols(
    bits: _Bits, tables: list[dict[tuple[int, int], int]], chosen: list[int], alphabet: list[int]
) -> bytearray:
    end, out, order = len(alphabet) + 1, bytearray(), list(alphabet)
    run = weight = 0
    for selector in chosen:
        table = tables[selector]
        for _ in range(50):
            code = length = 0
            while True:
                code, length = code << 1 | bits.take(1), length + 1
                symbol = table.get((length, code))
                if symbol is not None:
                    break
                if length > 20:
                    raise Unreadable("a packed block holds no such code")
            if symbol <= 1:
                run, weight = run + (symbol + 1 << weight), weight + 1
                if run > _MAX_BLOCK:
                    raise Unreadable("a packed block is longer than the format allows")
                continue
            if run:
                out += bytes([order[0]]) * run
                run = weight = 0
            if len(out) > _MAX_BLOCK:
                raise Unreadable("a packed block is longer than the format allows")
            if symbol == end:
                return out
            order.insert(0, order.pop(symbol - 1))
            out.append(order[0])
    raise Unreadable("a packed block has no end")


def _restore(last: bytearray, start: int) -> bytes:
    """Undoes the sorting of the block, and then the runs."""
    if not last or start >= len(last):
        raise Unreadable("a packed block begins nowhere")
    first, total = [0] * 256, 0
    for value in range(256):
        first[value] = total
        total += last.count(value)
    follow = [0] * len(last)
    for index, value in enumerate(last):
        follow[first[value]] = index
        first[value] += 1
    out, place, same, before = bytearray(), follow[start], 0, -1
    for _ in range(len(last)):
        value = last[place]
        place = follow[place]
        if same == 4:
            out += bytes([before]) * value
            same, before = 0, -1
        else:
            same = same + 1 if value == before else 1
            before = value
            out.append(value)
    return bytes(out)
