"""The scenarios in which a package for macOS is played: a machine, and what has to come of each part."""

from __future__ import annotations

import itertools
import plistlib
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple, Protocol

import msgspec

from yendo.mac import reading
from yendo.mac.package import MacPackage
from yendo.mac_half import model, remade, removal
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import MacMachine, MacOutcome, MacThing, Processor
from yendo.mac_half.model import MacPlan
from yendo.mac_half.payload import ordered
from yendo.mac_half.work import LaidBundle, LaidItem, MacWork, Workshop

OTHER = "/Volumes/Other"
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


# What a management service does not take, as the reader of packages finds it.
_NOT_TAKEN = ("damaged", "no-distribution", "no-identity", "two-alike", "broken-signature")


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
    def picture(self) -> dict[str, MacThing]: ...
    def install(self, package: Path, volume: str | None = None, wanted: Mapping[str, bool] = {}) -> MacOutcome: ...
    def receipts(self) -> dict[str, str]: ...
    def script(self, text: bytes, *arguments: str) -> tuple[int, list[str]]: ...
    def listed(self, path: str) -> Mapping[str, Any]: ...
    def has_job(self, name: str) -> bool: ...
    def looks_at(self, path: str) -> bool: ...


# --- parts of scenarios


def _installed(stage: MacStage, machine: MacHost, name: str = "install") -> MacPhase:
    """It installs, and all is as the plan says."""
    outcome = machine.install(stage.package, wanted=stage.done.wanted)
    if outcome.code:
        return MacPhase(name, (outcome.why,), outcome.said)
    problems = [*_differing(stage, machine), *_unset(stage, machine), *_jobs(stage, machine), *_noted(machine)]
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


def _unlike(there: MacThing, item: LaidItem) -> str:
    if there.kind != item.kind:
        return f"a {there.kind}, and a {item.kind} was meant"
    if item.kind == "link":
        return "" if there.content == item.target else f"leads to {there.content}, and not to {item.target}"
    if (there.user, there.group) != (item.user, item.group):
        return f"belongs to {there.user}:{there.group}, and not to {item.user}:{item.group}"
    if there.mode != item.mode:
        return f"mode {there.mode:04o}, and not {item.mode:04o}"
    return "" if item.kind == "folder" or there.content == removal.hash_of(item) else "is not what was meant"


def _unset(stage: MacStage, machine: MacHost) -> Iterator[str]:
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


def _detected(stage: MacStage, machine: MacHost, wanted: bool) -> MacPhase:
    """What the script of detection says."""
    name = "detected" if wanted else "not detected"
    if not machine.executes or not stage.plan.detect:
        return MacPhase(name, notes=("not asked: scripts are not carried out here",) if stage.plan.detect else ())
    code, said = machine.script((stage.folder / "detect.sh").read_bytes(), machine.volume)
    there = code == 0 and "installed" in said
    return MacPhase(name, () if there == wanted else (f"it says {'installed' if there else 'nothing'}, with {code}",))


def _removed(stage: MacStage, machine: MacHost, before: Mapping[str, MacThing], name: str = "remove") -> MacPhase:
    """It goes, with nothing left behind and nothing taken from others."""
    if not machine.executes:
        return MacPhase(name, notes=("not played: scripts are not carried out here",))
    outcome = machine.install(stage.removal)
    if outcome.code:
        return MacPhase(name, (outcome.why,), outcome.said)
    after = machine.picture()
    ours = _settings_of_people(stage, machine)
    ours |= stage.staying(machine)
    problems = [f"left behind: {path}" for path in after if path not in before and path not in ours]
    problems += [f"taken away: {path}" for path in before if path not in after]
    problems += [f"changed: {path}" for path in before if path in after and before[path] != after[path]]
    problems += [
        f"the receipt of {one} is still there"
        for one in removal.receipts(stage.plan, stage.done)
        if one in machine.receipts()
    ]
    for step in stage.plan.install:
        if isinstance(step, model.JobStep):
            numbers = [each["number"] for each in machine.people.values()] if step.agent else []
            domains = ["system", *(f"gui/{number}" for number in numbers)]
            jobs = [f"{domain}/{step.label}" for domain in domains]
            problems += [f"launchd still has {job}" for job in jobs if machine.has_job(job)]
    return MacPhase(name, tuple(problems))


