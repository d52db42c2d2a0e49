"""The demonstration from end to end: what the survey office does with the vendor's new release."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from yendo.check import Finding, Workspace, check
from yendo.demo import delivery, drivers, half, office, sequence, vendor
from yendo.demo.delivery import Delivery
from yendo.detect.derive import derive
from yendo.detect.states import listed
from yendo.detect.strength import Strength, measure
from yendo.draft import draft, proposing, writing
from yendo.errors import Usage
from yendo.installers import recognise
from yendo.installers.account import InstallerAccount
from yendo.installers.msi import meeting
from yendo.installers.msi.meeting import Meeting
from yendo.machines.protocol import Machine
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import Plan, read
from yendo.prove import ground, scenarios, way_back
from yendo.prove.proof import Proof
from yendo.prove.prove import Cell, keep, matrix, prove
from yendo.renew.renew import Renewal, renew
from yendo.shelf import claims, record
from yendo.shelf.shelf import Shelf, listing

AUTUMN = "from-tidewell-autumn"  # where the vendor's next release comes in
SETUP = "sounder-setup.exe"  # the vendor's other program: a setup of its own, prebuilt from sounder.c


class Story(msgspec.Struct, frozen=True):
    """What came of each step."""

    installer: Path
    account: InstallerAccount
    meetings: tuple[Meeting, ...]
    drafted: draft.Drafted
    findings: tuple[Finding, ...]
    built: build.Built
    lived: tuple[sequence.Moment, ...]
    proof: Proof
    detection: tuple[Strength, Strength, int]
    cells: tuple[Cell, ...]
    renewal: Renewal
    renewed: tuple[Cell, ...]
    shelf: Shelf
    mac: half.Half
    delivery: Delivery | None


def scene(folder: Path) -> Path:
    """Writes the vendor's share and the site's configuration; returns the installer to start with. Raises Usage."""
    share = folder / "from-tidewell"
    if folder.exists() and any(folder.iterdir()) and not (share / "lantern-6.2.1.msi").exists():
        raise Usage(f"{folder} is not empty and holds no demo; name an empty folder")
    share.mkdir(parents=True, exist_ok=True)
    for version in ("6.1.0", "6.2.3"):
        vendor.lantern(share, version)
    (share / "read-me.txt").write_text("Lantern 6.2.1 from Tidewell. Older releases are kept here too.\n", "utf-8")
    (folder / "site.ini").write_bytes(vendor.SITE_CONFIGURATION.encode())
    (share / SETUP).write_bytes(files("yendo.demo.sounder").joinpath(SETUP).read_bytes())
    installer = vendor.lantern(share, "6.2.1")
    vendor.lantern_patch(share)
    drivers.share(folder / "drivers")
    half.share(share)
    return installer


def patch_of(installer: Path) -> Path:
    """The vendor's patch, which lies beside the installer."""
    return installer.with_name("lantern-6.2.3.msp")


CHANGES: tuple[dict[str, str | bool], ...] = (
    {
        "kind": "drop",
        "what": "shortcut",
        "name": "DesktopLantern",
        "note": "decided by the survey office: no icons on desktops",
    },
    {"kind": "feature", "name": "Documentation", "install": False, "note": "the manual is on the office's share"},
    {"kind": "property", "name": "AUTOUPDATE", "value": "0", "note": "updates come as packages"},
    {"kind": "property", "name": "SITE", "value": "Marrowby"},
)


