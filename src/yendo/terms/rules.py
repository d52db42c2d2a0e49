"""Rules on the state of a machine: what detection, probes and conditions are made of."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from msgspec import Meta

from yendo.facts.versions import VersionRange
from yendo.terms.amounts import Code, Digest, Text, Written


class BaseRule(Written, tag_field="kind", frozen=True, kw_only=True):
    note: str = ""

    def __post_init__(self) -> None:
        version = getattr(self, "version", None)
        if version:
            VersionRange.parse(version)


class MsiProductRule(BaseRule, tag="msi-product", frozen=True, kw_only=True):
    """The Windows Installer has this product on record, in a version within the range."""

    code: Code
    version: str | None = None


class FileRule(BaseRule, tag="file", frozen=True, kw_only=True):
    """A file exists, and its version, size or hash is as said."""

    path: Text
    version: str | None = None
    size: int | None = None
    sha256: Digest | None = None


class RegistryRule(BaseRule, tag="registry", frozen=True, kw_only=True):
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


class UninstallEntryRule(BaseRule, tag="uninstall-entry", frozen=True, kw_only=True):
    """The list of installed programs has an entry of this exact name, in a version within the range."""

    name: Text
    version: str | None = None
    view: Literal["64", "32"] | None = None


class FolderRule(BaseRule, tag="folder", frozen=True, kw_only=True):
    """A folder exists."""

    path: Text


class ServiceRule(BaseRule, tag="service", frozen=True, kw_only=True):
    """A service exists, and starts or runs as said."""

    name: Text
    start: Literal["auto", "demand", "disabled"] | None = None
    running: bool | None = None


class ProcessRule(BaseRule, tag="process", frozen=True, kw_only=True):
    """A program runs, by its name with or without ``.exe``."""

    name: Text

    @property
    def bare(self) -> str:
        return re.sub(r"(?i)\.exe$", "", self.name)


class EnvironmentRule(BaseRule, tag="environment", frozen=True, kw_only=True):
    """A variable of the machine is set, and equals a text."""

    name: Text
    equals: str | None = None


class CertificateRule(BaseRule, tag="certificate", frozen=True, kw_only=True):
    """A store of the machine holds the certificate with this SHA-1 thumbprint."""

    store: Text = "Root"
    thumbprint: Annotated[str, Meta(pattern="^[0-9A-Fa-f]{40}$")]


Rule = MsiProductRule | FileRule | FolderRule | RegistryRule | UninstallEntryRule | ServiceRule | ProcessRule | EnvironmentRule | CertificateRule
