"""The plan of the half for macOS as types: one file beside ``plan.toml``, or alone.

Source of what the system knows: Apple's "Distribution XML Reference", the manual pages ``installer(8)``,
``pkgbuild(1)``, ``launchd.plist(5)``, ``defaults(1)``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Annotated, Literal

from msgspec import Meta

from yendo.terms.amounts import Digest, Identifier, Text, Written, check_line, check_relative, seconds, size

MacIdentifier = Annotated[str, Meta(pattern=r"^[A-Za-z0-9-]+(\.[A-Za-z0-9_-]+)+$")]
MacBundleNeed = Annotated[str, Meta(pattern=r"^[A-Za-z0-9-]+(\.[A-Za-z0-9_-]+)+( \d+(\.\d+)*)?$")]
MacPath = Annotated[str, Meta(pattern=r"^/[^\x00-\x1f\x7f]*$")]
Octal = Annotated[str, Meta(pattern="^[0-7]{3,4}$")]
SystemVersion = Annotated[str, Meta(pattern=r"^\d{1,3}(\.\d{1,3}){0,2}$")]
PlistValue = bool | int | float | str | list[str] | dict[str, str | int | bool]


def check_path(name: str, path: str) -> None:
    """That a path on a volume is whole: no empty part, none that leads up. Raises ValueError."""
    parts = path.split("/")[1:]
    if path != "/" and (not all(parts) or any(part in (".", "..") for part in parts)):
        raise ValueError(f"{name}: {path!r} is no path from the root of a volume")


class MacPackageName(Written, frozen=True, kw_only=True):
    """What the package is.

    ``identifier`` is that of its receipt, which nobody else may have; ``oldest`` the oldest macOS that takes it, and
    ``processors`` those it is for. ``organisation`` stands in profiles. ``restart`` is asked for when it is done.
    """

    id: Identifier
    name: Text
    version: Annotated[str, Meta(pattern=r"^\d+(\.\d+)*$")]
    revision: Annotated[int, Meta(ge=1)] = 1
    publisher: str = ""
    organisation: str = ""
    identifier: MacIdentifier
    oldest: SystemVersion = "12.0"
    processors: Annotated[tuple[Literal["arm64", "x86_64"], ...], Meta(min_length=1)] = ("arm64", "x86_64")
    description: str = ""
    contact: str = ""
    restart: bool = False

    def __post_init__(self) -> None:
        for name in ("name", "publisher", "organisation", "description", "contact"):
            check_line(name, getattr(self, name))

    @property
    def receipt_version(self) -> str:
        """The version in the receipt: a revision of ours has to be newer than the one before."""
        return f"{self.version}.{self.revision}"


class MacMedia(Written, frozen=True, kw_only=True):
    """What the vendor gave, below ``media/``: a file, or a folder (its digest is over all names and contents in it)."""

    file: Text
    sha256: Digest
    origin: str = ""

    def __post_init__(self) -> None:
        check_relative(self.file)


class MacWhen(Written, frozen=True, kw_only=True):
    """When the package may run, beside the oldest system and the processors.

    ``newest`` is the newest macOS it is for. ``disk`` is what has to be free, ``receipts`` and ``bundles`` what has to
    be there already (identifiers; of a bundle with the least version behind it), ``profiles`` which configuration
    profiles, ``person`` whether somebody is at the screen or nobody may be; ``mains``: not on battery; ``volume``: only
    onto the one that runs.
    """

    newest: SystemVersion | None = None
    disk: str | None = None
    receipts: tuple[MacIdentifier, ...] = ()
    bundles: tuple[MacBundleNeed, ...] = ()
    profiles: tuple[MacIdentifier, ...] = ()
    person: Literal["there", "nobody"] | None = None
    mains: bool = False
    volume: Literal["running"] | None = None

    def __post_init__(self) -> None:
        if self.disk:
            size(self.disk)


def _said(value: object) -> str:
    """A value of a setting, for people."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "(" + ", ".join(map(_said, value)) + ")"
    if isinstance(value, dict):
        return "(" + ", ".join(f"{key} = {_said(inner)}" for key, inner in value.items()) + ")"
    return str(value)


_REMOVED = ("/Applications", "/Library", "/usr/local", "/opt", "/private/var")


def check_removed(path: str) -> None:
    """Raises ValueError where a path is none that a package may take away."""
    if not any(path.startswith(f"{root}/") for root in _REMOVED) or re.fullmatch(r"/Library/[^/]+", path):
        raise ValueError(f"{path} is not removed: only what lies deeper below {', '.join(_REMOVED)}")