def _settings_of_people(stage: MacStage, machine: MacHost) -> set[str]:
    """What a removal leaves since nobody asked for it: settings of people, with the folders they made."""
    found: set[str] = set()
    for step in stage.plan.install:
        if isinstance(step, model.SettingsStep) and step.whose == "persons" and step.domain not in stage.plan.users_too:
            found |= {f"{each['home']}/Library/Preferences/{step.domain}.plist" for each in machine.people.values()}
    parts = TEMPLATE.split("/")
    return found | {machine.volume.rstrip("/") + "/".join(parts[:count]) for count in range(4, len(parts) + 1)}


# --- scenarios

_Play = tuple[MacMachine, Iterator[MacPhase]]


def whole(stage: MacStage, machine: MacHost) -> Iterator[MacPhase]:
    """Installed, detected, installed again, removed, and no more detected."""
    before = machine.picture()
    first = _installed(stage, machine)
    yield first
    if first.problems:
        return  # what would follow says nothing more
    yield _detected(stage, machine, True)
    yield _installed(stage, machine, "again")
    yield _removed(stage, machine, before)
    yield _detected(stage, machine, False)


def _desk(stage: MacStage) -> _Play:
    machine = stage.machine(people={"hannah": 501, "emil": 502})
    return machine, whole(stage, machine)


def _nobody(stage: MacStage) -> _Play:
    machine = stage.machine(person="")
    refused = stage.plan.when.person == "there"
    return machine, _refused(stage, machine) if refused else whole(stage, machine)


def _other_processor(stage: MacStage) -> _Play:
    has = stage.plan.package.processors
    other: Processor = "x86_64" if "arm64" in has else "arm64"
    machine = stage.machine(processor=other)
    return machine, whole(stage, machine) if other in has else _refused(stage, machine)


def _oldest(stage: MacStage) -> _Play:
    machine = stage.machine(system=stage.plan.package.oldest)
    return machine, whole(stage, machine)


def _too_old(stage: MacStage) -> _Play:
    oldest = stage.read.oldest if stage.done.untouched else stage.plan.package.oldest
    major, *rest = (int(part) for part in oldest.split("."))
    before = f"{major}.{rest[0] - 1}" if rest and rest[0] else f"{major - 1}.9"
    machine = stage.machine(system=before)
    return machine, _refused(stage, machine)


def _refused(stage: MacStage, machine: MacMachine) -> Iterator[MacPhase]:
    """It does not begin, and nothing has changed."""
    before = machine.picture()
    outcome = machine.install(stage.package, wanted=stage.done.wanted)
    problems = [] if outcome.code else ["it was installed where it should be refused"]
    problems += [f"changed: {path}" for path, thing in machine.picture().items() if before.get(path) != thing]
    yield MacPhase("refused", tuple(problems), (outcome.why,) if outcome.why else ())


def _later(stage: MacStage) -> _Play:
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        yield _installed(stage, machine)
        machine.add_person("ines", 503)
        yield MacPhase("somebody new has the settings", tuple(_unset(stage, machine)))

    return machine, phases()


def _volume(stage: MacStage) -> _Play:
    machine = stage.machine(volume=OTHER, person="")
    return machine, _refused(stage, machine) if stage.plan.when.volume else whole(stage, machine)


def _set_up(stage: MacStage) -> _Play:
    """A machine that is being set up: a management service installs before anybody has a folder there."""
    machine = stage.machine(people={}, person="_mbsetupuser")

    def phases() -> Iterator[MacPhase]:
        problems = tuple(one.what for one in stage.read.findings if one.id in _NOT_TAKEN)
        notes = () if stage.read.signature.state != "none" else ("it has to be signed before",)
        yield MacPhase("what a management service takes", problems, notes)
        yield from whole(stage, machine)

    return machine, phases()


