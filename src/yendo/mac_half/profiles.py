"""Configuration profiles that a package asks for: managed settings, and what a person would else have to allow.

Source: Apple's "Device Management" reference: ``com.apple.ManagedClient.preferences``,
``com.apple.system-extension-policy``, ``com.apple.servicemanagement``, ``com.apple.webcontent-filter``,
``com.apple.TCC.configuration-profile-policy``. No Mac read them here.
"""

from __future__ import annotations

import plistlib
import uuid
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from yendo.errors import Usage
from yendo.mac_half.model import MacPlan
from yendo.mac_half.work import LaidBundle, MacWork

_ROOT = uuid.UUID("6f0f4c0e-52b7-5d0c-9c53-8a6f5b2f9d11")  # so that the same plan gives the same numbers


def write(plan: MacPlan, done: MacWork, folder: Path) -> list[str]:
    """Writes the profile below a folder, where there is one to write; the names of the files."""
    payloads = payloads_of(plan, done)
    if not payloads:
        return []
    name = f"{plan.package.id}.mobileconfig"
    own = plan.package.identifier
    content: dict[str, Any] = {
        "PayloadContent": payloads,
        "PayloadDisplayName": plan.package.name,
        "PayloadIdentifier": f"{own}.profile",
        "PayloadOrganization": plan.package.organisation or plan.package.publisher or plan.package.name,
        "PayloadScope": "System",
        "PayloadType": "Configuration",
        "PayloadUUID": _number(own),
        "PayloadVersion": 1,
    }
    (folder / name).write_bytes(plistlib.dumps(content))
    return [name]


def payloads_of(plan: MacPlan, done: MacWork) -> list[dict[str, Any]]:
    """What the profile holds. Raises Usage."""
    return list(_payloads(plan, done))


def _extensions(plan: MacPlan, bundles: Iterable[LaidBundle]) -> Iterator[dict[str, Any]]:
    """The system extensions of bundles that are allowed, by the team that signed them."""
    allowed: dict[str, set[str]] = {}
    for one in bundles:
        if one.extensions and one.team:
            allowed.setdefault(one.team, set()).update(one.extensions)
    if allowed:
        named = {team: sorted(names) for team, names in sorted(allowed.items())}
        yield _one(plan, "com.apple.system-extension-policy", "extensions", {"AllowedSystemExtensions": named})


def _payloads(plan: MacPlan, done: MacWork) -> Iterator[dict[str, Any]]:
    domains: dict[str, dict[str, Any]] = {}
    for step in done.managed:
        domains.setdefault(step.domain, {}).update(step.values)
    for domain, values in domains.items():
        yield _one(plan, domain, domain, values)
    bundles = [*done.bundles, *(one for part in done.parts for one in part.bundles)]
    rules = [("Label", label) for label in _jobs(plan)]
    rules += [("TeamIdentifier", one.team) for one in bundles if one.background and one.team]
    if rules:
        listed = [{"RuleType": kind, "RuleValue": value, "Comment": plan.package.name} for kind, value in rules]
        yield _one(plan, "com.apple.servicemanagement", "background", {"Rules": listed})
    yield from _extensions(plan, bundles)
    for one in bundles:
        for identifier in one.filters if one.team else ():
            filtered = {
                "FilterType": "Plugin",
                "UserDefinedName": plan.package.name,
                "PluginBundleID": one.identifier,
                "FilterGrade": "inspector",
                "FilterSockets": True,
                "FilterDataProviderBundleIdentifier": identifier,
                "FilterDataProviderDesignatedRequirement": requirement(identifier, one.team),
            }
            yield _one(plan, "com.apple.webcontent-filter", f"filter.{identifier}", filtered)
    if done.privacy:
        services = _services(done, {one.identifier: one for one in bundles})
        yield _one(plan, "com.apple.TCC.configuration-profile-policy", "privacy", {"Services": services})


def requirement(identifier: str, team: str) -> str:
    """What a program has to be, so that nobody else's has its rights."""
    return f'identifier "{identifier}" and anchor apple generic and certificate leaf[subject.OU] = "{team}"'


def _services(done: MacWork, bundles: dict[str, LaidBundle]) -> dict[str, list[dict[str, Any]]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for step in done.privacy:
        one = bundles.get(step.bundle)
        if one is None or not one.team:
            what = "is signed by no team" if one else "is no bundle of this package"
            raise Usage(f"{step.bundle} {what}: a profile says by its signature who may")
        for service in step.allow:
            entry = {
                "Identifier": step.bundle,
                "IdentifierType": "bundleID",
                "CodeRequirement": requirement(step.bundle, one.team),
                "Authorization": "Allow",
                "StaticCode": False,
            }
            found.setdefault(service, []).append(entry)
    return found


def _jobs(plan: MacPlan) -> Iterator[str]:
    from yendo.mac_half.model import JobStep

    for step in plan.install:
        if isinstance(step, JobStep):
            yield step.label


def _one(plan: MacPlan, kind: str, name: str, values: dict[str, Any]) -> dict[str, Any]:
    own = f"{plan.package.identifier}.profile.{name}"
    head = {"PayloadIdentifier": own, "PayloadType": kind, "PayloadUUID": _number(own), "PayloadVersion": 1}
    return {**head, **values}


def _number(name: str) -> str:
    return str(uuid.uuid5(_ROOT, name)).upper()
