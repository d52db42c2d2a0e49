"""File and product versions."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Self

import msgspec

_RANGE = re.compile(r"\s*(>=|<=|==|=|>|<)?\s*([0-9.]+)\s*$")


class Version(msgspec.Struct, frozen=True, order=True):
    """A version of up to four fields, compared field by field; missing fields are 0.

    Source: VS_FIXEDFILEINFO, dwFileVersionMS and dwFileVersionLS, 16 bits a field.
    Raises ValueError on more than four fields, or a field that is no number up to 65535.
    """

    fields: tuple[int, int, int, int]

    @classmethod
    def parse(cls, text: str) -> Self:
        parts = text.strip().split(".")
        if not 1 <= len(parts) <= 4 or not all(part.isascii() and part.isdigit() for part in parts):
            raise ValueError(f"{text!r} is not a version of one to four numbers")
        numbers = [int(part) for part in parts]
        if max(numbers) > 65535:
            raise ValueError(f"{text!r}: a field is at most 65535")
        one, two, three, four = (numbers + [0, 0, 0])[:4]
        return cls((one, two, three, four))

    @property
    def product(self) -> tuple[int, int, int]:
        """The first three fields, which are all that upgrades look at."""
        return self.fields[:3]

    def __str__(self) -> str:
        return ".".join(str(field) for field in self.fields)


class VersionRange(msgspec.Struct, frozen=True):
    """Bounds joined by "and": ``>=6.2.1, <7``. A bare version means exactly that one."""

    bounds: tuple[tuple[str, Version], ...]

    @property
    def possible(self) -> bool:
        """Whether some version fits every bound: one of the bounds themselves, or one beside it."""
        tries = [bound for _, bound in self.bounds]
        for bound in list(tries):
            number = sum(field << 16 * (3 - at) for at, field in enumerate(bound.fields))
            for other in (number - 1, number + 1):
                if 0 <= other < 1 << 64:
                    one, two, three, four = ((other >> shift) & 0xFFFF for shift in (48, 32, 16, 0))
                    tries.append(Version((one, two, three, four)))
        return not self.bounds or any(self.holds(version) for version in tries)

    @classmethod
    def parse(cls, text: str) -> Self:
        """Raises ValueError with the part that is no bound."""
        bounds = []
        for part in text.split(","):
            match = _RANGE.match(part)
            if not match:
                raise ValueError(f"{part.strip()!r} is no version bound; write >=6.2.1 or >=6.2.1, <7 or ==6.2.1")
            sign = match[1] or "=="
            bounds.append(("==" if sign == "=" else sign, Version.parse(match[2])))
        return cls(tuple(bounds))

    @classmethod
    def of(cls, bounds: Iterable[Mapping[str, str]]) -> Self:
        """The range of bounds as data: ``sign`` and ``version``."""
        return cls(tuple((bound["sign"], Version.parse(bound["version"])) for bound in bounds))

    def meets(self, other: VersionRange) -> bool:
        """Whether a version is in both: one of the bounds, or one just beside one, is."""
        near = [Version(fields) for _, bound in (*self.bounds, *other.bounds) for fields in _beside(bound.fields)]
        return any(self.holds(version) and other.holds(version) for version in near)

    def fits(self, text: str | None) -> bool:
        """Whether a text is a version within the range; a text that is none fits no bound."""
        if not self.bounds:
            return True
        try:
            return self.holds(Version.parse(text or ""))
        except ValueError:
            return False

    def holds(self, version: Version) -> bool:
        return all(
            {
                ">=": version >= bound,
                "<=": version <= bound,
                ">": version > bound,
                "<": version < bound,
                "==": version == bound,
            }[sign]
            for sign, bound in self.bounds
        )


def _beside(fields: tuple[int, int, int, int]) -> list[tuple[int, int, int, int]]:
    """A version, the one before it and the one after it."""
    number = sum(field << 16 * (3 - at) for at, field in enumerate(fields))
    near = [min(max(number + step, 0), (1 << 64) - 1) for step in (0, -1, 1)]
    return [(n >> 48, n >> 32 & 65535, n >> 16 & 65535, n & 65535) for n in near]
