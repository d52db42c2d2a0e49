"""The Windows that a driver is held against, and which section of an ``.inf`` it would choose.

Source: the documentation "INF Manufacturer Section" and "Combining Platform Extensions with Operating System Versions".
The layer's own reader looks at the processor only; so the order among versions was executed nowhere here.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from yendo.errors import Usage
from yendo.platforms.windows.systems import System

# What an extension calls a processor, by what Yendo calls it.
PROCESSORS = {"x86": "x86", "x64": "amd64", "arm64": "arm64", "arm": "arm"}


class DriverTarget(msgspec.Struct, frozen=True):
    """``version`` is major, minor and build; ``product`` 1 for a client, 2 a domain controller, 3 a server; ``suites``
    the bits of its suites.
    """

    version: tuple[int, int, int] = (10, 0, 26100)
    architecture: str = "x64"
    product: int = 1
    suites: int = 0x100
    title: str = ""

    @property
    def words(self) -> str:
        return f"{self.title or '.'.join(map(str, self.version))}, {self.architecture}"


ANY = DriverTarget()


def of_system(system: System, architecture: str = "x64") -> DriverTarget:
    """A release that is known here. Raises Usage for a processor that is not."""
    if architecture not in PROCESSORS:
        raise Usage(f"{architecture!r} is no processor that Windows runs on: {', '.join(PROCESSORS)}")
    return DriverTarget((10, 0, system.build), architecture, system.type, 0x100, system.title)


class Decoration(msgspec.Struct, frozen=True):
    """What stands behind a section's name: ``NTamd64.10.0.1.0x100.22000`` for instance; what is not said is None."""

    architecture: str | None = None
    version: tuple[int, int] | None = None
    product: int | None = None
    suites: int | None = None
    build: int | None = None

    def fits(self, target: DriverTarget) -> bool:
        """Whether a system may take it. Without a processor it is for 32 bits of the old kind only."""
        if (self.architecture or "x86") != PROCESSORS[target.architecture]:
            return False
        if (self.version or (0, 0)) + (self.build or 0,) > target.version:
            return False
        if self.product is not None and self.product != target.product:
            return False
        return self.suites is None or self.suites & target.suites == self.suites

    @property
    def order(self) -> tuple[tuple[int, int, int], bool, bool, bool]:
        """The larger the nearer: the newest system first, then who names a product, suites, a processor."""
        return (
            (*(self.version or (0, 0)), self.build or 0),
            self.product is not None,
            self.suites is not None,
            self.architecture is not None,
        )


def decoration(text: str) -> Decoration | None:
    """Reads what stands behind a name; None where it is nothing of the kind."""
    head, *parts = text.strip().split(".")
    name = head.lower()
    if not name.startswith("nt") or name[2:] not in ("", "x86", "amd64", "ia64", "arm", "arm64"):
        return None
    try:
        numbers = [int(part, 0) if part.strip() else None for part in (each.strip() for each in parts)]
    except ValueError:
        return None
    numbers += [None] * (5 - len(numbers))
    major, minor, product, suites, build = numbers[:5]
    version = None if major is None and minor is None else (major or 0, minor or 0)
    return Decoration(name[2:] or None, version, product, suites, build)


def chosen(names: Iterable[str], target: DriverTarget) -> str | None:
    """Which of the endings of one section a system takes: empty for the one without, None for none of them."""
    fitting: list[tuple[Decoration, str]] = []
    for name in names:
        known = Decoration() if not name else decoration(name)
        if known is not None and known.fits(target):
            fitting.append((known, name))
    return max(fitting, key=lambda one: one[0].order)[1] if fitting else None


def endings(target: DriverTarget) -> tuple[str, ...]:
    """The endings of an install section in the order in which they are looked for."""
    return (f".nt{PROCESSORS[target.architecture]}", ".nt", "")
