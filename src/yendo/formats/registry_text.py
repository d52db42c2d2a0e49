"""The registry as the Windows API layer keeps it: text, one block a key.

Source: observed in ``system.reg`` and ``user.reg`` of wine 8 and wine 10.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

TextValue = tuple[str, str | int | tuple[str, ...]]  # (type, data), as in RegistryValue

_LINE = re.compile(r'(?:"((?:[^"\\]|\\.)*)"|(@))=(.*)', re.S)
_ESCAPE = re.compile(r"\\(x[0-9a-fA-F]{1,4}|[0-7]{1,3}|.)", re.S)
_SIMPLE = {"n": "\n", "t": "\t", "r": "\r", "e": "\x1b", "a": "\a", "b": "\b", "f": "\f", "v": "\v"}
_HEX_KINDS = {"": "binary", "2": "expand", "7": "multi", "1": "sz", "b": "qword", "4": "dword", "0": "binary"}


def blocks(text: str) -> dict[str, str]:
    """The keys of a registry file: escaped key path -> its lines, as they stand."""
    found: dict[str, str] = {}
    for block in text.split("\n\n"):
        block = block.strip("\n")
        if not block.startswith("["):
            continue
        head, _, body = block.partition("\n")
        path, closed, _ = head[1:].rpartition("]")
        if not closed:
            continue
        found[path] = body
    return found


def unescape(text: str) -> str:
    """Undoes the escapes of a key path or of a quoted string."""

    def one(match: re.Match[str]) -> str:
        body = match[1]
        if body[0] == "x" and len(body) > 1:
            return chr(int(body[1:], 16))
        if body[0] in "01234567":
            return chr(int(body, 8))
        return _SIMPLE.get(body, body)

    joined = _ESCAPE.sub(one, text)
    return (
        joined.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
        if "\ud800" <= max(joined, default="") <= "\udfff"
        else joined
    )


def values(body: str) -> Iterator[tuple[str, TextValue]]:
    """``(name, (type, data))`` of each value of a block; a line that cannot be read is passed over."""
    for line in body.replace("\\\n", "").split("\n"):
        match = _LINE.match(line)
        if match:
            try:
                parsed = _value(match[3].strip())
            except ValueError:
                continue
            if parsed:
                yield ("" if match[2] else unescape(match[1])), parsed


def is_link(body: str) -> bool:
    """Whether the key is a symbolic link to another one."""
    return any(line.startswith("#link") for line in body.split("\n"))


def _value(text: str) -> TextValue | None:
    if text.startswith('"'):
        return "sz", unescape(text[1:-1])
    if text.startswith("dword:"):
        return "dword", int(text[6:], 16)
    if match := re.fullmatch(r"str\((\d)\):\"(.*)\"", text, re.S):
        content = unescape(match[2])
        if match[1] == "7":
            return "multi", tuple(part for part in content.split("\0") if part)
        return "expand" if match[1] == "2" else "sz", content
    if match := re.fullmatch(r"hex(?:\(([0-9a-f]+)\))?:(.*)", re.sub(r"\s", "", text)):
        raw = bytes.fromhex(match[2].replace(",", ""))
        kind = _HEX_KINDS.get(match[1] or "", "binary")
        if kind in ("expand", "sz"):
            return kind, raw.decode("utf-16-le", "replace").rstrip("\0")
        if kind == "multi":
            return kind, tuple(part for part in raw.decode("utf-16-le", "replace").split("\0") if part)
        if kind in ("qword", "dword"):
            return kind, int.from_bytes(raw, "little")
        return "binary", raw.hex()
    return None
