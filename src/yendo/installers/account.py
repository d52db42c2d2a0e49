"""What reading an installer tells, the same for every family. Unknown values are None, never guesses."""

from __future__ import annotations

import msgspec

from yendo.effects import Effect
from yendo.evidence import BlindSpot, Evidence
from yendo.terms.rules import Rule

SCHEMA = "yendo.read/1"


class FileFacts(msgspec.Struct, frozen=True):
    """``size`` in bytes; ``sha256`` only when the whole file was asked to be read."""

    name: str
    size: int
    sha256: str | None = None


class Identity(msgspec.Struct, frozen=True):
    name: str | None = None
    version: str | None = None
    publisher: str | None = None
    architecture: str | None = None
    language: str | None = None
    scope: str | None = None
    product_code: str | None = None
    upgrade_code: str | None = None
    package_code: str | None = None


class Switch(msgspec.Struct, frozen=True):
    """One switch of a command line: what it means, and why we say so.

    ``confidence`` is certain, likely or to be tried.
    """

    switch: str
    meaning: str
    confidence: str
    evidence: Evidence


class CommandLine(msgspec.Struct, frozen=True, omit_defaults=True):
    """``confidence`` is certain, likely or to be tried; ``switches`` gives each switch its reason.

    ``wait_for`` names programs that go on after it has returned.
    """

    command: str
    confidence: str
    evidence: Evidence
    switches: tuple[Switch, ...] = ()
    wait_for: tuple[str, ...] = ()


class Silent(msgspec.Struct, frozen=True):
    install: CommandLine | None = None
    uninstall: CommandLine | None = None
    repair: CommandLine | None = None


class Signature(msgspec.Struct, frozen=True):
    """``digest_holds`` is None until the whole file was asked to be read, or where it cannot be told.

    ``chain`` are the names from the signer's certificate upwards; ``timestamp`` is when a third party saw it, in UTC.
    """

    signed: bool
    signer: str | None = None
    issuer: str | None = None
    digest_holds: bool | None = None
    note: str = ""
    chain: tuple[str, ...] = ()
    timestamp: str | None = None


class LaunchCondition(msgspec.Struct, frozen=True):
    """A condition that the installer itself puts: as written, in words, and what it says when it fails."""

    condition: str
    in_words: str
    message: str
    evidence: Evidence


class Property(msgspec.Struct, frozen=True):
    """A property that the command line can set. ``default`` is None where it is unset.

    ``in_silence`` says whether anything that a silent installation looks at refers to it; the rest
    serves dialogs, messages and custom actions that keep their reasons to themselves.
    """

    name: str
    default: str | None
    used_in: tuple[str, ...]
    in_silence: bool = True


class Feature(msgspec.Struct, frozen=True):
    id: str
    title: str
    parent: str | None
    by_default: bool
    components: int


class Medium(msgspec.Struct, frozen=True):
    """One source of files. ``kind`` is embedded, external or loose; ``size`` in bytes, None when missing."""

    name: str
    kind: str
    present: bool
    size: int | None
    path: str | None = None


class Payload(msgspec.Struct, frozen=True):
    """``size`` in bytes unpacked; each medium as name, kind, present, size."""

    files: int
    size: int
    media: tuple[Medium, ...]
    features: tuple[Feature, ...]


class Aspect(msgspec.Struct, frozen=True):
    """One thing to know about how it runs: ``name`` is waits, restarts, log, folder, language, parts, exit codes or
    elevation.
    """

    name: str
    value: str
    confidence: str
    evidence: Evidence


class Content(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something inside an installer. ``offset`` is in the file that holds it, None where it is packed together with
    others;

    ``family`` is what it is where it is an installer itself, ``contents`` what is in it then. ``unread``: what is in it
    is not known, for the reason in ``note``.
    """

    name: str
    size: int | None
    offset: int | None = None
    packed: int | None = None
    family: str | None = None
    note: str = ""
    contents: tuple[Content, ...] = ()
    unread: bool = False


class ProgramFacts(msgspec.Struct, frozen=True):
    """What the headers of a program say.

    ``stub`` is its own architecture; ``words`` its version resource; ``told_windows`` the version that Windows 10 and
    11 tell it when it asks.
    """

    stub: str
    bits: int
    elevation: str | None
    scales: str | None
    console: bool
    words: dict[str, str]
    runtimes: tuple[str, ...]
    icon: bool
    told_windows: str = "10.0"


class Wanted(msgspec.Struct, frozen=True):
    """Something that an installer does not go on without: the rule that asks for it, and one that says more exactly
    what is put on a machine that has it.
    """

    holds: Rule
    there: Rule


class InstallerAccount(msgspec.Struct, frozen=True):
    """Everything ``yendo read`` knows. ``why`` maps a dotted name to the evidence of that value."""

    file: FileFacts
    family: str
    says_of_itself: str | None
    identity: Identity
    signature: Signature | None
    silent: Silent
    conditions: tuple[LaunchCondition, ...]
    needs: tuple[str, ...]
    processes: tuple[str, ...]
    properties: tuple[Property, ...]
    payload: Payload | None
    effects: tuple[Effect, ...]
    blind_spots: tuple[BlindSpot, ...]
    why: dict[str, Evidence]
    refused: str | None = None
    switches: tuple[Switch, ...] = ()
    behaviour: tuple[Aspect, ...] = ()
    contents: tuple[Content, ...] = ()
    unread: bool = False
    program: ProgramFacts | None = None
    candidates: tuple[CommandLine, ...] = ()
    least_build: int | None = None
    wanting: tuple[Wanted, ...] = ()
    takes: tuple[str, ...] = ()
    """``refused``: why the prediction stopped, where the installer itself would refuse a fresh machine.
    ``wanting``: what would have to be there for it to go on; the effects are those of a machine that has it.
    ``takes``: the Windows that it goes on with, by name, where it refuses the usual one for what no package brings; the
    effects are those on the first of them.
    ``least_build``: the build of Windows that it asks for at least, by a search for a system file or for the build.
    """
