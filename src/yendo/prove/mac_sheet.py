"""The hand-over sheet of a half for macOS: what is uploaded, typed or chosen at a management service, in one order."""

from __future__ import annotations

from pathlib import Path

import msgspec

from yendo import digest, templates
from yendo.mac import reading as packages
from yendo.mac_half import build, model
from yendo.mac_half.model import MacPlan
from yendo.mac_half.prove import MacPlayed, kept
from yendo.mac_half.stage import MacStage

SCHEMA = "yendo.mac-sheet/1"


class MacUpload(msgspec.Struct, frozen=True):
    """A file that is uploaded: ``what`` it is for, size in bytes, who signed it."""

    file: str
    what: str
    size: int
    sha256: str
    signed: str


class MacInside(msgspec.Struct, frozen=True):
    """A bundle that comes with it, as services ask for it."""

    identifier: str
    version: str
    path: str


class MacSheet(msgspec.Struct, frozen=True, kw_only=True):
    """``receipt`` is identifier and version; ``closes`` are programs that are asked to end first."""

    schema: str = SCHEMA
    id: str
    name: str
    version: str
    revision: int
    publisher: str
    description: str
    contact: str
    receipt: tuple[str, str]
    oldest: str
    newest: str
    processors: tuple[str, ...]
    uploads: tuple[MacUpload, ...]
    bundles: tuple[MacInside, ...]
    conditions: tuple[str, ...]
    closes: tuple[str, ...]
    restart: bool
    detection: tuple[str, ...]
    digest: str
    verdict: str
    proofs: tuple[tuple[str, str, bool], ...]
    real: tuple[str, ...]


def sheet(base: Path, plan: MacPlan, work: Path) -> MacSheet:
    """The sheet of a built half; ``work`` is a folder for a while. Raises Usage, Unreadable."""
    folder, told = build.as_planned(base, plan)
    stage, package = MacStage(base, plan, folder, work), plan.package
    proof = kept(base)
    fits = proof is not None and proof.digest == told
    bundles = [*stage.done.bundles, *(one for part in stage.done.parts for one in part.bundles)]
    return MacSheet(
        id=package.id,
        name=package.name,
        version=package.version,
        revision=package.revision,
        publisher=package.publisher,
        description=package.description,
        contact=package.contact,
        receipt=_receipt(stage),
        oldest=package.oldest,
        newest=plan.when.newest or "",
        processors=package.processors,
        uploads=tuple(_uploads(stage)),
        bundles=tuple(dict.fromkeys(MacInside(one.identifier, one.version, one.path) for one in bundles)),
        conditions=tuple(plan.conditions),
        closes=tuple(dict.fromkeys(_closes(plan, [one.identifier for one in bundles]))),
        restart=package.restart,
        detection=tuple(rule.title for rule in plan.detect),
        digest=told,
        verdict=proof.verdict if proof and fits else "not proved",
        proofs=tuple(_told(one) for one in proof.played) if proof and fits else (),
        real=proof.real if proof and fits else (),
    )


def page(found: MacSheet) -> str:
    """The sheet as one HTML page that needs nothing else."""
    return templates.render("mac-sheet.html", sheet=found)


def _receipt(stage: MacStage) -> tuple[str, str]:
    """What detection by receipts would go by: ours, or the vendor's where its package is handed on."""
    if stage.done.untouched:
        first = stage.read.components[0]
        return first.identifier, first.version
    return stage.plan.package.identifier, stage.plan.package.receipt_version


def _told(one: MacPlayed) -> tuple[str, str, bool]:
    place = "" if one.place == "simulated" else f", {one.place}"
    return one.scenario, f"{one.machine}{place}", one.proved


def _uploads(stage: MacStage) -> list[MacUpload]:
    kinds = [(path, "first: a profile, to the machines") for path in sorted(stage.folder.glob("*.mobileconfig"))]
    kinds += [(path, "the choices, beside the package") for path in sorted(stage.folder.glob(build.CHOICES))]
    kinds += [
        (stage.package, "the package"),
        (stage.removal, "takes it away; lays nothing"),
        (stage.folder / "detect.sh", "detection, as a script"),
    ]
    made = []
    for path, what in kinds:
        signed = packages.signature_of(path).words if path.suffix == ".pkg" else ""
        made.append(MacUpload(path.name, what, path.stat().st_size, digest.of_file(path), signed))
    return made


def _closes(plan: MacPlan, bundles: list[str]) -> list[str]:
    steps = plan.install
    found = [one.identifier for one in steps if isinstance(one, model.QuitStep)]
    return [*found, *(bundles if any(isinstance(one, model.AppStep) and one.close for one in steps) else [])]
