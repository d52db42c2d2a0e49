"""What a built package should do to a machine, from its own media and steps."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from yendo.detect.evaluate import judge
from yendo.effects import Effect, File, State, apply, net
from yendo.effects.recording import replay
from yendo.effects.things import parent
from yendo.evidence import Evidence
from yendo.facts.surroundings import Surroundings, expand
from yendo.formats.msi.patch import Patch
from yendo.installers import programs
from yendo.installers.msi import commandline, engine, layers
from yendo.installers.msi.layers import Layers
from yendo.installers.msi.media import MissingMedia, payload
from yendo.installers.msi.session import Memory
from yendo.machines.simulated.programs import recordings
from yendo.package.manifest import Action, Manifest


def install_effects(
    manifest: Manifest, package: Path, surroundings: Surroundings, state: State, *, real: bool = False
) -> tuple[list[Effect], list[str]]:
    """Effects of the install steps on ``state``, which is changed, and their blind spots in words.

    ``real`` says that they are held against a run, and are not themselves what is replayed.
    """
    effects: list[Effect] = []
    blind: list[str] = []
    memories: dict[str, tuple[Memory, Layers]] = {}
    before = state.copy()
    for action in manifest.install:
        if any(judge(rule, state, surroundings.environment).holds for rule in action.unless):
            continue
        if action.kind == "copy":
            effects += _copy(action, surroundings, state, package)
        elif action.kind == "exe":
            more, spots = _exe(action, package, surroundings, state, real)
            effects += more
            blind += spots
        elif action.kind == "msi":
            more, spots = _msi(action, package, surroundings, state, memories)
            effects += more
            blind += spots
    return net(effects, before, state), list(dict.fromkeys(blind))


def _msi(
    action: Action, package: Path, surroundings: Surroundings, state: State, memories: dict[str, tuple[Memory, Layers]]
) -> tuple[list[Effect], list[str]]:
    try:
        command = commandline.parse(expand(action.command, surroundings.environment))
    except commandline.CommandError as error:
        return [], [f"{action.title}: the command line is refused ({error})"]

    def find(name: str) -> Path | None:
        path = package / name.replace("{package}\\", "").replace("\\", "/")
        return path if path.is_file() else None

    path = find(command.package)
    if command.is_code or path is None:
        return [], [f"{action.title}: its package is not at hand, so what it does is not predicted"]
    given = {"REBOOT": "ReallySuppress", **command.properties}
    try:
        if command.action == "patch":
            with Patch(path) as patch:
                there = next((code for code in patch.targets if code in memories), None)
            if there is None:
                return [], [f"{action.title}: the product that the patch is for is not there"]
            held = memories[there][1]
            using = Layers(held.source, held.transforms, (*held.patches, path))
        else:
            transforms, patches = layers.named(given, find)
            using = Layers(path, tuple(transforms), tuple(patches))
        with using.opened() as database:
            known = {code: memory for code, (memory, _) in memories.items()}
            outcome = engine.run(database, surroundings, state, given, memories=known, contents=payload(database, using.source))
    except MissingMedia as error:
        return [], [f"{action.title}: fails, a file of the installer is missing: {error}"]
    except layers.Refused as refused:
        return [], [f"{action.title}: ends with {refused.code}, {refused.message}"]
    if outcome.memory:
        memories[outcome.memory.code] = (outcome.memory, using)
    return list(outcome.effects), [f"{spot.what}: {spot.why}" for spot in outcome.blind_spots]


def _exe(action: Action, package: Path, surroundings: Surroundings, state: State, real: bool) -> tuple[list[Effect], list[str]]:
    """Of a setup program: what a trial saw it do, else what can be read."""
    for recording in recordings(package) if action.observed else ():
        if recording.command == action.command:
            label = f"expected is what a run of {recording.date[:10]} on {recording.machine} did" if real else recording.label
            return replay(recording, state, surroundings.environment), [f"{action.title}: {label}"]
    match = re.match(r'"\{package\}\\([^"]+)"\s*(.*)$', action.command)
    path = package / match[1].replace("\\", "/") if match else None
    if match is None or path is None or not path.is_file():
        return [], [f"{action.title}: the program lies on the machine, so what it does is not predicted"]
    with path.open("rb") as file:
        found = programs.Reading(file, path.name).predict(rf"C:\Hand over\{match[1]}", match[2], surroundings, state)
    apply(found.effects, state)
    return list(found.effects), [f"{spot.what}: {spot.why}" for spot in found.blind_spots]


def _copy(action: Action, surroundings: Surroundings, state: State, package: Path) -> Iterable[Effect]:
    for item in action.items:
        target = expand(item.to, surroundings.environment)
        where = Evidence("person", f"plan: {action.title}")
        for folder in state.add_folders(parent(target)):
            yield Effect("add", folder, "authored", where)
        before = state.add(File(target, (package / item.source).stat().st_size, item.sha256))
        if before is None:
            yield Effect("add", File(target, (package / item.source).stat().st_size, item.sha256), "authored", where)
