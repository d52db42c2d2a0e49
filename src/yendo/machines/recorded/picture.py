"""What the observer has seen of a machine (``observe.ps1``), as a state.

Lines of fields between tabs, in a field ``%`` and control characters as ``%25``, ``%09``, ...:

    D path                                a folder
    F path size ticks sha256 version machine
                                          a file; ``-`` for what nobody looked at, ``machine`` of a program's header
    B path base64                         what is in a small file
    K hive key count                      a key with so many keys in it, and behind it its values:
    V name type=data
    P name                                a program that runs
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, timedelta

import msgspec

from yendo.effects import File, Folder, State, Thing
from yendo.effects.things import Data
from yendo.errors import Unreadable
from yendo.formats.fields import unescape
from yendo.machines.contents import ini_values, shortcut
from yendo.platforms.windows.registry_keys import add_lines, is_shared, keeps_drivers, line_of, located, things_of_key

# Source: the machine numbers of the headers of programs.
_MACHINES = {"332": "x86", "34404": "x64", "43620": "arm64"}
_FIRST_DAY = datetime(1, 1, 1, tzinfo=UTC)  # of the framework's ticks of 100 ns


_WRONG = (ValueError, IndexError, binascii.Error, OverflowError)  # what damaged lines end in


class Picture(msgspec.Struct):
    """A machine at one moment. ``programs`` are the names of those that ran."""

    state: State
    programs: tuple[str, ...]


class PictureReader:
    """Reads pictures of one machine; what two of them say alike is the same object in both, which keeps them small."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[Thing, ...]] = {}
        self._keys: set[str] = set()  # of the first picture: that one of them got keys or lost them is no change of it
        self._first = True

    def read(self, lines: Iterable[str]) -> Picture:
        """A picture from its lines, without their ends. Raises Unreadable."""
        found = Picture(State(), ())
        programs: list[str] = []
        block: list[str] = []
        small: list[tuple[str, bytes]] = []
        for number, line in enumerate(lines, 1):
            try:
                kind = line[:2]
                if kind == "V\t":
                    if not block:
                        raise ValueError("a value without its key")
                    block.append(line)
                    continue
                if block:
                    self._add(found.state, block)
                    block = []
                if kind == "K\t":
                    block = [line]
                elif kind in ("F\t", "D\t"):
                    self._add(found.state, [line])
                elif kind == "B\t":
                    path, text = line[2:].split("\t")
                    small.append((unescape(path), base64.b64decode(text, validate=True)))
                elif kind == "P\t":
                    programs.append(unescape(line[2:]))
                else:
                    raise ValueError(f"no line of a picture begins with {line[:20]!r}")
            except _WRONG as error:
                raise Unreadable(f"line {number} of a picture cannot be read: {error}") from error
        if block:
            try:
                self._add(found.state, block)
            except _WRONG as error:
                raise Unreadable(f"the last key of a picture cannot be read: {error}") from error
        upgrades: dict[str, str] = {}
        for thing in found.state.of("registry"):
            upgrades.update(line_of(thing))
        add_lines(found.state, upgrades)
        for path, data in small:
            _add_contents(found.state, path, data)
        found.programs = tuple(programs)
        self._first = False
        return found

    def _add(self, state: State, block: list[str]) -> None:
        text = "\n".join(block)
        if text.startswith("K\t"):
            hive_and_key = text.split("\n", 1)[0].rpartition("\t")[0]
            if self._first:
                self._keys.add(hive_and_key)
            if hive_and_key in self._keys and len(block) == 1:
                return
        things = self._known.get(text)
        if things is None:
            things = self._known[text] = tuple(_things(block))
        for thing in things:
            state.add(thing)


def _things(block: list[str]) -> Iterator[Thing]:
    kind, *fields = block[0].split("\t")
    if kind in "DF" and keeps_drivers(unescape(fields[0])):
        return
    if kind == "D":
        yield Folder(unescape(fields[0]))
    elif kind == "F":
        yield _file(fields)
    else:
        hive, key, count = fields
        _, place, view = located(hive, unescape(key))
        if view == "32" and is_shared(place):
            return
        pairs = [line.split("\t")[1:] for line in block[1:]]
        values = {unescape(name): _value(unescape(text)) for name, text in pairs}
        yield from things_of_key(*located(hive, unescape(key)), values, has_children=count != "0")


def _add_contents(state: State, path: str, data: bytes) -> None:
    """A shortcut in place of its file; the entries of an ini file beside it."""
    if path.lower().endswith(".lnk"):
        link = shortcut(path, data)
        if link is not None:
            state.remove("file", path)
            state.add(link)
        return
    for value in ini_values(path, data):
        state.add(value)


def _file(fields: list[str]) -> File:
    path, size, ticks, sha256, version, machine = fields
    sha256 = sha256.lower()
    changed = (_FIRST_DAY + timedelta(microseconds=int(ticks) // 10)).date().isoformat()
    if sha256 != "-" and not re.fullmatch(r"[0-9a-f]{64}", sha256):
        raise ValueError(f"{sha256[:70]!r} is no hash")
    return File(
        unescape(path),
        int(size),
        None if sha256 == "-" else sha256,
        None if version == "-" else version,
        _MACHINES.get(machine),
        changed=changed,
    )


def _value(text: str) -> tuple[str, Data]:
    kind, _, data = text.partition("=")
    if kind in ("dword", "qword"):
        return kind, int(data)
    if kind == "multi":
        return kind, tuple(data.split("\0")) if data else ()
    if kind not in ("sz", "expand", "binary"):
        raise ValueError(f"{kind[:20]!r} is no type of a value")
    return kind, data.lower() if kind == "binary" else data