def _elsewhere(stage: MacStage) -> _Play:
    """An older copy lies where somebody put it: it is not taken for the new one, and the new one does not follow it."""
    machine = stage.machine()
    copies = [f"/Users/hannah/Applications/{path.rpartition('/')[2]}" for path in _named(stage)]
    for copy, identifier in zip(copies, _named(stage).values(), strict=True):
        machine.bundle(copy, identifier, "0.1")

    def phases() -> Iterator[MacPhase]:
        yield MacPhase("it is not there yet", _detected(stage, machine, False).problems)
        yield from whole(stage, machine)
        versions = {
            copy: machine.listed(f"{copy}/Contents/Info.plist")["CFBundleShortVersionString"] for copy in copies
        }
        wrong = [f"{copy} is {version} now" for copy, version in versions.items() if version != "0.1"]
        yield MacPhase("the older copy is what it was", tuple(wrong))

    return machine, phases()


def _named(stage: MacStage) -> dict[str, str]:
    """Bundles that the package knows by name, by where they belong."""
    return {
        one.path: one.identifier for component in stage.read.components for one in component.bundles if one.identifier
    }


def _with_named(stage: MacStage) -> bool:
    return _runs(stage) and bool(_named(stage))


def _newer(stage: MacStage) -> _Play:
    """The program's own update was there first: the newer one stays."""
    machine = stage.machine()
    for bundle in _with_version(stage):
        machine.bundle(bundle.path, bundle.identifier, f"{bundle.version}.1")
    return machine, _refused(stage, machine)


def _with_version(stage: MacStage) -> list[LaidBundle]:
    steps = [one for one in stage.plan.install if isinstance(one, model.AppStep)]
    return [] if any(one.downgrade for one in steps) else [one for one in _bundles(stage) if one.version]


def _with_newer(stage: MacStage) -> bool:
    return _runs(stage) and bool(_with_version(stage))


def _open(stage: MacStage) -> _Play:
    names = _closing(stage)
    machine = stage.machine(running=dict.fromkeys(names, "ends"))

    def phases() -> Iterator[MacPhase]:
        yield _installed(stage, machine)
        missing = [f"{one} was not asked to end" for one in names if one not in machine.state["asked"]]
        yield MacPhase("asked to end", tuple(missing))

    return machine, phases()


def _stays_open(stage: MacStage) -> _Play:
    names = _closing(stage)
    machine = stage.machine(running=dict.fromkeys(names, "stays"))
    return machine, _refused(stage, machine)


def _closing(stage: MacStage) -> list[str]:
    found = [one.identifier for one in stage.plan.install if isinstance(one, model.QuitStep)]
    apps = [one for one in stage.plan.install if isinstance(one, model.AppStep) and one.close]
    bundles = [*stage.done.bundles, *(one for part in stage.done.parts for one in part.bundles)] if apps else []
    return sorted({*found, *(one.identifier for one in bundles if one.identifier)})


def _older(stage: MacStage) -> _Play:
    """An older copy that somebody dragged there, with a file that the new one has not."""
    machine = stage.machine()
    for bundle in _bundles(stage):
        machine.bundle(bundle.path, bundle.identifier, "0.1")
        machine.put(f"{bundle.path}/Contents/Resources/of-the-older-one", b"older")

    def phases() -> Iterator[MacPhase]:
        yield _installed(stage, machine)
        yield _detected(stage, machine, True)

    return machine, phases()


def _bundles(stage: MacStage) -> list[LaidBundle]:
    found = [*stage.done.bundles, *(one for part in stage.done.parts for one in part.bundles)]
    return list({one.path: one for one in found}.values())


def _stranger(stage: MacStage) -> _Play:
    """Another program of the same name: it is not touched."""
    machine = stage.machine()
    for bundle in _bundles(stage):
        machine.bundle(bundle.path, "example.somebody.else", "9.9")
    return machine, _refused(stage, machine)


def _cut_off(stage: MacStage) -> _Play:
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        before = machine.picture()
        machine.install(stage.package, wanted=stage.done.wanted, until="payload")
        yield _installed(stage, machine, "again after it was cut off")
        yield _removed(stage, machine, before)

    return machine, phases()


