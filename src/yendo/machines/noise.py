"""Things by patterns of their identities: what a platform writes by itself, told from what a package does."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Generic, Protocol, TypeVar

from yendo.effects.things import Thing, kind_of


class Named(Protocol):
    """An entry of a list: a kind, and an identity in lower case. ``*`` stands for anything within one part of it,
    ``**`` for anything.
    """

    @property
    def kind(self) -> str: ...

    @property
    def identity(self) -> str: ...


EntryT = TypeVar("EntryT", bound=Named)


class Patterns(Generic[EntryT]):
    """A list of entries, asked for the one that names a thing."""

    def __init__(self, entries: Iterable[EntryT]) -> None:
        found: dict[str, list[EntryT]] = {}
        for entry in entries:
            found.setdefault(entry.kind, []).append(entry)
        self._of_kind = {
            kind: (re.compile("|".join(f"({_expression(entry.identity)})" for entry in some), re.S), some)
            for kind, some in found.items()
        }

    def naming(self, thing: Thing) -> EntryT | None:
        """The entry that names a thing, or None."""
        pattern, entries = self._of_kind.get(kind_of(thing), (None, []))
        match = pattern.fullmatch(thing.identity) if pattern else None
        return entries[match.lastindex - 1] if match and match.lastindex else None


def _expression(identity: str) -> str:
    parts = re.split(r"(\*\*|\*)", identity)
    return "".join({"**": ".*", "*": r"[^\\!]*"}.get(part, re.escape(part)) for part in parts)
