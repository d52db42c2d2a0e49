"""What steps do to a machine: the kinds of things, changes to them, and operations on sets of changes."""

from yendo.effects.compare import Agreement, agreement, apply, difference, net
from yendo.effects.effect import Effect
from yendo.effects.state import State
from yendo.effects.things import (
    KINDS,
    AccessRights,
    Environment,
    File,
    Folder,
    IniValue,
    Product,
    RegistryKey,
    RegistryValue,
    Service,
    Shortcut,
    Thing,
    UninstallEntry,
    label,
)

__all__ = [
    "KINDS",
    "AccessRights",
    "Agreement",
    "Effect",
    "Environment",
    "File",
    "Folder",
    "IniValue",
    "Product",
    "RegistryKey",
    "RegistryValue",
    "Service",
    "Shortcut",
    "State",
    "Thing",
    "UninstallEntry",
    "agreement",
    "apply",
    "difference",
    "label",
    "net",
]