def edit(workspace: Path, configuration: Path, *, by_transform: bool = True) -> None:
    """What a packager at Marrowby decides: contact, origin, what is different at the site, and its configuration file.

    Without ``by_transform`` the site's values stand on the command line instead.
    """
    (workspace / "extras" / "site.ini").write_bytes(configuration.read_bytes())
    path = workspace / "plan.toml"
    document = tomlkit.parse(path.read_text("utf-8"))

    def decide(table: Any, key: str, value: object) -> None:
        table[key] = value
        table[key].comment("decided by the survey office")

    package, when = writing.part(document, "package"), writing.part(document, "when")
    if "contact" in package:  # else the house says it
        decide(package, "contact", "Marrowby harbour survey office")
    for medium in writing.part(document, "media"):
        decide(medium, "origin", "Tidewell release share, by hand")
    if "os" in when:
        decide(when, "os", ">=10.0.17763")
    install = writing.part(document, "install")
    decided: list[str] = []
    if by_transform:
        different = tomlkit.aot()
        for wanted in CHANGES:
            entry = tomlkit.table()
            entry.update(wanted)
            different.append(entry)
        install[0].add("change", different)
    else:
        for name, value in (("SITE", "Marrowby"), ("AUTOUPDATE", "0")):
            decide(install[0]["properties"], name, value)
        decided += ["SITE", "AUTOUPDATE"]
    target = r"%ProgramData%\Tidewell\Lantern\site.ini"
    copy, back, rule = tomlkit.table(), tomlkit.table(), tomlkit.table()
    for key, value in (
        ("kind", "copy"),
        ("from", "extras/site.ini"),
        ("to", tomlkit.string(target, literal=True)),
        ("timeout", "1 min"),
    ):
        copy.add(key, value)
    for key, text in (("kind", "take-back"), ("timeout", "1 min")):
        back.add(key, text)
    from hashlib import sha256

    for key, value in (
        ("kind", "file"),
        ("path", tomlkit.string(target, literal=True)),
        ("sha256", sha256(configuration.read_bytes()).hexdigest()),
    ):
        rule.add(key, value)
    install.append(copy)
    writing.part(document, "uninstall").insert(0, back)
    writing.part(document, "detect").append(rule)
    text = writing.spaced(tomlkit.dumps(document))
    for name in decided:
        text = re.sub(rf"(?m)^# {name} = .* {proposing.DEFAULT} .*\n", "", text)
    path.write_text(text, "utf-8")


def tell(
    folder: Path, machine: Machine, scenario: str = "desk", tell_step: Callable[[str], object] = lambda title: None
) -> Story:
    """Runs every step in ``folder`` and returns what came of it. Raises Usage where edits would be lost."""
    installer = scene(folder)
    office.furnish(folder)
    tell_step("read")
    account = recognise.read(installer)
    _, meetings = meeting.matrix([installer.parent])
    workspace = folder / "lantern"
    if not (workspace / "plan.toml").exists():
        tell_step("draft")
        drafted = draft.from_installer(workspace, installer, [patch_of(installer)])
        edit(workspace, folder / "site.ini")
        sequence.add(workspace, sequence.runtime(folder))
        office.settle(workspace)
    else:
        drafted = draft.Drafted(workspace / "plan.toml", (installer.name,), (), (), ())
    tell_step("detect")
    detection = detect(workspace, installer.with_name("lantern-6.1.0.msi"))
    tell_step("check")
    findings = tuple(check(Workspace(workspace)))
    record.checked(workspace, findings)
    tell_step("build")
    plan, built = _built(workspace)
    lived = sequence.lived(built.folder, installer.parent)
    tell_step("prove")
    here, there = scenarios.at_sites([scenarios.SCENARIOS[scenario]], office.SITES)
    proof = prove(built.folder, machine, scenario=here, progress=tell_step)
    keep(proof, built.folder)
    tell_step("prove in every scenario")
    others = tuple(workspace / name for name in plan.proof.others)
    some = scenarios.at_sites(scenarios.with_others(others, built.folder).values(), office.SITES[:1])
    some = [one for one in some if one.id != here.id or machine.name != "simulated"]
    cells = matrix(built.folder, [SimulatedMachine()], [*some, there])
    tell_step("renew")
    renewal, renewed = renew_it(folder, workspace, machine, scenario)
    tell_step("the half for macOS")
    mac = half.tell(folder)
    shelf = listing(folder)
    tell_step("all machines")
    out = delivery.tell(folder, workspace)
    return Story(
        installer,
        account,
        tuple(meetings),
        drafted,
        findings,
        built,
        lived,
        proof,
        detection,
        tuple(cells),
        renewal,
        renewed,
        shelf,
        mac,
        out,
    )


