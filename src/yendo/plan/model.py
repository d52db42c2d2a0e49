"""The plan as types. Reading, checking, the JSON Schema and the reference all come from here."""

from __future__ import annotations

import re
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from yendo.facts.versions import VersionRange

Architecture = Literal["x64", "x86", "arm64", "any"]
Text = Annotated[str, Meta(min_length=1)]
Digest = Annotated[str, Meta(pattern="^[0-9a-f]{64}$")]
Code = Annotated[str, Meta(pattern=r"^\{[0-9A-Fa-f]{8}(-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}\}$")]
Identifier = Annotated[str, Meta(pattern="^[a-z0-9][a-z0-9.-]{0,63}$")]

_UNITS = {"s": 1, "sec": 1, "second": 1, "seconds": 1, "min": 60, "minute": 60, "minutes": 60, "h": 3600, "hour": 3600, "hours": 3600}
_SIZES = {"B": 1, "KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def seconds(text: str) -> float:
    """``"30 min"`` in seconds. Raises ValueError."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([a-z]+)\s*", text)
    if not match or match[2] not in _UNITS:
        raise ValueError(f"{text!r} is no length of time; write 90 s, 30 min or 2 h")
    return float(match[1]) * _UNITS[match[2]]


def size(text: str) -> int:
    """``"1.5 GB"`` in bytes, in powers of ten. Raises ValueError."""
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([KMGT]?B)\s*", text)
    if not match:
        raise ValueError(f"{text!r} is no amount of disk; write 500 MB or 1.5 GB")
    return int(float(match[1]) * _SIZES[match[2]])


class _Part(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True, kw_only=True):
    pass


class Package(_Part, frozen=True, kw_only=True):
    """What the package is. ``revision`` counts the packager's own changes to one vendor version."""

    id: Identifier
    name: Text
    version: Text
    revision: Annotated[int, Meta(ge=1)] = 1
    publisher: str = ""
    architecture: Architecture = "any"
    language: str = ""
    scope: Literal["machine", "user"] = "machine"
    description: str = ""
    contact: str = ""
    notes: str = ""


class Media(_Part, frozen=True, kw_only=True):
    """A vendor's file below ``media/``, never changed."""

    file: Text
    sha256: Digest
    size: Annotated[int, Meta(ge=0)] | None = None
    origin: str = ""


class When(_Part, frozen=True, kw_only=True):
    """Run conditions; all must hold. Unmet ones end the run as "not applicable"."""

    os: str | None = None
    architecture: tuple[Literal["x64", "x86", "arm64"], ...] = ()
    disk: str | None = None

    def __post_init__(self) -> None:
        if self.os:
            VersionRange.parse(self.os)
        if self.disk:
            size(self.disk)


class InTheWay(_Part, frozen=True, kw_only=True):
    """Programs that must not run meanwhile: asked to close, ended after ``wait``."""

    programs: tuple[Text, ...] = ()
    wait: str = "2 min"

    def __post_init__(self) -> None:
        seconds(self.wait)

    @property
    def names(self) -> tuple[str, ...]:
        """The programs' names as processes have them, without ``.exe``."""
        return tuple(re.sub(r"(?i)\.exe$", "", name.strip()) for name in self.programs)


class Log(_Part, frozen=True, kw_only=True):
    """Where the runner and the installers it starts write their logs."""

    folder: Text = r"%ProgramData%\Yendo\logs"


class _Rule(_Part, tag_field="kind", frozen=True, kw_only=True):
    note: str = ""

    def __post_init__(self) -> None:
        version = getattr(self, "version", None)
        if version:
            VersionRange.parse(version)


class MsiProductRule(_Rule, tag="msi-product", frozen=True, kw_only=True):
    """The Windows Installer has this product on record, in a version within the range."""

    code: Code
    version: str | None = None


class FileRule(_Rule, tag="file", frozen=True, kw_only=True):
    """A file exists, and its version, size or hash is as said."""

    path: Text
    version: str | None = None
    size: int | None = None
    sha256: Digest | None = None


class RegistryRule(_Rule, tag="registry", frozen=True, kw_only=True):
    """A registry value exists, and equals a text or number, or is a version within the range."""

    key: Text
    name: str = ""
    equals: str | int | None = None
    version: str | None = None
    view: Literal["64", "32"] = "64"

    @property
    def parts(self) -> tuple[str, str]:
        """``(hive, key below it)``."""
        hive, _, rest = self.key.partition("\\")
        return {"HKEY_LOCAL_MACHINE": "HKLM", "HKEY_CURRENT_USER": "HKCU"}.get(hive.upper(), hive.upper()), rest

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.parts[0] not in ("HKLM", "HKCU") or not self.parts[1]:
            raise ValueError(f"key begins with HKLM\\ or HKCU\\, not {self.key!r}")


class UninstallEntryRule(_Rule, tag="uninstall-entry", frozen=True, kw_only=True):
    """The list of installed programs has an entry of this exact name, in a version within the range."""

    name: Text
    version: str | None = None
    view: Literal["64", "32"] | None = None


Rule = MsiProductRule | FileRule | RegistryRule | UninstallEntryRule


class _Change(_Part, tag_field="kind", frozen=True, kw_only=True):
    note: str = ""


class DropChange(_Change, tag="drop", frozen=True, kw_only=True):
    """Leaves something out. ``name`` is the key of its row or what people call it: a shortcut's name, ``HKLM\\key\\value``, ..."""

    what: Literal["shortcut", "registry", "file", "service", "environment", "ini", "action", "component"]
    name: Text


class FeatureChange(_Change, tag="feature", frozen=True, kw_only=True):
    """Installs a feature by default, or never."""

    name: Text
    install: bool


class PropertyChange(_Change, tag="property", frozen=True, kw_only=True):
    """Sets a property in the database; without a value, takes it out."""

    name: Annotated[str, Meta(pattern=r"^[A-Za-z_][A-Za-z0-9_.]*$")]
    value: str | int | None = None


class RegistryChange(_Change, tag="registry", frozen=True, kw_only=True):
    """Sets a registry value, the vendor's or one of its own; ``[NAME]`` stands for a property."""

    key: Text
    name: str = ""
    value: str | int | tuple[str, ...]
    type: Literal["sz", "expand", "multi", "dword", "binary"] | None = None
    feature: str | None = None


class ServiceChange(_Change, tag="service", frozen=True, kw_only=True):
    """How a service of the installer starts. A disabled one is not started by the installer either."""

    name: Text
    start: Literal["auto", "demand", "disabled"]


class EnvironmentChange(_Change, tag="environment", frozen=True, kw_only=True):
    """Sets an environment variable of the machine."""

    name: Text
    value: Text
    feature: str | None = None


class FileChange(_Change, tag="file", frozen=True, rename={"source": "from"}, kw_only=True):
    """Installs a file from ``extras/``; ``to`` begins with a folder of the database: ``[INSTALLDIR]charts\\local.lst``."""

    source: Text
    to: Annotated[str, Meta(pattern=r"^\[[A-Za-z_][A-Za-z0-9_.]*\][^\[\]]+$")]
    feature: str | None = None


Change = DropChange | FeatureChange | PropertyChange | RegistryChange | ServiceChange | EnvironmentChange | FileChange


class _Step(_Part, tag_field="kind", frozen=True, kw_only=True):
    timeout: str | None = None
    unless: tuple[Rule, ...] = ()
    note: str = ""

    def __post_init__(self) -> None:
        if self.timeout:
            seconds(self.timeout)


class MsiStep(_Step, tag="msi", frozen=True, kw_only=True):
    """Runs the Windows Installer.

    ``media`` installs that file; ``product`` names a product code to remove or repair instead;
    ``patch`` applies that file to the product it is for. ``transforms`` are files below ``extras/``
    or ``media/``, applied in order (``:name`` for one inside the installer), before the transform
    that is made from ``change``. A step is passed over where one of the rules in ``unless`` holds.
    ``command`` replaces everything by a command line of one's own, in which ``{package}`` is the
    package's folder and ``{logs}`` the log folder. ``codes`` gives exit codes another meaning.
    ``observed`` is the recording of a trial, where a setup program installed the product.
    """

    media: str | None = None
    product: Code | None = None
    patch: str | None = None
    transforms: tuple[Text, ...] = ()
    change: tuple[Change, ...] = ()
    properties: dict[str, str | int] = {}
    features: tuple[Text, ...] = ()
    arguments: str = ""
    command: str | None = None
    restart: Literal["suppress", "allow"] = "suppress"
    observed: str | None = None
    codes: dict[str, Literal["done", "restart", "not needed", "again later", "failed"]] = {}

    def __post_init__(self) -> None:
        super().__post_init__()
        given = [name for name in ("media", "product", "patch", "command") if getattr(self, name)]
        if len(given) != 1:
            raise ValueError("an msi step has exactly one of media, product, patch and command" + (f", not {' and '.join(given)}" if given else ""))
        if (self.transforms or self.change) and not self.media:
            raise ValueError("transforms and changes belong to a step that installs media")
        if any(not re.fullmatch(r"-?\d{1,10}", code) for code in self.codes):
            raise ValueError('codes are numbers, each with its meaning: codes = { "3010" = "restart" }')


class ExeStep(_Step, tag="exe", frozen=True, kw_only=True):
    """Runs a setup program.

    ``media`` is that file; ``program`` is instead one on the machine, by its whole path (an uninstaller).
    ``arguments`` may hold ``{package}`` and ``{logs}``. ``wait_for`` names programs that go on after the
    setup has returned: the step ends when they have. ``observed`` is the recording of a trial below the
    workspace, which the simulated machine replays.
    """

    media: str | None = None
    program: str | None = None
    arguments: str = ""
    wait_for: tuple[Text, ...] = ()
    observed: str | None = None
    codes: dict[str, Literal["done", "restart", "not needed", "again later", "failed"]] = {}

    def __post_init__(self) -> None:
        super().__post_init__()
        if bool(self.media) == bool(self.program):
            raise ValueError("an exe step has exactly one of media and program")
        if any(not re.fullmatch(r"-?\d{1,10}", code) for code in self.codes):
            raise ValueError('codes are numbers, each with its meaning: codes = { "3010" = "restart" }')


class CopyStep(_Step, tag="copy", frozen=True, rename={"source": "from"}, kw_only=True):
    """Places a file, or the contents of a folder, from ``extras/`` on the machine."""

    source: Text
    to: Text
    existing: Literal["replace", "keep"] = "replace"


class TakeBackStep(_Step, tag="take-back", frozen=True, kw_only=True):
    """Removes what this package's copy steps placed and nobody has changed since, and empty folders they made."""


Step = MsiStep | ExeStep | CopyStep | TakeBackStep


class Plan(_Part, frozen=True, kw_only=True):
    """A whole plan. ``detect``: all rules must hold."""

    package: Package
    media: tuple[Media, ...] = ()
    when: When = When()
    in_the_way: InTheWay = InTheWay()
    log: Log = Log()
    install: Annotated[tuple[Step, ...], Meta(min_length=1)]
    uninstall: tuple[Step, ...] = ()
    repair: tuple[Step, ...] = ()
    detect: tuple[Rule, ...] = ()

    def steps(self, verb: str) -> tuple[Step, ...]:
        """The steps of ``install``, ``uninstall`` or ``repair``."""
        return {"install": self.install, "uninstall": self.uninstall, "repair": self.repair}[verb]


VERBS = ("install", "uninstall", "repair")


def schema() -> dict[str, object]:
    """The JSON Schema of a plan, for editors."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Yendo plan", **msgspec.json.schema(Plan)}
