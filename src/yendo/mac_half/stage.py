"""What all scenarios of a proof for macOS share: the stage, what a machine is asked for, and their parts."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import msgspec

from yendo.effects.things import Folder, Link, kind_of
from yendo.mac import reading
from yendo.mac.package import MacPackage
from yendo.mac_half import model, removal
from yendo.mac_half.machine.machine import MacMachine, MacOutcome, Processor
from yendo.mac_half.model import MacPlan
from yendo.mac_half.payload import ordered
from yendo.mac_half.work import LaidItem, MacWork, Workshop
from yendo.platforms.posix import PosixThing, changes

TEMPLATE = "/Library/User Template/Non_localized/Library/Preferences"
# What a script of a package did that no package should, as the stand-ins noted it.
_NOTED = {
    "gnu": "uses an option that only GNU's tools know",
    "sealed": "writes to the sealed volume of the system",
    "seal": "edits a list inside a bundle, which breaks its seal",
    "managed": "writes where only a management service may",
    "gatekeeper": "switches off what protects the person",
    "quarantine": "takes the mark of quarantine away",
    "launchd": "gives launchd what it refuses",
    "waits": "shows a window and waits",
    "as-root": "asks the screen as root, and not as the person",
}


class MacPhase(msgspec.Struct, frozen=True):
    """One part of a scenario; ``problems`` is empty where it went as it should."""

    name: str
    problems: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


class MacStage:
    """What all scenarios share: the package, what the plan asks of it, and a folder for machines."""

    def __init__(self, base: Path, plan: MacPlan, folder: Path, work: Path) -> None:
        self.base, self.plan, self.folder, self.work = base, plan, folder, work
        file = f"{plan.package.id}-{plan.package.version}-r{plan.package.revision}"
        self.package, self.removal = folder / f"{file}.pkg", folder / f"{file}-removal.pkg"
        (work / "taken").mkdir()
        self.done: MacWork = Workshop(base, plan, work / "taken").done
        self.machines = itertools.count(1)
        self.blind: set[str] = set()

    @cached_property
    def read(self) -> MacPackage:
        """The built package as its reader tells it, by its bills: nothing is unpacked."""
        return reading.read(self.package, listing=True)

    def machine(self, **given: Any) -> MacMachine:
        package = self.plan.package
        own: Processor = "arm64" if "arm64" in package.processors else "x86_64"
        given = {"processor": own, "system": _newest(self.plan), "profiles": self.plan.when.profiles} | given
        made = MacMachine(self.work / f"machine-{next(self.machines)}", **given)
        for one in self.plan.when.receipts:
            made.receipt(one)
        for one in self.plan.when.bundles:
            name, _, version = one.partition(" ")
            made.bundle(f"/Applications/{name}.app", name, version or "1.0")
        return made

    def staying(self, machine: MacHost) -> set[str]:
        """What the packages that are carried along bring by themselves: they stay."""
        if not self.done.staying:
            return set()
        people = {name: each["number"] for name, each in machine.people.items()}
        other = self.machine(
            system=machine.system,
            processor=machine.processor,
            volume=machine.volume,
            people=people,
            person=machine.person,
        )
        before = set(other.picture())
        for path in self.done.staying:
            other.install(path)
        return set(other.picture()) - before

    def laid(self, machine: MacHost) -> dict[str, LaidItem]:
        """What has to lie on it, by path on the machine."""
        items = list(self.done.items)
        for part in self.done.parts:
            if part.processor in ("", machine.processor):
                items += part.items
        top = machine.volume.rstrip("/")
        return {f"{top}{item.path}".rstrip("/") or "/": item for item in ordered(items)} if items else {}


def _newest(plan: MacPlan) -> str:
    return (
        f"{plan.when.newest}.0" if plan.when.newest and plan.when.newest.count(".") == 0 else plan.when.newest or "15.3"
    )


class MacHost(Protocol):
    """What the parts of a scenario ask of a machine, a simulated one or a real one."""

    volume: str
    executes: bool
    system: str
    processor: Processor

    @property
    def people(self) -> dict[str, dict[str, Any]]: ...
    @property
    def person(self) -> str: ...
    @property
    def notes(self) -> Sequence[Sequence[str]]: ...
    def picture(self) -> dict[str, PosixThing]: ...
    def install(self, package: Path, volume: str | None = None, wanted: Mapping[str, bool] = {}) -> MacOutcome: ...
    def receipts(self) -> dict[str, str]: ...
    def script(self, text: bytes, *arguments: str) -> tuple[int, list[str]]: ...
    def listed(self, path: str) -> Mapping[str, Any]: ...
    def has_job(self, name: str) -> bool: ...
    def looks_at(self, path: str) -> bool: ...


# --- parts of scenarios


def installed(stage: MacStage, machine: MacHost, name: str = "install") -> MacPhase:
    """It installs, and all is as the plan says."""
    outcome = machine.install(stage.package, wanted=stage.done.wanted)
    if outcome.code:
        return MacPhase(name, (outcome.why,), outcome.said)
    problems = [*_differing(stage, machine), *unset(stage, machine), *_jobs(stage, machine), *_noted(machine)]
    wanted = [stage.plan.package.identifier] if stage.done.items else []
    problems += [f"no receipt of {one}" for one in wanted if one not in machine.receipts()]
    return MacPhase(name, tuple(problems))


def _differing(stage: MacStage, machine: MacHost) -> Iterator[str]:
    found = machine.picture()
    laid = stage.laid(machine)
    for path, item in laid.items():
        if path == "/" or not machine.looks_at(path):
            continue
        there = found.get(path)
        if there is None:
            yield f"{path} is not there"
        elif wrong := _unlike(there, item):
            yield f"{path}: {wrong}"
    for bundle in [*stage.done.bundles, *(one for part in stage.done.parts for one in part.bundles)]:
        top = machine.volume.rstrip("/") + bundle.path
        for path in found:
            if path.startswith(f"{top}/") and path not in laid:
                yield f"{path} is of an older copy, and breaks the seal"


def _unlike(there: PosixThing, item: LaidItem) -> str:
    if kind_of(there) != item.kind:
        return f"a {kind_of(there)}, and a {item.kind} was meant"
    if isinstance(there, Link):
        return "" if there.target == item.target else f"leads to {there.target}, and not to {item.target}"
    if (there.user, there.group) != (item.user, item.group):
        return f"belongs to {there.user}:{there.group}, and not to {item.user}:{item.group}"
    if there.mode != item.mode:
        return f"mode {there.mode or 0:04o}, and not {item.mode:04o}"
    return "" if isinstance(there, Folder) or there.sha256 == removal.hash_of(item) else "is not what was meant"


def unset(stage: MacStage, machine: MacHost) -> Iterator[str]:
    """Settings that are not as the plan says, for whom they are meant."""
    if not machine.executes:
        return
    top = machine.volume.rstrip("/")
    for step in stage.plan.install:
        if not isinstance(step, model.SettingsStep) or step.whose == "managed":
            continue
        if step.whose == "machine":
            places = [f"{top}/Library/Preferences/{step.domain}.plist"]
        else:
            homes = [each["home"] for each in machine.people.values()] if machine.volume == "/" else []
            places = [
                f"{top}{TEMPLATE}/{step.domain}.plist",
                *(f"{home}/Library/Preferences/{step.domain}.plist" for home in homes),
            ]
        for place in places:
            have = machine.listed(place)
            for key, value in step.values.items():
                if have.get(key) != value:
                    yield f"{place}: {key} is {have.get(key)!r}, and not {value!r}"


def _jobs(stage: MacStage, machine: MacHost) -> Iterator[str]:
    if machine.volume != "/" or not machine.executes:
        return
    for step in stage.plan.install:
        if isinstance(step, model.JobStep):
            person = machine.people.get(machine.person)
            if step.agent and not person:
                continue
            domain = f"gui/{person['number']}" if step.agent and person else "system"
            if not machine.has_job(f"{domain}/{step.label}"):
                yield f"launchd has not loaded {step.label}"


def _noted(machine: MacHost) -> Iterator[str]:
    for kind, *what in machine.notes:
        if kind in _NOTED:
            yield f"a script {_NOTED[kind]}: {' '.join(what)}"


def detected(stage: MacStage, machine: MacHost, wanted: bool) -> MacPhase:
    """What the script of detection says."""
    name = "detected" if wanted else "not detected"
    if not machine.executes or not stage.plan.detect:
        return MacPhase(name, notes=("not asked: scripts are not carried out here",) if stage.plan.detect else ())
    code, said = machine.script((stage.folder / "detect.sh").read_bytes(), machine.volume)
    there = code == 0 and "installed" in said
    return MacPhase(name, () if there == wanted else (f"it says {'installed' if there else 'nothing'}, with {code}",))


def removed(stage: MacStage, machine: MacHost, before: Mapping[str, PosixThing], name: str = "remove") -> MacPhase:
    """It goes, with nothing left behind and nothing taken from others."""
    if not machine.executes:
        return MacPhase(name, notes=("not played: scripts are not carried out here",))
    outcome = machine.install(stage.removal)
    if outcome.code:
        return MacPhase(name, (outcome.why,), outcome.said)
    after = machine.picture()
    ours = _settings_of_people(stage, machine)
    ours |= stage.staying(machine)
    words = {"add": "left behind", "remove": "taken away", "change": "changed"}
    found = changes(before, after)
    problems = [
        f"{words[change]}: {path}"
        for wanted in words
        for path, change in found.items()
        if change == wanted and not (change == "add" and path in ours)
    ]
    problems += [
        f"the receipt of {one} is still there"
        for one in removal.receipts(stage.plan, stage.done)
        if one in machine.receipts()
    ]
    problems += [f"launchd still has {job}" for job in _jobs_of(stage.plan, machine) if machine.has_job(job)]
    return MacPhase(name, tuple(problems))


def _jobs_of(plan: model.MacPlan, machine: MacHost) -> Iterator[str]:
    """The jobs that a plan brings, as launchd calls them: agents are everybody's own."""
    for step in plan.install:
        if isinstance(step, model.JobStep):
            yield f"system/{step.label}"
            for person in machine.people.values() if step.agent else ():
                yield f"gui/{person['number']}/{step.label}"


