"""Judging detection rules on the state of a machine. The generated script means the same."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from yendo.effects import Environment, File, Product, RegistryValue, Service, State, UninstallEntry
from yendo.facts.surroundings import expand
from yendo.facts.versions import VersionRange
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


class Verdict(msgspec.Struct, frozen=True):
    """Whether a rule holds, and the fact that made it so."""

    rule: Rule
    holds: bool
    fact: str


def describe(rule: Rule) -> str:
    """A rule in one line."""
    match rule:
        case MsiProductRule():
            return f"product {rule.code}" + (f" {rule.version}" if rule.version else "")
        case FileRule():
            parts = [
                f"version {rule.version}" if rule.version else "",
                f"size {rule.size}" if rule.size is not None else "",
                f"hash {rule.sha256[:12]}…" if rule.sha256 else "",
            ]
            return f"file {rule.path} " + (", ".join(part for part in parts if part) or "exists")
        case RegistryRule():
            wanted = f"= {rule.equals}" if rule.equals is not None else f"version {rule.version}" if rule.version else "exists"
            return f"registry {rule.key}\\{rule.name} {wanted}"
        case FolderRule():
            return f"folder {rule.path} exists"
        case ServiceRule():
            parts = [f"starts {rule.start}" if rule.start else "", {True: "runs", False: "does not run", None: ""}[rule.running]]
            return f"service {rule.name} " + (" and ".join(part for part in parts if part) or "exists")
        case ProcessRule():
            return f"program {rule.bare} runs"
        case EnvironmentRule():
            return f"variable {rule.name} " + ("is set" if rule.equals is None else f"= {rule.equals}")
        case CertificateRule():
            return f"certificate {rule.thumbprint[:12]}… in {rule.store}"
    return f"installed program “{rule.name}”" + (f" {rule.version}" if rule.version else "")


def _in_range(text: str | None, wanted: str | None) -> bool:
    """A version that is none satisfies no range."""
    return not wanted or VersionRange.parse(wanted).fits(text)


def judge(rule: Rule, state: State, environment: Mapping[str, str]) -> Verdict:
    """One rule on one state."""
    match rule:
        case MsiProductRule():
            product = state.get("product", rule.code)
            if not isinstance(product, Product):
                return Verdict(rule, False, "the Windows Installer has no such product")
            return Verdict(rule, _in_range(product.version, rule.version), f"version {product.version} is on record")
        case FileRule():
            return _judge_file(rule, state, expand(rule.path, environment))
        case RegistryRule():
            hive, key = rule.parts
            value = state.get("registry", RegistryValue(hive, key, rule.name, view=rule.view).identity)
            if not isinstance(value, RegistryValue):
                return Verdict(rule, False, "no such value")
            same = rule.equals is None or str(value.data) == str(rule.equals)
            return Verdict(rule, same and _in_range(str(value.data), rule.version), f"is {value.data!r}")
        case UninstallEntryRule():
            for thing in state.of("uninstall-entry"):
                if isinstance(thing, UninstallEntry) and thing.name == rule.name and rule.view in (None, thing.view):
                    return Verdict(rule, _in_range(thing.version, rule.version), f"version {thing.version} is listed")
            return Verdict(rule, False, "no such entry")
        case FolderRule():
            path = expand(rule.path, environment)
            there = state.get("folder", path) is not None
            return Verdict(rule, there, f"{path} {'is there' if there else 'does not exist'}")
        case ServiceRule():
            return _judge_service(rule, state)
        case ProcessRule():
            return Verdict(rule, False, f"whether {rule.bare} runs is not known from outside")
        case EnvironmentRule():
            variable = state.get("environment", f"machine:{rule.name}")
            if not isinstance(variable, Environment):
                return Verdict(rule, False, f"{rule.name} is not set")
            return Verdict(rule, rule.equals is None or rule.equals == variable.value, f"{rule.name} is {variable.value}")
        case CertificateRule():
            key = rf"Software\Microsoft\SystemCertificates\{rule.store}\Certificates\{rule.thumbprint.upper()}"
            there = state.get("registry", RegistryValue("HKLM", key, "Blob").identity) is not None
            return Verdict(rule, there, f"{rule.thumbprint[:12].upper()} is {'' if there else 'not '}in {rule.store}")


def _judge_service(rule: ServiceRule, state: State) -> Verdict:
    found = state.get("service", rule.name)
    if not isinstance(found, Service):
        return Verdict(rule, False, f"there is no service {rule.name}")
    if rule.start and found.start != rule.start:
        return Verdict(rule, False, f"it starts {found.start or 'in another way'}")
    if rule.running is not None and found.running is not None and found.running != rule.running:
        return Verdict(rule, False, "it runs" if found.running else "it does not run")
    return Verdict(rule, True, f"service {rule.name} is there")


def _judge_file(rule: FileRule, state: State, path: str) -> Verdict:
    found = state.get("file", path)
    if not isinstance(found, File):
        return Verdict(rule, False, f"{path} does not exist")
    if rule.version and not _in_range(found.version, rule.version):
        return Verdict(rule, False, f"its version is {found.version or 'not stated'}")
    if rule.size is not None and found.size != rule.size:
        return Verdict(rule, False, f"its size is {found.size}")
    if rule.sha256 and found.sha256 != rule.sha256:
        return Verdict(rule, False, f"its hash is {(found.sha256 or 'not known')[:12]}")
    return Verdict(rule, True, f"{path} is there" + (f", version {found.version}" if found.version else ""))


def detected(rules: Iterable[Rule], state: State, environment: Mapping[str, str]) -> tuple[bool, list[Verdict]]:
    """All rules together; no rule at all detects nothing."""
    verdicts = [judge(rule, state, environment) for rule in rules]
    return bool(verdicts) and all(verdict.holds for verdict in verdicts), verdicts
