"""What is known of one driver: everything that its ``.inf`` says to one Windows, and what was found wrong."""

from __future__ import annotations

from typing import Literal

import msgspec

from yendo.terms.severity import Severity

SCHEMA = "yendo.driver/1"


class Device(msgspec.Struct, frozen=True):
    """A line of a models section. ``words`` are what the device is called, ``section`` what installs it."""

    words: str
    hardware: str
    compatible: tuple[str, ...]
    section: str
    line: int

    @property
    def identifiers(self) -> tuple[str, ...]:
        return tuple(filter(None, (self.hardware, *self.compatible)))


class DriverFile(msgspec.Struct, frozen=True):
    """``source`` is the path in the driver's folder, with slashes; ``to`` where it goes; ``there`` whether it is.

    ``system``: it is not listed as the driver's own and lies with a file of the system that it builds on.
    ``processor`` is that of a program, empty for anything else.
    """

    name: str
    source: str
    to: str
    there: bool
    system: bool = False
    processor: str = ""


class DriverService(msgspec.Struct, frozen=True):
    """``start`` is a word: boot, system, automatic, on demand, disabled. ``kernel``: it runs in the kernel."""

    name: str
    start: str
    kernel: bool
    program: str


class DriverFinding(msgspec.Struct, frozen=True):
    """``id`` is its name in the table of ``docs/drivers.md``."""

    id: str
    level: Severity
    what: str
    advice: str


class DriverTrust(msgspec.Struct, frozen=True):
    """What a catalogue is worth.

    ``state``: ``none``, ``unreadable``, ``broken`` (the signature does not hold), ``holds``, or ``not judged`` where
    the library for signatures is missing. ``by``: ``microsoft-certified``, ``microsoft-attested``, ``publisher`` or
    ``test``; empty without a signature. ``known`` says that the key above the signer is one of Microsoft's that are
    known here; else its name is all there is. ``thumbprint`` is the SHA-256 of the signer's
    ``certificate`` (DER) in capitals.
    Names of files are in small letters.
    """

    state: Literal["none", "unreadable", "broken", "holds", "not judged"]
    catalogue: str = ""
    by: str = ""
    signer: str = ""
    chain: tuple[str, ...] = ()
    known: bool = False
    thumbprint: str = ""
    certificate: bytes = b""
    seen: str | None = None
    ends: str = ""
    systems: tuple[str, ...] = ()
    covered: tuple[str, ...] = ()
    uncovered: tuple[str, ...] = ()
    altered: tuple[str, ...] = ()
    problems: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        if self.state == "none":
            return "not signed: it has no catalogue"
        if self.state == "unreadable":
            return f"{self.catalogue} cannot be read"
        if self.state == "not judged":
            return f"{self.catalogue} is signed by {self.signer}; not judged: pip install 'yendo[sign]'"
        by = {
            "microsoft-certified": "certified by Microsoft",
            "microsoft-attested": "attested by Microsoft",
            "publisher": "by its publisher alone",
            "test": "for a test",
        }.get(self.by, "")
        holds = "the signature holds" if self.state == "holds" else "THE SIGNATURE DOES NOT HOLD"
        return f"{by}, {holds}"


class Driver(msgspec.Struct, frozen=True):
    """``architectures`` are all that the file has devices for; devices, files and services are those for ``windows``.

    ``models`` are the sections of devices that this Windows chooses, empty where it has none. ``date`` is ISO.
    ``isolated`` lists what breaks the rules for isolated drivers, empty where it keeps to them. ``system`` are files of
    the system that it builds on, which are not at hand. ``content`` is the SHA-256 over it all, names and bytes.
    """

    inf: str
    path: str
    sha256: str
    content: str
    windows: str
    class_name: str
    class_id: str
    class_words: str
    start: str
    provider: str
    date: str
    version: str
    architectures: tuple[str, ...]
    models: tuple[str, ...]
    devices: tuple[Device, ...]
    files: tuple[DriverFile, ...]
    services: tuple[DriverService, ...]
    registry: tuple[str, ...]
    co_installers: tuple[str, ...]
    isolated: tuple[str, ...]
    system: tuple[str, ...]
    languages: tuple[int, ...]
    feature_score: int
    extension: str
    trust: DriverTrust
    findings: tuple[DriverFinding, ...] = ()