def _shared(stage: MacStage) -> _Play:
    """Another package has one of the same files: it keeps it."""
    machine = stage.machine()
    item = next(item for item in _files(stage) if item.watched)

    def phases() -> Iterator[MacPhase]:
        machine.receipt("example.somebody.else", [item.path])
        yield _installed(stage, machine)
        machine.install(stage.removal)
        there = machine.at(item.path).is_file()
        yield MacPhase("others keep what is theirs", () if there else (f"{item.path} was taken from another package",))

    return machine, phases()


def _changed(stage: MacStage) -> _Play:
    """Somebody changed a file: it stays, and is told."""
    machine = stage.machine()
    item = next(item for item in _files(stage) if item.watched)

    def phases() -> Iterator[MacPhase]:
        yield _installed(stage, machine)
        machine.put(item.path, b"changed by hand\n")
        outcome = machine.install(stage.removal)
        problems = [] if machine.at(item.path).is_file() else [f"{item.path} was removed, though somebody changed it"]
        if not any(item.path in line for line in outcome.said):
            problems.append("nobody was told that it stays")
        yield MacPhase("what was changed stays", tuple(problems))

    return machine, phases()


def _made_later(stage: MacStage) -> _Play:
    """The program made something by itself: it goes with the package, and what runs of it ends."""
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        before = machine.picture()
        yield _installed(stage, machine)
        for path in stage.plan.made_later:
            _make(machine, path)
        yield _removed(stage, machine, before, "what it made goes too")
        still = [job for job in machine.state["jobs"] if job.rpartition("/")[2].startswith("made-later.")]
        yield MacPhase("its jobs end", tuple(f"launchd still has {job}" for job in still))

    return machine, phases()


def _make(machine: MacMachine, path: str) -> None:
    """Something as a program might make it: a job that is loaded, a folder with a file in it, else a file."""
    name = path.rpartition("/")[2]
    if found := re.fullmatch(r"/Library/Launch(Daemons|Agents)/.+\.plist", path):
        label = f"made-later.{name.removesuffix('.plist')}"
        machine.put(path, plistlib.dumps({"Label": label, "ProgramArguments": ["/bin/ls"]}))
        person = machine.people.get(machine.person)
        domain = f"gui/{person['number']}" if found[1] == "Agents" and person else "system"
        machine.change(jobs={**machine.state["jobs"], f"{domain}/{label}": path})
    elif "." in name:
        machine.put(path, b"made by the program\n")
    else:
        machine.put(f"{path}/made", b"made by the program\n")


def _twice(stage: MacStage) -> _Play:
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        before = machine.picture()
        yield _installed(stage, machine)
        yield _removed(stage, machine, before)
        yield _removed(stage, machine, before, "remove again")

    return machine, phases()


def _states(stage: MacStage) -> _Play:
    """What detection says of machines on which something else lies than the package: each state, and the answer."""
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        script = (stage.folder / "detect.sh").read_bytes()

        def answer() -> bool:
            return machine.script(script, machine.volume)[0] == 0

        yield MacPhase("nothing is there", ("it says installed",) if answer() else ())
        yield _installed(stage, machine)
        yield MacPhase("it is there", () if answer() else ("it says nothing",))
        for bundle in _bundles(stage):
            top = machine.at(bundle.path)
            aside = machine.at(f"/Users/hannah/.Trash/{top.name}")
            aside.parent.mkdir(parents=True, exist_ok=True)
            top.rename(aside)
            in_bin = answer()
            # a person's bin is a folder like others; what the system's own search leaves out is the bin
            yield MacPhase(f"{top.name} lies in the bin", ("it says installed",) if in_bin else ())
            aside.rename(top)
            with remade.instead(top, machine.folder, {"CFBundleShortVersionString": "0.1", "CFBundleVersion": "0.1"}):
                yield MacPhase(f"an older {top.name} lies there", ("it says installed",) if answer() else ())
            with remade.instead(top, machine.folder, {"CFBundleIdentifier": "example.somebody.else"}):
                yield MacPhase("another program has its name", ("it says installed",) if answer() else ())
            if unlike := remade.not_by_us(top, machine.folder):
                yield MacPhase("it updated itself", notes=(f"not played: {unlike}",))
            elif bundle.version:
                with remade.instead(top, machine.folder, {"CFBundleShortVersionString": f"{bundle.version}.1"}):
                    yield MacPhase("it updated itself", () if answer() else ("it says nothing",))
        yield MacPhase("it is there again", () if answer() else ("it says nothing",))

    return machine, phases()


