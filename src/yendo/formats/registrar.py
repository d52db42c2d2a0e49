"""Registrar scripts: keys and values to be registered, as text in braces.

Grammar, as the registrar's documentation has it::

    script  = { root "{" { entry } "}" }
    entry   = [ "ForceRemove" | "NoRemove" ] name [ "=" type value ] [ "{" { entry } "}" ]
            | "val" name "=" type value
            | "Delete" name
    type    = "s" (text) | "d" (number) | "b" (bytes as hexadecimal) | "m" (texts) | "e" (expandable text)

A word is anything without a space, or stands between apostrophes, of which two are one; a brace that stands alone opens
or closes a block, so that ``{...}`` can be a name. ``%NAME%`` is replaced.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import msgspec

from yendo.errors import Unreadable

ROOTS = {
    "HKCR": "HKCR", "HKEY_CLASSES_ROOT": "HKCR", "HKLM": "HKLM", "HKEY_LOCAL_MACHINE": "HKLM", "HKCU": "HKCU",
    "HKEY_CURRENT_USER": "HKCU",
    "HKU": "HKU", "HKEY_USERS": "HKU",
}  # fmt: skip
MAX_SCRIPT, MAX_DEPTH, MAX_ENTRIES = 4 << 20, 64, 100_000
_TOKEN = re.compile(r"\s*(?:'((?:[^']|'')*)'|([^\s']\S*))")
_TYPES = {"s": "sz", "d": "dword", "b": "binary", "m": "multi", "e": "expand"}


class Registered(msgspec.Struct, frozen=True):
    """A value, or with ``name`` None a key alone.

    ``data`` as text, a number, or texts; binary data as lower-case hexadecimal.
    """

    root: str
    key: str
    name: str | None
    type: str | None = None
    data: str | int | tuple[str, ...] | None = None


class _Reader:
    def __init__(self, text: str, values: Mapping[str, str]) -> None:
        if len(text) > MAX_SCRIPT:
            raise Unreadable(f"a registrar script of more than {MAX_SCRIPT} characters")
        self.text, self.at, self.count = text, 0, 0
        self.values = {name.upper(): value for name, value in values.items()}

    def peek(self) -> tuple[str, bool] | None:
        """The next word and whether it stood between apostrophes; None at the end."""
        match = _TOKEN.match(self.text, self.at)
        if match is None:
            if self.text[self.at :].strip():
                raise Unreadable(f"registrar script: nothing that can be read at character {self.at}")
            return None
        return (match[1].replace("''", "'"), True) if match[1] is not None else (match[2], False)

    def next(self) -> tuple[str, bool]:
        found = self.peek()
        if found is None:
            raise Unreadable("registrar script: it ends in the middle")
        match = _TOKEN.match(self.text, self.at)
        assert match is not None
        self.at = match.end()
        self.count += 1
        if self.count > MAX_ENTRIES:
            raise Unreadable(f"registrar script: more than {MAX_ENTRIES} words")
        return found

    def mark(self, wanted: str) -> bool:
        """Takes a brace or an equals sign, where it is next."""
        if self.peek() == (wanted, False):
            self.next()
            return True
        return False

    def filled(self, text: str) -> str:
        return re.sub(r"%([A-Za-z0-9_]+)%", lambda match: self.values.get(match[1].upper(), match[0]), text)

    def name(self) -> str:
        word, _ = self.next()
        if word in ("{", "}", "="):
            raise Unreadable(f"registrar script: a name is missing at character {self.at}")
        return self.filled(word)

    def value(self) -> tuple[str, str | int | tuple[str, ...]]:
        kind = self.next()[0].lower()
        data = self.filled(self.next()[0])
        if kind not in _TYPES:
            raise Unreadable(f"registrar script: {kind!r} is no type of value, at character {self.at}")
        if kind == "d":
            try:
                return "dword", int(data, 16 if data.lower().startswith("&h") else 0) if not data.lower().startswith(
                    "&h"
                ) else int(data[2:], 16)
            except ValueError as error:
                raise Unreadable(f"registrar script: {data!r} is no number") from error
        return _TYPES[kind], data.lower() if kind == "b" else tuple(data.split("\0")) if kind == "m" else data

    def entries(self, root: str, key: str, depth: int) -> Iterator[Registered]:
        if depth > MAX_DEPTH:
            raise Unreadable(f"registrar script: keys deeper than {MAX_DEPTH}")
        while not self.mark("}"):
            word, quoted = self.next()
            modifier = "" if quoted else word.lower()
            if modifier == "val":
                name = self.name()
                if not self.mark("="):
                    raise Unreadable(f"registrar script: the value {name!r} says nothing, at character {self.at}")
                yield Registered(root, key, name, *self.value())
                continue
            if modifier == "delete":
                self.name()
                continue
            name = self.name() if modifier in ("forceremove", "noremove") else self.filled(word)
            if name in ("{", "}", "="):
                raise Unreadable(f"registrar script: a name is missing at character {self.at}")
            inner = f"{key}\\{name}" if key else name
            yield Registered(root, inner, None)
            if self.mark("="):
                yield Registered(root, inner, "", *self.value())
            if self.mark("{"):
                yield from self.entries(root, inner, depth + 1)


def parse(text: str, values: Mapping[str, str] = {}) -> list[Registered]:
    """Everything that a script registers, keys before what is in them. Raises Unreadable."""
    reader = _Reader(text, values)
    found: list[Registered] = []
    while reader.peek() is not None:
        root, _ = reader.next()
        if root.upper() not in ROOTS or not reader.mark("{"):
            raise Unreadable(f"registrar script: {root!r} is no root with a brace behind it")
        found += reader.entries(ROOTS[root.upper()], "", 0)
    return found
