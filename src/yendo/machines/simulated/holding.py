"""Making a rule hold on a simulated machine: what a step's probe says that its program achieves."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from yendo.effects import Environment, File, RegistryValue, Service, State, UninstallEntry
from yendo.effects.things import Product, parent
from yendo.errors import NotCovered
from yendo.facts.surroundings import expand
from yendo.terms.rules import (
    CertificateRule,
    EnvironmentRule,
    FileRule,
    FolderRule,
    MsiProductRule,
    ProcessRule,
    RegistryRule,
    Rule,
    ServiceRule,
    UninstallEntryRule,
)

if TYPE_CHECKING:
    from yendo.machines.simulated.machine import SimulatedSession


def _version(wanted: str | None) -> str | None:
    """A version within a range: its first bound that includes one. Raises NotCovered."""
    if not wanted:
        return None
    match = re.search(r"(?:>=|<=|==|=|^)\s*([0-9.]+)", wanted)
    if match is None:
        raise NotCovered(f"no version that satisfies {wanted!r} can be made up; name one with >= or ==")
    return match[1]


def make(rule: Rule, session: SimulatedSession, state: State) -> None:
    """Adds what makes the rule hold. Raises NotCovered."""
    match rule:
        case FileRule():
            path = expand(rule.path, session.surroundings.environment)
            state.add_folders(parent(path))
            state.add(File(path, rule.size, rule.sha256, _version(rule.version)))
        case FolderRule():
            state.add_folders(expand(rule.path, session.surroundings.environment))
        case RegistryRule():
            hive, key = rule.parts
            data = rule.equals if rule.equals is not None else _version(rule.version) or ""
            state.add(RegistryValue(hive, key, rule.name, "dword" if isinstance(data, int) else "sz", data, rule.view))
        case ServiceRule():
            state.add(Service(rule.name, rule.name, None, rule.start or "demand", None, None, bool(rule.running)))
        case EnvironmentRule():
            state.add(Environment(rule.name, rule.equals or "1"))
        case UninstallEntryRule():
            state.add(UninstallEntry(rule.name, name=rule.name, version=_version(rule.version), view=rule.view or "64"))
        case MsiProductRule():
            state.add(Product(rule.code, version=_version(rule.version)))
        case ProcessRule():
            session.running.append(rule.bare)
        case CertificateRule():
            key = rf"Software\Microsoft\SystemCertificates\{rule.store}\Certificates\{rule.thumbprint.upper()}"
            state.add(RegistryValue("HKLM", key, "Blob", "binary"))
