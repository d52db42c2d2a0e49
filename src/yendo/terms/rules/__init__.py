"""Rules on the state of a machine: what detection, probes and conditions are made of. One module a family; the
table of all kinds stands in ``groups``.

Each kind is described once: how it is judged, what its part of the scripts needs (beside it, as ``.ps1``), what makes
it hold on a simulated machine, and how it is said in OVAL.
"""

from __future__ import annotations

from functools import cache
from typing import get_args

from yendo.terms.rules.base import BaseRule, Criteria, Field, OvalTest, Sight
from yendo.terms.rules.certificate import CertificateRule
from yendo.terms.rules.device import DeviceRule
from yendo.terms.rules.environment import EnvironmentRule
from yendo.terms.rules.file import FileRule
from yendo.terms.rules.file_list import FileListRule
from yendo.terms.rules.folder import FolderRule
from yendo.terms.rules.groups import AllRule, AnyOfRule, AtLeastRule, Group, NoneRule
from yendo.terms.rules.groups import AnyRule as Rule
from yendo.terms.rules.msi_product import MsiProductRule
from yendo.terms.rules.parts import AppRule, CapabilityRule, DriverRule, FeatureRule, SystemPackageRule, TaskRule
from yendo.terms.rules.process import ProcessRule
from yendo.terms.rules.registry import RegistryKeyRule, RegistryRule
from yendo.terms.rules.registry_list import RegistryListRule
from yendo.terms.rules.script import ScriptRule
from yendo.terms.rules.service import ServiceRule
from yendo.terms.rules.shortcut import ShortcutRule
from yendo.terms.rules.tag import TagRule
from yendo.terms.rules.uninstall_entry import UninstallEntryRule

KINDS: dict[str, type[BaseRule]] = {str(kind.__struct_config__.tag): kind for kind in get_args(Rule)}


def function_of(kind: str) -> str:
    """The shell's function that judges a kind."""
    return (
        "Test-Group"
        if issubclass(KINDS[kind], Group)
        else "Test-" + "".join(part.capitalize() for part in kind.split("-"))
    )


@cache
def fragment(kind: str) -> str:
    """The part of the scripts that judges a kind, as text; families share one."""
    module = KINDS[kind].__module__.rpartition(".")[2]
    from importlib.resources import files  # only a build asks

    return files(__name__).joinpath(f"{module}.ps1").read_text("utf-8")


__all__ = [
    "KINDS",
    "AllRule",
    "AnyOfRule",
    "AppRule",
    "AtLeastRule",
    "BaseRule",
    "CapabilityRule",
    "CertificateRule",
    "Criteria",
    "DeviceRule",
    "DriverRule",
    "EnvironmentRule",
    "FeatureRule",
    "Field",
    "FileListRule",
    "FileRule",
    "FolderRule",
    "Group",
    "MsiProductRule",
    "NoneRule",
    "OvalTest",
    "ProcessRule",
    "RegistryKeyRule",
    "RegistryListRule",
    "RegistryRule",
    "Rule",
    "ScriptRule",
    "ServiceRule",
    "ShortcutRule",
    "Sight",
    "SystemPackageRule",
    "TagRule",
    "TaskRule",
    "UninstallEntryRule",
    "fragment",
    "function_of",
]