def _built(workspace: Path) -> tuple[Plan, build.Built]:
    plan, _ = read(workspace / "plan.toml")
    built = build.build(workspace, plan)
    build.record(workspace, built)
    claims.record(workspace, plan, built)
    return plan, built


def next_of(folder: Path) -> Path:
    """Where the office renews: a copy of the workspace, as a branch of version control would be."""
    return folder / "lantern-next"


def renew_it(folder: Path, workspace: Path, machine: Machine, scenario: str) -> tuple[Renewal, tuple[Cell, ...]]:
    """The vendor releases 6.3.0: renewed, decided, built and proved, fresh and over what the machines have."""
    (folder / AUTUMN).mkdir(exist_ok=True)
    new = vendor.lantern(folder / AUTUMN, "6.3.0")
    place = next_of(folder)
    shutil.rmtree(place, ignore_errors=True)
    shutil.copytree(workspace, place, ignore=shutil.ignore_patterns("package", ".yendo"))
    found = renew(place, new)
    path = place / "plan.toml"
    text = path.read_text("utf-8")
    if "# CONFLICT" in text:  # decided by the office: the updater is gone, so there is nothing left to switch off
        path.write_text(text[: text.index("# CONFLICT")].rstrip() + "\n", "utf-8")
    mine = workspace / "package" / build.name_of(read(workspace / "plan.toml")[0])
    back_to = f'[proof]\nback_to = ["../{mine.relative_to(folder).as_posix()}"]\n'
    path.write_text(path.read_text("utf-8").replace("[proof]\n", back_to, 1), "utf-8")
    record.checked(place, tuple(check(Workspace(place))))
    plan, built = _built(place)
    others = tuple(place / name for name in plan.proof.others)
    known = scenarios.with_others(others, built.folder, [mine])
    wanted = scenarios.at_sites([known[name] for name in (scenario, "upgrade:6.2.1") if name in known], office.SITES)
    back = scenarios.at_sites([known[way_back.name_of(mine, built.folder)]], office.SITES[:1])
    return found, tuple(matrix(built.folder, [machine], wanted) + matrix(built.folder, [SimulatedMachine()], back))


def detect(workspace: Path, other: Path) -> tuple[Strength, Strength, int]:
    """Derived rules in place of the drafted ones: the strength of both, and how many states they tell apart.

    The package is built for it in a folder of its own, since detection is judged on what the package does.
    """
    path = workspace / "plan.toml"
    document = tomlkit.parse(path.read_text("utf-8"))
    if "proof" not in document:
        table = tomlkit.table()
        table.add("others", [os.path.relpath(other, workspace).replace(os.sep, "/")])
        document.add("proof", table)
        path.write_text(writing.spaced(tomlkit.dumps(document)), "utf-8")
    plan, _ = read(path)
    with tempfile.TemporaryDirectory(prefix="yendo-demo-") as folder:
        copy = Path(shutil.copytree(workspace, Path(folder) / "work", ignore=shutil.ignore_patterns("package")))
        package = build.build(copy, plan).folder
        made = ground.everywhere(ground.make(package, [other]), package)
    drafted = measure(made.manifest.detect, made.ground, made.environment)
    derived = derive(made.ground, made.environment)
    if drafted.false_absent or drafted.score < derived.strength.score:
        document = tomlkit.parse(path.read_text("utf-8"))
        document.pop("detect", None)
        document["detect"] = writing.rules_of([ground.with_places(one.rule, made) for one in derived.rules])
        path.write_text(writing.spaced(tomlkit.dumps(document)), "utf-8")
    return drafted, derived.strength, len(listed(made.ground))