class MacStep(Written, frozen=True, kw_only=True):
    """One step. ``note`` is for people; each kind has a ``title``: what it does, in words."""

    note: str = ""


class AppStep(MacStep, frozen=True, tag="app", tag_field="kind", kw_only=True):
    """A bundle that is copied as it is. ``source`` is a folder or a disk image below ``media/``, ``inside`` the bundle
    on the image. ``intel`` is the bundle for the other sort of processor, where there is one for each: ``source`` is
    then the one for Apple's own. ``close`` asks the program to end first. ``downgrade`` replaces a newer one as well,
    which the program's own update may have put there; else that stops the package.
    """

    source: Text
    inside: str = ""
    intel: str = ""
    to: MacPath = "/Applications"
    close: bool = True
    downgrade: bool = False

    def __post_init__(self) -> None:
        check_relative(self.source)
        if self.intel:
            check_relative(self.intel)
        if self.inside:
            check_relative(self.inside)
        check_path("to", self.to)

    @property
    def title(self) -> str:
        name = (self.inside or self.source).rpartition("/")[2]
        both = f", the one for the processor of {self.source} and {self.intel}" if self.intel else ""
        return f"puts {name} into {self.to}{both}" + (", once its program has ended" if self.close else "")


class FilesStep(MacStep, frozen=True, tag="copy", tag_field="kind", kw_only=True):
    """A file, or what is in a folder, below ``media/`` or ``extras/``. ``mode`` is that of files; folders get the bits
    to enter as well. Without it files are 0644, programs and scripts 0755.
    """

    source: Text
    to: MacPath
    owner: Annotated[int, Meta(ge=0, le=262143)] = 0
    group: Annotated[int, Meta(ge=0, le=262143)] = 0
    mode: Octal | None = None

    def __post_init__(self) -> None:
        check_relative(self.source)
        check_path("to", self.to)

    @property
    def title(self) -> str:
        return f"lays {self.source} at {self.to}"


class LinkStep(MacStep, frozen=True, tag="link", tag_field="kind", kw_only=True):
    """A symbolic link."""

    path: MacPath
    target: Text

    def __post_init__(self) -> None:
        check_path("path", self.path)
        check_line("target", self.target)

    @property
    def title(self) -> str:
        return f"links {self.path} to {self.target}"


class VendorPackageStep(MacStep, frozen=True, tag="package", tag_field="kind", kw_only=True):
    """The vendor's own package below ``media/``. A component becomes part of this one; a distribution is carried inside
    and installed by a script behind it, onto the same volume. ``choices`` are switched on or off there. ``as_is``: the
    distribution is handed on untouched, with its signature, and the choices in a file beside it.
    """

    source: Text
    choices: dict[Text, bool] = {}
    identifiers: tuple[MacIdentifier, ...] = ()
    as_is: bool = False

    def __post_init__(self) -> None:
        check_relative(self.source)

    @property
    def title(self) -> str:
        chosen = ", ".join(f"{name} {'on' if on else 'off'}" for name, on in self.choices.items())
        how = "hands on" if self.as_is else "installs"
        return f"{how} the vendor's package {self.source}" + (f" with {chosen}" if chosen else "")


class SettingsStep(MacStep, frozen=True, tag="settings", tag_field="kind", kw_only=True):
    """Values in a domain of settings. ``whose``: the machine's; those of every person, now and to come; or managed
    ones, which nobody can change: a profile beside the package, to be delivered first.
    """

    domain: MacIdentifier
    values: Annotated[dict[Text, PlistValue], Meta(min_length=1)]
    whose: Literal["machine", "persons", "managed"] = "machine"

    def __post_init__(self) -> None:
        for key in self.values:
            check_line("key", key)

    @property
    def title(self) -> str:
        whose = {"machine": "for the machine", "persons": "for every person", "managed": "by a profile"}[self.whose]
        values = ", ".join(f"{key} = {_said(value)}" for key, value in self.values.items())
        return f"sets {values} of {self.domain} {whose}"


class JobStep(MacStep, frozen=True, tag="launchd", tag_field="kind", kw_only=True):
    """A job of launchd: a daemon for the machine, or an agent for whoever is logged on."""

    label: MacIdentifier
    program: Annotated[tuple[Text, ...], Meta(min_length=1)]
    agent: bool = False
    at_load: bool = True
    keep_alive: bool = False
    interval: str | None = None

    def __post_init__(self) -> None:
        if not self.program[0].startswith("/"):
            raise ValueError(f"program begins with its path from the root, not with {self.program[0]!r}")
        if self.interval:
            seconds(self.interval)

    @property
    def title(self) -> str:
        return f"has launchd start {' '.join(self.program)} ({self.label}{', for people' if self.agent else ''})"


