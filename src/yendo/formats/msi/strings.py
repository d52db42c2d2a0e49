"""The string pool: every text of a database once, by number.

``_StringPool`` holds one record of two 16-bit words a string (length in bytes, reference count)
after a first one that holds the code page and, in its top bit, whether references are three bytes
wide; ``_StringData`` holds the texts end to end. A text of 64 KiB and more has a record of length 0
whose count is the high word of the length, and its low word and count in the record after it.
Source: observed in databases of the real writer; confirmed by reading ours back with the real code.
"""

from __future__ import annotations

import codecs
import struct
from array import array
from collections.abc import Sequence
from itertools import accumulate

from yendo.errors import Unreadable

LONG_REFERENCES = 0x80000000

_ONE_BYTE = frozenset({"cp1250", "cp1251", "cp1252", "cp1253", "cp1254", "cp1257", "latin-1", "iso8859-1", "ascii"})
_SPECIAL = {
    0: "cp1252",
    65001: "utf-8",
    1200: "utf-16-le",
    932: "cp932",
    936: "gbk",
    949: "cp949",
    950: "cp950",
    20127: "ascii",
    28591: "latin-1",
    10000: "mac-roman",
}


def codec_of(code_page: int) -> str:
    """The Python codec of a Windows code page; 0 means neutral. Raises Unreadable for an unknown one."""
    name = _SPECIAL.get(code_page, f"cp{code_page}")
    try:
        return codecs.lookup(name).name
    except LookupError as error:
        raise Unreadable(f"the database names code page {code_page}, which does not exist") from error


def is_known(code_page: int) -> bool:
    """Whether a code page is one."""
    try:
        codec_of(code_page)
    except Unreadable:
        return False
    return True


def known_codec(code_page: int) -> str:
    """The same for reading: for an unknown one that of western Windows, since most texts are plain."""
    return codec_of(code_page if is_known(code_page) else 1252)


def read_pool(pool: bytes, data: bytes, *, any_page: bool = False) -> tuple[list[str], int, int]:
    """``(strings by number, code page, bytes a reference)``; number 0 is the empty string.

    With ``any_page`` a code page that does not exist is read as that of western Windows.

    Raises Unreadable when the lengths run past the data.
    """
    if len(pool) < 4:
        raise Unreadable("_StringPool is shorter than its first record")
    (head,) = struct.unpack_from("<I", pool)
    code_page, width = head & 0x7FFFFFFF, 3 if head & LONG_REFERENCES else 2
    codec = known_codec(code_page) if any_page else codec_of(code_page)
    words = array("H")
    words.frombytes(pool[4 : 4 + (len(pool) - 4) // 4 * 4])
    lengths, counts = words[0::2], words[1::2]
    long_ones = 0 in lengths and any(length == 0 and count for length, count in zip(lengths, counts, strict=True))
    if not long_ones and (data.isascii() or codec in _ONE_BYTE):
        return _cut(data.decode(codec, "replace"), lengths), code_page, width
    strings = [""]
    offset = at = 0
    size = len(data)
    while at < len(words):
        length, count = words[at], words[at + 1]
        at += 2
        if length == 0 and count:
            if at >= len(words):
                raise Unreadable("_StringPool ends inside the record of a long string")
            length = (count << 16) + words[at]
            at += 2
        end = offset + length
        if end > size:
            raise Unreadable(f"string {len(strings)} ends at byte {end} of _StringData, which has {size}")
        strings.append(data[offset:end].decode(codec, "replace") if length else "")
        offset = end
    return strings, code_page, width


def _cut(text: str, lengths: Sequence[int]) -> list[str]:
    """The strings of a pool without long ones, where a byte is a character. Raises Unreadable."""
    ends = list(accumulate(lengths))
    if ends and ends[-1] > len(text):
        raise Unreadable(f"the strings end at byte {ends[-1]} of _StringData, which has {len(text)}")
    return ["", *(text[start:end] for start, end in zip([0, *ends], ends, strict=False))]


class PoolWriter:
    """Collects strings, hands out their numbers, and encodes the two streams."""

    def __init__(self, code_page: int = 1252) -> None:
        self.code_page, self._codec = code_page, codec_of(code_page)
        self._numbers: dict[str, int] = {"": 0}
        self._counts: list[int] = [0]

    def add(self, text: str) -> int:
        """The number of ``text``, counted as used once more. Raises ValueError if the code page lacks it."""
        number = self._numbers.get(text)
        if number is None:
            try:
                text.encode(self._codec)
            except UnicodeEncodeError as error:
                raise ValueError(f"{text!r} cannot be written in code page {self.code_page}") from error
            number = self._numbers[text] = len(self._counts)
            self._counts.append(0)
        if number:
            self._counts[number] += 1
        return number

    @property
    def number(self) -> dict[str, int]:
        """The number of every text so far."""
        return self._numbers

    @property
    def width(self) -> int:
        """Bytes a reference: 3 once there are more strings than two bytes can number."""
        return 3 if len(self._counts) > 0xFFFF else 2

    def encode(self) -> tuple[bytes, bytes]:
        """``(_StringPool, _StringData)``."""
        pool = bytearray(struct.pack("<I", self.code_page | (LONG_REFERENCES if self.width == 3 else 0)))
        data = bytearray()
        for text, number in self._numbers.items():
            if not number:
                continue
            raw = text.encode(self._codec)
            count = min(self._counts[number], 0xFFFF)
            if len(raw) > 0xFFFF:
                pool += struct.pack("<HHHH", 0, len(raw) >> 16, len(raw) & 0xFFFF, count)
            else:
                pool += struct.pack("<HH", len(raw), count)
            data += raw
        return bytes(pool), bytes(data)