def _files(stage: MacStage) -> list[LaidItem]:
    return [item for item in stage.done.items if item.kind == "file"]


def _with_oldest(stage: MacStage) -> bool:
    """A package that is handed on untouched may state none."""
    return not stage.done.untouched or bool(stage.read.oldest)


def _with_nobody(stage: MacStage) -> bool:
    return stage.plan.when.person != "there"


def _with_made(stage: MacStage) -> bool:
    return _runs(stage) and bool(stage.plan.made_later)


def _always(stage: MacStage) -> bool:
    return True


def _runs(stage: MacStage) -> bool:
    return not sandbox.lacking()


def _with_person(stage: MacStage) -> bool:
    return stage.plan.when.person != "nobody"


def _with_volume(stage: MacStage) -> bool:
    return stage.plan.when.person is None and not stage.done.untouched


def _with_people(stage: MacStage) -> bool:
    steps = stage.plan.install
    return _runs(stage) and any(isinstance(one, model.SettingsStep) and one.whose == "persons" for one in steps)


def _with_program(stage: MacStage) -> bool:
    return _runs(stage) and bool(_closing(stage))


def _with_bundle(stage: MacStage) -> bool:
    return _runs(stage) and bool(_bundles(stage))


def _with_watched(stage: MacStage) -> bool:
    return _runs(stage) and any(one.watched for one in _files(stage))


def _with_rules(stage: MacStage) -> bool:
    return _runs(stage) and bool(stage.plan.detect)


def _with_kept(stage: MacStage) -> bool:
    return stage.plan.keep_changed and _with_watched(stage)


class MacScenario(NamedTuple):
    """What it is, whether a plan calls for it, and how it is played: a machine, and the phases on it."""

    title: str
    called: Callable[[MacStage], bool]
    play: Callable[[MacStage], _Play]


SCENARIOS: dict[str, MacScenario] = {
    "desk": MacScenario("somebody is at the screen, two people on the machine", _with_person, _desk),
    "nobody": MacScenario("nobody is logged on", _always, _nobody),
    "processor": MacScenario("the other sort of processor", _always, _other_processor),
    "oldest": MacScenario("the oldest system it is for", _always, _oldest),
    "too-old": MacScenario("one before it", _with_oldest, _too_old),
    "volume": MacScenario("another volume than the one that runs", _with_volume, _volume),
    "set-up": MacScenario("a management service, on a machine that is being set up", _with_nobody, _set_up),
    "later": MacScenario("somebody logs on for the first time afterwards", _with_people, _later),
    "open": MacScenario("its program is open, and ends when it is asked", _with_program, _open),
    "stays-open": MacScenario("its program is open, and stays", _with_program, _stays_open),
    "older": MacScenario("an older copy lies there", _with_bundle, _older),
    "elsewhere": MacScenario("an older copy lies where somebody put it", _with_named, _elsewhere),
    "newer": MacScenario("the vendor's update was there first", _with_newer, _newer),
    "stranger": MacScenario("another program has its name", _with_bundle, _stranger),
    "cut-off": MacScenario("the machine went off before the last script", _always, _cut_off),
    "states": MacScenario("what detection says of machines with something else", _with_rules, _states),
    "shared": MacScenario("another package has one of its files", _with_watched, _shared),
    "changed": MacScenario("somebody changed one of its files", _with_kept, _changed),
    "made-later": MacScenario("the program made something by itself", _with_made, _made_later),
    "twice": MacScenario("removed twice", _runs, _twice),
}
