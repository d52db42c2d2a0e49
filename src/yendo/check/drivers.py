"""The rules on drivers: what a step brings is read, and held against the Windows that the plan is for."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from weakref import WeakKeyDictionary

import msgspec

from yendo.check.table import Report, rule
from yendo.check.workspace import Workspace
from yendo.drivers import inside, reading, share, target
from yendo.drivers.driver import Driver, DriverFinding
from yendo.errors import Usage, YendoError
from yendo.installers.judging import fingerprint
from yendo.platforms.windows import systems
from yendo.steps.base import below
from yendo.steps.certificate import CertificateStep, certificate
from yendo.steps.driver import DriverStep
from yendo.steps.exe import ExeStep
from yendo.steps.msi import MsiStep

_KNOWN: WeakKeyDictionary[Workspace, tuple[tuple[int, int, DriverFinding], ...]] = WeakKeyDictionary()
_ELSEWHERE = ("other-processor", "other-windows")


@rule("driver-fault", "error", "Windows refuses the driver, or never loads it; the device stays without")
def driver_fault(workspace: Workspace) -> Report:
    for line, number, finding in _of(workspace):
        if finding.level == "error":
            yield line, f"install step {number}: {finding.what}", finding.advice


@rule("driver-doubt", "warning", "it holds on the machine where it was tried, and not on all")
def driver_doubt(workspace: Workspace) -> Report:
    for line, number, finding in _of(workspace):
        if finding.level == "warning":
            yield line, f"install step {number}: {finding.what}", finding.advice


@rule("trust-undecided", "error", "whoever has that publisher's key can put drivers on every machine, unasked")
def trust_undecided(workspace: Workspace) -> Report:
    """A draft put the certificate there; it is a person's to say yes."""
    lines = workspace.text.splitlines()
    for verb, at, step in workspace.steps():
        if isinstance(step, CertificateStep):
            line = workspace.line(verb, at, "store")
            if line <= len(lines) and "# DECIDE" in lines[line - 1]:
                what = f"nobody has said yet that {step.source} is to be trusted on every machine"
                yield line, f"{verb} step {at + 1}: {what}", "say so, or take the step out"


def _of(workspace: Workspace) -> tuple[tuple[int, int, DriverFinding], ...]:
    """The same for both rules: drivers are read, and their files hashed, once."""
    if workspace not in _KNOWN:
        _KNOWN[workspace] = tuple(_found(workspace))
    return _KNOWN[workspace]


def _found(workspace: Workspace) -> Iterator[tuple[int, int, DriverFinding]]:
    """What is wrong with drivers, of folders and in databases, with the line and the number of the step."""
    trusted: set[str] = set()
    for verb, at, step in workspace.steps():
        if verb != "install":
            continue
        if isinstance(step, CertificateStep) and step.store == "TrustedPublisher":
            trusted |= _thumbprint(workspace.folder, step)
        elif isinstance(step, MsiStep) and step.media in workspace.accounts:
            for finding in _in_database(workspace, step.media, trusted):
                yield workspace.line(verb, at, "media"), at + 1, finding
        elif isinstance(step, ExeStep) and step.media in workspace.accounts:
            for finding in _in_setup(workspace, step.media, trusted):
                yield workspace.line(verb, at, "media"), at + 1, finding
        elif isinstance(step, DriverStep):
            for finding in _in_folder(workspace, step, trusted):
                yield workspace.line(verb, at, "from"), at + 1, finding


def _in_database(workspace: Workspace, media: str, trusted: set[str]) -> Iterator[DriverFinding]:
    account = workspace.accounts[media]
    if account.family != "msi":
        return
    found = inside.of_database(workspace.folder / "media" / media, account.effects, _windows(workspace))
    for driver in found.drivers.values():
        for finding in _untrusted(driver, trusted):
            yield msgspec.structs.replace(finding, what=f"{driver.inf}, which it brings: {finding.what}")


def _in_setup(workspace: Workspace, media: str, trusted: set[str]) -> Iterator[DriverFinding]:
    """Whether the setup installs what lies in it nobody can tell, so nothing of it is an error; what is for another
    Windows or processor it brings for others.
    """
    account = workspace.accounts[media]
    if account.program is None:
        return
    found = inside.of_setup(workspace.folder / "media" / media, account.contents, _windows(workspace))
    for driver in found.drivers.values():
        if any(one.id in _ELSEWHERE for one in driver.findings):
            continue
        for finding in _untrusted(driver, trusted):
            what = f"{driver.path}, which lies in it: {finding.what}"
            yield msgspec.structs.replace(finding, level="note" if finding.level == "note" else "warning", what=what)


def _in_folder(workspace: Workspace, step: DriverStep, trusted: set[str]) -> Iterator[DriverFinding]:
    try:
        drivers, unread = _drivers(workspace, step)
    except Usage:
        return  # another rule says so
    for path, why in unread.items():
        yield DriverFinding("unreadable", "error", f"{path}: {why}", "get it from the vendor again")
    # a folder for several processors is all right: those for others are kept by the system and never used
    here = [one for one in drivers if not any(each.id in _ELSEWHERE for each in one.findings)]
    for driver in here or drivers:
        yield from _untrusted(driver, trusted)


def _untrusted(driver: Driver, trusted: set[str]) -> Iterator[DriverFinding]:
    """Its findings; that its publisher has to be trusted is none where an earlier step sees to it."""
    for finding in driver.findings:
        if finding.id != "publisher-not-trusted" or driver.trust.thumbprint not in trusted:
            yield finding


def _drivers(workspace: Workspace, step: DriverStep) -> tuple[list[Driver], dict[str, str]]:
    """The drivers of a step, and those that cannot be read. Raises Usage where there is no such folder."""
    folder = below(workspace.folder, step.source, "extras")
    windows = _windows(workspace)
    drivers: list[Driver] = []
    unread: dict[str, str] = {}
    for path in share.files(folder):
        try:
            drivers.append(reading.read(path, windows))
        except YendoError as error:
            unread[path.name] = str(error)
    return drivers, unread


def _windows(workspace: Workspace) -> target.DriverTarget:
    """The Windows that the plan is for."""
    plan = workspace.plan
    processors = plan.when.architecture or ([plan.package.architecture] if plan.package.architecture else ["x64"])
    known = [one for one in processors if one in target.PROCESSORS] or ["x64"]
    return target.of_system(systems.system(systems.suiting(plan.when.os)), known[0])


def _thumbprint(workspace: Path, step: CertificateStep) -> set[str]:
    try:
        return {fingerprint(certificate(below(workspace, step.source, "extras")))}
    except (YendoError, OSError):
        return set()  # another rule says so
