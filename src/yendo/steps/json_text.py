"""JSON texts, changed in place: the members around keep their order, their spaces and their writing."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

_TOKEN = re.compile(r'\s*(?:("(?:[^"\\\x00-\x1f]|\\.)*")|([{}\[\],:])|([^\s{}\[\],:"]+))')
MAX_DEPTH = 100


class _Reader:
    """Finds where a value stands. ``path`` are member names or positions."""

    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0

    def token(self) -> tuple[str, int, int]:
        match = _TOKEN.match(self.text, self.at)
        if not match:
            raise ValueError(f"not JSON at character {self.at + 1}")
        self.at = match.end()
        return match[match.lastindex or 0], match.start(match.lastindex or 0), match.end()

    def skip(self, depth: int = 0) -> tuple[int, int]:
        """Passes over one value; returns where it stands."""
        if depth > MAX_DEPTH:
            raise ValueError("nested too deeply")
        text, start, end = self.token()
        if text == "{" or text == "[":
            for _ in self.members(text, depth):
                _, end = self.skip(depth + 1)
            end = self.at
        elif text in "}],:":
            raise ValueError(f"a value is missing at character {start + 1}")
        return start, end

    def members(self, opening: str, depth: int) -> Iterator[str]:
        """The names of an object or the positions of a list; the caller passes over each value."""
        closing = "}" if opening == "{" else "]"
        self.last, number = self.at, 0
        before = self.at
        if self.token()[0] == closing:
            return
        self.at = before
        while True:
            if opening == "{":
                name, start, _ = self.token()
                if name[:1] != '"' or self.token()[0] != ":":
                    raise ValueError(f"a member's name is missing at character {start + 1}")
                yield json.loads(name)
            else:
                yield str(number)
                number += 1
            self.last = self.at
            mark, start, _ = self.token()
            if mark == closing:
                return
            if mark != ",":
                raise ValueError(f"a comma is missing at character {start + 1}")


def find(text: str, path: list[str]) -> tuple[int, int] | tuple[int, int, int]:
    """Where a value stands, as ``(start, end)``; else where the innermost object that is there could take it:
    ``(place, number of names found, -1 where that object is empty)``. Raises ValueError."""
    reader = _Reader(text)
    for found, name in enumerate(path):
        opening, _, _ = reader.token()
        if opening not in ("{", "["):
            raise ValueError(f"{'/'.join(path[:found]) or 'the whole'} is neither an object nor a list")
        any_member = False
        for member in reader.members(opening, 0):
            any_member = True
            if member == name:
                break
            reader.skip()
        else:
            if opening == "[":
                raise ValueError(f"{'/'.join(path[:found])} has no item {name}")
            return reader.last, found, 0 if any_member else -1
    return reader.skip()


def set_value(text: str, path: list[str], value: str) -> str:
    """The text with the value at ``path`` replaced, or added with the objects it lies in; ``value`` is JSON.

    Raises ValueError.
    """
    where = find(text, path)
    if len(where) == 2:
        return text[: where[0]] + value + text[where[1] :]
    place, found, empty = where
    for name in reversed(path[found + 1 :]):
        value = "{" + json.dumps(name, ensure_ascii=False) + ": " + value + "}"
    comma = "" if empty else ", "
    return text[:place] + comma + json.dumps(path[found], ensure_ascii=False) + ": " + value + text[place:]
