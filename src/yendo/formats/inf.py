"""Setup information files (``.inf``): sections of entries, with strings in several languages.

Source: the documentation "General Syntax Rules for INF Files" and "INF Strings Section". Held by the files of other
people that are read in ``tests/test_drivers.py``, and by what the layer's own reader says of them.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from pathlib import Path

import msgspec

from yendo.errors import Unreadable

MAX_SIZE = 8 << 20
_TOKEN = re.compile(r"%([^%\r\n]*)%")
_SECTION = re.compile(r"\s*\[([^\]]*)\]")


class InfLine(msgspec.Struct, frozen=True):
    """An entry of a section. ``key`` is None where it has no equals sign and several values; a sole value is both.

    ``number`` counts lines from 1.
    """

    key: str | None
    values: tuple[str, ...]
    number: int

    def value(self, at: int) -> str:
        """The value at a place, empty where there is none."""
        return self.values[at] if at < len(self.values) else ""


class Inf:
    """``sections`` by their names in small letters, as they stand; ``lines`` and ``get`` put the strings in.

    ``language`` is the Windows language whose strings are taken, 0x0809 for instance; 0 takes those without one.
    """

    def __init__(self, text: str, *, language: int = 0) -> None:
        self.sections: dict[str, list[InfLine]] = {}
        self._put_in: dict[str, list[InfLine]] = {}  # sections with the strings put in
        self._by_key: dict[str, dict[str, list[InfLine]]] = {}
        self._read(text)
        self.strings = self._strings(language)

    def _read(self, text: str) -> None:
        name = ""
        pending: list[str] = []
        first = 0
        for number, line in enumerate(text.splitlines(), 1):
            bare, goes_on = _uncommented(line)
            if goes_on:
                pending.append(bare)
                first = first or number
                continue
            whole, at = "".join([*pending, bare]), first or number
            pending, first = [], 0
            if match := _SECTION.match(whole):
                name = match[1].strip().lower()
                self.sections.setdefault(name, [])
            elif whole.strip() and name:
                self.sections[name].append(_line(whole, at))
        if "".join(pending).strip() and name:
            self.sections[name].append(_line("".join(pending), first))

    def _strings(self, language: int) -> dict[str, str]:
        """Those without a language, with those of the language over them; where it has none, of its main form.

        Source: "INF Strings Section": the language's own section, else the neutral or default one of the same
        primary language, else the one without.
        """
        found: dict[str, str] = {}
        primary = language & 0x3FF
        for name in (
            "strings",
            *([f"strings.{code:04x}" for code in (primary, 0x400 | primary, language)] if language else []),
        ):
            for line in self.sections.get(name, ()):
                if line.key is not None:
                    found[line.key.lower()] = line.value(0)
        return found

    @property
    def languages(self) -> list[int]:
        """The languages that have strings of their own."""
        found = []
        for name in self.sections:
            head, _, code = name.partition(".")
            if head == "strings" and re.fullmatch("[0-9a-f]{4}", code):
                found.append(int(code, 16))
        return sorted(found)

    def expand(self, text: str) -> str:
        """With its strings put in. What names no string stays: folders are named by numbers in the same way."""

        if "%" not in text:
            return text

        def one(match: re.Match[str]) -> str:
            return "%" if not match[1] else self.strings.get(match[1].lower(), match[0])

        return _TOKEN.sub(one, text)

    def lines(self, section: str) -> Iterator[InfLine]:
        """The entries of a section; none where it is not there."""
        name = section.lower()
        if name not in self._put_in:
            self._put_in[name] = [
                InfLine(
                    None if line.key is None else self.expand(line.key),
                    tuple(self.expand(value) for value in line.values),
                    line.number,
                )
                for line in self.sections.get(name, ())
            ]
        yield from self._put_in[name]

    def has(self, section: str) -> bool:
        return section.lower() in self.sections

    def all(self, section: str, key: str) -> list[InfLine]:
        """Every entry of a name, in order."""
        name = section.lower()
        if name not in self._by_key:
            found: dict[str, list[InfLine]] = {}
            for line in self.lines(section):
                if line.key is not None:
                    found.setdefault(line.key.lower(), []).append(line)
            self._by_key[name] = found
        return self._by_key[name].get(key.lower(), [])

    def get(self, section: str, key: str) -> str:
        """The first value of the first entry of a name; empty where there is none."""
        return next((line.value(0) for line in self.all(section, key)), "")


def decode(data: bytes) -> str:
    """The text of a file: by its mark, else by its zeros, else in the code page of Western Europe.

    Source: the documentation: UTF-16 with a mark, or the system's code page; UTF-8 is met with a mark. Raises
    Unreadable where it is too large.
    """
    if len(data) > MAX_SIZE:
        raise Unreadable(f"a setup information file of {len(data)} bytes is larger than any ({MAX_SIZE})")
    for mark, coding in ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        if data.startswith(mark):
            return data[2:].decode(coding, "replace")
    if data.startswith(codecs.BOM_UTF8):
        return data[3:].decode("utf-8", "replace")
    if len(data) > 1 and data[1::2].count(0) > len(data) // 4:
        return data.decode("utf-16-le", "replace")
    return data.decode("cp1252", "replace")


def read(path: Path, *, language: int = 0) -> Inf:
    """Raises Unreadable."""
    try:
        if path.stat().st_size > MAX_SIZE:
            raise Unreadable(f"{path.name} is larger than any setup information file ({MAX_SIZE} bytes)")
        return Inf(decode(path.read_bytes()), language=language)
    except OSError as error:
        raise Unreadable(f"{path.name} cannot be read: {error.strerror}") from error


def _uncommented(line: str) -> tuple[str, bool]:
    """Without its comment, and whether it goes on in the next line."""
    if ";" not in line and '"' not in line:
        bare = line.rstrip()
        return (bare[:-1], True) if bare.endswith("\\") else (bare, False)
    quoted = False
    for at, letter in enumerate(line):
        if letter == '"':
            quoted = not quoted
        elif letter == ";" and not quoted:
            line = line[:at]
            break
    bare = line.rstrip()
    return (bare[:-1], True) if bare.endswith("\\") and not quoted else (bare, False)


def _bare_line(text: str, number: int) -> InfLine:
    """An entry without any quotes."""
    name, equals, rest = text.partition("=")
    if equals and "," not in name:
        return InfLine(name.strip(), tuple(part.strip() for part in rest.split(",")), number)
    values = tuple(part.strip() for part in text.split(","))
    return InfLine(values[0] if len(values) == 1 else None, values, number)


def _line(text: str, number: int) -> InfLine:
    """An entry: the first equals sign outside quotes ends its name, commas outside quotes part its values."""
    if '"' not in text:
        return _bare_line(text, number)
    parts: list[str] = [""]
    key: str | None = None
    quoted = was_quoted = False
    at = 0

    def done() -> None:
        nonlocal was_quoted
        parts[-1] = parts[-1] if was_quoted else parts[-1].strip()
        was_quoted = False

    while at < len(text):
        letter = text[at]
        if letter == '"':
            if quoted and text[at + 1 : at + 2] == '"':
                parts[-1] += '"'
                at += 1
            else:
                if not quoted:
                    parts[-1] = parts[-1].strip()
                quoted, was_quoted = not quoted, True
        elif quoted:
            parts[-1] += letter
        elif letter == "=" and key is None and len(parts) == 1:
            done()
            key, parts = parts[0], [""]
        elif letter == ",":
            done()
            parts.append("")
        elif not (was_quoted and letter.isspace()):
            parts[-1] += letter
        at += 1
    done()
    if key is None and len(parts) == 1:
        key = parts[0]  # a sole value is its own name, as the system's reader has it
    return InfLine(key, tuple(parts), number)
