"""Where a value comes from.

Every derived value carries one of these, so that "why?" is always answered with a row, an offset,
a run or a person, and never with a guess.
"""

from __future__ import annotations

from typing import Literal

import msgspec

Source = Literal["row", "offset", "rule", "run", "person"]


class Evidence(msgspec.Struct, frozen=True, omit_defaults=True, gc=False):
    """One reason for one value.

    ``source`` is the kind of reason: a table row, a byte offset, a documented rule of the system,
    an observed run, or a person. ``where`` locates it ("Property[ProductName]"); ``note`` says in
    words what follows from it, where that is not obvious.
    """

    source: Source
    where: str
    note: str = ""

    def __str__(self) -> str:
        return f"{self.where}: {self.note}" if self.note else self.where

    @property
    def table(self) -> str:
        """The table of a row; empty for other evidence."""
        return self.where.partition("[")[0] if self.source == "row" else ""

    @property
    def key(self) -> str:
        """The primary key of a row, its columns with commas between; empty for other evidence."""
        return self.where.partition("[")[2].removesuffix("]") if self.source == "row" else ""


def row(table: str, *keys: object, note: str = "") -> Evidence:
    """Evidence that is a row of a database, by its primary key."""
    return Evidence("row", f"{table}[{', '.join(str(key) for key in keys)}]", note)


def rule(where: str, note: str = "") -> Evidence:
    """Evidence that is a documented rule of the operating system or of a format."""
    return Evidence("rule", where, note)


class BlindSpot(msgspec.Struct, frozen=True):
    """Something that reading cannot know, and what would have to be done to know it."""

    what: str
    why: str
    evidence: Evidence
