"""The texts of a compiled script: variables, folders and languages inside strings."""

from __future__ import annotations

from functools import cached_property

import msgspec

from yendo.formats.script_exe import ScriptExe

# Source: the order in which stubs keep their variables; those from USER on are the script's own.
_NAMES = [str(number) for number in range(10)] + [f"R{number}" for number in range(10)]
_NAMES += "CMDLINE INSTDIR OUTDIR EXEDIR LANGUAGE TEMP PLUGINSDIR EXEPATH EXEFILE HWNDPARENT _CLICK _OUTDIR".split()
USER = len(_NAMES)
MAX_TEXT = 1 << 16


class Variable(msgspec.Struct, frozen=True):
    number: int


class Shell(msgspec.Struct, frozen=True):
    """A folder of the shell: its number for the user, and for everyone."""

    mine: int
    everyone: int


class Worded(msgspec.Struct, frozen=True):
    """A text of the chosen language, by its place in the language's table."""

    number: int


TextPart = str | Variable | Shell | Worded


def variable_name(number: int) -> str:
    return "$" + (_NAMES[number] if 0 <= number < USER else f"own{number - USER}")


class Nested:
    """How deep words lie in words, and how many in one text: words that hold themselves would have no end."""

    MOST_DEEP, MOST = 8, 1000

    def __init__(self) -> None:
        self._deep = self._count = 0

    def __enter__(self) -> bool:
        """Whether what is inside is to be looked at."""
        self._deep += 1
        self._count += 1
        return self._deep <= self.MOST_DEEP and self._count <= self.MOST

    def __exit__(self, *_: object) -> None:
        self._deep -= 1


class Texts:
    """Strings by the numbers that operands hold: positive ones are places in the table, negative ones words of a
    language.
    """

    def __init__(self, script: ScriptExe) -> None:
        self.script = script
        self.language = script.languages[0] if script.languages else None

    @cached_property
    def late(self) -> bool:
        """Whether the marks inside strings are the numbers 1 to 4, as later stubs have them, or those from 252 on."""
        if self.script.wide:
            return True
        low = sum(self.script.strings.count(bytes([mark])) for mark in (2, 3))
        high = sum(self.script.strings.count(bytes([mark])) for mark in (253, 254))
        return low > high

    def parts(self, operand: int) -> list[TextPart]:
        """A string as its parts. A place beyond the table gives nothing."""
        if operand < 0:
            number = -operand - 1
            if self.language is None or number >= len(self.language.strings):
                return []
            operand = self.language.strings[number]
            if operand < 0:
                return []
        return self._wide(operand) if self.script.wide else self._narrow(operand)

    def _narrow(self, place: int) -> list[TextPart]:
        data = self.script.strings
        end = min(data.find(b"\0", place) if place < len(data) else -1, place + MAX_TEXT)
        if self.late:
            marks = {4: "skip", 3: "variable", 2: "shell", 1: "worded"}
        else:
            marks = {252: "skip", 253: "variable", 254: "shell", 255: "worded"}
        parts: list[TextPart] = []
        text = bytearray()
        while place < len(data) and data[place] and len(text) < MAX_TEXT:
            what = marks.get(data[place])
            if what is None:
                text.append(data[place])
                place += 1
            elif what == "skip":
                text += data[place + 1 : place + 2]
                place += 2
            else:
                if place + 2 >= len(data):
                    break
                if text:
                    parts.append(text.decode("cp1252", "replace"))
                    text.clear()
                parts.append(_coded(what, data[place + 1], data[place + 2]))
                place += 3
        if text or end < 0:
            parts.append(text.decode("cp1252", "replace"))
        return parts

    def _wide(self, place: int) -> list[TextPart]:
        data = self.script.strings
        marks = {
            4: "skip",
            3: "variable",
            2: "shell",
            1: "worded",
            0xE000: "skip",
            0xE001: "variable",
            0xE002: "shell",
            0xE003: "worded",
        }
        parts: list[TextPart] = []
        text: list[int] = []
        at = 2 * place

        def flush() -> None:
            if text:
                parts.append(b"".join(unit.to_bytes(2, "little") for unit in text).decode("utf-16-le", "replace"))
                text.clear()

        while at + 1 < len(data) and len(text) < MAX_TEXT:
            unit = int.from_bytes(data[at : at + 2], "little")
            if not unit:
                break
            what, at = marks.get(unit), at + 2
            if what is None:
                text.append(unit)
                continue
            follow = int.from_bytes(data[at : at + 2], "little")
            at += 2
            if what == "skip":
                text.append(follow)
            else:
                flush()
                parts.append(_coded(what, follow & 0xFF, follow >> 8))
        flush()
        return parts

    def shown(self, operand: int) -> str:
        """A string for a person: variables by name, folders by number, words of the first language."""
        return self._shown(operand, Nested())

    def _shown(self, operand: int, nested: Nested) -> str:
        out = ""
        for part in self.parts(operand):
            match part:
                case Variable(number):
                    out += variable_name(number)
                case Shell(mine, everyone):
                    out += "$<folder>" if mine & 0x80 else f"$<folder {mine}/{everyone}>"
                case Worded(number):
                    if number < 4096 and (self.language is None or number < len(self.language.strings)):
                        with nested as deeper:
                            out += self._shown(-number - 1, nested) if deeper else ""
                case _:
                    out += part
        return out


def _coded(what: str, low: int, high: int) -> TextPart:
    if what == "shell":
        return Shell(low, high)
    number = (low & 0x7F) | (high & 0x7F) << 7
    return Variable(number) if what == "variable" else Worded(number)