class ShellStep(MacStep, frozen=True, tag="script", tag_field="kind", kw_only=True):
    """A script below ``extras/``, run as root by the program that its first line names. It gets the target volume as
    its first argument. ``undo`` is the one that takes it back.
    """

    file: Text
    before: bool = False
    undo: str = ""

    def __post_init__(self) -> None:
        for name in (self.file, self.undo):
            if name:
                check_relative(name)

    @property
    def title(self) -> str:
        back = f"; {self.undo} takes it back" if self.undo else "; nothing takes it back"
        return f"runs {self.file} {'before' if self.before else 'when all is laid'}{back}"


class RemoveStep(MacStep, frozen=True, tag="remove", tag_field="kind", kw_only=True):
    """Takes away what is there, before the payload is laid: a path below ``/Applications``, ``/Library``,
    ``/usr/local``, ``/opt`` or ``/private/var``.
    """

    path: MacPath

    def __post_init__(self) -> None:
        check_path("path", self.path)
        check_removed(self.path)

    @property
    def title(self) -> str:
        return f"takes away {self.path}"


class QuitStep(MacStep, frozen=True, tag="quit", tag_field="kind", kw_only=True):
    """Asks a program to end, by its identifier, in the session of whoever is logged on; ``wait`` is how long. One that
    stays open stops the installation, since nobody's work is thrown away.
    """

    identifier: MacIdentifier
    wait: str = "60 s"

    def __post_init__(self) -> None:
        seconds(self.wait)

    @property
    def title(self) -> str:
        return f"asks {self.identifier} to end, and stops where it stays open for {self.wait}"


class MessageStep(MacStep, frozen=True, tag="message", tag_field="kind", kw_only=True):
    """Something that whoever is logged on reads; nothing waits for it."""

    text: Text

    @property
    def title(self) -> str:
        return f"tells who is there: {self.text}"


class PathWaitStep(MacStep, frozen=True, tag="wait", tag_field="kind", kw_only=True):
    """Waits, once all is laid, until a path is there, or with ``gone`` until it is not; after ``limit`` it fails."""

    path: MacPath
    gone: bool = False
    limit: str = "60 s"

    def __post_init__(self) -> None:
        check_path("path", self.path)
        seconds(self.limit)

    @property
    def title(self) -> str:
        return f"waits until {self.path} is {'gone' if self.gone else 'there'}, for {self.limit} at most"


class CarryStep(MacStep, frozen=True, tag="include", tag_field="kind", kw_only=True):
    """Another package of this office, from the workspace beside this one: its newest built package is installed from a
    script behind this one. It is a package of its own, and stays when this one is removed.
    """

    package: Text

    def __post_init__(self) -> None:
        check_relative(self.package)

    @property
    def title(self) -> str:
        return f"installs the office's package {self.package}, which stays when this one goes"


PrivacyService = Literal[
    "SystemPolicyAllFiles", "SystemPolicySysAdminFiles", "SystemPolicyDesktopFolder", "SystemPolicyDocumentsFolder",
    "SystemPolicyDownloadsFolder", "SystemPolicyNetworkVolumes", "SystemPolicyRemovableVolumes", "Accessibility",
    "PostEvent", "AddressBook", "Calendar", "Reminders", "Photos", "MediaLibrary", "FileProviderPresence",
]  # fmt: skip


class PrivacyStep(MacStep, frozen=True, tag="privacy", tag_field="kind", kw_only=True):
    """What a bundle of this package may without the person being asked: a profile beside the package says so, by the
    requirement in its signature. The camera, the microphone and the screen only the person can allow.
    """

    bundle: MacIdentifier
    allow: Annotated[tuple[PrivacyService, ...], Meta(min_length=1)]

    @property
    def title(self) -> str:
        return f"allows {self.bundle} by a profile: {', '.join(self.allow)}"


AnyMacStep = (
    AppStep | FilesStep | LinkStep | VendorPackageStep | SettingsStep | JobStep | ShellStep | RemoveStep | QuitStep
    | MessageStep | PathWaitStep | CarryStep | PrivacyStep
)  # fmt: skip


class BundleRule(Written, frozen=True, tag="bundle", tag_field="kind", kw_only=True):
    """A bundle by its identifier and least version, where it was put or wherever somebody moved it, its program with
    it. ``team`` is who has to have signed it, under Apple's root; ``intact``: every file in it is what was sealed, also
    after it updated itself.
    """

    identifier: MacIdentifier
    path: MacPath
    version: str = ""
    anywhere: bool = True
    team: Annotated[str, Meta(pattern="^([A-Z0-9]{10})?$")] = ""
    intact: bool = False

    @property
    def title(self) -> str:
        more = [f"{self.version} or later" if self.version else "any version"]
        more += [f"signed by the team {self.team}"] if self.team else []
        more += ["whole as it was sealed"] if self.intact else []
        where = "" if self.anywhere else f" at {self.path}"
        return f"bundle {self.identifier}{where}, {', '.join(more)}"


