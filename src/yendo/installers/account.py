"""What reading an installer tells, the same for every family. Unknown values are None, never guesses."""

from __future__ import annotations

from typing import Any

import msgspec

from yendo.effects import Effect
from yendo.evidence import BlindSpot, Evidence

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


class CommandLine(msgspec.Struct, frozen=True):
    """``confidence`` is certain, likely or to be tried."""

    command: str
    confidence: str
    evidence: Evidence


class Silent(msgspec.Struct, frozen=True):
    install: CommandLine | None = None
    uninstall: CommandLine | None = None
    repair: CommandLine | None = None


class Signature(msgspec.Struct, frozen=True):
    """``digest_holds`` is None until the whole file was asked to be read, or where it cannot be told."""

    signed: bool
    signer: str | None = None
    issuer: str | None = None
    digest_holds: bool | None = None
    note: str = ""


class Condition(msgspec.Struct, frozen=True):
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


class Payload(msgspec.Struct, frozen=True):
    """``size`` in bytes unpacked; each medium as name, kind, present, size."""

    files: int
    size: int
    media: tuple[Any, ...]
    features: tuple[Feature, ...]


class Account(msgspec.Struct, frozen=True):
    """Everything ``yendo read`` knows. ``why`` maps a dotted name to the evidence of that value."""

    file: FileFacts
    family: str
    says_of_itself: str | None
    identity: Identity
    signature: Signature | None
    silent: Silent
    conditions: tuple[Condition, ...]
    needs: tuple[str, ...]
    processes: tuple[str, ...]
    properties: tuple[Property, ...]
    payload: Payload | None
    effects: tuple[Effect, ...]
    blind_spots: tuple[BlindSpot, ...]
    why: dict[str, Evidence]
    refused: str | None = None
    """Why the prediction stopped, where the installer itself would refuse a fresh machine."""
