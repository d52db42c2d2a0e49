"""Wishes on an installer database, of which a transform is made."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from yendo.terms.amounts import Text, Written


class _Change(Written, tag_field="kind", frozen=True, kw_only=True):
    note: str = ""


class DropChange(_Change, tag="drop", frozen=True, kw_only=True):
    """Leaves something out.

    ``name`` is the key of its row or what people call it: a shortcut's name, ``HKLM\\key\\value``, ...
    """

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
    """Installs a file from ``extras/``; ``to`` begins with a folder of the database:
    ``[INSTALLDIR]charts\\local.lst``.
    """

    source: Text
    to: Annotated[str, Meta(pattern=r"^\[[A-Za-z_][A-Za-z0-9_.]*\][^\[\]]+$")]
    feature: str | None = None


PlannedChange = (
    DropChange | FeatureChange | PropertyChange | RegistryChange | ServiceChange | EnvironmentChange | FileChange
)
