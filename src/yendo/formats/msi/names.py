"""Stream names of an installer database.

A directory entry of a compound file has room for 31 UTF-16 units, so the system packs two
characters of its 64-letter alphabet into one unit of U+3800..U+47FF, and one into U+4800..U+483F;
U+4840 in front marks a table. Source: observed in databases of the real writer, and the same in
every reader of the format.
"""

_ALPHABET = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz._"
_VALUE = {letter: index for index, letter in enumerate(_ALPHABET)}
TABLE_MARK = "\u4840"


def decode(name: str) -> tuple[str, bool]:
    """``(plain name, is it a table)``. Characters outside the packed range stand for themselves."""
    table = name.startswith(TABLE_MARK)
    out: list[str] = []
    for character in name[1:] if table else name:
        code = ord(character)
        if 0x3800 <= code < 0x4800:
            out += (_ALPHABET[code - 0x3800 & 0x3F], _ALPHABET[code - 0x3800 >> 6])
        elif 0x4800 <= code < 0x4840:
            out.append(_ALPHABET[code - 0x4800])
        else:
            out.append(character)
    return "".join(out), table


def encode(name: str, *, table: bool = False) -> str:
    """The name as it stands in the compound file's directory."""
    out = [TABLE_MARK] if table else []
    at = 0
    while at < len(name):
        first = _VALUE.get(name[at])
        second = _VALUE.get(name[at + 1]) if at + 1 < len(name) else None
        if first is None:
            out.append(name[at])
        elif second is None:
            out.append(chr(0x4800 + first))
        else:
            out.append(chr(0x3800 + first + (second << 6)))
            at += 1
        at += 1
    return "".join(out)
