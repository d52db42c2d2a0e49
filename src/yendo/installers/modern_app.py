"""Modern app packages and bundles: what they are, need and add, and whether their signature is their publisher's.

Nothing of them runs while it is read, and the API layer installs none: what they do is from the manifest alone.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from pathlib import Path

from yendo import digest
from yendo.effects import Effect
from yendo.effects.things import Part
from yendo.errors import Unreadable
from yendo.evidence import BlindSpot, Evidence
from yendo.formats import app_manifest, app_signature
from yendo.formats.app_manifest import AppManifest
from yendo.installers import app_contents, app_rules, signatures
from yendo.installers.account import (
    Aspect,
    CommandLine,
    Content,
    FileFacts,
    Identity,
    InstallerAccount,
    LaunchCondition,
    Payload,
    Signature,
    Silent,
)

FAMILY = "msix"
_DESKTOP = ("Windows.Desktop", "Windows.Universal", "MsixCore.Desktop")


def account(path: Path, *, verify: bool = False) -> InstallerAccount:
    """The account of a package or bundle. ``verify`` reads all of it. Raises Unreadable."""
    found = app_manifest.read(path)
    who = found.identity
    where = Evidence("row", "manifest, Identity")
    bundle = bool(found.packages)
    title = found.title if found.title and not found.title.startswith("ms-resource:") else who.name
    signed, problems = _signature(path, found, verify=verify)
    architectures = sorted({one.architecture for one in found.packages if one.sort == "application"})
    architecture = architectures[0] if len(architectures) == 1 else who.architecture
    return InstallerAccount(
        file=FileFacts(path.name, path.stat().st_size, digest.of_file(path) if verify else None),
        family=FAMILY,
        says_of_itself=("a bundle of modern app packages" if bundle else "a modern app package")
        + (", a framework for others" if found.framework else ""),
        identity=Identity(
            title,
            who.version,
            found.publisher
            if found.publisher and not found.publisher.startswith("ms-resource:")
            else _common(who.publisher),
            architecture if architecture not in ("neutral", "") else None,
            None,
            "machine",
        ),
        signature=signed,
        silent=_silent(path.name, who.full_name, [one.name for one in found.needs], where),
        conditions=_conditions(found),
        needs=tuple(f"{one.name} {one.version} or later, of {one.publisher or 'any publisher'}" for one in found.needs),
        processes=tuple(
            dict.fromkeys(
                one.executable.replace("/", "\\").rpartition("\\")[2]
                for one in found.applications
                if one.executable.lower().endswith(".exe")
            )
        ),
        properties=(),
        payload=Payload(found.files, found.size, (), ()),
        effects=(Effect("add", Part("app", who.name, who.version), "predicted", where),),
        blind_spots=(
            BlindSpot("what its programs write when they are started", "a package is read, not run", where),
            *(BlindSpot(problem, "its signature does not hold", where) for problem in problems),
        ),
        why={
            "identity.version": where,
            "identity.publisher": where,
            "conditions.build": Evidence("row", "manifest, TargetDeviceFamily"),
        },
        behaviour=tuple(_behaviour(found, path)),
        contents=tuple(
            Content(one.file, one.size, note=f"{one.sort}, {one.architecture}, {one.version}") for one in found.packages
        ),
        least_build=_least(found),
    )


def wrong(path: Path) -> list[tuple[str, str]]:
    """Why Windows would refuse a package, or only some take it: what is wrong and what to do. Raises Unreadable."""
    found = app_manifest.read(path)
    raw = app_manifest.signature(path)
    problems = [(one.message, f"{one.remedy} ({one.source})") for one in app_rules.broken(path)]
    if raw is None:
        words = "it is not signed, and Windows takes it only where packages of developers are allowed"
        return [*problems, (words, "ask for a signed one, or sign your own with yendo sign")]
    try:
        message = signatures.parse(raw)
    except signatures.Unclear as error:
        return [*problems, (str(error), "ask the vendor for another")]
    if other := stranger(found, message):
        problems.append((other, "ask the vendor for one that is signed by its publisher"))
    if message.ends and not message.timestamp and datetime.fromisoformat(message.ends) < datetime.now(UTC):
        words = f"its certificate ended on {message.ends[:10]}, and no time stamp says that it was signed before"
        problems.append((words, "ask the vendor for one with a time stamp"))
    return problems


def stranger(found: AppManifest, message: signatures.Message) -> str:
    """Whether somebody else than its publisher has signed it, in words; empty where it is its publisher."""
    if same_name(found.identity.publisher, message.subject):
        return ""
    return f"its publisher is {found.identity.publisher}, and it is signed by {message.signer}: Windows refuses it"


def family_name(manifest: AppManifest) -> str:
    """Name and publisher, as Windows keys its data by."""
    return f"{manifest.identity.name}_{manifest.identity.publisher_id}"


def from_people(name: str) -> str:
    """The command line that takes an app away from everybody who has it already, whatever version they have by now.

    Taking it out of what is provided leaves it with them. Source: the documentation of Remove-AppxPackage (AllUsers,
    from Windows 10 1709 on). Raises Unreadable where the name is none that a package may have: it stands in a command.
    """
    if not NAME.fullmatch(name):
        raise Unreadable(f"{name!r} is no name of an app package")
    return (
        'powershell.exe -NoProfile -NonInteractive -Command "'
        f"Get-AppxPackage -AllUsers -Name '{name}' | Remove-AppxPackage -AllUsers -ErrorAction Stop\""
    )


def barred(family: str) -> str:
    """The key below HKLM by which Windows keeps in mind that somebody took an app away, and does not bring it again.

    Source: the documentation of provisioned apps, "Deprovisioned".
    """
    return rf"SOFTWARE\Microsoft\Windows\CurrentVersion\Appx\AppxAllUserStore\Deprovisioned\{family}"


NAME = re.compile(r"[-.A-Za-z0-9]{3,50}")  # Source: the manifest's schema, ST_PackageName


def _silent(name: str, full_name: str, needs: list[str], where: Evidence) -> Silent:
    """By the system's own program, for everybody: existing people and those to come.

    Source: the documentation of DISM's app package servicing.
    """
    install = f'dism.exe /online /quiet /norestart /add-provisionedappxpackage /packagepath:"{name}" /skiplicense'
    remove = f"dism.exe /online /quiet /norestart /remove-provisionedappxpackage /packagename:{full_name}"
    sure = "likely" if needs else "certain"  # each that it needs is named too: /dependencypackagepath:FILE
    return Silent(CommandLine(install, sure, where), CommandLine(remove, "likely", where))


def _conditions(found: AppManifest) -> tuple[LaunchCondition, ...]:
    return tuple(
        LaunchCondition(
            f"{family} >= {version}",
            f"Windows {version} or later ({family})",
            "the system refuses it",
            Evidence("row", "manifest, TargetDeviceFamily"),
        )
        for family, version in found.windows.items()
    )


def _least(found: AppManifest) -> int | None:
    builds = [
        int(match[1])
        for family, version in found.windows.items()
        if family in _DESKTOP and (match := re.fullmatch(r"10\.0\.(\d+)\.\d+", version)) and int(match[1])
    ]
    return max(builds) if builds else None


def _behaviour(found: AppManifest, path: Path) -> list[Aspect]:
    where = Evidence("row", "manifest")
    rows = [("full name", found.identity.full_name), ("family name", family_name(found))]
    for one in found.applications:
        rows.append(("application", f"{one.id}: {one.executable}" if one.executable else one.id))
        rows += [("adds", text) for text in one.extensions]
    rows += [("its programs see", words) for words in app_contents.summary(path)]
    if found.capabilities:
        rows.append(("may", ", ".join(found.capabilities)))
    if found.restricted:
        rows.append(("may, if granted", ", ".join(found.restricted)))
    rows.append(("removal", "takes away what new people get; who has it already keeps it until it is removed for them"))
    return [Aspect(name, value, "certain", where) for name, value in rows]


# --- who signed it ----------------------------------------------------------------------------------------------------


def _signature(path: Path, found: AppManifest, *, verify: bool) -> tuple[Signature, list[str]]:
    """The signature, and what is wrong with it in words."""
    raw = app_manifest.signature(path)
    if raw is None:
        return Signature(False, note="unsigned: Windows installs it only where developers' packages are allowed"), []
    try:
        message = signatures.parse(raw)
    except signatures.Unclear as error:
        return Signature(True, note=str(error)), [str(error)]
    problems = [other] if (other := stranger(found, message)) else []
    holds = None
    if verify:
        wrong = altered(path, message)
        holds = not wrong
        problems += [f"{name} is not what was signed" for name in wrong[:20]]
    note = f"its certificate ends on {message.ends[:10]}" if message.ends else ""
    return Signature(True, message.signer, message.issuer, holds, note, message.chain, message.timestamp), problems


def altered(path: Path, message: signatures.Message) -> list[str]:
    """What of a package is not what its signature, or its block map, says; empty where all of it is."""
    stated = app_manifest.stated(message.expected)
    if missing := [mark for mark in ("AXPC", "AXCD", "AXCT", "AXBM") if mark not in stated]:
        return [f"the whole, of which the signature does not state {missing[0]},"]
    there = {
        "AXBM": app_manifest.digest_of(path, app_manifest.BLOCK_MAP),
        "AXCT": app_manifest.digest_of(path, app_manifest.TYPES),
    }
    names = {
        "AXBM": app_manifest.BLOCK_MAP, "AXCT": app_manifest.TYPES, "AXPC": "a record of the archive",
        "AXCD": "the archive's directory",
    }  # fmt: skip
    try:
        there |= app_signature.stated_of(path)
        wrong = [names[mark] for mark, found in there.items() if stated[mark] != found]
        return wrong + app_manifest.differing(path)
    except Unreadable as error:
        return [str(error)]


_FIELDS = {
    "CN": "common_name", "O": "organization_name", "OU": "organizational_unit_name", "L": "locality_name",
    "S": "state_or_province_name", "ST": "state_or_province_name", "C": "country_name", "E": "email_address",
    "STREET": "street_address", "SERIALNUMBER": "serial_number", "DC": "domain_component",
}  # fmt: skip


# How a manifest writes the fields of a certificate's subject, by their identifiers.
SHORT = {
    "2.5.4.3": "CN", "2.5.4.10": "O", "2.5.4.11": "OU", "2.5.4.7": "L", "2.5.4.8": "S", "2.5.4.6": "C",
    "1.2.840.113549.1.9.1": "E", "2.5.4.9": "STREET", "2.5.4.5": "SERIALNUMBER", "2.5.4.12": "T", "2.5.4.42": "G",
    "2.5.4.43": "I", "2.5.4.4": "SN", "0.9.2342.19200300.100.1.25": "DC",
}  # fmt: skip


def named(text: str) -> set[tuple[str, str]]:
    """A distinguished name as pairs of field and value; quotes and escapes undone."""
    found = set()
    for match in re.finditer(r'\s*([A-Za-z0-9.]+)\s*=\s*(?:"((?:[^"]|"")*)"|((?:[^,+;\\]|\\.)*))\s*(?:[,+;]|$)', text):
        value = match[2].replace('""', '"') if match[2] is not None else re.sub(r"\\(.)", r"\1", match[3]).strip()
        name = match[1].upper().removeprefix("OID.")
        found.add((_FIELDS.get(name, name), value))
    return found


def same_name(publisher: str, subject: dict[str, str]) -> bool:
    """Whether a manifest's publisher is the subject of a certificate; fields that have no name are not compared."""
    mine = {pair for pair in named(publisher) if pair[0] in _FIELDS.values()}
    return mine == {(name, value) for name, value in subject.items() if name in _FIELDS.values()}


def _common(publisher: str) -> str:
    known = dict(named(publisher))
    return known.get("organization_name") or known.get("common_name") or publisher
