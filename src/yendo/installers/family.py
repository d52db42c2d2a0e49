"""What a family's module is, what it finds and tells, and what several of them share."""

from __future__ import annotations

from collections.abc import Iterable
from typing import BinaryIO, Protocol, TypeVar

import msgspec

from yendo.effects import Effect, File
from yendo.evidence import BlindSpot, Evidence
from yendo.formats.pe import Image
from yendo.installers.account import Aspect, CommandLine, Identity, LaunchCondition, Property, Silent, Switch
from yendo.installers.msi.session import Memory
from yendo.installers.parts import InstallerPart

WhatT = TypeVar("WhatT")


class FoundContent(msgspec.Struct, frozen=True):
    """``what`` is the family's own reading of its mark; ``generation`` is the engine's, in words."""

    family: str
    evidence: Evidence
    what: object = None
    generation: str = ""

    def reading(self, kind: type[WhatT]) -> WhatT:
        """The family's own reading. Raises TypeError where it is another's."""
        if not isinstance(self.what, kind):
            raise TypeError(f"{self.family} did not read {kind.__name__}")
        return self.what


class Told(msgspec.Struct, frozen=True):
    """What a family's module knows beyond the headers.

    ``identity`` holds only what differs from the version resource.
    """

    identity: Identity = Identity()
    silent: Silent = Silent()
    switches: tuple[Switch, ...] = ()
    behaviour: tuple[Aspect, ...] = ()
    conditions: tuple[LaunchCondition, ...] = ()
    properties: tuple[Property, ...] = ()
    processes: tuple[str, ...] = ()
    effects: tuple[Effect, ...] = ()
    blind_spots: tuple[BlindSpot, ...] = ()
    candidates: tuple[CommandLine, ...] = ()
    listing: tuple[str, ...] = ()
    why: dict[str, Evidence] = {}
    needs: tuple[str, ...] = ()


class InstalledDatabase(msgspec.Struct, frozen=True):
    """A database that a setup program installs out of itself: what the system knows of it then, and its bytes."""

    memory: Memory
    content: bytes


class Prediction(msgspec.Struct, frozen=True):
    """What a silent run of it does to a machine, as far as it can be read."""

    effects: tuple[Effect, ...] = ()
    blind_spots: tuple[BlindSpot, ...] = ()
    exit_code: int | None = None
    restarts: bool = False
    databases: tuple[InstalledDatabase, ...] = ()


class Family(Protocol):
    """``predict`` is there where a family's effects can be read: of a silent run of ``program`` on a machine."""

    FAMILY: str

    def find(self, file: BinaryIO, image: Image) -> FoundContent | None: ...

    def parts(self, file: BinaryIO, image: Image, found: FoundContent) -> list[InstallerPart]: ...

    def tell(self, file: BinaryIO, image: Image, found: FoundContent, name: str) -> Told: ...


def offset(where: int, note: str = "") -> Evidence:
    """Evidence that is a place in the file."""
    return Evidence("offset", f"offset {where}", note)


def programs(effects: Iterable[Effect], but: Iterable[str] = ()) -> tuple[str, ...]:
    """The programs among what is placed: what a person may have open.

    ``but`` are paths that do not count (uninstallers).
    """
    left_out = {path.lower() for path in but}
    found = {effect.thing.path for effect in effects if effect.change != "remove" and isinstance(effect.thing, File)}
    return tuple(
        sorted(
            {
                path.rpartition("\\")[2]
                for path in found
                if path.lower().endswith(".exe") and path.lower() not in left_out
            }
        )
    )