class ReceiptRule(Written, frozen=True, tag="receipt", tag_field="kind", kw_only=True):
    """A receipt with at least this version."""

    identifier: MacIdentifier
    version: str = ""

    @property
    def title(self) -> str:
        return f"receipt {self.identifier} {self.version}".rstrip()


class MacFileRule(Written, frozen=True, tag="file", tag_field="kind", kw_only=True):
    """A file, with this content where it is stated."""

    path: MacPath
    sha256: Digest | None = None

    @property
    def title(self) -> str:
        return f"file {self.path}" + (", with its content" if self.sha256 else "")


class MacFolderRule(Written, frozen=True, tag="folder", tag_field="kind", kw_only=True):
    """All that this package lays below a folder outside bundles, each file as it was laid; those that people edit, by
    the ending of their names, need only be there. It follows from what is built: there is nothing to keep up to date.
    """

    path: MacPath

    @property
    def title(self) -> str:
        return f"folder {self.path}, all that was laid in it"


class MacSettingRule(Written, frozen=True, tag="setting", tag_field="kind", kw_only=True):
    """A value of the machine in a domain, as ``defaults read`` tells it."""

    domain: MacIdentifier
    key: Text
    value: str

    @property
    def title(self) -> str:
        return f"setting {self.key} of {self.domain} is {self.value}"


class MacJobRule(Written, frozen=True, tag="daemon", tag_field="kind", kw_only=True):
    """A daemon that launchd has loaded."""

    label: MacIdentifier

    @property
    def title(self) -> str:
        return f"daemon {self.label} is loaded"


AnyMacRule = BundleRule | ReceiptRule | MacFileRule | MacFolderRule | MacSettingRule | MacJobRule


class MacPlan(Written, frozen=True, kw_only=True):
    """A plan for macOS. ``detect``: all rules must hold. ``keep_changed``: files that somebody changed stay when the
    package is removed; ``users_too``: the removal takes people's settings of these domains as well. ``made_later`` is
    what the program makes by itself, a helper or updater: it goes with the package, and what runs of it ends.
    """

    package: MacPackageName
    media: tuple[MacMedia, ...] = ()
    when: MacWhen = MacWhen()
    install: Annotated[tuple[AnyMacStep, ...], Meta(min_length=1)]
    detect: tuple[AnyMacRule, ...] = ()
    keep_changed: bool = True
    users_too: tuple[MacIdentifier, ...] = ()
    made_later: tuple[MacPath, ...] = ()

    def __post_init__(self) -> None:
        if any(isinstance(step, VendorPackageStep) and step.as_is for step in self.install):
            self._as_is()
        for path in self.made_later:
            check_path("made_later", path)
            check_removed(path)
        labels = [step.label for step in self.install if isinstance(step, JobStep)]
        if len(labels) != len(set(labels)):
            raise ValueError("two jobs of launchd have one label")

    def _as_is(self) -> None:
        """Nothing of ours is in a package that is handed on untouched."""
        others = [step for step in self.install if not isinstance(step, PrivacyStep)]
        others = [step for step in others if not (isinstance(step, SettingsStep) and step.whose == "managed")]
        if len(others) > 1:
            raise ValueError(
                "as_is hands the vendor's package on untouched: beside it go only managed settings and privacy"
            )
        if self.when != MacWhen():
            raise ValueError("as_is hands the vendor's package on untouched: it asks no condition of [when]")

    @property
    def conditions(self) -> Iterator[str]:
        """Where it may run."""
        when = self.when
        yield f"macOS {self.package.oldest} or later" + (f", up to {when.newest}" if when.newest else "")
        names = {"arm64": "Apple's own processors", "x86_64": "Intel's"}
        yield "on " + " and ".join(names[one] for one in self.package.processors)
        if when.volume:
            yield "onto the volume that runs"
        for one in when.bundles:
            name, _, version = one.partition(" ")
            yield f"{name} is there before" + (f", {version} or later" if version else "")
        for one in when.receipts:
            yield f"the receipt {one} is there before"
        for one in when.profiles:
            yield f"the profile {one} is there before"
        if when.disk:
            yield f"{when.disk} are free"
        if when.person:
            yield "somebody is at the screen" if when.person == "there" else "nobody is at the screen"
        if when.mains:
            yield "not on battery"