def _settings_of_people(stage: MacStage, machine: MacHost) -> set[str]:
    """What a removal leaves since nobody asked for it: settings of people, with the folders they made."""
    found: set[str] = set()
    for step in stage.plan.install:
        if isinstance(step, model.SettingsStep) and step.whose == "persons" and step.domain not in stage.plan.users_too:
            found |= {f"{each['home']}/Library/Preferences/{step.domain}.plist" for each in machine.people.values()}
    parts = TEMPLATE.split("/")
    return found | {machine.volume.rstrip("/") + "/".join(parts[:count]) for count in range(4, len(parts) + 1)}


def whole(stage: MacStage, machine: MacHost) -> Iterator[MacPhase]:
    """Installed, detected, installed again, removed, and no more detected."""
    before = machine.picture()
    first = installed(stage, machine)
    yield first
    if first.problems:
        return  # what would follow says nothing more
    yield detected(stage, machine, True)
    yield installed(stage, machine, "again")
    yield removed(stage, machine, before)
    yield detected(stage, machine, False)


def refused(stage: MacStage, machine: MacMachine) -> Iterator[MacPhase]:
    """It does not begin, and nothing has changed."""
    before = machine.picture()
    outcome = machine.install(stage.package, wanted=stage.done.wanted)
    problems = [] if outcome.code else ["it was installed where it should be refused"]
    problems += [f"changed: {path}" for path, thing in machine.picture().items() if before.get(path) != thing]
    yield MacPhase("refused", tuple(problems), (outcome.why,) if outcome.why else ())
