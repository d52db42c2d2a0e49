"""The scenarios in which a package for macOS is played: a machine, and what has to come of each part."""

from __future__ import annotations

import plistlib
import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from yendo.mac_half import model, remade
from yendo.mac_half.machine import sandbox
from yendo.mac_half.machine.machine import MacMachine, Processor
from yendo.mac_half.stage import MacPhase, MacStage, detected, installed, refused, removed, unset, whole
from yendo.mac_half.work import LaidBundle, LaidItem

OTHER = "/Volumes/Other"
# What a management service does not take, as the reader of packages finds it.
_NOT_TAKEN = ("damaged", "no-distribution", "no-identity", "two-alike", "broken-signature")

_Play = tuple[MacMachine, Iterator[MacPhase]]


def _desk(stage: MacStage) -> _Play:
    machine = stage.machine(people={"hannah": 501, "emil": 502})
    return machine, whole(stage, machine)


def _nobody(stage: MacStage) -> _Play:
    machine = stage.machine(person="")
    with_person = stage.plan.when.person == "there"
    return machine, refused(stage, machine) if with_person else whole(stage, machine)


def _other_processor(stage: MacStage) -> _Play:
    has = stage.plan.package.processors
    other: Processor = "x86_64" if "arm64" in has else "arm64"
    machine = stage.machine(processor=other)
    return machine, whole(stage, machine) if other in has else refused(stage, machine)


def _oldest(stage: MacStage) -> _Play:
    machine = stage.machine(system=stage.plan.package.oldest)
    return machine, whole(stage, machine)


def _too_old(stage: MacStage) -> _Play:
    oldest = stage.read.oldest if stage.done.untouched else stage.plan.package.oldest
    major, *rest = (int(part) for part in oldest.split("."))
    before = f"{major}.{rest[0] - 1}" if rest and rest[0] else f"{major - 1}.9"
    machine = stage.machine(system=before)
    return machine, refused(stage, machine)


def _later(stage: MacStage) -> _Play:
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        yield installed(stage, machine)
        machine.add_person("ines", 503)
        yield MacPhase("somebody new has the settings", tuple(unset(stage, machine)))

    return machine, phases()


def _volume(stage: MacStage) -> _Play:
    machine = stage.machine(volume=OTHER, person="")
    return machine, refused(stage, machine) if stage.plan.when.volume else whole(stage, machine)


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
        yield MacPhase("it is not there yet", detected(stage, machine, False).problems)
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
    return machine, refused(stage, machine)


def _with_version(stage: MacStage) -> list[LaidBundle]:
    steps = [one for one in stage.plan.install if isinstance(one, model.AppStep)]
    return [] if any(one.downgrade for one in steps) else [one for one in _bundles(stage) if one.version]


def _with_newer(stage: MacStage) -> bool:
    return _runs(stage) and bool(_with_version(stage))


def _open(stage: MacStage) -> _Play:
    names = _closing(stage)
    machine = stage.machine(running=dict.fromkeys(names, "ends"))

    def phases() -> Iterator[MacPhase]:
        yield installed(stage, machine)
        missing = [f"{one} was not asked to end" for one in names if one not in machine.state["asked"]]
        yield MacPhase("asked to end", tuple(missing))

    return machine, phases()


def _stays_open(stage: MacStage) -> _Play:
    names = _closing(stage)
    machine = stage.machine(running=dict.fromkeys(names, "stays"))
    return machine, refused(stage, machine)


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
        yield installed(stage, machine)
        yield detected(stage, machine, True)

    return machine, phases()


def _bundles(stage: MacStage) -> list[LaidBundle]:
    found = [*stage.done.bundles, *(one for part in stage.done.parts for one in part.bundles)]
    return list({one.path: one for one in found}.values())


def _stranger(stage: MacStage) -> _Play:
    """Another program of the same name: it is not touched."""
    machine = stage.machine()
    for bundle in _bundles(stage):
        machine.bundle(bundle.path, "example.somebody.else", "9.9")
    return machine, refused(stage, machine)


def _cut_off(stage: MacStage) -> _Play:
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        before = machine.picture()
        machine.install(stage.package, wanted=stage.done.wanted, until="payload")
        yield installed(stage, machine, "again after it was cut off")
        yield removed(stage, machine, before)

    return machine, phases()


def _shared(stage: MacStage) -> _Play:
    """Another package has one of the same files: it keeps it."""
    machine = stage.machine()
    item = next(item for item in _files(stage) if item.watched)

    def phases() -> Iterator[MacPhase]:
        machine.receipt("example.somebody.else", [item.path])
        yield installed(stage, machine)
        machine.install(stage.removal)
        there = machine.at(item.path).is_file()
        yield MacPhase("others keep what is theirs", () if there else (f"{item.path} was taken from another package",))

    return machine, phases()


def _changed(stage: MacStage) -> _Play:
    """Somebody changed a file: it stays, and is told."""
    machine = stage.machine()
    item = next(item for item in _files(stage) if item.watched)

    def phases() -> Iterator[MacPhase]:
        yield installed(stage, machine)
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
        yield installed(stage, machine)
        for path in stage.plan.made_later:
            _make(machine, path)
        yield removed(stage, machine, before, "what it made goes too")
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
        yield installed(stage, machine)
        yield removed(stage, machine, before)
        yield removed(stage, machine, before, "remove again")

    return machine, phases()


def _states(stage: MacStage) -> _Play:
    """What detection says of machines on which something else lies than the package: each state, and the answer."""
    machine = stage.machine()

    def phases() -> Iterator[MacPhase]:
        script = (stage.folder / "detect.sh").read_bytes()

        def answer() -> bool:
            return machine.script(script, machine.volume)[0] == 0

        yield MacPhase("nothing is there", ("it says installed",) if answer() else ())
        yield installed(stage, machine)
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
